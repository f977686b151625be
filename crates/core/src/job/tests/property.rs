//! Random runbooks in random worlds: the machine does what the interpreter says, and neither deaths
//! nor events that come twice nor calls that wait for their turn change how a job goes.

use super::{
    interpreter::{Answer, Interpreter, Oracle, Time, Went, by_place, mixed},
    story::{Happening, Story, World},
};
use crate::{
    Alert, AlertState, JobId, Principal, Severity,
    alert::{NewAlert, Received},
    connector::{CallEnd, Failure, Repeat},
    definition::Defined,
    document::parse_file,
    job::{
        CallOut, ChildEnd, Decided, Event, EventWait, JobCommand, JobEffect, JobState, Launching,
        Place, Question, Resolution, StepEvent,
    },
    runbook::{ANNOUNCED, Action, GO_ON, OBJECT, Runbook, all},
};
use chrono::{DateTime, TimeDelta};
use proptest::prelude::*;
use serde_json::{Value, json};
use std::collections::BTreeSet;

/// Draws what a runbook is made of.
struct Draw {
    seed: u64,
    count: usize,
    ids: usize,
    /// Whether calls that must not be repeated are among them.
    never: bool,
}

impl Draw {
    fn below(&mut self, n: u64) -> u64 {
        self.count += 1;
        mixed(self.seed, "draw", self.count) % n
    }

    /// A time of at least so many milliseconds, and up to so many more. It is a multiple of four,
    /// and what people say comes at moments that are none: so no two things happen at once.
    fn millis(&mut self, least: u64, more: u64) -> String {
        format!("{}ms", 4 * (least + self.below(more)))
    }

    /// A length of time that is written out, or that an expression makes.
    fn length(&mut self, least: u64, more: u64) -> String {
        let written = self.millis(least, more);
        match self.below(3) {
            0 => format!("${{{} + 0}}ms", written.trim_end_matches("ms")),
            _ => written,
        }
    }

    fn id(&mut self) -> String {
        self.ids += 1;
        format!("s{}", self.ids)
    }

