//! A session with a mail server (LMTP, RFC 2033; SMTP, RFC 5321): bounded in its time, its commands
//! and its messages. Whoever is delivered to says which addresses there are, and what becomes of a
//! message.

use arvok_core::text::cut;
use smtp_proto::{
    Error, Request,
    request::receiver::{DataReceiver, DummyDataReceiver, RequestReceiver},
};
use std::{future::Future, slice::Iter, time::Duration};
use tokio::{
    io::{AsyncReadExt, AsyncWriteExt},
    net::TcpStream,
    sync::watch,
    time::timeout,
};

/// What a mail server is told of a message, for one recipient.
pub(crate) struct Reply {
    /// The status with its enhanced code (RFC 3463).
    pub code: &'static str,
    pub text: String,
}

impl Reply {
    pub fn new(code: &'static str, text: impl Into<String>) -> Self {
        // One line, in ASCII (RFC 5321, section 4.2).
        let text: String = text.into();
        let plain = |c: char| if c.is_ascii() && !c.is_ascii_control() { c } else { '?' };
        Self { code, text: cut(&text.chars().map(plain).collect::<String>(), 400).to_owned() }
    }
}

/// Whom mail servers deliver to.
pub(crate) trait Mailroom: Sync {
    /// What is said of an address that is none.
    const UNKNOWN: &'static str;

    /// Whether there is an address; none if that cannot be told now.
    fn knows(&self, address: &str) -> impl Future<Output = Option<bool>> + Send;

    /// Takes a message with its envelope's sender; what is said for each recipient.
    fn take(
        &self,
        message: Vec<u8>,
        envelope: (&str, &[String]),
    ) -> impl Future<Output = Vec<Reply>> + Send;
}

/// How long the next command, or the next piece of a message, is waited for.
const PATIENCE: Duration = Duration::from_secs(60);
/// Largest message, in bytes.
const MOST_BYTES: usize = 1 << 20;
const MOST_RECIPIENTS: usize = 20;
/// Most messages and most mistakes of one session.
const MOST_MESSAGES: usize = 200;
const MOST_MISTAKES: usize = 20;

/// How far a session is.
#[derive(Default)]
struct Session {
    is_greeted: bool,
    /// The envelope's sender; none before there is one.
    sender: Option<String>,
    recipients: Vec<String>,
    messages: usize,
    mistakes: usize,
}

/// What is read of a message.
enum Data {
    Kept(DataReceiver, Vec<u8>),
    /// It is too large: read to its end, and not kept.
    PassedOver(DummyDataReceiver),
}

/// What follows a command.
enum After {
    /// Another command.
    Next,
    /// A message.
    Data,
    /// The end.
    End,
}

/// Tells a mail server to come again.
pub(crate) async fn refuse(mut stream: TcpStream) {
    let _ =
        timeout(PATIENCE, stream.write_all(b"421 4.3.2 too many are spoken with, come again\r\n"))
            .await;
}

/// Speaks with a mail server until it ends.
pub(crate) async fn serve(
    room: &impl Mailroom,
    mut stream: TcpStream,
    mut stopping: watch::Receiver<bool>,
) {
    let (mut session, mut requests) = (Session::default(), RequestReceiver::default());
    let mut data: Option<Data> = None;
    let mut bytes = vec![0; 8 << 10];
    if stream.write_all(b"220 arvok LMTP\r\n").await.is_err() {
        return;
    }
    loop {
        let read = tokio::select! {
            read = timeout(PATIENCE, stream.read(&mut bytes)) => read,
            // Between two messages only: what was begun is ended.
            _ = stopping.changed(), if data.is_none() => {
                let _ = stream.write_all(b"421 4.3.2 this node stops, come again\r\n").await;
                return;
            }
        };
        let Ok(Ok(n @ 1..)) = read else { return };
        let mut rest = bytes[..n].iter();
        while !rest.as_slice().is_empty() {
            let (lines, after) = match &mut data {
                Some(reading) => match session.message(room, reading, &mut rest).await {
                    None => break,
                    Some(lines) => {
                        data = None;
                        (lines, After::Next)
                    }
                },
                None => match requests.ingest(&mut rest) {
                    Ok(request) => session.command(room, request).await,
                    Err(Error::NeedsMoreData { .. }) => break,
                    Err(_) => session.mistaken("500 5.5.2 that is no command"),
                },
            };
            if timeout(PATIENCE, stream.write_all(lines.as_bytes())).await.is_err() {
                return;
            }
            match after {
                After::Next => {}
                After::Data => data = Some(Data::Kept(DataReceiver::new(), Vec::new())),
                After::End => return,
            }
        }
    }
}

