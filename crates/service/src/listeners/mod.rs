//! What listens for senders that do not come by HTTP. A supervisor begins, ends and moves the
//! listeners as sources are published and withdrawn; each tells how it stands, and a port that
//! cannot be had is tried again.
//!
//! Every node listens at the addresses of every source. What a listener receives goes the one way
//! in, as what is posted does.

mod broker;
mod framing;
mod mail;
mod message;
mod tcp;
mod trap;
mod udp;

use crate::{
    node::{ListenerStatus, Node},
    timers::versions,
};
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
    /// Where, as people read it.
    address: String,
    /// The session of several.
    part: String,
    /// The versions of what is listened by: another one is another listener.
    spec: String,
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
    let endpoints = |(source, version): (&Source, i32)| {
        let endpoint = |transport, address: String, part: String, spec: String| Endpoint {
            source: source.name.clone(),
            transport,
            address,
            part,
            spec,
        };
        let spec = |via: &str| format!("{version} {}", versions(&published, via));
        match &source.intake {
            Intake::Syslog(syslog) => {
                let all = [
                    (Transport::Udp, syslog.udp),
                    (Transport::Tcp, syslog.tcp),
                    (Transport::Tls, syslog.tls),
                ];
                let at = |(transport, address): (Transport, Option<SocketAddr>)| {
                    let address = address?.to_string();
                    Some(endpoint(transport, address, String::new(), String::new()))
                };
                all.into_iter().filter_map(at).collect()
            }
            Intake::Mqtt(mqtt) => {
                let session = |n: u8| {
                    let address = format!("{} session {n}", mqtt.via);
                    endpoint(Transport::Mqtt, address, n.to_string(), spec(&mqtt.via))
                };
                (1..=mqtt.sessions).map(session).collect()
            }
            Intake::Amqp(amqp) => {
                let address = format!("{} queue {}", amqp.via, amqp.queue);
                vec![endpoint(Transport::Amqp, address, String::new(), spec(&amqp.via))]
            }
            Intake::Mail(mail) => {
                let at = mail.lmtp.to_string();
                vec![endpoint(Transport::Lmtp, at, String::new(), String::new())]
            }
            Intake::Trap(trap) => {
                let at = trap.udp.to_string();
                vec![endpoint(Transport::Snmp, at, String::new(), String::new())]
            }
            _ => Vec::new(),
        }
    };
    published.catalog.all::<Source>().flat_map(endpoints).collect()
}

/// Says loudly what comes over lines that anybody on the way can read, or alter.
fn warn_of_bare_line(endpoint: &Endpoint) {
    let is_bare = match endpoint.transport {
        Transport::Udp | Transport::Tcp | Transport::Lmtp => true,
        // What comes by SNMP may be encrypted; its own listener says so if it is not.
        Transport::Tls | Transport::Mqtt | Transport::Amqp | Transport::Snmp => false,
    };
    let address = endpoint.address.parse::<SocketAddr>();
    if is_bare && address.is_ok_and(|address| !address.ip().is_loopback()) {
        tracing::warn!(
            source = endpoint.source,
            "it is listened for at {} without TLS: what comes there can be read and altered on the \
            way",
            endpoint.address
        );
    }
}

fn begin(node: Arc<Node>, endpoint: Endpoint) -> Running {
    warn_of_bare_line(&endpoint);
    let (stop, stopping) = watch::channel(false);
    let status = node.listeners.begin(&endpoint.source, endpoint.transport, &endpoint.address);
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
            Transport::Tcp | Transport::Tls => {
                tcp::serve(&node, &endpoint, &status, &mut stopping).await
            }
            Transport::Lmtp => mail::serve(&node, &endpoint, &status, &mut stopping).await,
            Transport::Snmp => trap::serve(&node, &endpoint, &status, &mut stopping).await,
            Transport::Mqtt | Transport::Amqp => {
                broker::serve(&node, &endpoint, &status, &mut stopping).await
            }
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
