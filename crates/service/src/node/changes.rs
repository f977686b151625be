//! Changes on their way to consoles and followers, with a memory for those who reconnect.

use arvok_api::Change;
use std::{
    collections::VecDeque,
    sync::{Mutex, PoisonError},
};
use tokio::sync::broadcast;

/// Changes that are remembered.
const REMEMBERED: usize = 1000;

/// A change with its place in this node's order.
#[derive(Clone, Debug)]
pub(crate) struct StreamMessage {
    /// The start of the node, and a number: what a follower shows when it comes back.
    pub id: String,
    pub change: Change,
}

/// Changes of all nodes, as heard by this one.
#[derive(Debug)]
pub(crate) struct Changes {
    run: String,
    sender: broadcast::Sender<StreamMessage>,
    memory: Mutex<(u64, VecDeque<StreamMessage>)>,
}

impl Changes {
    pub fn new() -> Self {
        Self {
            run: crate::random::id(),
            sender: broadcast::channel(1024).0,
            memory: Mutex::default(),
        }
    }

    /// Passes a change on to everybody who listens here.
    pub fn publish(&self, change: Change) {
        let mut memory = self.memory.lock().unwrap_or_else(PoisonError::into_inner);
        memory.0 += 1;
        let message = StreamMessage { id: format!("{}-{}", self.run, memory.0), change };
        memory.1.push_back(message.clone());
        if memory.1.len() > REMEMBERED {
            memory.1.pop_front();
        }
        let _ = self.sender.send(message);
    }

    /// What was missed since a message, and what comes; a reset where that is not known any more.
    pub fn follow(
        &self,
        last: Option<&str>,
    ) -> (Vec<StreamMessage>, broadcast::Receiver<StreamMessage>) {
        let memory = self.memory.lock().unwrap_or_else(PoisonError::into_inner);
        let missed = match last {
            None => Vec::new(),
            Some(last) => match memory.1.iter().position(|m| m.id == last) {
                Some(at) => memory.1.iter().skip(at + 1).cloned().collect(),
                None => vec![StreamMessage {
                    id: format!("{}-{}", self.run, memory.0),
                    change: Change { reset: true, ..Change::default() },
                }],
            },
        };
        (missed, self.sender.subscribe())
    }
}
