//! A second opinion on settling, slow and plain: nothing is remembered but what happened, and at
//! every moment everything is worked out anew from that. It shares no code with the machine.
//! Gatherings and silence are left to the cases and promises.

use super::*;
use crate::Verdict;
use proptest::prelude::*;

/// Milliseconds since the start.
type T = i64;

#[derive(Clone, Debug)]
struct Plan {
    after: Option<(usize, T)>,
    flapping: Option<(usize, T)>,
    still: Option<T>,
    rest: Option<T>,
    again: Option<(Option<T>, u32, bool)>,
    cap: Option<(usize, T, bool)>,
    /// Which resource is muted from the start, and until when. One that begins later is left to
    /// the cases and promises: what is held by then is looked at when its own time comes.
    muted: Option<(usize, T)>,
}

impl Plan {
    fn text(&self) -> String {
        let mut lines = Vec::new();
        lines.extend(self.after.map(|(n, w)| format!("after: {{ alerts: {n}, within: {w}ms }}")));
        lines.extend(
            self.flapping.map(|(n, w)| format!("flapping: {{ changes: {n}, within: {w}ms }}")),
        );
        lines.extend(self.still.map(|d| format!("still: {d}ms")));
        lines.extend(self.rest.map(|d| format!("rest: {d}ms")));
        lines.extend(self.again.map(|(every, most, worse)| {
            let every = every.map_or_else(String::new, |e| format!("every: {e}ms, "));
            let most = if most == u32::MAX { String::new() } else { format!("at_most: {most}, ") };
            format!("again: {{ {every}{most}when_worse: {worse} }}")
        }));
        lines.extend(
            self.cap.map(|(n, per, later)| {
                format!("cap: {{ jobs: {n}, per: {per}ms, later: {later} }}")
            }),
        );
        format!("{{ {} }}", lines.join(", "))
    }
}

#[derive(Clone, Debug)]
struct Heard {
    came: T,
    sent: T,
    clear: bool,
    severity: i16,
}

/// What happened to one resource.
#[derive(Clone, Debug, Default)]
struct Past {
    heard: Vec<Heard>,
    /// When it was raised anew or cleared.
    changes: Vec<T>,
    /// Times of dispatches and the severity then.
    fires: Vec<(T, i16)>,
    /// How many of them belong to episodes that are over.
    earlier: usize,
    /// When alerts were sent that count, since the last dispatch.
    counted: Vec<T>,
    held: Option<(Verdict, usize)>,
    enough: bool,
    began: Option<T>,
}

impl Past {
    /// Whether it is raised, by what was sent last, and when that was.
    fn standing(&self) -> (bool, Option<T>) {
        let mut newest: Option<&Heard> = None;
        for h in &self.heard {
            if newest.is_none_or(|n| h.sent >= n.sent) {
                newest = Some(h);
            }
        }
        (newest.is_some_and(|n| !n.clear), newest.map(|n| n.sent))
    }

    fn fired(&self) -> Vec<(T, i16)> {
        self.fires[self.earlier..].to_vec()
    }
}

type Said = (T, usize, Verdict);

struct Oracle<'a> {
    plan: &'a Plan,
    pasts: Vec<Past>,
    said: Vec<Said>,
    jobs: Vec<(T, usize)>,
}

