//! Lines that are kept for the next calls: by machine, what is shown to it, and what it must show.
//! A line carries several calls at once; one that nobody needs for a while is closed.

use super::session::{ChannelTo, Line, SeenKey};
use crate::{driver::Way, machine::Machine};
use arvok_core::connector::{CallEnd, Failure, Opened, UserKey};
use futures_util::future::BoxFuture;
use russh::{Channel, client::Msg};
use sha2::{Digest, Sha256};
use std::{
    collections::HashMap,
    sync::{
        Arc, Mutex, PoisonError,
        atomic::{AtomicUsize, Ordering},
    },
    time::{Duration, Instant},
};

/// Calls on one line at once: OpenSSH allows ten sessions on a line as it comes.
const MOST_CALLS: usize = 8;
/// Lines to other machines that go through one to a jump host at once: they are no sessions.
const MOST_FORWARDED: usize = 64;
/// How long a line stays that nobody needs.
const IDLE: Duration = Duration::from_secs(60);
/// Most machines to which there are lines at once.
const MOST_MACHINES: usize = 2000;
/// How long a kept line may take to begin a call: one that has died without a word says nothing.
const BEGINS: Duration = Duration::from_secs(5);

#[derive(Clone, Debug, PartialEq, Eq, Hash)]
struct LineKey {
    machine: Machine,
    /// A digest of the credential and of the keys that are trusted.
    shown: [u8; 32],
}

impl LineKey {
    fn of(machine: &Machine, known: &[String], way: Way<'_>) -> Self {
        let mut digest = Sha256::new();
        add_shown(&mut digest, known, way);
        Self { machine: machine.clone(), shown: digest.finalize().into() }
    }
}

/// Adds what is shown on a way, what must be shown, and the same of a jump host.
fn add_shown(digest: &mut Sha256, known: &[String], way: Way<'_>) {
    let mut add = |text: &str| {
        digest.update(text.len().to_be_bytes());
        digest.update(text);
    };
    match way.credential {
        Some(Opened::Key(UserKey { user, private, passphrase, certificate })) => {
            add(user);
            add(private);
            add(passphrase.as_deref().unwrap_or_default());
            add(certificate.as_deref().unwrap_or_default());
        }
        Some(Opened::Basic { user, password }) => {
            add(user);
            add(password);
        }
        _ => {}
    }
    known.iter().for_each(|key| add(key));
    if let Some(jump) = way.jump {
        let trusted = jump.trusted.into_iter().flat_map(|trusted| trusted.values());
        let known: Vec<String> = jump.host_keys.iter().chain(trusted).cloned().collect();
        add(jump.base);
        add_shown(digest, &known, jump.way(way.timeout));
    }
}

/// A kept line, and who needs it.
#[derive(Debug)]
struct Kept {
    line: Line,
    /// The place on the line to the jump host that it goes through.
    _through: Option<LineHold>,
    calls: AtomicUsize,
    used: Mutex<Instant>,
}

impl Kept {
    /// A new line, and the first place on it.
    fn held((line, through): OpenedLine) -> (Arc<Self>, LineHold) {
        let used = Mutex::new(Instant::now());
        let kept = Arc::new(Self { line, _through: through, calls: AtomicUsize::new(1), used });
        (Arc::clone(&kept), LineHold(kept))
    }
}

/// A call's hold on a line.
#[derive(Debug)]
pub(super) struct LineHold(Arc<Kept>);

impl LineHold {
    /// Takes a place on a line, if it has one.
    fn reserve(kept: &Arc<Kept>, most: usize) -> Option<Self> {
        let taken = kept.calls.fetch_update(Ordering::AcqRel, Ordering::Acquire, |calls| {
            (calls < most).then_some(calls + 1)
        });
        taken.is_ok().then(|| Self(Arc::clone(kept)))
    }
}

impl Drop for LineHold {
    fn drop(&mut self) {
        *self.0.used.lock().unwrap_or_else(PoisonError::into_inner) = Instant::now();
        self.0.calls.fetch_sub(1, Ordering::AcqRel);
    }
}