    fn operation(&mut self) -> &'static str {
        match self.below(if self.never { 3 } else { 2 }) {
            0 => "safe.go",
            1 => "keyed.go",
            _ => "never.go",
        }
    }

    /// A list that begins with something that takes time, so that no two ways end at the same
    /// moment.
    fn list(&mut self, depth: u32) -> Vec<Value> {
        let mut list = vec![self.call()];
        for _ in 0..self.below(3) {
            list.push(self.step(depth));
        }
        let last = list.len() - 1;
        for (i, step) in list.iter_mut().enumerate() {
            match self.below(10) {
                0 => step["on_error"] = json!("continue"),
                _ if i == last => {}
                1 => step["when"] = json!("1 > 2"),
                _ => {}
            }
        }
        // The first always runs.
        if let Some(first) = list[0].as_object_mut() {
            first.remove("when");
        }
        if list.len() > 2 && self.below(4) == 0 {
            let to = list[2]["id"].clone();
            list[0]["on_error"] = to;
        }
        list
    }

    fn call(&mut self) -> Value {
        let mut step = json!({ "id": self.id(), "call": self.operation(), "via": "yard" });
        if self.below(2) == 0 {
            step["retry"] = json!({ "times": self.below(3), "wait": "1s" });
        }
        if self.below(2) == 0 {
            step["undo"] = json!({ "call": "keyed.back" });
        }
        step
    }

    fn step(&mut self, depth: u32) -> Value {
        let id = self.id();
        let kinds = if depth == 0 { 9 } else { 12 };
        let mut step = match self.below(kinds) {
            0 | 1 => return self.call(),
            2 => json!({ "pause": self.length(1, 1_200_000) }),
            3 => json!({ "require": if self.below(4) > 0 { "1 < 2" } else { "1 > 2" } }),
            4 => json!({ "check": "result.n >= 5", "call": "safe.look", "via": "yard",
                "every": self.millis(20_000, 180_000), "within": self.length(100_000, 1_200_000) }),
            5 => {
                let silence = if self.below(2) == 0 { "go" } else { "stop" };
                let mut ask = json!({ "text": "${job.target}?", "choices": { "go": "Go",
                    "leave": "Leave" },
                    "within": self.length(1, 1_200_000), "unanswered": silence });
                if self.below(2) == 0 {
                    ask["tell"] = json!({ "call": self.operation(), "via": "chat",
                        "give": { "at": "${decision.link}" } });
                }
                json!({ "ask": ask })
            }
            6 => json!({ "await": { "kinds": "port.up", "where": "event.value > 5.0" },
                "within": self.length(1, 1_200_000) }),
            7 => {
                let mut child = json!({ "runbook": "other", "give": { "vm": "${job.target}" } });
                if self.below(2) == 0 {
                    child["undo"] = json!({ "call": "keyed.back", "via": "yard" });
                }
                child
            }
            8 if self.below(2) == 0 => {
                json!({ "emit": "step.done", "labels": { "of": "${job.target}" } })
            }
            8 => json!({ "remember": { "n": "${memory.n + 1}" } }),
            9 => {
                let whens = ["1 > 2", "1 < 2"];
                let mut branches: Vec<Value> = (0..=self.below(2))
                    .map(|_| {
                        json!({ "when": whens[self.below(2) as usize],
                        "steps": self.list(depth - 1) })
                    })
                    .collect();
                if self.below(2) == 0 {
                    branches.push(json!({ "steps": self.list(depth - 1) }));
                }
                json!({ "choose": branches })
            }
            10 => {
                let items = vec!["1"; 1 + self.below(4) as usize].join(", ");
                json!({ "each": format!("[{items}]"), "as": format!("item{id}"),
                    "at_once": 1 + self.below(3),
                    "failures": if self.below(2) == 0 { "stop" } else { "report" },
                        "steps": self.list(depth - 1) })
            }
            _ => {
                let ways: serde_json::Map<String, Value> = (0..2 + self.below(2))
                    .map(|n| (format!("w{n}"), json!(self.list(depth - 1))))
                    .collect();
                json!({ "together": ways,
                    "until": if self.below(2) == 0 { "all" } else { "first" } })
            }
        };
        if ["choose", "each", "together", "runbook"].iter().any(|k| step.get(k).is_some())
            && self.below(4) == 0
        {
            step["timeout"] = json!(self.length(1, 1_800_000));
        }
        step["id"] = json!(id);
        step
    }

    fn runbook(&mut self) -> Runbook {
        let mut doc = json!({ "runbook": "r", "target": "vm/a", "timeout": "${1000}h",
            "memory": { "n": { "type": "integer", "default": 0 } },
            "steps": self.list(3),
            "recover": self.list(1), "always": self.list(1) });
        if self.below(2) == 0 {
            doc["confirm"] = json!({ "check": "result.n >= \
                5", "call": "safe.look", "via": "yard", "within": "${2400}s" });
            doc["otherwise"] = json!(self.list(1));
        }
        let text = doc.to_string();
        let documents = parse_file("r.yaml", &text).expect("reads");
        Runbook::check(&documents[0]).unwrap_or_else(|e| panic!("{text}\n{e:#?}"))
    }
}

/// A world in which every answer is worked out from the place and its number.
#[derive(Clone, Copy)]
struct Mixed {
    seed: u64,
    /// One of so many events is the node's last; none if 0.
    lost: u64,
    /// One of so many events is told twice; none if 0.
    doubled: u64,
    /// One of so many calls waits for its turn; none if 0.
    queued: u64,
    /// Whether what has a key is never refused: after a death nobody could tell a refusal of what
    /// was done before.
    gentle: bool,
    /// Whether somebody objects to what is announced; else it is let go on at once.
    objects: bool,
    count: usize,
}

