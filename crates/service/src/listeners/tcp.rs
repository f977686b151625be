//! Streams of messages (RFC 6587), also within TLS (RFC 5425). Whoever sends faster than what comes
//! can be taken is slowed down: its stream is not read on.

use super::{
    Endpoint,
    framing::Framing,
    message::{admits, admitted, begin, receive},
};
use crate::{
    node::{ListenerStatus, Node, OpenConnection},
    tls::{ClientNames, ServerTls},
};
use arvok_api::Transport;
use arvok_core::source::Syslog;
use futures_util::{StreamExt, stream::FuturesUnordered};
use std::{io, net::IpAddr, sync::Arc, time::Duration};
use tokio::{
    io::AsyncRead,
    net::{TcpListener, TcpStream},
    sync::watch,
};
use tokio_rustls::TlsAcceptor;
use tokio_util::codec::FramedRead;

/// Connections of one listener.
const CONNECTIONS: i64 = 256;
/// Messages of one connection that may be on their way to the commit at once.
const UNDER_WAY: usize = 256;
/// The wait after a connection that could not be accepted.
const WAIT: Duration = Duration::from_millis(100);
/// How long the beginning of TLS may take.
const HANDSHAKE: Duration = Duration::from_secs(10);

/// Listens until it is stopped; then what has come is taken.
pub(super) async fn serve(
    node: &Arc<Node>,
    endpoint: &Endpoint,
    status: &ListenerStatus,
    stopping: &mut watch::Receiver<bool>,
) -> io::Result<()> {
    let is_tls = endpoint.transport == Transport::Tls;
    let tls = if is_tls { Some(acceptor(node)?) } else { None };
    let comes_from = |peer: IpAddr| {
        move |syslog: &Syslog| match is_tls {
            true => syslog.admits_over_tls(peer),
            false => syslog.admits(peer),
        }
    };
    let listener = TcpListener::bind(&endpoint.address).await?;
    status.listens();
    let mut streams = FuturesUnordered::new();
    loop {
        tokio::select! {
            _ = stopping.changed() => break,
            Some(()) = streams.next(), if !streams.is_empty() => {}
            accepted = listener.accept() => match accepted {
                Ok((stream, peer)) => match admits(node, &endpoint.source,
                    comes_from(peer.ip())).then(|| status.open(CONNECTIONS)).flatten() {
                    Some(open) => streams.push(take(node, endpoint, status, (stream, peer.ip(),
                        open), tls.clone(), stopping.clone())),
                    None => status.refused(&format!("{}: it is none of the source's addresses, or \
                        it has {CONNECTIONS} connections already", peer.ip())),
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

/// What takes connections over TLS.
fn acceptor(node: &Node) -> io::Result<TlsAcceptor> {
    let Some(tls) = &node.tls else {
        return Err(io::Error::other("this node has no certificate: tls.certificate is not set"));
    };
    Ok(TlsAcceptor::from(Arc::new(ServerTls::config(tls).map_err(io::Error::other)?)))
}

/// Takes the messages of one connection until it ends.
async fn take(
    node: &Arc<Node>,
    endpoint: &Endpoint,
    status: &ListenerStatus,
    (stream, peer, open): (TcpStream, IpAddr, OpenConnection),
    tls: Option<TlsAcceptor>,
    mut stopping: watch::Receiver<bool>,
) {
    let Some(tls) = tls else {
        return read(node, endpoint, status, (stream, peer, open), stopping).await;
    };
    let accepted = tokio::select! {
        _ = stopping.changed() => return,
        accepted = tokio::time::timeout(HANDSHAKE, tls.accept(stream)) => accepted,
    };
    let stream = match accepted {
        Ok(Ok(stream)) => stream,
        failed => {
            let why = failed.map_or_else(
                |e| e.to_string(),
                |failed| match failed {
                    Err(e) => e.to_string(),
                    Ok(_) => String::new(),
                },
            );
            tracing::debug!(source = endpoint.source, "TLS with {peer} has not begun: {why}");
            return status.refused(&format!("{peer}: TLS has not begun: {why}"));
        }
    };
    let names = ClientNames::of(stream.get_ref().1.peer_certificates());
    if !admits(node, &endpoint.source, |syslog| syslog.knows_certificate(&names.0)) {
        let why = "its certificate is none of this source's senders";
        return status.refused(&format!("{peer}: {why}"));
    }
    read(node, endpoint, status, (stream, peer, open), stopping).await;
}

/// Takes the messages of one stream until it ends.
async fn read(
    node: &Arc<Node>,
    endpoint: &Endpoint,
    status: &ListenerStatus,
    (stream, peer, _open): (impl AsyncRead + Unpin, IpAddr, OpenConnection),
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
                let taking = receive(node, &endpoint.source, status, (raw, peer), admission);
                begin(&mut under_way, taking).await;
            }
        }
    }
    while under_way.next().await.is_some() {}
}