/// A line that nobody else has yet, and the place on that which it goes through.
type OpenedLine = (Line, Option<LineHold>);

/// The lines to one machine. Whoever opens one holds the lock, so that many calls at once do not
/// each knock at a machine that would let none of them in then.
type Lines = Arc<tokio::sync::Mutex<Vec<Arc<Kept>>>>;

/// All lines.
#[derive(Debug, Default)]
pub(super) struct Pool {
    lines: Arc<Mutex<HashMap<LineKey, Lines>>>,
}

impl Pool {
    /// A channel for one call, on a line that is kept or on a new one.
    pub async fn channel(
        &self,
        machine: &Machine,
        known: &[String],
        way: Way<'_>,
        to: ChannelTo<'_>,
    ) -> Result<(Channel<Msg>, LineHold), Failure> {
        let held = self.held(machine, known, way)?;
        let mut lines = held.lines.lock().await;
        lines.retain(|kept| !kept.line.is_closed());
        if let Some(begun) = begin(&mut lines, to).await {
            return Ok(begun);
        }
        let opened = self.open(machine, known, way, &SeenKey::default()).await?;
        let channel = opened.0.channel(to).await.map_err(|e| {
            let what = match to {
                ChannelTo::Session => "a session for a command",
                ChannelTo::Socket(path) => path,
            };
            let message = format!("{} does not open {what}: {e}", machine.name());
            Failure::new(CallEnd::NotSent, message)
        })?;
        let (kept, hold) = Kept::held(opened);
        lines.push(Arc::clone(&kept));
        drop(lines);
        close_when_idle(held, kept);
        Ok((channel, hold))
    }

    /// A new line, through the jump host where there is one.
    pub async fn open(
        &self,
        machine: &Machine,
        known: &[String],
        way: Way<'_>,
        seen: &SeenKey,
    ) -> Result<OpenedLine, Failure> {
        let through = match way.jump {
            None => None,
            Some(jump) => Some(self.forwarding(jump.way(way.timeout), machine).await?),
        };
        let (channel, hold) = through.unzip();
        Ok((Line::open(machine, known, way, seen, channel).await?, hold))
    }

    /// A way to another machine through a jump host, on a line to that which is kept or on a new
    /// one. Boxed, as a line may be opened through another.
    pub fn forwarding<'a>(
        &'a self,
        jump: Way<'a>,
        to: &'a Machine,
    ) -> BoxFuture<'a, Result<(Channel<Msg>, LineHold), Failure>> {
        Box::pin(async move {
            let machine = Machine::addressed(jump, None)?;
            let known = machine.trusted(jump);
            let held = self.held(&machine, &known, jump)?;
            let mut lines = held.lines.lock().await;
            lines.retain(|kept| !kept.line.is_closed());
            let has_room = |kept| LineHold::reserve(kept, MOST_FORWARDED);
            let hold = match lines.iter().find_map(has_room) {
                Some(hold) => {
                    drop(lines);
                    hold
                }
                None => {
                    let opening = self.open(&machine, &known, jump, &SeenKey::default()).await;
                    let opened = opening.map_err(|failure| Failure {
                        message: format!("the jump host: {}", failure.message),
                        ..failure
                    })?;
                    let (kept, hold) = Kept::held(opened);
                    lines.push(Arc::clone(&kept));
                    drop(lines);
                    close_when_idle(held, kept);
                    hold
                }
            };
            // Nobody else waits while the jump host looks for a machine that may not be there.
            let channel = hold.0.line.forwarding(to).await.map_err(|e| {
                let (jump, to) = (machine.name(), to.name());
                let message = format!("the jump host {jump} does not lead to {to}: {e}");
                Failure::new(CallEnd::NotSent, message)
            })?;
            Ok((channel, hold))
        })
    }

    /// The lines to a machine on which the same is shown.
    fn held(
        &self,
        machine: &Machine,
        known: &[String],
        way: Way<'_>,
    ) -> Result<HeldMachine, Failure> {
        let key = LineKey::of(machine, known, way);
        let mut all = self.lines.lock().unwrap_or_else(PoisonError::into_inner);
        if all.len() >= MOST_MACHINES && !all.contains_key(&key) {
            let message = format!("there are lines to {MOST_MACHINES} machines at once already");
            return Err(Failure::new(CallEnd::NotSent, message));
        }
        let lines = Arc::clone(all.entry(key.clone()).or_default());
        Ok(HeldMachine { all: Arc::clone(&self.lines), key, lines })
    }
}

