//! What may be under way at once. A payload is admitted before it is read and charged by what has
//! come of it, and gives its share back when its sender is answered; so neither a flood of small
//! deliveries nor a few large ones can fill the node's memory, and whoever announces much and sends
//! nothing takes next to nothing. No source has more than half of the room.

use arvok_store::intake::{Payload, TakenPayload};
use std::{
    collections::BTreeMap,
    sync::{
        Arc, Mutex as StdMutex, MutexGuard, PoisonError,
        atomic::{AtomicI64, AtomicU64, AtomicUsize, Ordering},
    },
    time::{Duration, Instant},
};
use tokio::sync::{Mutex, Notify, OwnedSemaphorePermit, Semaphore, mpsc, oneshot};

/// Bytes of payloads that may be under way at once. Read and taken apart, one byte becomes some
/// twenty.
const UNDER_WAY: u32 = 12 << 20;
/// The least that a delivery counts for.
const LEAST: u32 = 4 << 10;
/// What one source may have under way.
const OF_ONE: usize = UNDER_WAY as usize / 2;
/// Alerts that are worth a commit beside another one.
const WORTH: usize = 32;
/// How long fewer than these wait for more.
const PATIENCE: Duration = Duration::from_millis(5);
/// Bytes of a payload that are kept if it cannot be read: all that a request may hold.
pub(crate) const KEPT: usize = 1 << 20;

/// One payload, and where the answer goes.
#[derive(Debug)]
pub(crate) struct Delivery {
    pub payload: Payload,
    pub answer: oneshot::Sender<Result<TakenPayload, NotTaken>>,
    /// Its share of what may be under way at once; given back when it is answered.
    pub admission: Admission,
}

/// Why a payload was not taken.
#[derive(Clone, Debug, thiserror::Error)]
pub(crate) enum NotTaken {
    /// Nothing of it was kept.
    #[error("the records cannot be written at the moment")]
    Store,
    /// It can never be recorded; it was kept under this number.
    #[error("it cannot be recorded: {reason}")]
    Malformed {
        /// The number under which it was kept.
        id: i64,
        /// What of it cannot be recorded.
        reason: String,
    },
}

/// The share of a delivery.
#[derive(Debug)]
pub(crate) struct Admission {
    share: OwnedSemaphorePermit,
    room: Arc<Semaphore>,
    source: String,
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
    /// How much of the room each source has.
    shares: StdMutex<BTreeMap<String, usize>>,
}

impl UnderWay {
    fn since(&self) -> MutexGuard<'_, BTreeMap<u64, Instant>> {
        self.since.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// Takes so much more for a source, unless that were too much for one.
    fn reserve(&self, source: &str, share: usize) -> bool {
        let mut shares = self.shares.lock().unwrap_or_else(PoisonError::into_inner);
        let own = shares.entry(source.to_owned()).or_default();
        let fits = *own + share <= OF_ONE;
        *own += if fits { share } else { 0 };
        if *own == 0 {
            shares.remove(source);
        }
        fits
    }

    fn give_back(&self, source: &str, share: usize) {
        let mut shares = self.shares.lock().unwrap_or_else(PoisonError::into_inner);
        match shares.get_mut(source) {
            Some(own) if *own > share => *own -= share,
            _ => _ = shares.remove(source),
        }
    }
}

impl Admission {
    /// Charges it for bytes that have come; false if there is no room for them at the moment.
    pub fn charge(&mut self, bytes: usize) -> bool {
        let (has, needs) = (self.share.num_permits(), self.bytes + bytes);
        let more = needs.saturating_sub(has);
        if more > 0 {
            if !self.under_way.reserve(&self.source, more) {
                return false;
            }
            let permits = u32::try_from(more)
                .ok()
                .and_then(|n| Arc::clone(&self.room).try_acquire_many_owned(n).ok());
            let Some(permits) = permits else {
                self.under_way.give_back(&self.source, more);
                return false;
            };
            self.share.merge(permits);
        }
        self.bytes = needs;
        self.under_way.bytes.fetch_add(bytes as i64, Ordering::Relaxed);
        true
    }

    /// How long ago it was admitted.
    pub fn waited(&self) -> Duration {
        self.since.elapsed()
    }
}

impl Drop for Admission {
    fn drop(&mut self) {
        self.under_way.bytes.fetch_sub(self.bytes as i64, Ordering::Relaxed);
        self.under_way.since().remove(&self.number);
        self.under_way.give_back(&self.source, self.share.num_permits());
    }
}

/// Where deliveries come in.
#[derive(Debug)]
pub(crate) struct AdmissionControl {
    room: Arc<Semaphore>,
    sender: mpsc::UnboundedSender<Delivery>,
    under_way: Arc<UnderWay>,
}

/// Where the pipeline takes them.
#[derive(Clone, Debug)]
pub(crate) struct Queue {
    receiver: Arc<Mutex<mpsc::UnboundedReceiver<Delivery>>>,
    committing: Arc<InHand>,
    /// How long a few alerts wait for more.
    patience: Duration,
}

/// How many batches are being committed.
#[derive(Debug, Default)]
struct InHand {
    count: AtomicUsize,
    less: Notify,
}

/// A batch is being committed, until this is dropped.
#[derive(Debug)]
pub(crate) struct Committing(Arc<InHand>);

impl Drop for Committing {
    fn drop(&mut self) {
        self.0.count.fetch_sub(1, Ordering::AcqRel);
        self.0.less.notify_one();
    }
}

