//! Streams of messages (RFC 6587). Whoever sends faster than what comes can be taken is slowed
//! down: its stream is not read on.

use super::{
    Endpoint,
    framing::Framing,
    message::{admits, admitted, begin, receive},
};
use crate::node::{ListenerStatus, Node, OpenConnection};
use futures_util::{StreamExt, stream::FuturesUnordered};
use std::{io, net::IpAddr, sync::Arc, time::Duration};
use tokio::{
    net::{TcpListener, TcpStream},
    sync::watch,
};
use tokio_util::codec::FramedRead;

/// Connections of one listener.
const CONNECTIONS: i64 = 256;
/// Messages of one connection that may be on their way to the commit at once.
const UNDER_WAY: usize = 256;
/// The wait after a connection that could not be accepted.
const WAIT: Duration = Duration::from_millis(100);

/// Listens until it is stopped; then what has come is taken.
pub(super) async fn serve(
    node: &Arc<Node>,
    endpoint: &Endpoint,
    status: &ListenerStatus,
    stopping: &mut watch::Receiver<bool>,
) -> io::Result<()> {
    let listener = TcpListener::bind(endpoint.address).await?;
    status.listens();
    let mut streams = FuturesUnordered::new();
    loop {
        tokio::select! {
            _ = stopping.changed() => break,
            Some(()) = streams.next(), if !streams.is_empty() => {}
            accepted = listener.accept() => match accepted {
                Ok((stream, peer)) => match admits(node, &endpoint.source,
                    peer.ip()).then(|| status.open(CONNECTIONS)).flatten() {
                    Some(open) => streams.push(read(node, endpoint, status, (stream, peer.ip(),
                        open), stopping.clone())),
                    None => status.refused(),
                },
                // Too many files are open, or whoever came has gone.
                Err(e) => {
                    tracing::debug!(address = %endpoint.address, "a connection was not accepted: \
                        {e}");
                    tokio::time::sleep(WAIT).await;
                }
            },
        }
    }
    while streams.next().await.is_some() {}
    Ok(())
}

/// Takes the messages of one stream until it ends.
async fn read(
    node: &Arc<Node>,
    endpoint: &Endpoint,
    status: &ListenerStatus,
    (stream, peer, _open): (TcpStream, IpAddr, OpenConnection),
    mut stopping: watch::Receiver<bool>,
) {
    let mut messages = FramedRead::new(stream, Framing::default());
    let mut under_way = FuturesUnordered::new();
    loop {
        tokio::select! {
            _ = stopping.changed() => break,
            Some(()) = under_way.next(), if !under_way.is_empty() => {}
            message = messages.next(), if under_way.len() < UNDER_WAY => {
                let Some(Ok(raw)) = message else { break };
                let admission = tokio::select! {
                    _ = stopping.changed() => {
                        status.dropped();
                        break;
                    }
                    admission = admitted(node, &endpoint.source, raw.len()) => admission,
                };
                let taking = receive(node, &endpoint.source, status, raw, peer, admission);
                begin(&mut under_way, taking).await;
            }
        }
    }
    while under_way.next().await.is_some() {}
}
