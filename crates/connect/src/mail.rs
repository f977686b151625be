//! Mail over SMTP: `smtps://` is TLS from the beginning (RFC 8314), `smtp://` becomes it (RFC
//! 3207). Only to a server on this machine anything is said without it.
//!
//! Until the text is handed over nothing was done; from then on only the server's reply tells.

use crate::{
    driver::{Called, Driver, Way, unsent},
    tls::is_on_this_machine,
};
use arvok_core::connector::{Answer, CallEnd, Failure, Letter, Mailbox, Mailing, Opened};
use lettre::{
    Address, Message,
    message::{Mailbox as Named, MultiPart, header::ContentType},
    transport::smtp::{
        Error,
        authentication::{Credentials, DEFAULT_MECHANISMS},
        client::{AsyncSmtpConnection, Certificate, CertificateStore, TlsParameters},
        commands::{Data, Mail as MailFrom, Noop, Rcpt},
        extension::ClientId,
    },
};
use reqwest::Url;
use serde_json::{Map, Value};
use std::{
    sync::{
        Arc,
        atomic::{AtomicBool, Ordering},
    },
    time::Duration,
};
use tokio::runtime::Handle;

/// The driver; each message has a line of its own.
#[derive(Debug)]
pub(crate) struct Mail;

/// What is known of a message, by whether the server has its text, or a part of it.
const fn end(has_text: bool) -> CallEnd {
    if has_text { CallEnd::Unknown } else { CallEnd::NotSent }
}

/// A way of its own.
struct OwnedWay {
    base: String,
    credential: Option<Opened>,
    authorities: Option<String>,
    timeout: Duration,
}

impl OwnedWay {
    fn of(way: Way<'_>) -> Self {
        Self {
            base: way.base.to_owned(),
            credential: way.credential.cloned(),
            authorities: way.authorities.map(str::to_owned),
            timeout: way.timeout,
        }
    }

    fn way(&self) -> Way<'_> {
        let (credential, authorities) = (self.credential.as_ref(), self.authorities.as_deref());
        Way { credential, authorities, ..Way::to(&self.base, self.timeout) }
    }
}

/// Talks beside the workers, for as long as the way allows; none if that is over. A reply of many
/// lines is read anew with each of them, so that a server which says much would keep a worker busy.
async fn aside<T: Send + 'static>(
    way: Way<'_>,
    talk: impl Future<Output = Result<T, Trouble>> + Send + 'static,
) -> Option<Result<T, Trouble>> {
    let (runtime, timeout) = (Handle::current(), way.timeout);
    let talked =
        tokio::task::spawn_blocking(move || runtime.block_on(tokio::time::timeout(timeout, talk)));
    tokio::time::timeout(timeout, talked).await.ok()?.ok()?.ok()
}

/// A server.
struct Server {
    host: String,
    port: u16,
    /// TLS from the beginning.
    is_tls: bool,
    /// It is on this machine.
    is_here: bool,
}

impl Server {
    fn of(base: &str) -> Result<Self, Failure> {
        let wrong = |why: &str| unsent(format!("{base} is no mail server's address: {why}"));
        let url = Url::parse(base).map_err(|e| wrong(&e.to_string()))?;
        let host = url.host_str().ok_or_else(|| wrong("it names no host"))?;
        let host = host.trim_start_matches('[').trim_end_matches(']').to_owned();
        if !matches!(url.path(), "" | "/") || url.query().is_some() {
            return Err(wrong("nothing follows its host and port"));
        }
        let is_tls = url.scheme() == "smtps";
        let port = url.port().unwrap_or(if is_tls { 465 } else { 587 });
        let is_here = is_on_this_machine(&host);
        Ok(Self { host, port, is_tls, is_here })
    }
}

impl Mail {
    /// Looks whether anybody answers and lets one in; what was answered.
    ///
    /// # Errors
    /// That nobody did, or that the credential was refused.
    pub(crate) async fn probe(&self, way: Way<'_>) -> Result<String, Failure> {
        let own = OwnedWay::of(way);
        let look = async move {
            let mut line = opened(own.way()).await?;
            let reply = line.command(Noop).await.map_err(|e| broken(&e, own.way(), false))?;
            let _ = line.quit().await;
            Ok(format!("answers ({})", reply.code()))
        };
        match aside(way, look).await {
            Some(Ok(answers)) => Ok(answers),
            Some(Err(Trouble::Failed(failure))) => Err(failure),
            Some(Err(Trouble::Replied(status, text))) => {
                Err(Failure::lasting(CallEnd::Refused, format!("answered {status}: {text}")))
            }
            None => Err(Failure::new(CallEnd::NotSent, late(way))),
        }
    }
}

impl Driver<Mailing<'_>> for Mail {
    async fn perform(
        &self,
        mailing: Mailing<'_>,
        way: Way<'_>,
        last: &mut Option<Answer>,
    ) -> Result<Called, Failure> {
        let (letter, text) = (mailing.letter().clone(), written(mailing.letter())?);
        let has_text = Arc::new(AtomicBool::new(false));
        let (own, telling) = (OwnedWay::of(way), Arc::clone(&has_text));
        let talk = async move { sent(&letter, &text, own.way(), &telling).await };
        let Some(replied) = aside(way, talk).await else {
            return Err(Failure::new(end(has_text.load(Ordering::Acquire)), late(way)));
        };
        let (status, text) = match replied {
            Ok(reply) => reply,
            Err(Trouble::Replied(status, text)) => (status, text),
            Err(Trouble::Failed(failure)) => return Err(failure),
        };
        *last = Some(Answer { status, headers: Map::new(), body: Value::String(text.clone()) });
        mailing.replied(status, &text).map(Called::Output)
    }
}

