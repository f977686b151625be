//! Lines that are kept for the next calls: by machine, what is shown to it, and what it must show.
//! A line carries several calls at once; one that nobody needs for a while is closed.

use super::{
    Machine,
    session::{Line, SeenKey},
};
use crate::driver::{Way, unsent};
use arvok_core::connector::{CallEnd, Failure, Opened};
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
/// How long a line stays that nobody needs.
const IDLE: Duration = Duration::from_secs(60);
/// Most lines at once.
const MOST_LINES: usize = 2000;

#[derive(Clone, Debug, PartialEq, Eq, Hash)]
struct LineKey {
    machine: Machine,
    /// A digest of the credential and of the keys that are trusted.
    shown: [u8; 32],
}

impl LineKey {
    fn of(machine: &Machine, known: &[String], credential: Option<&Opened>) -> Self {
        let mut digest = Sha256::new();
        let mut add = |text: &str| {
            digest.update(text.len().to_be_bytes());
            digest.update(text);
        };
        match credential {
            Some(Opened::Key { user, private, passphrase, certificate }) => {
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
        Self { machine: machine.clone(), shown: digest.finalize().into() }
    }
}

/// A kept line, and who needs it.
#[derive(Debug)]
struct Kept {
    line: Line,
    calls: AtomicUsize,
    used: Mutex<Instant>,
}

/// A call's hold on a line.
#[derive(Debug)]
pub(super) struct LineHold(Arc<Kept>);

impl LineHold {
    /// Takes a place on a line, if it has one.
    fn take(kept: &Arc<Kept>) -> Option<Self> {
        let taken = kept.calls.fetch_update(Ordering::AcqRel, Ordering::Acquire, |calls| {
            (calls < MOST_CALLS).then_some(calls + 1)
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
    ) -> Result<(Channel<Msg>, LineHold), Failure> {
        let key = LineKey::of(machine, known, way.credential);
        let lines = {
            let mut all = self.lines.lock().unwrap_or_else(PoisonError::into_inner);
            if all.len() >= MOST_LINES && !all.contains_key(&key) {
                return Err(Failure::new(
                    CallEnd::NotSent,
                    format!("there are lines to {MOST_LINES} machines at once already"),
                ));
            }
            Arc::clone(all.entry(key.clone()).or_default())
        };
        let mut lines = lines.lock().await;
        lines.retain(|kept| !kept.line.is_closed());
        for kept in lines.iter() {
            // One that was cut unnoticed, or takes no more: nothing was said on it.
            if let Some(hold) = LineHold::take(kept)
                && let Ok(channel) = kept.line.channel().await
            {
                return Ok((channel, hold));
            }
        }
        let opened = Line::open(machine, known, way, &SeenKey::default()).await;
        let line = match opened {
            Ok(line) => line,
            Err(failure) => {
                if lines.is_empty() {
                    self.forget(&key);
                }
                return Err(failure);
            }
        };
        let channel = line.channel().await.map_err(|e| {
            unsent(format!("{} opens no session for a command: {e}", machine.name()))
        })?;
        let used = Mutex::new(Instant::now());
        let kept = Arc::new(Kept { line, calls: AtomicUsize::new(0), used });
        let hold = LineHold::take(&kept).ok_or_else(|| unsent("a new line is taken".into()))?;
        lines.push(Arc::clone(&kept));
        drop(lines);
        self.close_when_idle(key, kept);
        Ok((channel, hold))
    }

    fn forget(&self, key: &LineKey) {
        self.lines.lock().unwrap_or_else(PoisonError::into_inner).remove(key);
    }

    /// Closes a line once nobody has needed it for a while.
    fn close_when_idle(&self, key: LineKey, kept: Arc<Kept>) {
        let all = Arc::clone(&self.lines);
        tokio::spawn(async move {
            loop {
                tokio::time::sleep(IDLE).await;
                let of_machine =
                    all.lock().unwrap_or_else(PoisonError::into_inner).get(&key).cloned();
                let Some(of_machine) = of_machine else { break };
                // While it is held nobody begins a call on the line.
                let mut lines = of_machine.lock().await;
                let used = *kept.used.lock().unwrap_or_else(PoisonError::into_inner);
                let is_idle = kept.calls.load(Ordering::Acquire) == 0 && used.elapsed() >= IDLE;
                if is_idle || kept.line.is_closed() {
                    lines.retain(|other| !Arc::ptr_eq(other, &kept));
                    if lines.is_empty() {
                        all.lock().unwrap_or_else(PoisonError::into_inner).remove(&key);
                    }
                    break;
                }
            }
            kept.line.close().await;
        });
    }
}