impl AdmissionControl {
    /// A door and the queue behind it.
    pub fn new() -> (Self, Queue) {
        let (sender, receiver) = mpsc::unbounded_channel();
        let door = Self {
            room: Arc::new(Semaphore::new(UNDER_WAY as usize)),
            sender,
            under_way: Arc::default(),
        };
        let (receiver, committing) = (Arc::new(Mutex::new(receiver)), Arc::default());
        (door, Queue { receiver, committing, patience: PATIENCE })
    }

    /// Admits a payload of a source, of which so many bytes have come; none if there is no room at
    /// the moment.
    pub fn admit(&self, source: &str, bytes: usize) -> Option<Admission> {
        let share = u32::try_from(bytes).unwrap_or(u32::MAX).clamp(LEAST, UNDER_WAY);
        let permits = Arc::clone(&self.room).try_acquire_many_owned(share).ok()?;
        if !self.under_way.reserve(source, share as usize) {
            return None;
        }
        self.under_way.bytes.fetch_add(bytes as i64, Ordering::Relaxed);
        let (number, since) = (self.under_way.next.fetch_add(1, Ordering::Relaxed), Instant::now());
        self.under_way.since().insert(number, since);
        let (room, under_way) = (Arc::clone(&self.room), Arc::clone(&self.under_way));
        Some(Admission {
            share: permits,
            room,
            source: source.to_owned(),
            bytes,
            number,
            since,
            under_way,
        })
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
        self.under_way
            .since()
            .first_key_value()
            .map_or(Duration::ZERO, |(_, since)| since.elapsed())
    }
}

impl Queue {
    /// What has gathered, at least one delivery; none when the door is gone. Beside a batch that is
    /// being committed, few alerts wait a little for more.
    pub async fn gather(
        &self,
        most: usize,
        most_bytes: usize,
    ) -> Option<(Vec<Delivery>, Committing)> {
        let mut receiver = self.receiver.lock().await;
        let first = receiver.recv().await?;
        let enough = tokio::time::sleep(self.patience);
        tokio::pin!(enough);
        let (mut alerts, mut bytes) = (first.payload.alerts.len(), first.admission.bytes);
        let mut batch = vec![first];
        while alerts < most && bytes < most_bytes {
            let next = match receiver.try_recv() {
                Ok(next) => next,
                Err(_) if alerts >= WORTH || self.committing.count.load(Ordering::Acquire) == 0 => {
                    break;
                }
                Err(_) => tokio::select! {
                    next = receiver.recv() => match next {
                        Some(next) => next,
                        None => break,
                    },
                    () = self.committing.less.notified() => continue,
                    () = &mut enough => break,
                },
            };
            alerts += next.payload.alerts.len();
            bytes += next.admission.bytes;
            batch.push(next);
        }
        self.committing.count.fetch_add(1, Ordering::AcqRel);
        Some((batch, Committing(Arc::clone(&self.committing))))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn send(door: &AdmissionControl) {
        send_of(door, "yard");
    }

    fn send_of(door: &AdmissionControl, source: &str) {
        let (answer, _) = oneshot::channel();
        let admission = door.admit(source, 100).expect("room");
        assert!(door.send(Delivery { payload: Payload::default(), answer, admission }));
    }

    #[tokio::test]
    async fn a_few_alerts_wait_for_more_while_others_are_committed() {
        let (door, queue) = AdmissionControl::new();
        // So long that a slow machine cannot run into it.
        let queue = Queue { patience: Duration::from_secs(600), ..queue };
        send(&door);
        let (first, committing) = queue.gather(10, 1 << 20).await.expect("a batch");
        assert_eq!(first.len(), 1, "nobody is in the way: at once");
        send(&door);
        let beside = queue.clone();
        let gathering =
            tokio::spawn(async move { beside.gather(10, 1 << 20).await.expect("a batch").0.len() });
        tokio::task::yield_now().await;
        send(&door);
        drop(committing);
        assert_eq!(gathering.await.expect("ends"), 2, "together, as soon as the other is done");
    }

    #[tokio::test]
    async fn one_source_has_half_of_the_room_and_is_charged_by_what_has_come() {
        let (door, _queue) = AdmissionControl::new();
        let mut open: Vec<Admission> =
            (0..14).map(|_| door.admit("flood", 0).expect("room")).collect();
        assert!(open.iter_mut().all(|a| a.charge(1)), "announced is nothing yet");
        assert!(door.admit("pier", 1 << 20).is_some(), "and others are let in");
        let taken = open.iter_mut().filter_map(|a| a.charge(1 << 20).then_some(())).count();
        assert_eq!(taken, 5, "half of twelve MiB, with what each counts for at least");
        assert!(door.admit("flood", 1 << 20).is_none());
        let mut other = door.admit("pier", 0).expect("room");
        assert!((0..5).all(|_| other.charge(1 << 20)), "the other half is for others");
        drop(open);
        assert!(door.admit("flood", 5 << 20).is_some(), "its share comes back");
    }

    #[tokio::test]
    async fn a_share_comes_back_when_a_sender_is_answered() {
        let (door, queue) = AdmissionControl::new();
        let most = UNDER_WAY / LEAST;
        (0..most).for_each(|n| send_of(&door, if n % 2 == 0 { "yard" } else { "pier" }));
        assert!(
            door.admit("third", 1).is_none(),
            "the least that a delivery counts for is taken {most} times"
        );
        assert_eq!(door.bytes(), i64::from(most) * 100);
        let (batch, _committing) = queue.gather(usize::MAX, 1_000).await.expect("a batch");
        assert_eq!(batch.len(), 10, "no more bytes at once than were allowed");
        drop(batch);
        assert!(door.admit("yard", 1).is_some());
    }
}
