//! One message from a listener to the commit.

use crate::{
    admission::{Admission, NotTaken},
    intake::{ReceivedMessage, accept},
    metrics::SourceLabel,
    node::{ListenerStatus, Node},
    random,
    retry::Backoff,
};
use arvok_core::source::{Intake, PEER, Source, Syslog};
use futures_util::stream::FuturesUnordered;
use serde_json::{Map, Value};
use std::{future::poll_fn, net::IpAddr, pin::Pin, task::Poll, time::Duration};

/// Longest message, in bytes; of a longer one only its beginning is read.
pub(super) const LONGEST: usize = 64 << 10;
/// How long a message of a source that sends too fast waits at most until it is looked at again:
/// its limit may have been changed.
const LONGEST_WAIT: Duration = Duration::from_secs(1);

/// Whether a source takes messages of a sender, as it is published now.
pub(super) fn admits(node: &Node, source: &str, is_its: impl Fn(&Syslog) -> bool) -> bool {
    let published = node.published();
    let known = published.catalog.get::<Source>(source);
    let admits = known.is_some_and(
        |(source, _)| matches!(&source.intake, Intake::Syslog(syslog) if is_its(syslog)),
    );
    if !admits {
        let label = SourceLabel { source: source.to_owned() };
        node.metrics.intake.refused_senders.get_or_create(&label).inc();
    }
    admits
}

/// Why nothing is taken from somewhere.
pub(super) fn not_its_address(peer: IpAddr) -> String {
    format!("{peer}: it is none of the source's addresses")
}

/// Whether a source sends more than it may; what comes is counted as too much then.
pub(super) fn is_over_limit(node: &Node, source: &str) -> bool {
    let published = node.published();
    let known = published.catalog.get::<Source>(source);
    known.is_some_and(|(source, _)| node.source_limits.over(source).is_some())
}

/// A message as a listener has it.
pub(super) struct HeardMessage {
    pub raw: Vec<u8>,
    /// What came with it, by the names of its intake.
    pub properties: Map<String, Value>,
    /// What it is known by if it comes again.
    pub key: String,
}

/// What became of a message.
pub(super) enum MessageOutcome {
    /// It is recorded.
    Taken,
    /// It cannot be read, and is kept with this reason.
    Kept(String),
    /// Its source is not published any more.
    Gone,
}

/// Takes a message that nobody can be asked to send again.
pub(super) async fn receive(
    node: &Node,
    name: &str,
    status: &ListenerStatus,
    (raw, peer): (Vec<u8>, IpAddr),
    admission: Admission,
) {
    let properties = Map::from_iter([(PEER.to_owned(), peer.to_string().into())]);
    let heard = HeardMessage { raw, properties, key: random::id() };
    if let MessageOutcome::Gone = record(node, name, status, &heard, admission).await {
        status.dropped();
    }
}

/// Records a message: while the records cannot be written it is tried again, under one key, so
/// that it is taken once.
pub(super) async fn record(
    node: &Node,
    name: &str,
    status: &ListenerStatus,
    heard: &HeardMessage,
    admission: Admission,
) -> MessageOutcome {
    let mut admission = Some(admission);
    let mut backoff = Backoff::new();
    loop {
        let published = node.published();
        let Some((source, _)) = published.catalog.get::<Source>(name) else {
            return MessageOutcome::Gone;
        };
        let admitted = match admission.take() {
            Some(admission) => admission,
            None => admitted(node, name, heard.raw.len()).await,
        };
        let message = ReceivedMessage {
            raw: &heard.raw,
            properties: heard.properties.clone(),
            normal: false,
            key: Some(heard.key.clone()),
            trial: None,
        };
        match accept(node, &published, source, message, admitted).await {
            Ok(_) => {
                status.took(true);
                return MessageOutcome::Taken;
            }
            Err(NotTaken::Malformed { reason, .. }) => {
                status.took(false);
                return MessageOutcome::Kept(reason);
            }
            Err(NotTaken::Store) => backoff.back_off().await,
        }
    }
}

/// Begins with a message: it is in the queue before the next one is looked at, so that the order
/// stays.
pub(super) async fn begin<F: Future<Output = ()>>(
    under_way: &mut FuturesUnordered<Pin<Box<F>>>,
    taking: F,
) {
    let mut taking = Box::pin(taking);
    if poll_fn(|context| Poll::Ready(taking.as_mut().poll(context))).await.is_pending() {
        under_way.push(taking);
    }
}

/// Room for a message, as soon as there is some and its source may send.
pub(super) async fn admitted(node: &Node, source: &str, bytes: usize) -> Admission {
    let (mut backoff, mut is_counted) = (Backoff::new(), false);
    loop {
        let published = node.published();
        let known = published.catalog.get::<Source>(source);
        let wait = known.and_then(|(source, _)| match std::mem::replace(&mut is_counted, true) {
            false => node.source_limits.over(source),
            true => node.source_limits.wait(source),
        });
        if let Some(wait) = wait {
            tokio::time::sleep(wait.min(LONGEST_WAIT)).await;
            continue;
        }
        match node.admission.admit(source, bytes) {
            Some(admission) => return admission,
            None => backoff.back_off().await,
        }
    }
}
