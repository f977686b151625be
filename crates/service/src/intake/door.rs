//! What may be under way at once. A payload is admitted by what it weighs before it is read, and
//! gives its share back when its sender is answered; so neither a flood of small deliveries nor a
//! few large ones can fill the node's memory.

use super::Delivery;
use std::{
    collections::BTreeMap,
    sync::{
        Arc, Mutex as StdMutex, MutexGuard, PoisonError,
        atomic::{AtomicI64, AtomicU64, Ordering},
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
    number: u64,
    since: Instant,
    under_way: Arc<UnderWay>,
}

/// What is under way.
#[derive(Debug, Default)]
struct UnderWay {
    bytes: AtomicI64,
    next: AtomicU64,
    /// When each was admitted, by its number.
    since: StdMutex<BTreeMap<u64, Instant>>,
}

impl UnderWay {
    fn since(&self) -> MutexGuard<'_, BTreeMap<u64, Instant>> {
        self.since.lock().unwrap_or_else(PoisonError::into_inner)
    }
}

impl Admission {
    /// How long ago it was admitted.
    pub fn waited(&self) -> Duration {
        self.since.elapsed()
    }
}

impl Drop for Admission {
    fn drop(&mut self) {
        self.under_way.bytes.fetch_sub(self.bytes as i64, Ordering::Relaxed);
        self.under_way.since().remove(&self.number);
    }
}

/// Where deliveries come in.
#[derive(Debug)]
pub(crate) struct Door {
    room: Arc<Semaphore>,
    sender: mpsc::UnboundedSender<Delivery>,
    under_way: Arc<UnderWay>,
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
        self.under_way.bytes.fetch_add(bytes as i64, Ordering::Relaxed);
        let (number, since) = (self.under_way.next.fetch_add(1, Ordering::Relaxed), Instant::now());
        self.under_way.since().insert(number, since);
        Some(Admission { _share: share, bytes, number, since, under_way: Arc::clone(&self.under_way) })
    }

    /// Hands a delivery to the pipeline; false if the node stops.
    pub fn send(&self, delivery: Delivery) -> bool {
        self.sender.send(delivery).is_ok()
    }

    /// Bytes that are under way.
    pub fn bytes(&self) -> i64 {
        self.under_way.bytes.load(Ordering::Relaxed)
    }

    /// How long the oldest of them has been under way.
    pub fn oldest(&self) -> Duration {
        self.under_way.since().first_key_value().map_or(Duration::ZERO, |(_, since)| since.elapsed())
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
