//! What may be under way at once. A payload is admitted by what it weighs before it is read, and
//! gives its share back when its sender is answered; so neither a flood of small deliveries nor a
//! few large ones can fill the node's memory.

use super::Delivery;
use std::{
    sync::{
        Arc,
        atomic::{AtomicI64, Ordering},
    },
    time::{Duration, Instant},
};
use tokio::sync::{Mutex, OwnedSemaphorePermit, Semaphore, mpsc};

/// Bytes of payloads that may be under way at once. Read and taken apart, one byte becomes some
/// twenty.
const UNDER_WAY: u32 = 12 << 20;
/// The least that a delivery counts for.
const LEAST: u32 = 4 << 10;
/// Bytes of an unreadable payload that are kept.
pub(crate) const KEPT: usize = 64 << 10;

/// The share of a delivery.
#[derive(Debug)]
pub(crate) struct Admission {
    _share: OwnedSemaphorePermit,
    bytes: usize,
    since: Instant,
    under_way: Arc<AtomicI64>,
}

impl Admission {
    /// How long ago it was admitted.
    pub fn waited(&self) -> Duration {
        self.since.elapsed()
    }
}

impl Drop for Admission {
    fn drop(&mut self) {
        self.under_way.fetch_sub(self.bytes as i64, Ordering::Relaxed);
    }
}

/// Where deliveries come in.
#[derive(Debug)]
pub(crate) struct Door {
    room: Arc<Semaphore>,
    sender: mpsc::UnboundedSender<Delivery>,
    /// Bytes that are under way.
    under_way: Arc<AtomicI64>,
}

/// Where the pipeline takes them.
#[derive(Clone, Debug)]
pub(crate) struct Queue {
    receiver: Arc<Mutex<mpsc::UnboundedReceiver<Delivery>>>,
}

impl Door {
    /// A door and the queue behind it.
    pub fn new() -> (Self, Queue) {
        let (sender, receiver) = mpsc::unbounded_channel();
        let door = Self { room: Arc::new(Semaphore::new(UNDER_WAY as usize)), sender, under_way: Arc::default() };
        (door, Queue { receiver: Arc::new(Mutex::new(receiver)) })
    }

    /// Admits a payload of so many bytes; none if there is no room at the moment.
    pub fn admit(&self, bytes: usize) -> Option<Admission> {
        let share = u32::try_from(bytes).unwrap_or(u32::MAX).clamp(LEAST, UNDER_WAY);
        let share = Arc::clone(&self.room).try_acquire_many_owned(share).ok()?;
        self.under_way.fetch_add(bytes as i64, Ordering::Relaxed);
        Some(Admission { _share: share, bytes, since: Instant::now(), under_way: Arc::clone(&self.under_way) })
    }

    /// Hands a delivery to the pipeline; false if the node stops.
    pub fn send(&self, delivery: Delivery) -> bool {
        self.sender.send(delivery).is_ok()
    }

    /// Bytes that are under way.
    pub fn bytes(&self) -> i64 {
        self.under_way.load(Ordering::Relaxed)
    }
}

impl Queue {
    /// What has gathered, at least one delivery; none when the door is gone.
    pub async fn gather(&self, most: usize, most_bytes: usize) -> Option<Vec<Delivery>> {
        let mut receiver = self.receiver.lock().await;
        let first = receiver.recv().await?;
        let (mut alerts, mut bytes) = (first.parcel.alerts.len(), first.admission.bytes);
        let mut batch = vec![first];
        while alerts < most && bytes < most_bytes {
            let Ok(next) = receiver.try_recv() else { break };
            alerts += next.parcel.alerts.len();
            bytes += next.admission.bytes;
            batch.push(next);
        }
        Some(batch)
    }
}