impl Oracle<'_> {
    fn hold(&self, now: T, r: usize) -> Option<Verdict> {
        let past = &self.pasts[r];
        if self.plan.muted.is_some_and(|(on, until)| on == r && now < until) {
            return Some(Verdict::Muted);
        }
        if let Some((n, within)) = self.plan.flapping
            && past.changes.iter().filter(|c| now - **c <= within).count() >= n
        {
            return Some(Verdict::Flapping);
        }
        if self
            .plan
            .still
            .is_some_and(|d| past.fired().is_empty() && past.began.is_some_and(|b| now < b + d))
        {
            return Some(Verdict::Waiting);
        }
        if self.plan.rest.is_some_and(|d| past.fires.last().is_some_and(|(t, _)| now < t + d)) {
            return Some(Verdict::Resting);
        }
        if let Some((jobs, per, _)) = self.plan.cap
            && self.jobs.iter().filter(|(t, _)| now < t + per).count() >= jobs
        {
            return Some(Verdict::Capped);
        }
        None
    }

    fn fire(&mut self, now: T, r: usize, severity: i16) {
        self.jobs.push((now, r));
        let past = &mut self.pasts[r];
        past.fires.push((now, severity));
        past.counted.clear();
        past.held = None;
    }

    /// Everything that time alone can bring about.
    fn tick(&mut self, now: T) {
        for r in 0..self.pasts.len() {
            let past = &self.pasts[r];
            let severity = past.heard.iter().rev().find(|h| !h.clear).map_or(0, |h| h.severity);
            match (past.held, past.fired().last(), self.plan.again) {
                (Some((verdict, alert)), _, _) => match self.hold(now, r) {
                    None => {
                        self.said.push((now, alert, Verdict::Dispatched));
                        self.fire(now, r, severity);
                    }
                    Some(other) if other != verdict => {
                        self.said.push((now, alert, other));
                        let lasts = other != Verdict::Capped || self.plan.cap.is_some_and(|c| c.2);
                        self.pasts[r].held = lasts.then_some((other, alert));
                    }
                    Some(_) => {}
                },
                (None, Some((last, _)), Some((Some(every), most, _)))
                    if past.began.is_some()
                        && past.fired().len() <= most as usize
                        && now >= last + every
                        && self.hold(now, r).is_none() =>
                {
                    self.fire(now, r, severity);
                }
                _ => {}
            }
        }
    }

    fn raise(&mut self, h: &Heard, r: usize, alert: usize) {
        let now = h.came;
        let (stood, newest) = self.pasts[r].standing();
        let late = !stood && newest.is_some_and(|n| h.sent < n);
        self.pasts[r].heard.push(h.clone());
        let past = &mut self.pasts[r];
        if late {
            past.counted.push(h.sent);
            return self.said.push((now, alert, Verdict::Folded));
        }
        if !stood {
            past.changes.push(now);
        }
        past.began.get_or_insert(now);
        let fired = past.fired();
        let worse = self.plan.again.is_some_and(|(_, most, worse)| {
            worse
                && fired.len() <= most as usize
                && fired.last().is_some_and(|(_, s)| h.severity > *s)
        });
        if past.held.is_some() || (!fired.is_empty() && !worse) {
            return self.said.push((now, alert, Verdict::Folded));
        }
        if let Some((n, within)) = self.plan.after.filter(|_| fired.is_empty() && !past.enough) {
            past.counted.push(h.sent);
            let fits = |start: T| {
                past.counted.iter().filter(|t| **t >= start && **t - start <= within).count() >= n
            };
            past.enough =
                past.counted.iter().any(|s| *s <= h.sent && h.sent - *s <= within && fits(*s));
            if !past.enough {
                return self.said.push((now, alert, Verdict::Waiting));
            }
        }
        match self.hold(now, r) {
            None => {
                self.said.push((now, alert, Verdict::Dispatched));
                self.fire(now, r, h.severity);
            }
            Some(verdict) => {
                self.said.push((now, alert, verdict));
                if verdict != Verdict::Capped || self.plan.cap.is_some_and(|c| c.2) {
                    self.pasts[r].held = Some((verdict, alert));
                }
            }
        }
    }

    fn clear(&mut self, h: &Heard, r: usize) {
        let (stood, newest) = self.pasts[r].standing();
        let past = &mut self.pasts[r];
        past.heard.push(h.clone());
        if !stood || newest.is_some_and(|n| h.sent < n) {
            return;
        }
        past.changes.push(h.came);
        if let Some((verdict, alert)) = past.held.take() {
            self.said.push((h.came, alert, verdict));
        }
        past.enough = false;
        past.began = None;
        past.earlier = past.fires.len();
    }
}

fn opinion(plan: &Plan, story: &[(usize, Heard)], until: T) -> (Vec<Said>, Vec<T>) {
    let mut oracle =
        Oracle { plan, pasts: vec![Past::default(); 3], said: Vec::new(), jobs: Vec::new() };
    let mut next = story.iter().enumerate().peekable();
    for second in 0..=until / 1000 {
        oracle.tick(second * 1000);
        while let Some((i, (r, h))) = next.next_if(|(_, (_, h))| h.came == second * 1000) {
            if h.clear {
                oracle.clear(h, *r)
            } else {
                oracle.raise(h, *r, i + 1)
            }
            oracle.tick(second * 1000);
        }
        oracle.tick(second * 1000 + 1);
    }
    (oracle.said, oracle.jobs.into_iter().map(|(t, _)| t).collect())
}

