//! What the case files cannot say: causes upstream, memories that are written down and read
//! again, rules that change while something is held.

use super::*;
use crate::{
    AlarmId, AlertId, JobId, Severity, Verdict,
    rule::{Keys, Stance},
    settle::{AlarmTransition, Decision, Effect, Event, Machine, Matched, Memory, Slot},
};

fn keys() -> Keys {
    Keys { tally: "[\"a\"]".into(), gathering: None, cap: None }
}

fn matched<'a>(alert: i64, keys: &'a Keys, cause: Option<&'a str>) -> Event<'a> {
    Event::Matched(Matched {
        alert: Some(AlertId(alert)),
        keys,
        happened: at("0s"),
        severity: Severity::Major,
        standing: AlarmTransition::Raised { alarm: Some(AlarmId(1)), anew: alert == 1 },
        entries: 1,
        cause,
    })
}

/// The verdicts of one event, as words.
fn handle(
    rule: &Rule,
    stance: Stance,
    memory: &mut Memory,
    now: &str,
    event: Event<'_>,
) -> Vec<String> {
    let mut job = 6;
    let mut number = || {
        job += 1;
        Some(JobId(job))
    };
    let effects = Machine::new(rule, stance, memory, &mut number).handle(at(now), event);
    let told = effects.into_iter().filter_map(|e| match e {
        Effect::Verdict { verdict, reason, .. } => Some(format!("{}: {reason}", verdict.as_str())),
        Effect::Withdraw { proposal, reason } => Some(format!("withdraw {proposal}: {reason}")),
        _ => None,
    });
    told.collect()
}

fn plain(settle: &str) -> Rule {
    rule(settle, "[raised]", "{ runbook: grow-disk }")
}

#[test]
fn a_symptom_is_set_aside_and_counted_by_nothing_until_it_repeats_without_a_cause() {
    let (rule, keys, mut memory) =
        (plain("{ after: { alerts: 2, within: 1m } }"), keys(), Memory::default());
    let cause = Some("host/quill-hv-1 host.down");
    let told = handle(&rule, Stance::Act, &mut memory, "0s", matched(1, &keys, cause));
    assert_eq!(told, ["symptom: explained by host/quill-hv-1 host.down"]);
    assert_eq!(memory, Memory::default());
    let told = handle(&rule, Stance::Act, &mut memory, "1s", matched(2, &keys, None));
    assert_eq!(told, ["waiting: 1 of 2 alerts within 1m"]);

    let rule = plain("{ symptoms: include }");
    let told = handle(&rule, Stance::Act, &mut Memory::default(), "0s", matched(1, &keys, cause));
    assert_eq!(told, ["dispatched: first alert of its episode: grow-disk dispatched as job 7"]);
}

#[test]
fn a_memory_can_be_written_down_and_read_again_at_any_moment() {
    let (rule, keys, mut memory) = (
        plain("{ still: 5m, rest: 1h, flapping: { changes: 9, within: 1h } }"),
        keys(),
        Memory::default(),
    );
    handle(&rule, Stance::Act, &mut memory, "0s", matched(1, &keys, None));
    let tally = &memory.tallies[&keys.tally];
    let text = serde_json::to_string(tally).expect("written");
    assert_eq!(
        &serde_json::from_str::<crate::settle::Tally>(&text).expect("read"),
        tally,
        "{text}"
    );
    let slot = Slot::Tally(keys.tally.clone());
    assert_eq!(memory.due(&slot), Some(at("5m")));
    let told = handle(&rule, Stance::Act, &mut memory, "5m", Event::Due(&slot));
    assert_eq!(told, ["dispatched: still raised after 5m: grow-disk dispatched as job 7"]);
}

#[test]
fn a_rule_that_no_longer_waits_lets_go_of_what_it_held() {
    let (keys, mut memory) = (keys(), Memory::default());
    handle(&plain("{ still: 5m }"), Stance::Act, &mut memory, "0s", matched(1, &keys, None));
    let slot = Slot::Tally(keys.tally.clone());
    let told = handle(&plain("{}"), Stance::Act, &mut memory, "5m", Event::Due(&slot));
    assert_eq!(told.len(), 1);
    assert!(told[0].starts_with(Verdict::Dispatched.as_str()), "{told:?}");
}

#[test]
fn a_rule_that_no_longer_says_again_lets_its_time_pass() {
    let (keys, mut memory) = (keys(), Memory::default());
    let again = plain("{ again: { every: 5m, at_most: 3 } }");
    handle(&again, Stance::Act, &mut memory, "0s", matched(1, &keys, None));
    let slot = Slot::Tally(keys.tally.clone());
    assert_eq!(memory.due(&slot), Some(at("5m")));
    assert_eq!(handle(&plain("{}"), Stance::Act, &mut memory, "5m", Event::Due(&slot)), [""; 0]);
}

