//! Datagrams: a message each (RFC 5426). Whoever sends them hears nothing; what there is no room
//! for is lost, and counted.

use super::{
    Endpoint,
    message::{LONGEST, admits, begin, is_over_limit, not_its_address, receive},
};
use crate::node::{ListenerStatus, Node};
use futures_util::{StreamExt, stream::FuturesUnordered};
use std::{io, sync::Arc};
use tokio::{net::UdpSocket, sync::watch};

/// Messages that may be on their way to the commit at once.
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
    let socket = UdpSocket::bind(&endpoint.address).await?;
    status.listens();
    let mut under_way = FuturesUnordered::new();
    let mut buffer = vec![0; DATAGRAM];
    loop {
        tokio::select! {
            _ = stopping.changed() => break,
            Some(()) = under_way.next(), if !under_way.is_empty() => {}
            received = socket.recv_from(&mut buffer) => {
                let (bytes, peer) = received?;
                if !admits(node, &endpoint.source, |syslog| syslog.admits(peer.ip())) {
                    status.refused(&not_its_address(peer.ip()));
                    continue;
                }
                let raw = buffer[..bytes.min(LONGEST)].to_vec();
                let room = (under_way.len() < UNDER_WAY && !is_over_limit(node, &endpoint.source))
                    .then(|| node.admission.admit(&endpoint.source, raw.len()));
                let Some(admission) = room.flatten() else {
                    status.dropped();
                    continue;
                };
                let taking = receive(node, &endpoint.source, status, (raw, peer.ip()), admission);
                begin(&mut under_way, taking).await;
            }
        }
    }
    while under_way.next().await.is_some() {}
    Ok(())
}
