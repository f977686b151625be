//! A mailbox that is read over IMAP (RFC 3501): what is not seen yet is fetched, and marked as seen
//! when it was handled. `imaps://` is TLS from the beginning (RFC 8314); only to a server on this
//! machine anything is said without it.

use crate::tls::{self, is_on_this_machine};
use async_imap::{Client, Session, error::Error, extensions::idle::IdleResponse};
use futures_util::StreamExt;
use percent_encoding::percent_decode_str;
use reqwest::Url;
use rustls::pki_types::ServerName;
use std::{
    fmt::Debug,
    io,
    pin::Pin,
    task::{Context, Poll},
    time::Duration,
};
use tokio::{
    io::{AsyncRead, AsyncWrite, ReadBuf},
    net::TcpStream,
    time::timeout,
};
use tokio_rustls::TlsConnector;

/// Most that is read as the answer to a command, in bytes: a server that says more is left.
const MOST_READ: usize = 4 << 20;

/// Where a mailbox is, and whose it is.
#[derive(Clone, PartialEq, Eq)]
pub struct MailboxPlace {
    host: String,
    port: u16,
    is_tls: bool,
    user: String,
    folder: String,
}

impl MailboxPlace {
    /// Reads `imaps://user@host/folder` (RFC 5092, section 3); what is not of a name's letters is
    /// percent-encoded, so that `decide%40skerrow.example` is a user with an `@`.
    ///
    /// # Errors
    /// What is wrong with it.
    pub fn parse(text: &str) -> Result<Self, String> {
        let url = Url::parse(text).map_err(|e| e.to_string())?;
        let is_tls = match url.scheme() {
            "imaps" => true,
            "imap" => false,
            other => return Err(format!("it begins with imaps://, not {other}://")),
        };
        let host = url.host_str().unwrap_or_default();
        let host = host.trim_start_matches('[').trim_end_matches(']').to_owned();
        let is_here = is_on_this_machine(&host);
        if host.is_empty() {
            return Err("it names no host".into());
        }
        if !is_tls && !is_here {
            return Err("only to a server on this machine anything is said without TLS".into());
        }
        if url.password().is_some() || url.query().is_some() || url.fragment().is_some() {
            return Err(
                "it has a user, a host, a port and a folder; the password is a file's".into()
            );
        }
        let decoded = |text: &str| {
            let text = percent_decode_str(text).decode_utf8().ok()?.into_owned();
            (text.len() <= 200 && !text.contains(char::is_control)).then_some(text)
        };
        let user = decoded(url.username()).ok_or("its user cannot be read")?;
        if user.is_empty() {
            return Err("it names no user, as in imaps://decide@mail.skerrow.example".into());
        }
        let folder = decoded(url.path().trim_matches('/')).ok_or("its folder cannot be read")?;
        let folder = if folder.is_empty() { "INBOX".to_owned() } else { folder };
        let port = url.port().unwrap_or(if is_tls { 993 } else { 143 });
        Ok(Self { host, port, is_tls, user, folder })
    }
}

impl Debug for MailboxPlace {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        write!(f, "{} of {} at {}:{}", self.folder, self.user, self.host, self.port)
    }
}

/// A message that is not marked as seen.
#[derive(Debug)]
pub struct Unseen {
    /// Its number in the mailbox.
    pub uid: u32,
    /// For how long the number stands for it: while this is the same.
    pub uid_validity: u32,
    /// The message; none if it is larger than is read.
    pub message: Option<Vec<u8>>,
}

/// A mailbox that is open.
#[derive(Debug)]
pub struct OpenMailbox {
    session: Session<Limited>,
    /// With another one the numbers of messages mean others (RFC 3501, section 2.3.1.1).
    uid_validity: u32,
    can_idle: bool,
    patience: Duration,
}

impl OpenMailbox {
    /// Opens one, trusting what the system trusts, or these authorities. A server may take so long
    /// for its answer to whatever it is asked.
    ///
    /// # Errors
    /// Why it cannot be opened.
    pub async fn open(
        place: &MailboxPlace,
        password: &str,
        authorities: Option<&str>,
        patience: Duration,
    ) -> Result<Self, String> {
        let opening = async {
            let stream = TcpStream::connect((place.host.as_str(), place.port)).await;
            let stream = stream.map_err(|e| e.to_string())?;
            let line: Box<dyn Line> = if place.is_tls {
                let name = ServerName::try_from(place.host.clone()).map_err(|e| e.to_string())?;
                let connector = TlsConnector::from(tls::client(authorities)?);
                Box::new(connector.connect(name, stream).await.map_err(|e| e.to_string())?)
            } else {
                Box::new(stream)
            };
            let mut client = Client::new(Limited { line, left: MOST_READ });
            let greeted = client.read_response().await.map_err(|e| e.to_string())?;
            greeted.ok_or("the server ends the connection at once")?;
            let refused = |e: Error| format!("{} is not let in: {}", place.user, said(e));
            let mut session =
                client.login(&place.user, password).await.map_err(|(e, _)| refused(e))?;
            let capabilities = session.capabilities().await.map_err(said)?;
            let can_idle = capabilities.has_str("IDLE");
            let selected = session.select(&place.folder).await;
            let selected =
                selected.map_err(|e| format!("the folder {}: {}", place.folder, said(e)))?;
            let uid_validity = selected.uid_validity.unwrap_or_default();
            Ok(Self { session, uid_validity, can_idle, patience })
        };
        timeout(patience, opening).await.map_err(|_| late(patience)).flatten()
    }