#[test]
fn of_several_entries_it_is_said_how_many_apply() {
    let (keys, mut memory) = (keys(), Memory::default());
    let two = rule(
        "{}",
        "[raised]",
        "[ { runbook: grow-disk }, { runbook: tell-crew, when: 'alert.value > 1.0' } ]",
    );
    let told = handle(&two, Stance::Act, &mut memory, "0s", matched(1, &keys, None));
    assert_eq!(
        told,
        ["dispatched: first alert of its episode: 1 of grow-disk and tell-crew dispatched as \
            job 7"]
    );
    let mut both = matched(1, &keys, None);
    if let Event::Matched(m) = &mut both {
        m.entries = 2;
    }
    let told = handle(&two, Stance::Act, &mut Memory::default(), "0s", both);
    assert!(told[0].contains(": grow-disk and tell-crew dispatched"), "{told:?}");
}

#[test]
fn what_is_due_and_was_not_looked_at_is_made_up_for_by_the_next_alert() {
    let (rule, keys, mut memory) = (plain("{ still: 5m }"), keys(), Memory::default());
    handle(&rule, Stance::Act, &mut memory, "0s", matched(1, &keys, None));
    let told = handle(&rule, Stance::Act, &mut memory, "9m", matched(2, &keys, None));
    assert_eq!(told.len(), 2, "{told:?}");
    assert_eq!(told[1], "folded: alert 2 of an episode that dispatched job 7 0 ms ago");
}

#[test]
fn a_proposal_gives_way_to_the_rule_that_may_act_and_to_the_clearing() {
    let (rule, keys, mut memory) = (plain("{}"), keys(), Memory::default());
    handle(&rule, Stance::Propose, &mut memory, "0s", matched(1, &keys, None));
    let told = handle(&rule, Stance::Act, &mut memory, "1s", matched(2, &keys, None));
    assert_eq!(told[0], "withdraw 7: another took its place");
    assert!(told[1].starts_with("dispatched"), "{told:?}");
    let mut memory = Memory::default();
    handle(&rule, Stance::Propose, &mut memory, "0s", matched(1, &keys, None));
    let cleared = Event::Cleared { tally: &keys.tally, alarm: AlarmId(1) };
    assert_eq!(
        handle(&rule, Stance::Propose, &mut memory, "1s", cleared),
        ["withdraw 7: its alarm was cleared"]
    );
    assert_eq!(memory, Memory::default(), "nothing is left to remember");
}

#[test]
fn a_launched_proposal_counts_as_a_dispatch_when_the_rule_may_act() {
    let (rule, keys, mut memory) = (plain("{ rest: 10m }"), keys(), Memory::default());
    handle(&rule, Stance::Propose, &mut memory, "0s", matched(1, &keys, None));
    let tally = memory.tallies.get_mut(&keys.tally).expect("a tally");
    tally.decided(JobId(7), Decision::Launched);
    handle(
        &rule,
        Stance::Propose,
        &mut memory,
        "1s",
        Event::Cleared { tally: &keys.tally, alarm: AlarmId(1) },
    );
    let told = handle(&rule, Stance::Act, &mut memory, "2s", matched(1, &keys, None));
    assert_eq!(
        told,
        ["resting: job 7 was dispatched 2.0 s ago and rest is 10m: silent until \
            1970-01-01T00:10:00Z"]
    );
}

#[test]
fn a_dismissal_holds_for_its_episode_whatever_the_rule_may_do_by_then() {
    let (rule, keys, mut memory) =
        (plain("{ again: { every: 5m, when_worse: true } }"), keys(), Memory::default());
    handle(&rule, Stance::Propose, &mut memory, "0s", matched(1, &keys, None));
    memory.tallies.get_mut(&keys.tally).expect("a tally").decided(JobId(7), Decision::Dismissed);
    let mut worse = matched(2, &keys, None);
    if let Event::Matched(m) = &mut worse {
        m.severity = Severity::Critical;
    }
    for stance in [Stance::Propose, Stance::Act] {
        let told = handle(&rule, stance, &mut memory, "1m", worse);
        assert!(told.iter().all(|t| t.starts_with("folded")), "{told:?}");
        let due = Slot::Tally(keys.tally.clone());
        assert_eq!(
            handle(&rule, stance, &mut memory, "6m", Event::Due(&due)),
            [""; 0],
            "`again` asks no more"
        );
    }
    handle(
        &rule,
        Stance::Act,
        &mut memory,
        "7m",
        Event::Cleared { tally: &keys.tally, alarm: AlarmId(1) },
    );
    let told = handle(&rule, Stance::Act, &mut memory, "8m", matched(1, &keys, None));
    assert!(told[0].starts_with("dispatched"), "a new episode is a new question: {told:?}");
}

#[test]
fn a_cap_counts_jobs() {
    let rule = rule(
        "{ cap: { jobs: 3, per: 1h } }",
        "[raised]",
        "[{ runbook: grow-disk }, { runbook: tell }]",
    );
    let mut memory = Memory::default();
    let mut fire = |n: i64, now: &str| {
        let keys = Keys { tally: format!("[{n}]"), gathering: None, cap: Some("cap []".into()) };
        let mut event = matched(n, &keys, None);
        if let Event::Matched(m) = &mut event {
            m.entries = 2;
        }
        handle(&rule, Stance::Act, &mut memory, now, event).remove(0)
    };
    assert!(fire(1, "0s").starts_with("dispatched"));
    assert!(
        fire(2, "1m").starts_with("capped: 3 jobs within 1h already"),
        "two more would make four"
    );
    assert!(fire(3, "61m").starts_with("dispatched"));
}
