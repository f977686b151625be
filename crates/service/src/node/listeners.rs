//! How the listeners of this node stand, as people and the other nodes see it.

use crate::clock;
use arvok_api::{ListenerItem, ListenerState, Transport};
use arvok_core::text::cut;
use std::{
    io,
    sync::{Arc, Mutex, MutexGuard, OnceLock, PoisonError},
    time::Duration,
};
use tokio::sync::{Notify, watch};

/// How long somebody waits for listeners to stand as it is published.
const PATIENCE: Duration = Duration::from_secs(1);

/// Longest reason of a refusal, in bytes.
const LONGEST_REFUSAL: usize = 300;

/// All of them.
#[derive(Debug)]
pub(crate) struct Listeners {
    all: Mutex<Vec<Arc<Mutex<ListenerItem>>>>,
    /// What this node calls itself when it tells of them.
    node: OnceLock<String>,
    /// One of them stands otherwise than before.
    pub changed: Notify,
    /// The generation of what is published that is listened for.
    settled: watch::Sender<i64>,
}

impl Listeners {
    pub fn new() -> Self {
        Self {
            all: Mutex::default(),
            node: OnceLock::new(),
            changed: Notify::new(),
            settled: watch::Sender::new(0),
        }
    }

    fn all(&self) -> MutexGuard<'_, Vec<Arc<Mutex<ListenerItem>>>> {
        self.all.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// One more; it counts until what is given is dropped.
    pub fn begin(
        self: &Arc<Self>,
        source: &str,
        transport: Transport,
        address: &str,
    ) -> ListenerStatus {
        let item = Arc::new(Mutex::new(ListenerItem {
            source: source.to_owned(),
            node: String::new(),
            transport,
            address: address.to_owned(),
            state: ListenerState::Starting,
            reason: None,
            since: clock::now(),
            open: 0,
            waiting: None,
            taken: 0,
            unreadable: 0,
            dropped: 0,
            refused: 0,
            last_refusal: None,
        }));
        self.all().push(Arc::clone(&item));
        ListenerStatus { item, all: Arc::clone(self) }
    }

    /// How they stand, as a node of this name tells it of itself.
    pub fn items(&self, node: &str) -> Vec<ListenerItem> {
        let _ = self.node.set(node.to_owned());
        self.all()
            .iter()
            .map(|one| ListenerItem { node: node.to_owned(), ..held(one).clone() })
            .collect()
    }

    /// The listeners of a source as the nodes told of them last, those of this node as they stand.
    pub fn as_they_stand(&self, told: Vec<ListenerItem>, source: &str) -> Vec<ListenerItem> {
        let Some(node) = self.node.get() else { return told };
        let own = self.items(node).into_iter().filter(|item| item.source == source);
        let others = told.into_iter().filter(|item| item.node != *node);
        own.chain(others).collect()
    }

    /// How many of its listeners listen for a source.
    pub fn listen_for(&self, source: &str) -> usize {
        let listens =
            |item: &ListenerItem| item.source == source && item.state == ListenerState::Listening;
        self.all().iter().filter(|one| listens(&held(one))).count()
    }

    /// What is published in a generation is listened for, or fails to be.
    pub fn settle(&self, generation: i64) {
        self.settled.send_replace(generation);
    }

    /// Waits until what is published in a generation is listened for, or fails to be; not for long.
    pub async fn settled(&self, generation: i64) {
        let mut settled = self.settled.subscribe();
        let _ = tokio::time::timeout(PATIENCE, settled.wait_for(|is| *is >= generation)).await;
    }

    /// Whether none of them is about to listen.
    pub fn have_begun(&self) -> bool {
        self.all().iter().all(|one| held(one).state != ListenerState::Starting)
    }
}

fn held(item: &Mutex<ListenerItem>) -> MutexGuard<'_, ListenerItem> {
    item.lock().unwrap_or_else(PoisonError::into_inner)
}

/// One listener's own.
#[derive(Debug)]
pub(crate) struct ListenerStatus {
    item: Arc<Mutex<ListenerItem>>,
    all: Arc<Listeners>,
}

impl ListenerStatus {
    pub fn is_listening(&self) -> bool {
        held(&self.item).state == ListenerState::Listening
    }

    pub fn listens(&self) {
        self.stands(ListenerState::Listening, None);
    }

    /// Another node takes what comes.
    pub fn stands_by(&self) {
        self.stands(ListenerState::Standby, None);
    }

    /// How many messages wait.
    pub fn waits(&self, waiting: Option<u32>) {
        held(&self.item).waiting = waiting.map(i64::from);
    }

    /// Why it does not listen.
    pub fn failed(&self, error: &io::Error) {
        self.stands(ListenerState::Failed, Some(error.to_string()));
    }

    /// Since when, counts from the first time that it is so.
    fn stands(&self, state: ListenerState, reason: Option<String>) {
        let mut item = held(&self.item);
        if item.state != state {
            (item.state, item.since) = (state, clock::now());
        }
        item.reason = reason;
        drop(item);
        self.all.changed.notify_waiters();
    }

    /// A message is recorded; or kept, since it cannot be read.
    pub fn took(&self, read: bool) {
        let mut item = held(&self.item);
        *(if read { &mut item.taken } else { &mut item.unreadable }) += 1;
    }

    /// A message is lost: there was no room for it.
    pub fn dropped(&self) {
        held(&self.item).dropped += 1;
    }

    /// A message or a connection came from where none may come from, or one connection too many;
    /// from where, and why.
    pub fn refused(&self, why: &str) {
        let mut item = held(&self.item);
        item.refused += 1;
        item.last_refusal = Some(cut(why, LONGEST_REFUSAL).to_owned());
    }

    /// A connection is open until what is given is dropped; none if there are too many.
    pub fn open(&self, most: i64) -> Option<OpenConnection> {
        let mut item = held(&self.item);
        let fits = item.open < most;
        item.open += i64::from(fits);
        fits.then(|| OpenConnection(Arc::clone(&self.item)))
    }
}

impl Drop for ListenerStatus {
    fn drop(&mut self) {
        self.all.all().retain(|one| !Arc::ptr_eq(one, &self.item));
        self.all.changed.notify_waiters();
    }
}

/// An open connection.
#[derive(Debug)]
pub(crate) struct OpenConnection(Arc<Mutex<ListenerItem>>);

impl Drop for OpenConnection {
    fn drop(&mut self) {
        held(&self.0).open -= 1;
    }
}
