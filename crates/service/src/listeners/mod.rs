//! What listens for senders that do not come by HTTP. A supervisor begins, ends and moves the
//! listeners as sources are published and withdrawn; each tells how it stands, and a port that
//! cannot be had is tried again.
//!
//! Every node listens at the addresses of every source. What a listener receives goes the one way
//! in, as what is posted does.

mod framing;
mod message;
mod tcp;
mod udp;

use crate::node::{ListenerStatus, Node};
use arvok_api::Transport;
use arvok_core::source::{Intake, Source};
use futures_util::future::join_all;
use std::{collections::BTreeMap, io, net::SocketAddr, sync::Arc, time::Duration};
use tokio::{sync::watch, task::JoinHandle};

/// The wait before an address is tried again, and the longest.
const WAIT: (Duration, Duration) = (Duration::from_millis(500), Duration::from_secs(30));
/// How long a listener that ends may take for what it has received.
const DRAIN: Duration = Duration::from_secs(3);

/// Where is listened for a source.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord)]
struct Endpoint {
    source: String,
    transport: Transport,
    address: SocketAddr,
}

/// A listener that is to be ended before another takes its place.
struct Running {
    stop: watch::Sender<bool>,
    task: JoinHandle<()>,
}

impl Running {
    async fn end(mut self) {
        let _ = self.stop.send(true);
        let _ = tokio::time::timeout(DRAIN, &mut self.task).await;
    }
}

impl Drop for Running {
    fn drop(&mut self) {
        self.task.abort();
    }
}

/// Listens for what is published until the node stops.
pub(crate) async fn run(node: Arc<Node>) {
    let (mut stopping, mut generation) = (node.stopping.clone(), node.generation());
    let mut running: BTreeMap<Endpoint, Running> = BTreeMap::new();
    while !*stopping.borrow() {
        let published = *generation.borrow_and_update();
        let wanted = wanted(&node);
        // What ends does so first: a port may pass from one source to another.
        let (gone, on): (Vec<_>, Vec<_>) =
            running.into_iter().partition(|(endpoint, _)| !wanted.contains(endpoint));
        join_all(gone.into_iter().map(|(_, one)| one.end())).await;
        running = on.into_iter().collect();
        for endpoint in wanted {
            running.entry(endpoint.clone()).or_insert_with(|| begin(Arc::clone(&node), endpoint));
        }
        loop {
            let changed = node.listeners.changed.notified();
            if node.listeners.have_begun() {
                node.listeners.settle(published);
            }
            tokio::select! {
                _ = stopping.changed() => break,
                _ = generation.changed() => break,
                () = changed => {}
            }
        }
    }
    join_all(running.into_values().map(Running::end)).await;
}

/// Where the published sources want to be listened for.
fn wanted(node: &Node) -> Vec<Endpoint> {
    let published = node.published();
    let endpoints = published.catalog.all::<Source>().flat_map(|(source, _)| {
        let syslog = match &source.intake {
            Intake::Syslog(syslog) => [(Transport::Udp, syslog.udp), (Transport::Tcp, syslog.tcp)],
            _ => [(Transport::Udp, None), (Transport::Tcp, None)],
        };
        let at = |(transport, address): (Transport, Option<SocketAddr>)| {
            Some(Endpoint { source: source.name.clone(), transport, address: address? })
        };
        syslog.into_iter().filter_map(at)
    });
    endpoints.collect()
}

fn begin(node: Arc<Node>, endpoint: Endpoint) -> Running {
    let (stop, stopping) = watch::channel(false);
    let status = node.listeners.begin(&endpoint.source, endpoint.transport, endpoint.address);
    Running { stop, task: tokio::spawn(listen(node, endpoint, status, stopping)) }
}

/// Listens until it is stopped; where the address cannot be had, or is lost, it is tried again.
async fn listen(
    node: Arc<Node>,
    endpoint: Endpoint,
    status: ListenerStatus,
    mut stopping: watch::Receiver<bool>,
) {
    let mut wait = WAIT.0;
    loop {
        let ended: io::Result<()> = match endpoint.transport {
            Transport::Udp => udp::serve(&node, &endpoint, &status, &mut stopping).await,
            Transport::Tcp => tcp::serve(&node, &endpoint, &status, &mut stopping).await,
        };
        let Err(error) = ended else { return };
        if status.is_listening() {
            wait = WAIT.0;
        }
        tracing::warn!(source = endpoint.source, address = %endpoint.address, "a listener cannot \
            go on: {error}");
        status.failed(&error);
        tokio::select! {
            _ = stopping.changed() => return,
            () = tokio::time::sleep(wait) => {}
        }
        wait = (wait * 2).min(WAIT.1);
    }
}