impl Mixed {
    fn kind(operation: &str) -> Repeat {
        match operation.split('.').next() {
            Some("safe") => Repeat::Safe,
            Some("keyed") => Repeat::Keyed,
            _ => Repeat::Never,
        }
    }

    fn chance(&mut self, what: &str, one_of: u64) -> bool {
        self.count += 1;
        one_of > 0 && mixed(self.seed, what, self.count).is_multiple_of(one_of)
    }
}

impl Oracle for Mixed {
    fn answer(&self, place: &str, nth: usize) -> (Time, Answer) {
        let x = mixed(self.seed, place, nth);
        let takes = 4 * (1 + (x >> 8) as Time % 1_000_000);
        // After some answers that are no good there is one that is.
        let answer = match x % 16 {
            _ if nth > 6 => Answer::Good(9),
            0 | 1 => Answer::Refused,
            2 | 3 => Answer::Busy,
            4 => Answer::Unknown,
            n => Answer::Good(n as i64 - 4),
        };
        (takes, answer)
    }

    fn says(&self, place: &str) -> (Time, Resolution) {
        let x = mixed(self.seed, place, 999);
        let word = match x % 3 {
            0 => Resolution::Done,
            1 => Resolution::Again,
            _ => Resolution::Failed,
        };
        (4 * (1 + (x >> 8) as Time % 1_800_000), word)
    }

    fn comes(&self, place: &str) -> Option<Time> {
        let comes = !mixed(self.seed, place, 1_001).is_multiple_of(4);
        comes.then(|| self.after(place, 1_200_000, 1_002))
    }

    fn child(&self, place: &str) -> (Time, bool) {
        (self.after(place, 1_000_000, 1_003), !mixed(self.seed, place, 1_004).is_multiple_of(4))
    }

    fn stops(&self, place: &str) -> Time {
        self.after(place, 400_000, 1_005)
    }
}

impl Mixed {
    fn after(&self, place: &str, most: u64, nth: usize) -> Time {
        4 * (1 + (mixed(self.seed, place, nth) >> 8) as Time % most as Time)
    }
}

impl World for Mixed {
    fn answer(&mut self, call: &CallOut, nth: usize) -> (TimeDelta, StepEvent) {
        let (takes, answer) = Oracle::answer(self, call.place.as_str(), nth);
        let repeat = Self::kind(call.target.operation().expect("an operation").1);
        let answer = if self.gentle && repeat == Repeat::Keyed { Answer::Good(9) } else { answer };
        let broke = |failure: Failure| StepEvent::Broke { failure, repeat };
        let what = match answer {
            Answer::Good(n) => StepEvent::Returned(json!({ "n": n })),
            Answer::Refused => broke(Failure::lasting(CallEnd::Refused, "answered 409")),
            Answer::Busy => broke(Failure::new(CallEnd::Refused, "answered 503")),
            Answer::Unknown => broke(Failure::new(CallEnd::Unknown, "timed out")),
        };
        (TimeDelta::milliseconds(takes), what)
    }

    fn says(&mut self, place: &Place) -> Option<(TimeDelta, Resolution)> {
        let (after, word) = Oracle::says(self, place.as_str());
        Some((TimeDelta::milliseconds(after), word))
    }

    fn decides(&mut self, question: &Question) -> Option<(TimeDelta, Decided)> {
        let (after, choice) = match (question.place.as_str(), self.objects) {
            (ANNOUNCED, true) => (self.after(ANNOUNCED, 400_000, 1_006) % ANNOUNCED_FOR, OBJECT),
            (ANNOUNCED, false) => (0, GO_ON),
            (place, _) => (Oracle::comes(self, place)?, "leave"),
        };
        let decided = Decided {
            choice: choice.into(),
            by: Principal::token("pat"),
            how: "api".into(),
            remark: String::new(),
        };
        Some((TimeDelta::milliseconds(after), decided))
    }