fn late(way: Way<'_>) -> String {
    format!("{}: no answer within {} s", way.base, way.timeout.as_secs_f32())
}

/// What ended a talk with a server before it took the message.
enum Trouble {
    /// It said so.
    Replied(u16, String),
    /// It says nothing any more.
    Failed(Failure),
}

impl From<Failure> for Trouble {
    fn from(failure: Failure) -> Self {
        Self::Failed(failure)
    }
}

/// What an error means for what was told so far.
fn broken(e: &Error, way: Way<'_>, has_text: bool) -> Trouble {
    if let Some(code) = e.status() {
        let why = std::error::Error::source(e).map(ToString::to_string).unwrap_or_default();
        return Trouble::Replied(code.into(), why);
    }
    Trouble::Failed(Failure::new(end(has_text), format!("{}: {e}", way.base)))
}

/// Hands a message over; what the server says to it.
async fn sent(
    letter: &Letter,
    text: &[u8],
    way: Way<'_>,
    has_text: &AtomicBool,
) -> Result<(u16, String), Trouble> {
    let mut line = opened(way).await?;
    let before = |e: Error| broken(&e, way, false);
    line.command(MailFrom::new(Some(address(&letter.from)?), Vec::new())).await.map_err(before)?;
    for to in letter.to.iter().chain(&letter.cc) {
        // One who cannot be reached keeps it from all of them: whoever sends it again sends it to
        // all.
        line.command(Rcpt::new(address(to)?, Vec::new())).await.map_err(|e| match before(e) {
            Trouble::Replied(status, why) => Trouble::Replied(status, format!("{to}: {why}")),
            failed @ Trouble::Failed(_) => failed,
        })?;
    }
    line.command(Data).await.map_err(before)?;
    has_text.store(true, Ordering::Release);
    let reply = line.message(text).await.map_err(|e| broken(&e, way, true))?;
    let said = (reply.code().into(), reply.message().collect::<Vec<_>>().join(" "));
    // It has the message, whether or not it says goodbye.
    let _ = tokio::time::timeout(Duration::from_secs(1), line.quit()).await;
    Ok(said)
}

/// A line to a server that has let us in.
async fn opened(way: Way<'_>) -> Result<AsyncSmtpConnection, Trouble> {
    let server = Server::of(way.base)?;
    let tls = || parameters(&server, way.authorities);
    let hello = ClientId::default();
    let at = (server.host.as_str(), server.port);
    let from_the_beginning = server.is_tls.then(tls).transpose()?;
    let connecting = AsyncSmtpConnection::connect_tokio1(
        at,
        Some(way.timeout),
        &hello,
        from_the_beginning,
        None,
    );
    let mut line = connecting.await.map_err(|e| unreached(&e, way))?;
    if !server.is_tls {
        match line.can_starttls() {
            true => line.starttls(tls()?, &hello).await.map_err(|e| unreached(&e, way))?,
            false if server.is_here => {}
            false => {
                let why = "does not offer TLS (STARTTLS), and is not on this machine";
                return Err(unsent(format!("{} {why}", way.base)).into());
            }
        }
    }
    match way.credential {
        None => {}
        Some(Opened::Basic { user, password }) => {
            let credentials = Credentials::new(user.clone(), password.clone());
            line.auth(DEFAULT_MECHANISMS, &credentials)
                .await
                .map_err(|e| broken(&e, way, false))?;
        }
        Some(_) => {
            return Err(unsent(format!("{}: a mail server is shown `basic`", way.base)).into());
        }
    }
    Ok(line)
}

/// That nobody is there, or nobody whom one can trust.
fn unreached(e: &Error, way: Way<'_>) -> Trouble {
    match broken(e, way, false) {
        Trouble::Failed(failure) => Trouble::Failed(Failure {
            message: format!("cannot connect to {}", failure.message),
            ..failure
        }),
        replied @ Trouble::Replied(..) => replied,
    }
}

fn parameters(server: &Server, authorities: Option<&str>) -> Result<TlsParameters, Failure> {
    let mut builder = TlsParameters::builder(server.host.clone());
    if let Some(pem) = authorities {
        let trusted = Certificate::from_pem(pem.as_bytes());
        let trusted =
            trusted.map_err(|_| unsent("`authorities` holds no certificate in PEM".into()))?;
        builder = builder.certificate_store(CertificateStore::None).add_root_certificate(trusted);
    }
    builder.build().map_err(|e| unsent(format!("no TLS can be spoken with {}: {e}", server.host)))
}

fn address(of: &Mailbox) -> Result<Address, Failure> {
    let made = Address::new(&of.local, &of.domain);
    made.map_err(|e| unsent(format!("{of} is not an address: {e}")))
}

/// A message as it goes over the line (RFC 5322, with MIME as in RFC 2045).
fn written(letter: &Letter) -> Result<Vec<u8>, Failure> {
    let named = |of: &Mailbox| address(of).map(|address| Named::new(of.name.clone(), address));
    let mut message = Message::builder()
        .from(named(&letter.from)?)
        .subject(letter.subject.as_str())
        .message_id(Some(letter.message_id.clone()));
    for to in &letter.to {
        message = message.to(named(to)?);
    }
    for cc in &letter.cc {
        message = message.cc(named(cc)?);
    }
    if let Some(reply_to) = &letter.reply_to {
        message = message.reply_to(named(reply_to)?);
    }
    let message = match &letter.html {
        None => message.header(ContentType::TEXT_PLAIN).body(letter.text.clone()),
        Some(html) => {
            message.multipart(MultiPart::alternative_plain_html(letter.text.clone(), html.clone()))
        }
    };
    message
        .map(|message| message.formatted())
        .map_err(|e| unsent(format!("no message can be made of it: {e}")))
}
