//! What tallies share: caps, and gatherings that fire several of them at once.

use super::{Hold, Machine, Outcome, Time};
use crate::{
    AlertId, Period, Verdict,
    rule::Cap,
    settle::{Effect, Fire, Memory, Pool, Reason, Slot, Trigger},
};

impl Machine<'_> {
    /// When a cap that has no room for so many jobs has it again. What makes more jobs at once than
    /// the cap allows waits until it is empty.
    pub(super) fn full(&self, cap: &Cap, pool: &str, now: Time, jobs: usize) -> Option<Time> {
        let Some(Pool::Cap { fired, .. }) = self.memory.pools.get(pool) else { return None };
        let most = cap.jobs as usize;
        let oldest = fired.iter().rev().nth(most - jobs.clamp(1, most))?;
        let frees = *oldest + cap.per.delta();
        (frees > now).then_some(frees)
    }

    pub(super) fn join(
        &mut self,
        key: &str,
        pool: &str,
        now: Time,
        span: Period,
        at_most: u32,
    ) -> Outcome {
        let fresh = || Pool::Gathering { began: now, members: Vec::new(), due: now + span.delta() };
        let entry = self.memory.pools.entry(pool.to_owned()).or_insert_with(fresh);
        let Pool::Gathering { members, due, .. } = entry else {
            return Outcome::Full(pool.to_owned());
        };
        if !members.iter().any(|m| m == key) {
            members.push(key.to_owned());
        }
        let (nth, due) = (members.len(), *due);
        if nth >= at_most as usize {
            return Outcome::Full(pool.to_owned());
        }
        if nth == 1 {
            self.wake(Slot::Pool(pool.to_owned()), Some(due));
        }
        Outcome::Held(Hold {
            verdict: Verdict::Waiting,
            reason: Reason::Gathers { nth, at_most, due },
            due: None,
            gathered: true,
        })
    }

    pub(super) fn use_cap(&mut self, pool: Option<&str>, now: Time, jobs: usize) {
        let (Some(cap), Some(pool)) = (self.rule.settle.cap.as_ref(), pool) else { return };
        let until = now + cap.per.delta();
        let entry = self.memory.pools.entry(pool.to_owned());
        let entry = entry.or_insert_with(|| Pool::Cap { fired: Vec::new(), due: until });
        if let Pool::Cap { fired, due } = entry {
            fired.extend(std::iter::repeat_n(now, jobs.max(1)));
            fired.drain(..fired.len().saturating_sub(cap.jobs as usize));
            *due = until;
        }
        self.wake(Slot::Pool(pool.to_owned()), Some(until));
    }

    pub(super) fn pool_due(&mut self, now: Time, key: &str) {
        match self.memory.pools.get(key) {
            Some(Pool::Gathering { due, .. }) if *due <= now => self.gathered(now, key, None),
            Some(Pool::Cap { due, .. }) if *due <= now => {
                self.memory.pools.remove(key);
            }
            _ => {}
        }
    }

    /// A gathering ends: those that still want it fire together, or are held by the cap together.
    /// A newcomer is an alert that has no verdict so far.
    pub(super) fn gathered(&mut self, now: Time, pool: &str, newcomer: Option<AlertId>) {
        let Some(Pool::Gathering { members, began, .. }) = self.memory.pools.remove(pool) else {
            return;
        };
        let held = |m: &Memory, key: &String| {
            let episode = m.tallies.get(key)?.episode.as_ref()?;
            let held = episode
                .held
                .filter(|h| h.gathered && episode.gathering.as_deref() == Some(pool))?;
            Some((held.seen, episode.clone()))
        };
        let members: Vec<String> =
            members.into_iter().filter(|k| held(self.memory, k).is_some()).collect();
        let members = self.without_suspended(now, members, newcomer);
        let Some((first, episode)) = members.first().and_then(|k| held(self.memory, k)) else {
            return;
        };
        let settle = &self.rule.settle;
        if let (Some(cap), Some(room)) = (settle.cap.as_ref(), episode.cap.as_ref())
            && let Some(frees) = self.full(cap, room, now, first.entries)
        {
            return self.gathering_capped(now, (pool, began), members, cap, frees, newcomer);
        }
        let (jobs, verdict, what) = self.numbers(first.entries);
        let reason = Reason::Fires(Trigger::Gathered(members.len()), what);
        let mut alerts = Vec::new();
        for key in &members {
            let mut tally = self.take_tally(key);
            if let Some(held) = tally.episode.as_ref().and_then(|e| e.held) {
                let alert = held.seen.alert;
                alerts.extend(alert);
                let before = (newcomer.is_none() || newcomer != alert).then_some(held.verdict);
                self.effects.push(Effect::Verdict {
                    alert,
                    verdict,
                    reason: reason.clone(),
                    job: jobs.first().copied(),
                    replaces: before,
                });
            }
            self.mark(key, &mut tally, now, jobs.first().copied());
            self.put(now, key, tally);
        }
        self.use_cap(episode.cap.as_deref(), now, first.entries);
        let (count, since, before) = (episode.alerts, episode.began, episode.fires());
        self.effects.push(Effect::Fire(Fire {
            stance: self.stance,
            jobs,
            alerts,
            tallies: members,
            count,
            since,
            before,
            reason,
        }));
    }

    /// Members of a gathering that ends, without those that were suspended while it gathered: each
    /// of these is held by itself.
    fn without_suspended(
        &mut self,
        now: Time,
        members: Vec<String>,
        newcomer: Option<AlertId>,
    ) -> Vec<String> {
        let mut left = Vec::new();
        for key in members {
            let held = self.memory.tallies.get(&key).and_then(|t| t.episode.as_ref()?.held);
            let hold = held.and_then(|held| self.suspended(&key, held.seen.alert, now));
            let (Some(held), Some(hold)) = (held, hold) else {
                left.push(key);
                continue;
            };
            let mut tally = self.take_tally(&key);
            self.hold(&key, &mut tally, now, held.seen, &hold);
            self.put(now, &key, tally);
            let alert = held.seen.alert;
            if newcomer.is_some() && newcomer == alert {
                self.verdict(alert, hold.verdict, hold.reason, None);
            } else {
                self.replace(held.verdict, alert, hold.verdict, hold.reason, None);
            }
        }
        left
    }

    pub(super) fn gathering_capped(
        &mut self,
        now: Time,
        (pool, began): (&str, Time),
        members: Vec<String>,
        cap: &Cap,
        frees: Time,
        newcomer: Option<AlertId>,
    ) {
        let reason = Reason::Full { jobs: cap.jobs, per: cap.per, frees, later: cap.later };
        for key in &members {
            let Some(mut tally) = self.memory.tallies.remove(key) else { continue };
            if let Some(episode) = &mut tally.episode
                && let Some(held) = &mut episode.held
            {
                let (alert, before) = (held.seen.alert, held.verdict);
                held.verdict = Verdict::Capped;
                if !cap.later {
                    episode.held = None;
                    if tally.alarms.is_empty() {
                        tally.episode = None;
                    }
                }
                if newcomer.is_some() && newcomer == alert {
                    self.verdict(alert, Verdict::Capped, reason.clone(), None);
                } else if before != Verdict::Capped {
                    self.replace(before, alert, Verdict::Capped, reason.clone(), None);
                }
            }
            self.put(now, key, tally);
        }
        if cap.later {
            self.memory
                .pools
                .insert(pool.to_owned(), Pool::Gathering { began, members, due: frees });
            self.wake(Slot::Pool(pool.to_owned()), Some(frees));
        }
    }
}