    fn brings(&mut self, listening: &EventWait) -> Vec<(TimeDelta, Alert)> {
        let port = |after: Time, value: f64| {
            let received = listening.since + TimeDelta::milliseconds(after);
            let new = NewAlert {
                id: None,
                kind: "port.up".into(),
                severity: Severity::Minor,
                state: AlertState::Noted,
                resource: "switch/a".into(),
                time: None,
                summary: None,
                value: Some(value),
                labels: std::collections::BTreeMap::new(),
                body: Value::Null,
                trial: false,
            };
            new.complete(Received { source: "yard", received, fallback_id: "1" }).expect("an alert")
        };
        let after = Oracle::comes(self, listening.place.as_str());
        let half = after.unwrap_or(7) / 2;
        let too_little = (TimeDelta::milliseconds(half), port(half, 1.0));
        let comes = after.map(|after| (TimeDelta::milliseconds(after), port(after, 9.0)));
        [too_little].into_iter().chain(comes).collect()
    }

    fn has_done(&mut self, launching: &Launching) -> (TimeDelta, ChildEnd) {
        let (takes, good) = Oracle::child(self, launching.place.as_str());
        let state = if good { JobState::Succeeded } else { JobState::Failed };
        let end = ChildEnd {
            job: JobId(21),
            state,
            effect: JobEffect::Confirmed,
            failure: None,
            outputs: Value::Null,
        };
        (TimeDelta::milliseconds(takes), end)
    }

    fn stops(&mut self, place: &Place) -> TimeDelta {
        TimeDelta::milliseconds(Oracle::stops(self, place.as_str()))
    }

    fn is_lost(&mut self) -> bool {
        self.chance("lost", self.lost)
    }

    fn doubles(&mut self) -> bool {
        self.chance("doubled", self.doubled)
    }

    fn is_queued(&mut self) -> bool {
        self.chance("queued", self.queued)
    }
}

/// What people say to a job: when they stop it, and whether it takes back; from when to when they
/// hold it.
#[derive(Clone, Debug, Default)]
struct Said {
    stops: Vec<(Time, bool)>,
    held: Option<(Time, Time)>,
}

impl Said {
    /// Within the time that the job takes by itself.
    fn drawn(seed: u64, long: Time) -> Self {
        let at = |what: &str, most: Time| (mixed(seed, what, 7) >> 8) as Time % most.max(1);
        let chance = |what: &str, of: u64| mixed(seed, what, 8).is_multiple_of(of);
        let from = at("hold", long) / 4 * 4 + 1;
        let held = chance("held", 2).then(|| (from, from + 4 * (1 + at("held for", 800_000))));
        let least = held.map_or(0, |(_, to)| to) / 4;
        let first = 4 * (least + 1 + at("stop", long.max(4) / 4)) + 2;
        let second = first + 4 * (1 + at("stop again", 600_000)) + 1;
        let stops = [(first, chance("undo", 2)), (second, chance("undo again", 3))];
        let many = mixed(seed, "stops", 9) % 3;
        Self { stops: stops.into_iter().take(many as usize).collect(), held }
    }

    fn happens(&self, story: &mut Story<'_, Mixed>) {
        let at = |ms: Time| DateTime::UNIX_EPOCH + TimeDelta::milliseconds(ms);
        for (when, undo) in &self.stops {
            let cancel = Event::Commanded(JobCommand::Cancel {
                undo: *undo,
                words: "stopped by pat".into(),
            });
            story.at(at(*when), Happening::Event(cancel));
        }
        if let Some((from, to)) = self.held {
            // A halt of all jobs does what a person does.
            let words = "held by pat".to_owned();
            let (begin, end) = if from / 1000 % 2 == 0 {
                (Event::Halted { words }, Event::Lifted)
            } else {
                let pause = JobCommand::Pause { words };
                (Event::Commanded(pause), Event::Commanded(JobCommand::Resume))
            };
            story.at(at(from), Happening::Event(begin));
            story.at(at(to), Happening::Event(end));
        }
    }
}