fn plans() -> impl Strategy<Value = Plan> {
    let time = || (1i64..60).prop_map(|s| s * 1000);
    let after = proptest::option::of((2usize..4, time()));
    let flapping = proptest::option::weighted(0.4, (2usize..6, time()));
    let again = proptest::option::of((
        proptest::option::of(time()),
        prop_oneof![1u32..3, Just(u32::MAX)],
        any::<bool>(),
    ));
    let cap = proptest::option::of((1usize..3, time(), any::<bool>()));
    let held = || proptest::option::weighted(0.4, (1i64..60).prop_map(|s| s * 1000));
    let muted = proptest::option::of((0usize..3, 60i64..400));
    (after, flapping, held(), held(), again, cap, muted).prop_map(
        |(after, flapping, still, rest, again, cap, muted)| {
            let muted = muted.map(|(on, until)| (on, until * 1000));
            let again = again.map(|(every, most, worse)| (every, most, worse || every.is_none()));
            // What is capped for good is tried again at each `every` only, which needs a memory.
            let cap = cap.map(|(n, per, later)| (n, per, later || again.is_some()));
            Plan { after, flapping, still, rest, again, cap, muted }
        },
    )
}

fn stories() -> impl Strategy<Value = Vec<(usize, Heard)>> {
    let late = prop_oneof![4 => Just(0i64), 1 => 1i64..20];
    let one = (0i64..25, 0usize..3, prop_oneof![3 => Just(false), 2 => Just(true)], late, 1i16..=5);
    proptest::collection::vec(one, 1..25).prop_map(|items| {
        let mut now = 60;
        let story = items.into_iter().map(|(gap, r, clear, late, severity)| {
            now += gap;
            (r, Heard { came: now * 1000, sent: (now - late) * 1000, clear, severity })
        });
        story.collect()
    })
}

fn machine(plan: &Plan, story: &[(usize, Heard)], until: T) -> (Vec<Said>, Vec<T>, Report) {
    let rule = rule(&plan.text(), "[raised]", "{ runbook: grow-disk }");
    let alerts = story.iter().enumerate().map(|(i, (r, h))| {
        let given = json!({
            "at": format!("{}ms", h.came), "late": format!("{}ms", h.came - h.sent), "on": (["a",
                "b", "c"][*r]),
            "state": if h.clear { "cleared" } else { "raised" },
            "severity": crate::Severity::from_rank(h.severity).as_str(),
        });
        alert(&given, i)
    });
    let mutes: Vec<Value> = plan
        .muted
        .iter()
        .map(|(on, until)| {
            json!({
                "resource": [format!("vm/{}", ["a", "b", "c"][*on])],
                "from": "0ms", "until": format!("{until}ms"),
            })
        })
        .collect();
    let mutes = mutes.iter().enumerate().map(mute).collect();
    let end = DateTime::UNIX_EPOCH + chrono::TimeDelta::milliseconds(until + 1);
    let report = play(&rule, alerts, mutes, end);
    let ms = |t: DateTime<Utc>| (t - DateTime::UNIX_EPOCH).num_milliseconds();
    let said = report
        .decided
        .iter()
        .map(|r| (ms(r.at), usize::try_from(r.alert.0).expect("a number"), r.verdict));
    let jobs = report.dispatched.iter().map(|p| ms(p.at)).collect();
    (said.collect(), jobs, report)
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(1500))]

    #[test]
    fn the_machine_says_what_the_oracle_says(plan in plans(), story in stories()) {
        let until = story.last().map_or(0, |(_, h)| h.came) + 200_000;
        let (wanted, wanted_jobs) = opinion(&plan, &story, until);
        let (got, got_jobs, report) = machine(&plan, &story, until);
        let lines: Vec<String> = report.decided.iter().map(|r| format!("{} {} {} \
            {}", r.at, r.alert, r.verdict.as_str(), r.reason)).collect();
        prop_assert_eq!(got, wanted, "{} {:?}\n{}", plan.text(), plan.muted, lines.join("\n"));
        prop_assert_eq!(got_jobs, wanted_jobs, "{}", plan.text());
    }
}
