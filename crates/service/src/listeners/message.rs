//! One message from a listener to the commit.

use crate::{
    admission::{Admission, NotTaken},
    intake::{ReceivedMessage, accept},
    metrics::SourceLabel,
    node::{ListenerStatus, Node},
    random,
    retry::Backoff,
};
use arvok_core::source::{Intake, PEER, Source};
use futures_util::stream::FuturesUnordered;
use serde_json::Map;
use std::{future::poll_fn, net::IpAddr, pin::Pin, task::Poll, time::Duration};

/// Longest message, in bytes; of a longer one only its beginning is read.
pub(super) const LONGEST: usize = crate::admission::KEPT;
/// How long a message of a source that sends too fast waits at most until it is looked at again:
/// its limit may have been changed.
const LONGEST_WAIT: Duration = Duration::from_secs(1);

/// Whether a source takes messages from there, as it is published now.
pub(super) fn admits(node: &Node, source: &str, peer: IpAddr) -> bool {
    let published = node.published();
    let known = published.catalog.get::<Source>(source);
    let admits = known.is_some_and(
        |(source, _)| matches!(&source.intake, Intake::Syslog(syslog) if syslog.admits(peer)),
    );
    if !admits {
        let label = SourceLabel { source: source.to_owned() };
        node.metrics.intake.refused_senders.get_or_create(&label).inc();
    }
    admits
}

/// Whether a source sends more than it may; what comes is counted as too much then.
pub(super) fn is_over_limit(node: &Node, source: &str) -> bool {
    let published = node.published();
    let known = published.catalog.get::<Source>(source);
    known.is_some_and(|(source, _)| node.source_limits.over(source).is_some())
}

/// Takes a message. Nobody can be asked to send it again: while the records cannot be written it is
/// tried again, under one id, so that it is taken once.
pub(super) async fn receive(
    node: &Node,
    name: &str,
    status: &ListenerStatus,
    raw: Vec<u8>,
    peer: IpAddr,
    admission: Admission,
) {
    let mut admission = Some(admission);
    let (id, mut backoff) = (random::id(), Backoff::new());
    loop {
        let published = node.published();
        let Some((source, _)) = published.catalog.get::<Source>(name) else {
            return status.dropped();
        };
        let admitted = match admission.take() {
            Some(admission) => admission,
            None => admitted(node, name, raw.len()).await,
        };
        let properties = Map::from_iter([(PEER.to_owned(), peer.to_string().into())]);
        let message = ReceivedMessage {
            raw: &raw,
            properties,
            normal: false,
            key: Some(id.clone()),
            trial: None,
        };
        match accept(node, &published, source, message, admitted).await {
            Ok(_) => return status.took(true),
            Err(NotTaken::Malformed { .. }) => return status.took(false),
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