/// Whether several steps went on at the moment at which the job was held no longer.
fn several_at(trace: &[String], held: Option<(Time, Time)>) -> bool {
    let Some((_, to)) = held else { return false };
    let clock = format!("{}.{:03}s ", to / 1000, to % 1000);
    let went = trace.iter().filter_map(|line| line.strip_prefix(&clock)?.split(' ').next());
    went.collect::<BTreeSet<_>>().len() > 1
}

fn play(runbook: &Runbook, world: Mixed) -> (Went, Vec<String>, usize) {
    play_with(runbook, world, &Said::default())
}

fn play_with(runbook: &Runbook, world: Mixed, said: &Said) -> (Went, Vec<String>, usize) {
    let mut story = Story::new(runbook, json!({}), false, world);
    said.happens(&mut story);
    story.play();
    let ended =
        story.ended.unwrap_or_else(|| panic!("the job comes to no end: {:#?}", story.trace));
    // Whether a message went out that tells of a question changes nothing.
    let beside = |place: &str| place.ends_with(".told") || place == ANNOUNCED;
    let done = story.done.into_iter().filter(|(_, place, _)| !beside(place));
    let mut done: Vec<(Time, String)> = done.map(|(at, place, _)| (at, place)).collect();
    done.sort();
    let end = (story.now - DateTime::UNIX_EPOCH).num_milliseconds();
    let went = Went { end, state: ended.state.as_str(), effect: ended.effect.as_str(), done };
    (went, story.trace, story.sent.values().copied().max().unwrap_or_default())
}

/// What is remembered at the end.
fn remembered(runbook: &Runbook, world: Mixed) -> Value {
    let mut story = Story::new(runbook, json!({}), false, world);
    story.play();
    story.kept.memory
}

/// What one did and the other did not.
fn differences(one: &Went, other: &Went) -> Vec<String> {
    let ends = [one, other].map(|w| format!("{} {} at {}", w.state, w.effect, w.end));
    let ends = ends.iter().filter(|_| ends[0] != ends[1]).cloned();
    let only = |a: &Went, b: &Went, whose: &str| {
        let there = by_place(&b.done);
        let mine = by_place(&a.done);
        let only = mine.iter().filter(|(place, at)| there.get(*place) != Some(at));
        only.map(|(place, at)| format!("only {whose}: {place} at {at}")).collect::<Vec<_>>()
    };
    ends.chain(only(one, other, "the one")).chain(only(other, one, "the other")).collect()
}

pub(super) fn drawn(seed: u64, never: bool) -> Runbook {
    Draw { seed, count: 0, ids: 0, never }.runbook()
}

/// How long before it changes anything a job is announced, in milliseconds.
const ANNOUNCED_FOR: Time = 600_000;

/// The same, of which it is said before that it is about to change something.
fn announced(mut runbook: Runbook) -> Runbook {
    let text = "{ runbook: r, target: vm/a, announce: { before: 10m }, \
        steps: [ { id: a, set: { n: 1 } } ] }";
    let documents = parse_file("r.yaml", text).expect("reads");
    runbook.announce = Runbook::check(&documents[0]).expect("checks").announce;
    runbook
}

/// The steps that change something of what is announced.
fn changing(runbook: &Runbook) -> BTreeSet<&str> {
    let steps = all(&runbook.steps).into_iter().chain(all(&runbook.otherwise));
    let changing = steps.filter(|s| matches!(s.action, Action::Call(_) | Action::Child(_)));
    changing.map(|step| step.id.as_str()).collect()
}

fn quiet(seed: u64) -> Mixed {
    Mixed { seed, lost: 0, doubled: 0, queued: 0, gentle: false, objects: false, count: 0 }
}

