//! The switch over NETCONF: sessions on a socket (RFC 6242, both framings), to which an sshd leads
//! whoever it lets in.

mod requests;
mod tree;

#[cfg(test)]
mod tests;

use super::{RunningSwitch, Switch};
use crate::{
    StandinError,
    faults::Fate,
    machine::{Machine, failed},
    office::Office,
};
use requests::{BASE, answered};
use std::{
    fs, io,
    path::PathBuf,
    sync::atomic::{AtomicU32, Ordering},
    time::Duration,
};
use tokio::{
    io::{AsyncReadExt, AsyncWriteExt},
    net::{UnixListener, UnixStream},
    task::JoinHandle,
};
use tree::Node;

const END: &[u8] = b"]]>]]>";
/// Largest message that is taken.
const LARGEST: usize = 1 << 20;
/// Leads a session from sshd to the socket, and back.
const BRIDGE: &str = r"
use IO::Socket::UNIX;
use IO::Select;
my $socket = IO::Socket::UNIX->new(Peer => $ARGV[0]) or exit 1;
my $both = IO::Select->new(\*STDIN, $socket);
while (1) {
    for my $from ($both->can_read) {
        sysread($from, my $came, 65536) or exit;
        my $to = $from == $socket ? \*STDOUT : $socket;
        for (my $at = 0; $at < length $came;) {
            $at += syswrite($to, $came, length($came) - $at, $at) // exit;
        }
    }
}
";

/// The sshd that leads to a switch.
#[derive(Debug)]
pub struct SwitchOverSsh {
    /// The sshd.
    pub machine: Machine,
    socket: PathBuf,
    serving: JoinHandle<()>,
}

impl SwitchOverSsh {
    /// The address of a connection to it.
    pub fn base(&self) -> String {
        format!("netconf://127.0.0.1:{}", self.machine.port())
    }
}

impl Drop for SwitchOverSsh {
    fn drop(&mut self) {
        self.serving.abort();
        let _ = self.socket.parent().map(fs::remove_dir_all);
    }
}

/// Lets whoever has a key of this folder reach a switch over NETCONF, at a port of loopback; 0: a
/// free one. The folder is emptied, and goes when it ends.
///
/// # Errors
/// If there is no sshd, or it does not listen.
pub fn over_ssh(
    switch: &RunningSwitch,
    keys: PathBuf,
    port: u16,
) -> Result<SwitchOverSsh, StandinError> {
    static COUNT: AtomicU32 = AtomicU32::new(0);
    // A socket has a short path.
    let count = COUNT.fetch_add(1, Ordering::Relaxed);
    let folder = std::env::temp_dir().join(format!("arvok-{}-switch-{count}", std::process::id()));
    let _ = fs::remove_dir_all(&folder);
    fs::create_dir_all(&folder).map_err(failed)?;
    let (socket, bridge) = (folder.join("socket"), folder.join("bridge.pl"));
    fs::write(&bridge, BRIDGE).map_err(failed)?;
    let listener = UnixListener::bind(&socket).map_err(failed)?;
    let serving = tokio::spawn(serve(listener, switch.office()));
    let more =
        format!("Subsystem netconf /usr/bin/perl {} {}\n", bridge.display(), socket.display());
    let machine = Machine::start_with(keys, port, &more)?;
    Ok(SwitchOverSsh { machine, socket, serving })
}

async fn serve(listener: UnixListener, office: Office<Switch>) {
    let mut session = 0;
    while let Ok((line, _)) = listener.accept().await {
        session += 1;
        let office = office.clone();
        tokio::spawn(async move {
            office.with(|switch| switch.sessions += 1);
            let _ = lead(line, &office, session).await;
            office.with(|switch| switch.session_ended(session));
        });
    }
}

/// A session from its hello to its end.
async fn lead(line: UnixStream, office: &Office<Switch>, session: u32) -> io::Result<()> {
    let mut line = Line { line, came: Vec::new(), is_chunked: false };
    line.send(&hello(session)).await?;
    let theirs = line.receive().await?;
    line.is_chunked = String::from_utf8_lossy(&theirs).contains("netconf:base:1.1");
    loop {
        let message = line.receive().await?;
        let Some(rpc) = Node::read(&message).filter(|rpc| rpc.name == "rpc") else {
            line.send(&reply(None, Err(("malformed-message", "no rpc".to_owned())))).await?;
            continue;
        };
        let (id, asked) = (rpc.attribute("message-id"), rpc.children.first());
        let (Some(id), Some(asked)) = (id, asked) else {
            let why = "an rpc has a message-id, and an operation".to_owned();
            line.send(&reply(id, Err(("missing-attribute", why)))).await?;
            continue;
        };
        let (delay, fault) = fault(office);
        tokio::time::sleep(delay).await;
        if fault == Some(Fault::Busy) {
            line.send(&reply(Some(id), Err(("resource-denied", "it is busy".to_owned())))).await?;
            continue;
        }
        if asked.name == "close-session" {
            return line.send(&reply(Some(id), Ok(Vec::new()))).await;
        }
        let answer = office.with(|switch| answered(switch, asked, session));
        match fault {
            Some(Fault::HangUp) => return Ok(()),
            Some(Fault::Garbled) => line.send("<html>Skerrow</html>").await?,
            Some(Fault::Endless) => loop {
                line.line.write_all(&[b'x'; 4096]).await?;
            },
            None | Some(Fault::Busy) => line.send(&reply(Some(id), answer)).await?,
        }
    }
}

