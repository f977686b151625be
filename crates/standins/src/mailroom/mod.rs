//! The mailroom: a mail server (SMTP, RFC 5321) that keeps what it takes. Whoever sends says a name
//! and a password (RFC 4954).

use crate::{Faults, StandinError, faults::Fate};
use base64::{Engine, prelude::BASE64_STANDARD};
use std::{
    net::TcpListener as Bound,
    sync::{Arc, Mutex, MutexGuard, PoisonError},
    time::Duration,
};
use tokio::{
    io::{AsyncBufReadExt, AsyncWriteExt, BufReader},
    net::{TcpListener, TcpStream},
    task::JoinHandle,
};

/// Messages that are kept.
const KEPT: usize = 1_000;
/// Longest line of a command, and largest message, in bytes.
const LONGEST: usize = 2_000;
const LARGEST: usize = 1 << 20;
/// Who sends.
pub const USER: &str = "arvok";

/// A message that was taken.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Message {
    /// Who sent it, by the envelope.
    pub from: String,
    /// Whom it is for, by the envelope.
    pub to: Vec<String>,
    /// Its header and text as they came.
    pub text: String,
}

/// What the mailroom keeps.
#[derive(Debug, Default)]
pub struct Mailroom {
    /// Messages, the oldest first.
    pub messages: Vec<Message>,
    faults: Faults,
}

/// A mailroom at work.
#[derive(Debug)]
pub struct RunningMailroom {
    kept: Arc<Mutex<Mailroom>>,
    port: u16,
    serving: JoinHandle<()>,
}

fn locked(kept: &Mutex<Mailroom>) -> MutexGuard<'_, Mailroom> {
    kept.lock().unwrap_or_else(PoisonError::into_inner)
}

/// Opens it on a port of loopback; 0 takes a free one.
///
/// # Errors
/// If the port cannot be had.
pub fn start(port: u16, password: String) -> Result<RunningMailroom, StandinError> {
    let wrong = |error| StandinError::Port { port, error };
    let bound = Bound::bind(("127.0.0.1", port)).map_err(wrong)?;
    bound.set_nonblocking(true).map_err(wrong)?;
    let at = bound.local_addr().map_err(wrong)?.port();
    let listener = TcpListener::from_std(bound).map_err(wrong)?;
    let kept = Arc::new(Mutex::new(Mailroom::default()));
    let serving = tokio::spawn(serve(listener, Arc::clone(&kept), password));
    Ok(RunningMailroom { kept, port: at, serving })
}

impl RunningMailroom {
    /// Its address.
    pub fn url(&self) -> String {
        format!("smtp://127.0.0.1:{}", self.port)
    }

    /// Looks at what is kept.
    pub fn with<T>(&self, look: impl FnOnce(&mut Mailroom) -> T) -> T {
        look(&mut locked(&self.kept))
    }

    /// Lets things go wrong.
    pub fn set_faults(&self, faults: Faults) {
        locked(&self.kept).faults = faults;
    }

    /// Stops it.
    pub fn stop(&self) {
        self.serving.abort();
    }
}

impl Drop for RunningMailroom {
    fn drop(&mut self) {
        self.stop();
    }
}

async fn serve(listener: TcpListener, kept: Arc<Mutex<Mailroom>>, password: String) {
    loop {
        match listener.accept().await {
            Ok((stream, _)) => {
                let (kept, password) = (Arc::clone(&kept), password.clone());
                // Whoever goes away in the middle has not sent anything.
                tokio::spawn(async move { drop(talk(stream, &kept, &password).await) });
            }
            Err(_) => tokio::time::sleep(Duration::from_millis(50)).await,
        }
    }
}

type Line = BufReader<TcpStream>;

async fn reply(line: &mut Line, words: &str) -> std::io::Result<()> {
    line.write_all(format!("{words}\r\n").as_bytes()).await
}

/// The next line; none at the end of the stream, or if it is too long.
async fn read_line(line: &mut Line, most: usize) -> std::io::Result<Option<String>> {
    use tokio::io::AsyncReadExt;
    let mut text = Vec::new();
    line.take(most as u64).read_until(b'\n', &mut text).await?;
    Ok(text
        .ends_with(b"\n")
        .then(|| String::from_utf8_lossy(&text).trim_end_matches(['\r', '\n']).to_owned()))
}

