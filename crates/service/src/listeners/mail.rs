//! Mail servers that deliver alerts (LMTP, RFC 2033). Each message is answered once it is recorded,
//! or kept since it cannot be read; what cannot be recorded now is delivered again.

use super::{Endpoint, message::is_over_limit};
use crate::{
    admission::NotTaken,
    intake::{ReceivedMessage, accept},
    lmtp::{self, Mailroom, Reply},
    metrics::SourceLabel,
    node::{ListenerStatus, Node},
};
use arvok_core::source::{Intake, MailIntake, PEER, RECIPIENT, Source};
use futures_util::{StreamExt, stream::FuturesUnordered};
use serde_json::Map;
use sha2::{Digest, Sha256};
use std::{io, net::IpAddr, sync::Arc, time::Duration};
use tokio::{net::TcpListener, sync::watch};

/// Most mail servers that are spoken with at once.
const SESSIONS: i64 = 32;
/// The wait after a connection that could not be accepted.
const WAIT: Duration = Duration::from_millis(100);
const AGAIN: &str = "not now, deliver it again";

/// Listens until it is stopped; then what has been begun is ended.
pub(super) async fn serve(
    node: &Arc<Node>,
    endpoint: &Endpoint,
    status: &ListenerStatus,
    stopping: &mut watch::Receiver<bool>,
) -> io::Result<()> {
    let listener = TcpListener::bind(&endpoint.address).await?;
    status.listens();
    let mut sessions = FuturesUnordered::new();
    loop {
        tokio::select! {
            _ = stopping.changed() => break,
            Some(()) = sessions.next(), if !sessions.is_empty() => {}
            accepted = listener.accept() => match accepted {
                Ok((stream, peer)) => {
                    let room = Deliveries { node, source: &endpoint.source, status, peer: peer.ip() };
                    let admits = room.mail(|mail| mail.admits(peer.ip())).unwrap_or(false);
                    match admits.then(|| status.open(SESSIONS)).flatten() {
                        Some(open) => {
                            let stopping = stopping.clone();
                            sessions.push(async move {
                                lmtp::serve(&room, stream, stopping).await;
                                drop(open);
                            });
                        }
                        None => {
                            room.refused("it is none of the source's addresses, or there are too \
                                many sessions");
                            drop(tokio::spawn(lmtp::refuse(stream)));
                        }
                    }
                }
                Err(e) => {
                    tracing::debug!(address = endpoint.address, "a mail server was not let in: {e}");
                    tokio::time::sleep(WAIT).await;
                }
            },
        }
    }
    while sessions.next().await.is_some() {}
    Ok(())
}

/// What is delivered for a source.
struct Deliveries<'a> {
    node: &'a Arc<Node>,
    source: &'a str,
    status: &'a ListenerStatus,
    peer: IpAddr,
}

impl Deliveries<'_> {
    /// Something of the source's intake as it is published now; none if it is none of mail.
    fn mail<T>(&self, ask: impl FnOnce(&MailIntake) -> T) -> Option<T> {
        let published = self.node.published();
        let (source, _) = published.catalog.get::<Source>(self.source)?;
        match &source.intake {
            Intake::Mail(mail) => Some(ask(mail)),
            _ => None,
        }
    }

    fn refused(&self, why: &str) {
        let label = SourceLabel { source: self.source.to_owned() };
        self.node.metrics.intake.refused_senders.get_or_create(&label).inc();
        self.status.refused(&format!("{}: {why}", self.peer));
    }

    /// Takes a message; what is said of it.
    async fn one(&self, message: &[u8], recipients: &[String]) -> Reply {
        let published = self.node.published();
        let Some((source, _)) = published.catalog.get::<Source>(self.source) else {
            return Reply::new("451 4.3.0", AGAIN);
        };
        if is_over_limit(self.node, self.source) {
            return Reply::new("451 4.3.2", "this source sends more than it may, deliver it later");
        }
        let Some(admission) = self.node.admission.admit(self.source, message.len()) else {
            return Reply::new("451 4.3.2", AGAIN);
        };
        let recipient = recipients.first().cloned().unwrap_or_default();
        let properties = Map::from_iter([
            (PEER.to_owned(), self.peer.to_string().into()),
            (RECIPIENT.to_owned(), recipient.into()),
        ]);
        // What is delivered again is the same to its last byte.
        let key = Some(format!("mail {}", hex::encode(&Sha256::digest(message)[..16])));
        let message = ReceivedMessage { raw: message, properties, normal: false, key, trial: None };
        match accept(self.node, &published, source, message, admission).await {
            Ok(_) => {
                self.status.took(true);
                Reply::new("250 2.0.0", "taken")
            }
            Err(NotTaken::Malformed { reason, .. }) => {
                self.status.took(false);
                Reply::new("250 2.0.0", format!("kept, since it cannot be read: {reason}"))
            }
            Err(NotTaken::Store) => Reply::new("451 4.3.0", AGAIN),
        }
    }
}

impl Mailroom for Deliveries<'_> {
    const UNKNOWN: &'static str = "no alerts come to that address";

    async fn knows(&self, address: &str) -> Option<bool> {
        self.mail(|mail| mail.is_to(address))
    }

    async fn take(&self, message: Vec<u8>, envelope: (&str, &[String])) -> Vec<Reply> {
        let (_, recipients) = envelope;
        let Reply { code, text } = self.one(&message, recipients).await;
        recipients.iter().map(|_| Reply { code, text: text.clone() }).collect()
    }
}