/// What goes wrong with a request.
#[derive(Clone, Copy, PartialEq, Eq)]
enum Fault {
    Busy,
    HangUp,
    Endless,
    Garbled,
}

/// What goes wrong with the next request, and how long its answer takes.
fn fault(office: &Office<Switch>) -> (Duration, Option<Fault>) {
    let (delay, fate) = office.next_fate();
    let fault = match fate {
        Fate::Serve => None,
        Fate::Refuse(_) => Some(Fault::Busy),
        Fate::HangUp => Some(Fault::HangUp),
        Fate::Endless => Some(Fault::Endless),
        Fate::Garbled => Some(Fault::Garbled),
    };
    (delay, fault)
}

fn hello(session: u32) -> String {
    let capable = [
        "urn:ietf:params:netconf:base:1.0",
        "urn:ietf:params:netconf:base:1.1",
        "urn:ietf:params:netconf:capability:candidate:1.0",
        "urn:ietf:params:netconf:capability:confirmed-commit:1.1",
        "urn:ietf:params:netconf:capability:rollback-on-error:1.0",
        "urn:ietf:params:netconf:capability:validate:1.1",
    ]
    .map(|one| Node::leaf(BASE, "capability", one));
    let id = Node::leaf(BASE, "session-id", session.to_string());
    written(&Node::new(BASE, "hello", vec![Node::new(BASE, "capabilities", capable.into()), id]))
}

fn reply(id: Option<&str>, answer: Result<Vec<Node>, (&str, String)>) -> String {
    let leaf = |name: &str, text: &str| Node::leaf(BASE, name, text);
    let children = match answer {
        Ok(said) if said.is_empty() => vec![leaf("ok", "")],
        Ok(said) => said,
        Err((tag, why)) => vec![Node::new(
            BASE,
            "rpc-error",
            vec![
                leaf("error-type", "application"),
                leaf("error-tag", tag),
                leaf("error-severity", "error"),
                leaf("error-message", &why),
            ],
        )],
    };
    let said = written(&Node::new(BASE, "rpc-reply", children));
    let id = id.map(|id| format!("<rpc-reply message-id=\"{}\"", quick_xml::escape::escape(id)));
    match id {
        Some(with_id) => said.replacen("<rpc-reply", &with_id, 1),
        None => said,
    }
}

fn written(node: &Node) -> String {
    let mut out = String::new();
    node.write("", &mut out);
    out
}

/// A line on which messages go back and forth.
struct Line {
    line: UnixStream,
    came: Vec<u8>,
    is_chunked: bool,
}

impl Line {
    async fn send(&mut self, message: &str) -> io::Result<()> {
        let framed = match self.is_chunked {
            true => format!("\n#{}\n{message}\n##\n", message.len()).into_bytes(),
            false => [message.as_bytes(), END].concat(),
        };
        self.line.write_all(&framed).await
    }

    async fn receive(&mut self) -> io::Result<Vec<u8>> {
        loop {
            let whole = match self.is_chunked {
                true => self.chunked()?,
                false => self.marked(),
            };
            if let Some(message) = whole {
                return Ok(message);
            }
            if self.came.len() > LARGEST || self.line.read_buf(&mut self.came).await? == 0 {
                return Err(io::ErrorKind::UnexpectedEof.into());
            }
        }
    }

    fn marked(&mut self) -> Option<Vec<u8>> {
        let at = self.came.windows(END.len()).position(|window| window == END)?;
        let rest = self.came.split_off(at + END.len());
        let mut message = std::mem::replace(&mut self.came, rest);
        message.truncate(at);
        Some(message)
    }

    fn chunked(&mut self) -> io::Result<Option<Vec<u8>>> {
        let (mut at, mut message) = (0, Vec::new());
        loop {
            let rest = &self.came[at..];
            let Some(head) = rest.iter().skip(2).position(|byte| *byte == b'\n') else {
                return Ok(None);
            };
            let said = rest.get(2..2 + head).filter(|_| rest.starts_with(b"\n#"));
            let said = said.ok_or(io::ErrorKind::InvalidData)?;
            at += head + 3;
            if said == b"#" {
                self.came.drain(..at);
                return Ok(Some(message));
            }
            let length = str::from_utf8(said).ok().and_then(|said| said.parse::<usize>().ok());
            let length = length.ok_or(io::ErrorKind::InvalidData)?;
            let Some(chunk) = self.came.get(at..at.saturating_add(length)) else {
                return Ok(None);
            };
            message.extend_from_slice(chunk);
            at += length;
        }
    }
}