    /// What is not seen yet, the oldest first, so many at most; of messages that have more bytes
    /// only that they are there.
    ///
    /// # Errors
    /// Why it cannot be told; the mailbox is to be opened anew.
    pub async fn unseen(&mut self, most: usize, most_bytes: u32) -> Result<Vec<Unseen>, String> {
        let (patience, uid_validity) = (self.patience, self.uid_validity);
        let reading = async {
            // A server tells of what is new when it is spoken to (RFC 3501, section 7).
            self.session.get_mut().left = MOST_READ;
            self.session.noop().await?;
            let mut uids: Vec<u32> = self.session.uid_search("UNSEEN").await?.into_iter().collect();
            uids.sort_unstable();
            uids.truncate(most);
            let mut all = Vec::new();
            for uid in uids {
                let size = self.fetched(uid, "RFC822.SIZE").await?.and_then(|of| of.size);
                let Some(size) = size else { continue };
                let message = match size <= most_bytes {
                    true => {
                        let fetched = self.fetched(uid, "BODY.PEEK[]").await?;
                        let Some(fetched) = fetched else { continue };
                        fetched
                            .body()
                            .filter(|b| b.len() <= most_bytes as usize)
                            .map(<[u8]>::to_vec)
                    }
                    false => None,
                };
                all.push(Unseen { uid, uid_validity, message });
            }
            Ok(all)
        };
        in_time(patience, reading).await
    }

    /// One message; none if it is gone.
    async fn fetched(
        &mut self,
        uid: u32,
        what: &str,
    ) -> Result<Option<async_imap::types::Fetch>, Error> {
        self.session.get_mut().left = MOST_READ;
        let mut answers = self.session.uid_fetch(uid.to_string(), format!("(UID {what})")).await?;
        let mut found = None;
        while let Some(answer) = answers.next().await {
            found = Some(answer?).filter(|one| one.uid == Some(uid)).or(found);
        }
        Ok(found)
    }

    /// Marks a message as seen.
    ///
    /// # Errors
    /// Why it cannot be; the mailbox is to be opened anew.
    pub async fn see(&mut self, uid: u32) -> Result<(), String> {
        let patience = self.patience;
        let marking = async {
            let mut answers =
                self.session.uid_store(uid.to_string(), "+FLAGS.SILENT (\\Seen)").await?;
            while let Some(answer) = answers.next().await {
                answer?;
            }
            Ok(())
        };
        in_time(patience, marking).await
    }

    /// Waits until something is new, as the server tells (RFC 2177), or for so long; one that does
    /// not tell is asked again after a shorter time.
    ///
    /// # Errors
    /// Why it cannot be; the mailbox is to be opened anew.
    pub async fn wait(self, longest: Duration, unless_told: Duration) -> Result<Self, String> {
        let Self { session, uid_validity, can_idle, patience } = self;
        if !can_idle {
            tokio::time::sleep(unless_told).await;
            return Ok(Self { session, uid_validity, can_idle, patience });
        }
        let mut idle = session.idle();
        in_time(patience, idle.init()).await?;
        // Whatever the server says while nothing is new begins this wait anew: it is bounded all
        // the same.
        let (told, stop) = idle.wait_with_timeout(longest);
        match timeout(longest, told).await {
            Ok(Ok(IdleResponse::ManualInterrupt)) => {
                return Err("the server ended the connection".into());
            }
            Ok(Err(e)) => return Err(said(e)),
            Ok(Ok(_)) | Err(_) => drop(stop),
        }
        let session = in_time(patience, idle.done()).await?;
        Ok(Self { session, uid_validity, can_idle, patience })
    }

    /// Says goodbye.
    pub async fn close(mut self) {
        let _ = timeout(Duration::from_secs(2), self.session.logout()).await;
    }
}

async fn in_time<T>(
    patience: Duration,
    work: impl Future<Output = Result<T, Error>>,
) -> Result<T, String> {
    timeout(patience, work).await.map_err(|_| late(patience))?.map_err(said)
}

fn late(patience: Duration) -> String {
    format!("no answer within {} s", patience.as_secs_f32())
}

/// What a server or the library says, in one line.
fn said(e: Error) -> String {
    let text = match e {
        Error::No(words) | Error::Bad(words) => words,
        other => other.to_string(),
    };
    text.chars().map(|c| if c.is_control() { ' ' } else { c }).take(200).collect()
}

/// A line to a server.
trait Line: AsyncRead + AsyncWrite + Debug + Send + Unpin {}
impl<T: AsyncRead + AsyncWrite + Debug + Send + Unpin> Line for T {}

/// A line of which no more than so much is read.
#[derive(Debug)]
struct Limited {
    line: Box<dyn Line>,
    left: usize,
}

impl AsyncRead for Limited {
    fn poll_read(
        mut self: Pin<&mut Self>,
        context: &mut Context<'_>,
        into: &mut ReadBuf<'_>,
    ) -> Poll<io::Result<()>> {
        let before = into.filled().len();
        let polled = Pin::new(&mut self.line).poll_read(context, into);
        match self.left.checked_sub(into.filled().len() - before) {
            Some(left) => self.left = left,
            None => return Poll::Ready(Err(io::Error::other("the server says too much at once"))),
        }
        polled
    }
}

impl AsyncWrite for Limited {
    fn poll_write(
        mut self: Pin<&mut Self>,
        context: &mut Context<'_>,
        bytes: &[u8],
    ) -> Poll<io::Result<usize>> {
        Pin::new(&mut self.line).poll_write(context, bytes)
    }

    fn poll_flush(mut self: Pin<&mut Self>, context: &mut Context<'_>) -> Poll<io::Result<()>> {
        Pin::new(&mut self.line).poll_flush(context)
    }

    fn poll_shutdown(mut self: Pin<&mut Self>, context: &mut Context<'_>) -> Poll<io::Result<()>> {
        Pin::new(&mut self.line).poll_shutdown(context)
    }
}
