//! How much each source has sent to this node of what it may. What comes too fast is refused where
//! its sender can send it again, waits where it can wait, and is counted in either case; so a flood
//! of one source starves no other.

use crate::clock;
use arvok_core::source::{LimitUse, RateLimit, Source};
use std::{
    collections::BTreeMap,
    sync::{Mutex, MutexGuard, PoisonError},
    time::Duration,
};

/// The sources with a limit of which something has come.
#[derive(Debug, Default)]
pub(crate) struct SourceLimits(Mutex<BTreeMap<String, SentBySource>>);

/// What a source has sent.
#[derive(Clone, Copy, Debug)]
struct SentBySource {
    limit: RateLimit,
    used: LimitUse,
    /// Deliveries that came too fast, and are not written yet.
    over: i64,
}

impl SourceLimits {
    /// How long a source has to wait until it may send again; none if it may. The delivery that
    /// has to is counted.
    pub fn over(&self, source: &Source) -> Option<Duration> {
        self.look(source, 1)
    }

    /// The same for a delivery that was counted before.
    pub fn wait(&self, source: &Source) -> Option<Duration> {
        self.look(source, 0)
    }

    fn look(&self, source: &Source, counts: i64) -> Option<Duration> {
        let limit = source.limit?;
        let mut all = self.all();
        let sent = of(&mut all, &source.name, limit);
        let wait = limit.wait(sent.used, clock::now())?;
        sent.over += counts;
        wait.to_std().ok()
    }

    /// Counts what is taken of a source.
    pub fn count(&self, source: &Source, alerts: usize) {
        if let Some(limit) = source.limit {
            let mut all = self.all();
            let sent = of(&mut all, &source.name, limit);
            sent.used = limit.count(sent.used, alerts, clock::now());
        }
    }

    /// The deliveries that came too fast since this was asked last, by source.
    pub fn take_over(&self) -> BTreeMap<String, i64> {
        let (mut all, now) = (self.all(), clock::now());
        all.retain(|_, sent| sent.over > 0 || !sent.limit.used(sent.used, now).is_none());
        let over = all.iter_mut().filter(|(_, sent)| sent.over > 0);
        over.map(|(name, sent)| (name.clone(), std::mem::take(&mut sent.over))).collect()
    }

    /// The same, which could not be written.
    pub fn give_back(&self, over: BTreeMap<String, i64>) {
        let mut all = self.all();
        for (source, over) in over {
            if let Some(sent) = all.get_mut(&source) {
                sent.over += over;
            }
        }
    }

    fn all(&self) -> MutexGuard<'_, BTreeMap<String, SentBySource>> {
        self.0.lock().unwrap_or_else(PoisonError::into_inner)
    }
}

/// What a source has sent; under another limit it begins anew.
fn of<'s>(
    all: &'s mut BTreeMap<String, SentBySource>,
    source: &str,
    limit: RateLimit,
) -> &'s mut SentBySource {
    let new = || SentBySource { limit, used: LimitUse::none(clock::now()), over: 0 };
    let sent = all.entry(source.to_owned()).or_insert_with(new);
    if sent.limit != limit {
        *sent = SentBySource { over: sent.over, ..new() };
    }
    sent
}