impl Session {
    /// A mistake; too many end the session.
    fn mistaken(&mut self, line: &str) -> (String, After) {
        self.mistakes += 1;
        match self.mistakes < MOST_MISTAKES {
            true => (format!("{line}\r\n"), After::Next),
            false => ("421 4.7.0 too many mistakes\r\n".to_owned(), After::End),
        }
    }

    async fn command<R: Mailroom, T: AsRef<str>>(
        &mut self,
        room: &R,
        request: Request<T>,
    ) -> (String, After) {
        let line = match request {
            Request::Lhlo { .. } => {
                (self.is_greeted, self.sender) = (true, None);
                self.recipients.clear();
                return (
                    format!(
                        "250-arvok\r\n250-PIPELINING\r\n250-ENHANCEDSTATUSCODES\r\n250-8BITMIME\r\n\
                         250 SIZE {MOST_BYTES}\r\n"
                    ),
                    After::Next,
                );
            }
            Request::Mail { from } if self.is_greeted && self.sender.is_none() => {
                if self.messages >= MOST_MESSAGES {
                    return ("421 4.3.2 enough for one session\r\n".to_owned(), After::End);
                }
                if from.size > MOST_BYTES {
                    return self.mistaken("552 5.3.4 a message is no larger than 1 MiB");
                }
                self.messages += 1;
                self.sender = Some(from.address.as_ref().to_owned());
                "250 2.1.0 well"
            }
            Request::Rcpt { to } if self.sender.is_some() => {
                if self.recipients.len() >= MOST_RECIPIENTS {
                    return ("452 4.5.3 too many at once\r\n".to_owned(), After::Next);
                }
                match room.knows(to.address.as_ref()).await {
                    Some(true) => {
                        self.recipients.push(to.address.as_ref().to_owned());
                        "250 2.1.5 well"
                    }
                    Some(false) => return self.mistaken(&format!("550 5.1.1 {}", R::UNKNOWN)),
                    None => "451 4.3.0 not now, deliver it again",
                }
            }
            Request::Data if !self.recipients.is_empty() => {
                return ("354 end it with a line of one dot\r\n".to_owned(), After::Data);
            }
            Request::Rset => {
                self.end();
                "250 2.0.0 well"
            }
            Request::Noop { .. } => "250 2.0.0 well",
            Request::Quit => return ("221 2.0.0 so long\r\n".to_owned(), After::End),
            Request::Helo { .. } | Request::Ehlo { .. } => {
                return self.mistaken("500 5.5.1 this is LMTP, which begins with LHLO");
            }
            Request::Mail { .. } | Request::Rcpt { .. } | Request::Data => {
                return self.mistaken("503 5.5.1 not in this order");
            }
            _ => return self.mistaken("502 5.5.1 that is not done here"),
        };
        (format!("{line}\r\n"), After::Next)
    }

    fn end(&mut self) {
        self.sender = None;
        self.recipients.clear();
    }

    /// Reads on in a message; at its end, what is said of it for each recipient (RFC 2033, section
    /// 4.2).
    async fn message(
        &mut self,
        room: &impl Mailroom,
        data: &mut Data,
        rest: &mut Iter<'_, u8>,
    ) -> Option<String> {
        let mut lines = String::new();
        match data {
            Data::PassedOver(receiver) => {
                if !receiver.ingest(rest) {
                    return None;
                }
                for _ in &self.recipients {
                    lines += "552 5.3.4 a message is no larger than 1 MiB\r\n";
                }
            }
            Data::Kept(receiver, message) => {
                if !receiver.ingest(rest, message) {
                    if message.len() > MOST_BYTES {
                        *data = Data::PassedOver(DummyDataReceiver::new_data(receiver));
                    }
                    return None;
                }
                let sender = self.sender.as_deref().unwrap_or_default();
                let envelope = (sender, self.recipients.as_slice());
                for Reply { code, text } in room.take(std::mem::take(message), envelope).await {
                    lines += &format!("{code} {text}\r\n");
                }
            }
        }
        self.end();
        Some(lines)
    }
}