/// What stands between angle brackets.
fn address(command: &str) -> Option<String> {
    let (_, rest) = command.split_once('<')?;
    rest.split_once('>').map(|(address, _)| address.to_owned())
}

async fn talk(stream: TcpStream, kept: &Mutex<Mailroom>, password: &str) -> std::io::Result<()> {
    let mut line = BufReader::new(stream);
    reply(&mut line, "220 mailroom.skerrow.example ESMTP").await?;
    let right = BASE64_STANDARD.encode(format!("\0{USER}\0{password}"));
    let (mut known, mut from, mut to) = (false, None, Vec::new());
    while let Some(command) = read_line(&mut line, LONGEST).await? {
        let verb = command.split([' ', ':']).next().unwrap_or_default().to_ascii_uppercase();
        let answer = match verb.as_str() {
            "EHLO" => "250-mailroom.skerrow.example\r\n250-8BITMIME\r\n250 AUTH PLAIN",
            "AUTH" => {
                known = command.eq_ignore_ascii_case(&format!("AUTH PLAIN {right}"));
                if known { "235 2.7.0 known" } else { "535 5.7.8 nobody is known so" }
            }
            "MAIL" if !known => "530 5.7.0 say who you are",
            "MAIL" => {
                (from, to) = (address(&command), Vec::new());
                "250 2.1.0 ok"
            }
            "RCPT" if from.is_none() => "503 5.5.1 who sends it?",
            "RCPT" => match address(&command).filter(|to| to.ends_with("@skerrow.example")) {
                Some(one) => {
                    to.push(one);
                    "250 2.1.5 ok"
                }
                None => "550 5.1.1 nobody is called so here",
            },
            "DATA" if to.is_empty() => "503 5.5.1 whom is it for?",
            "DATA" => {
                reply(&mut line, "354 go on").await?;
                let Some(text) = text(&mut line).await? else { return Ok(()) };
                let message = Message {
                    from: from.take().unwrap_or_default(),
                    to: std::mem::take(&mut to),
                    text,
                };
                if !receive(&mut line, kept, message).await? {
                    return Ok(());
                }
                continue;
            }
            "NOOP" | "RSET" => "250 2.0.0 ok",
            "QUIT" => return reply(&mut line, "221 2.0.0 until then").await,
            _ => "502 5.5.1 that is not known here",
        };
        reply(&mut line, answer).await?;
    }
    Ok(())
}

/// A message up to its end (RFC 5321, section 4.5.2).
async fn text(line: &mut Line) -> std::io::Result<Option<String>> {
    let mut text = String::new();
    while let Some(next) = read_line(line, LARGEST).await? {
        if next == "." {
            return Ok(Some(text));
        }
        if text.len() + next.len() > LARGEST {
            return Ok(None);
        }
        text.push_str(next.strip_prefix('.').unwrap_or(&next));
        text.push('\n');
    }
    Ok(None)
}

/// What happens to a message: after how long, whether it is taken, and what is answered; none: the
/// line is cut.
fn fate(faults: &mut Faults) -> (Duration, bool, Option<&'static str>) {
    let (delay, fate) = faults.next();
    let (taken, answer) = match fate {
        Fate::Serve => (true, Some("250 2.0.0 taken")),
        Fate::Refuse(_) => (false, Some("451 4.3.0 the mailroom is busy")),
        Fate::Garbled => (true, Some("Skerrow")),
        Fate::HangUp => (true, None),
        Fate::Endless => (true, Some("250-and")),
    };
    (delay, taken, answer)
}

/// Takes a message, as far as nothing goes wrong; whether the talk goes on.
async fn receive(
    line: &mut Line,
    kept: &Mutex<Mailroom>,
    message: Message,
) -> std::io::Result<bool> {
    let (delay, taken, answer) = fate(&mut locked(kept).faults);
    tokio::time::sleep(delay).await;
    if taken {
        let mut kept = locked(kept);
        if kept.messages.len() >= KEPT {
            kept.messages.remove(0);
        }
        kept.messages.push(message);
    }
    let Some(answer) = answer else { return Ok(false) };
    loop {
        reply(line, answer).await?;
        // One that is not the last of its reply is followed by another (RFC 5321, section 4.2.1),
        // here without end.
        if answer.as_bytes().get(3) != Some(&b'-') {
            return Ok(true);
        }
    }
}
