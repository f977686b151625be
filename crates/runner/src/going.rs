//! The calls that go on: what each has written, and whether anybody still wants it.

use crate::own_secrets::OwnSecrets;
use arvok_api::{CallBeat, ClaimedCall, RunnerBeat};
use arvok_connect::OutputTail;
use std::{
    collections::BTreeMap,
    sync::{Arc, Mutex, MutexGuard, PoisonError},
    time::{Duration, Instant},
};
use tokio::sync::Notify;

/// After how long a node believes that a call is lost of which it has heard nothing.
const BELIEVED: Duration = Duration::from_secs(10);
/// Most calls of one message.
const MOST: usize = 64;

struct Call {
    named: ClaimedCall,
    tail: Mutex<OutputTail>,
    over: Notify,
}

struct Entry {
    call: Arc<Call>,
    /// How many lines were told.
    told: i64,
    /// When the node last said that it wants it.
    wanted: Instant,
}

/// All calls that go on.
#[derive(Default)]
pub struct GoingOn(Arc<Mutex<BTreeMap<i64, Entry>>>);

/// One call, for as long as it goes on.
pub struct Going {
    call: Arc<Call>,
    among: Arc<Mutex<BTreeMap<i64, Entry>>>,
}

fn held<T>(what: &Mutex<T>) -> MutexGuard<'_, T> {
    what.lock().unwrap_or_else(PoisonError::into_inner)
}

impl GoingOn {
    /// A call has begun.
    pub fn begin(&self, named: ClaimedCall) -> Going {
        let id = named.id;
        let call = Arc::new(Call { named, tail: Mutex::default(), over: Notify::new() });
        let entry = Entry { call: Arc::clone(&call), told: 0, wanted: Instant::now() };
        held(&self.0).insert(id, entry);
        Going { call, among: Arc::clone(&self.0) }
    }

    /// What is told of all of them, some at a time, with what is new of their lines.
    pub fn beats(&self, secrets: &OwnSecrets) -> Vec<RunnerBeat> {
        let mut going = held(&self.0);
        let beats: Vec<CallBeat> = going
            .values_mut()
            .map(|entry| {
                let tail = held(&entry.call.tail);
                let line_count = tail.lines();
                let lines = (line_count != entry.told).then(|| secrets.hidden(&tail.whole()));
                entry.told = line_count;
                CallBeat { call: entry.call.named.clone(), lines, line_count }
            })
            .collect();
        beats.chunks(MOST).map(|some| RunnerBeat { calls: some.to_vec() }).collect()
    }

    /// The node has heard of these, and wants some of them no more.
    pub fn note_answer(&self, told: &RunnerBeat, over: &[i64]) {
        let mut going = held(&self.0);
        for beat in &told.calls {
            let Some(entry) = going.get_mut(&beat.call.id) else { continue };
            match over.contains(&beat.call.id) {
                true => entry.call.over.notify_one(),
                false => entry.wanted = Instant::now(),
            }
        }
    }

    /// Breaks off what no node believes in any more.
    pub fn give_up(&self) {
        for entry in held(&self.0).values() {
            if entry.wanted.elapsed() > BELIEVED {
                entry.call.over.notify_one();
            }
        }
    }
}

impl Going {
    /// It wrote something.
    pub fn wrote(&self, bytes: &[u8]) {
        held(&self.call.tail).push(bytes);
    }

    /// Ends when nobody wants it any more.
    pub async fn over(&self) {
        self.call.over.notified().await;
    }
}

impl Drop for Going {
    fn drop(&mut self) {
        held(&self.among).remove(&self.call.named.id);
    }
}
