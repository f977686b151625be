//! Notifications of agents over SNMP. A trap is sent once, and its sender hears nothing; an inform
//! is answered once it is recorded, and comes again until then.

use super::{
    Endpoint,
    message::{HeardMessage, MessageOutcome, begin, is_over_limit, record},
};
use crate::{
    admission::Admission,
    metrics::SourceLabel,
    node::{ListenerStatus, Node, SecretScope},
    random,
};
use arvok_connect::{ReceivedPacket, TrapReceiver};
use arvok_core::{
    Kind,
    connector::AgentCredential,
    source::{Intake, PEER, Source, TrapIntake},
};
use futures_util::{StreamExt, stream::FuturesUnordered};
use serde_json::Map;
use std::{
    io,
    net::{IpAddr, SocketAddr},
    sync::Arc,
};
use tokio::{net::UdpSocket, sync::watch};

/// Notifications that may be on their way to the commit at once.
const UNDER_WAY: usize = 1024;
/// The longest datagram.
const DATAGRAM: usize = 65_535;

/// Listens until it is stopped; then what has come is taken.
pub(super) async fn serve(
    node: &Arc<Node>,
    endpoint: &Endpoint,
    status: &ListenerStatus,
    stopping: &mut watch::Receiver<bool>,
) -> io::Result<()> {
    let mut generation = node.generation();
    let mut credentials = opened(node, &endpoint.source)?;
    let mut receiver = begun(&credentials).await?;
    let socket = UdpSocket::bind(&endpoint.address).await?;
    warn_of_communities(endpoint, &credentials);
    status.listens();
    let mut under_way = FuturesUnordered::new();
    let mut buffer = vec![0; DATAGRAM];
    let ended = loop {
        tokio::select! {
            _ = stopping.changed() => break Ok(()),
            Some(()) = under_way.next(), if !under_way.is_empty() => {}
            _ = generation.changed() => {
                generation.borrow_and_update();
                // A secret may have been changed, or taken from the source.
                match opened(node, &endpoint.source) {
                    Err(e) => break Err(e),
                    Ok(now) if now == credentials => {}
                    Ok(now) => match begun(&now).await {
                        Err(e) => break Err(e),
                        Ok(begun) => (receiver, credentials) = (begun, now),
                    },
                }
            }
            received = socket.recv_from(&mut buffer) => {
                let (bytes, peer) = match received {
                    Ok(received) => received,
                    Err(e) => break Err(e),
                };
                let notified = notified(node, endpoint, &receiver, (&buffer[..bytes], peer.ip()));
                let (heard, answer) = match notified {
                    Ok(ReceivedPacket::Notification { raw, key, answer }) => {
                        let properties =
                            Map::from_iter([(PEER.to_owned(), peer.ip().to_string().into())]);
                        let key = key.unwrap_or_else(random::id);
                        (HeardMessage { raw, properties, key }, answer)
                    }
                    Ok(ReceivedPacket::Question(answer)) => {
                        let _ = socket.send_to(&answer, peer).await;
                        continue;
                    }
                    Ok(ReceivedPacket::Refused { why, answer }) => {
                        refused(node, endpoint, status, (peer.ip(), &why));
                        if let Some(answer) = answer {
                            let _ = socket.send_to(&answer, peer).await;
                        }
                        continue;
                    }
                    Err(why) => {
                        refused(node, endpoint, status, (peer.ip(), why));
                        continue;
                    }
                };
                let room = (under_way.len() < UNDER_WAY && !is_over_limit(node, &endpoint.source))
                    .then(|| node.admission.admit(&endpoint.source, heard.raw.len()));
                let Some(admission) = room.flatten() else {
                    // An inform is not lost: it is not answered, and comes again.
                    if answer.is_none() {
                        status.dropped();
                    }
                    continue;
                };
                let answer = answer.map(|answer| (answer, peer));
                // It is in the queue before the next one: that a link is up again comes later.
                let taking = take(node, endpoint, status, (heard, admission), (&socket, answer));
                begin(&mut under_way, taking).await;
            }
        }
    };
    while under_way.next().await.is_some() {}
    ended
}

/// The credentials of a source, opened.
fn opened(node: &Node, name: &str) -> io::Result<Vec<AgentCredential<String>>> {
    let published = node.published();
    let scope = SecretScope::of(&published, Kind::Source, name);
    let credentials =
        trap(&published.catalog.get::<Source>(name)).map_or(&[][..], |trap| &trap.credentials);
    let open = |one: &AgentCredential<_>| one.open(|template| scope.fill(template));
    credentials.iter().map(open).collect::<Result<_, _>>().map_err(io::Error::other)
}

fn trap<'s>(source: &Option<(&'s Source, i32)>) -> Option<&'s TrapIntake> {
    match source {
        Some((Source { intake: Intake::Trap(trap), .. }, _)) => Some(trap),
        _ => None,
    }
}

/// Keys are made of passwords: that takes too long for a thread that others wait for.
async fn begun(credentials: &[AgentCredential<String>]) -> io::Result<TrapReceiver> {
    let credentials = credentials.to_vec();
    let made = tokio::task::spawn_blocking(move || TrapReceiver::new(&credentials));
    made.await.map_err(io::Error::other)?.map_err(io::Error::other)
}

fn warn_of_communities(endpoint: &Endpoint, credentials: &[AgentCredential<String>]) {
    let is_shown = |one: &AgentCredential<_>| matches!(one, AgentCredential::Community(_));
    let address = endpoint.address.parse::<SocketAddr>();
    if credentials.iter().any(is_shown) && address.is_ok_and(|a| !a.ip().is_loopback()) {
        tracing::warn!(
            source = endpoint.source,
            "communities are taken at {}: everybody on the way can read them; users of SNMP \
            version 3 with privacy cannot be read",
            endpoint.address
        );
    }
}

/// What a packet tells; or why it is not looked at.
fn notified(
    node: &Node,
    endpoint: &Endpoint,
    receiver: &TrapReceiver,
    (packet, peer): (&[u8], IpAddr),
) -> Result<ReceivedPacket, &'static str> {
    let published = node.published();
    let source = published.catalog.get::<Source>(&endpoint.source);
    match trap(&source) {
        Some(trap) if trap.admits(peer) => Ok(receiver.receive(packet, peer)),
        _ => Err("it is none of the source's addresses"),
    }
}

fn refused(node: &Node, endpoint: &Endpoint, status: &ListenerStatus, (peer, why): (IpAddr, &str)) {
    let label = SourceLabel { source: endpoint.source.clone() };
    node.metrics.intake.refused_senders.get_or_create(&label).inc();
    status.refused(&format!("{peer}: {why}"));
}

/// Records a notification, and answers its sender then.
async fn take(
    node: &Node,
    endpoint: &Endpoint,
    status: &ListenerStatus,
    (heard, admission): (HeardMessage, Admission),
    (socket, answer): (&UdpSocket, Option<(Vec<u8>, SocketAddr)>),
) {
    match record(node, &endpoint.source, status, &heard, admission).await {
        MessageOutcome::Taken | MessageOutcome::Kept(_) => {
            if let Some((answer, peer)) = answer {
                let _ = socket.send_to(&answer, peer).await;
            }
        }
        MessageOutcome::Gone if answer.is_none() => status.dropped(),
        MessageOutcome::Gone => {}
    }
}
