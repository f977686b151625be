//! Answers to questions that come by mail, each to the address that its question had: a mail server
//! delivers them over LMTP (RFC 2033), with which [`lmtp`] speaks, or puts them into a mailbox,
//! which [`mailbox`] reads. [`taken`] decides what becomes of a message.
//!
//! Nothing is acknowledged before it is recorded; what cannot be recorded now is to be delivered
//! again, as mail servers do.

mod mailbox;
mod taken;

use crate::{lmtp, node::Node};
use std::{sync::Arc, time::Duration};
use taken::Answers;
use tokio::{net::TcpListener, sync::Semaphore, task::JoinSet};

/// Most mail servers that are spoken with at once.
const MOST_SESSIONS: usize = 32;
/// What the fault of it is noted under.
const WAY: &str = "listen";
/// The wait before the address is tried again, and after somebody who could not be let in.
const WAIT: Duration = Duration::from_secs(5);
const PAUSE: Duration = Duration::from_millis(100);
/// How long sessions may go on when the node stops.
const DRAIN: Duration = Duration::from_secs(3);

/// Takes answers until the node stops, where its settings say so.
pub(crate) async fn run(node: Arc<Node>) {
    let mut stopping = node.stopping.clone();
    tokio::join!(listen(Arc::clone(&node)), mailbox::run(&node));
    let _ = stopping.wait_for(|stop| *stop).await;
}

/// Listens for mail servers until the node stops.
async fn listen(node: Arc<Node>) {
    let Some(address) = node.answers.listen else { return };
    let mut stopping = node.stopping.clone();
    let room = Arc::new(Semaphore::new(MOST_SESSIONS));
    let mut sessions = JoinSet::new();
    while !*stopping.borrow() {
        let listener = match TcpListener::bind(address).await {
            Ok(listener) => listener,
            Err(e) => {
                let reason = format!("cannot listen on {address}: {e}");
                if node.answers_fault.set(WAY, Some(reason.clone())) {
                    tracing::error!("no answers by mail: {reason}");
                }
                tokio::select! {
                    _ = stopping.changed() => break,
                    () = tokio::time::sleep(WAIT) => continue,
                }
            }
        };
        tracing::info!("answers by mail are taken at {address}");
        node.answers_fault.set(WAY, None);
        loop {
            let accepted = tokio::select! {
                _ = stopping.changed() => break,
                Some(_) = sessions.join_next(), if !sessions.is_empty() => continue,
                accepted = listener.accept() => accepted,
            };
            match (accepted, Arc::clone(&room).try_acquire_owned()) {
                (Ok((stream, _)), Ok(place)) => {
                    let node = Arc::clone(&node);
                    sessions.spawn(async move {
                        lmtp::serve(&Answers(&node), stream, node.stopping.clone()).await;
                        drop(place);
                    });
                }
                (Ok((stream, _)), Err(_)) => drop(tokio::spawn(lmtp::refuse(stream))),
                (Err(e), _) => {
                    tracing::debug!("a mail server was not let in: {e}");
                    tokio::time::sleep(PAUSE).await;
                }
            }
        }
    }
    // Whoever is in the middle of a message may end it; what is not acknowledged comes again.
    let ended = async { while sessions.join_next().await.is_some() {} };
    let _ = tokio::time::timeout(DRAIN, ended).await;
}