proptest! {
    #![proptest_config(ProptestConfig { max_shrink_iters: 0, ..ProptestConfig::default() })]

    #[test]
    fn the_machine_does_what_the_interpreter_says(seed in any::<u64>()) {
        let (runbook, world) = (drawn(seed, true), quiet(seed));
        let (went, trace, _) = play(&runbook, world);
        let told = Interpreter { oracle: &world, runbook: &runbook, stops: Vec::new(),
            held: None }.run();
        let differ = differences(&went, &told);
        prop_assert!(differ.is_empty(), "machine and interpreter differ: \
            {differ:?}\n{}", trace.join("\n"));
    }

    #[test]
    fn what_people_say_at_any_moment_does_what_the_interpreter_says(seed in any::<u64>()) {
        let (runbook, world) = (drawn(seed, true), quiet(seed));
        let (quietly, _, _) = play(&runbook, world);
        let said = Said::drawn(seed, quietly.end);
        let (went, trace, _) = play_with(&runbook, world, &said);
        let told = Interpreter { oracle: &world, runbook: &runbook, stops: said.stops.clone(),
            held: said.held }.run();
        let differ = differences(&went, &told);
        // What was held in two ways goes on in both at once: which of them is told first is
        // nobody's promise.
        prop_assume!(differ.is_empty() || !several_at(&trace, said.held));
        prop_assert!(differ.is_empty(), "{said:?}: machine and interpreter differ: \
            {differ:?}\n{}", trace.join("\n"));
    }

    #[test]
    fn neither_deaths_nor_doubles_nor_turns_change_how_a_job_goes(seed in any::<u64>()) {
        let runbook = drawn(seed, false);
        let (quietly, before, _) = play(&runbook, Mixed { gentle: true, ..quiet(seed) });
        let (went, trace, _) = play(&runbook, Mixed { lost: 3, doubled: 3, queued: 3, gentle: true,
            ..quiet(seed) });
        let differ = differences(&went, &quietly);
        prop_assert!(differ.is_empty(), "with and without differ: \
            {differ:?}\n{}\n\n{}", trace.join("\n"), before.join("\n"));
        let quiet = Mixed { gentle: true, ..quiet(seed) };
        let before = remembered(&runbook, quiet);
        let lossy = Mixed { lost: 3, doubled: 3, queued: 3, ..quiet };
        prop_assert_eq!(remembered(&runbook, lossy), before, "{}", trace.join("\n"));
    }

    #[test]
    fn what_is_announced_and_let_go_on_at_once_goes_as_ever(seed in any::<u64>()) {
        let runbook = drawn(seed, false);
        let world = Mixed { gentle: true, ..quiet(seed) };
        let (quietly, before, _) = play(&runbook, world);
        let (went, trace, _) =
            play(&announced(runbook), Mixed { lost: 3, doubled: 3, queued: 3, ..world });
        let differ = differences(&went, &quietly);
        prop_assert!(differ.is_empty(), "with and without differ: \
            {differ:?}\n{}\n\n{}", trace.join("\n"), before.join("\n"));
    }

    #[test]
    fn where_somebody_objects_nothing_is_changed(seed in any::<u64>()) {
        let runbook = announced(drawn(seed, true));
        let world = Mixed { lost: 3, doubled: 3, queued: 3, objects: true, ..quiet(seed) };
        let (went, trace, _) = play(&runbook, world);
        let changing = changing(&runbook);
        let begun = trace.iter().filter(|line| line.contains(" begins"));
        let begun = begun.filter_map(|line| Some(Place::new(line.split(' ').nth(1)?)));
        let changed: Vec<Place> = begun.filter(|place| changing.contains(place.id())).collect();
        prop_assert!(changed.is_empty(), "{changed:?}\n{}", trace.join("\n"));
        let asked = trace.iter().filter(|line| line.contains(" announced asks ")).count();
        prop_assert!(asked <= 1, "{}", trace.join("\n"));
        let objected = trace.iter().any(|line| line.contains(&format!("\"choice\":\"{OBJECT}\"")));
        prop_assert!(!objected || went.state == "cancelled" || went.effect == "unconfirmed",
            "{}", trace.join("\n"));
    }
}