/// Whoever has to do with the lines of a machine. The last one forgets the machine if there are no
/// lines to it, however he ends.
struct HeldMachine {
    all: Arc<Mutex<HashMap<LineKey, Lines>>>,
    key: LineKey,
    lines: Lines,
}

impl Drop for HeldMachine {
    fn drop(&mut self) {
        let mut all = self.all.lock().unwrap_or_else(PoisonError::into_inner);
        // Lines are handed out under this lock alone: what is here, and what is in the list.
        let is_last = Arc::strong_count(&self.lines) <= 2;
        if is_last && self.lines.try_lock().is_ok_and(|lines| lines.is_empty()) {
            all.remove(&self.key);
        }
    }
}

/// Closes a line once nobody has needed it for a while.
fn close_when_idle(held: HeldMachine, kept: Arc<Kept>) {
    tokio::spawn(async move {
        loop {
            tokio::time::sleep(IDLE).await;
            // While it is held nobody begins a call on the line.
            let mut lines = held.lines.lock().await;
            let used = *kept.used.lock().unwrap_or_else(PoisonError::into_inner);
            let is_idle = kept.calls.load(Ordering::Acquire) == 0 && used.elapsed() >= IDLE;
            if is_idle || kept.line.is_closed() {
                lines.retain(|other| !Arc::ptr_eq(other, &kept));
                break;
            }
        }
        kept.line.close().await;
    });
}

/// Begins a call on a line that is kept, if one takes it. One that does not answer is not asked
/// again; those who use it go on. Nothing was said on it.
async fn begin(lines: &mut Vec<Arc<Kept>>, to: ChannelTo<'_>) -> Option<(Channel<Msg>, LineHold)> {
    let mut silent = Vec::new();
    let mut begun = None;
    for kept in lines.iter() {
        let Some(hold) = LineHold::reserve(kept, MOST_CALLS) else { continue };
        match tokio::time::timeout(BEGINS, kept.line.channel(to)).await {
            Ok(Ok(channel)) => {
                begun = Some((channel, hold));
                break;
            }
            // It takes no more.
            Ok(Err(_)) => {}
            Err(_) => silent.push(Arc::clone(kept)),
        }
    }
    lines.retain(|kept| !silent.iter().any(|silent| Arc::ptr_eq(silent, kept)));
    begun
}

#[cfg(test)]
mod tests {
    use super::*;

    #[tokio::test]
    async fn machines_that_let_nobody_in_leave_nothing_behind() {
        let silent = tokio::net::TcpListener::bind("127.0.0.1:0").await.expect("a port");
        let silent = silent.local_addr().expect("has one").port();
        let pool = Pool::default();
        for port in [9, silent] {
            let machine = Machine { host: "127.0.0.1".into(), port };
            let asked = || async {
                let way = Way::to("ssh://127.0.0.1", Duration::from_secs(1));
                let asking = pool.channel(&machine, &[], way, ChannelTo::Session);
                tokio::time::timeout(Duration::from_millis(200), asking).await
            };
            let all = tokio::join!(asked(), asked(), asked());
            for came in [all.0, all.1, all.2] {
                assert!(came.map_or(true, |came| came.is_err()), "{port}");
            }
        }
        assert_eq!(pool.lines.lock().expect("nobody panicked").len(), 0);
    }
}
