//! Wakes whoever waits for runners: those that want a call made, and runners that want one.

use std::{
    collections::BTreeMap,
    sync::{Arc, Mutex, MutexGuard, PoisonError},
};
use tokio::sync::{Notify, watch};

type Ended = Mutex<BTreeMap<i64, Arc<Notify>>>;

/// Who waits at this node.
#[derive(Debug)]
pub(crate) struct RunnerCalls {
    asked: watch::Sender<()>,
    ended: Arc<Ended>,
}

impl Default for RunnerCalls {
    fn default() -> Self {
        Self { asked: watch::Sender::new(()), ended: Arc::default() }
    }
}

fn held(ended: &Ended) -> MutexGuard<'_, BTreeMap<i64, Arc<Notify>>> {
    ended.lock().unwrap_or_else(PoisonError::into_inner)
}

impl RunnerCalls {
    /// There is a call, or the one of this number has ended.
    pub fn hear(&self, number: Option<i64>) {
        match number {
            None => _ = self.asked.send(()),
            Some(number) => held(&self.ended).get(&number).iter().for_each(|one| one.notify_one()),
        }
    }

    /// Tells when there is a call.
    pub fn asked(&self) -> watch::Receiver<()> {
        self.asked.subscribe()
    }

    /// Tells when a call has ended, for as long as it is held.
    pub fn end_of(&self, number: i64) -> EndOfCall {
        let told = Arc::new(Notify::new());
        held(&self.ended).insert(number, Arc::clone(&told));
        EndOfCall { number, told, among: Arc::clone(&self.ended) }
    }
}

/// Tells when a call has ended.
#[derive(Debug)]
pub(crate) struct EndOfCall {
    number: i64,
    told: Arc<Notify>,
    among: Arc<Ended>,
}

impl EndOfCall {
    pub async fn reached(&self) {
        self.told.notified().await;
    }
}

impl Drop for EndOfCall {
    fn drop(&mut self) {
        held(&self.among).remove(&self.number);
    }
}
