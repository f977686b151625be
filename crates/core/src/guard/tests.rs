//! Guards: what their documents may say, and what they admit.

use super::{admission::QueuePlace, *};
use crate::{
    JobId, catalog::check_files, definition::as_kind, document::parse_file, rule::Urgency,
};
use chrono::{DateTime, TimeDelta, Utc};
use insta::assert_snapshot;
use proptest::{collection::vec, prelude::*};
use serde_json::{Value, json};
use std::collections::{BTreeMap, BTreeSet};

const GROUP: &str = "group: pier\nresources: [vm/a, vm/b, vm/c, vm/d, vm/e]\n";

fn problems(text: &str) -> String {
    let checked =
        check_files([("guards.yaml", text)], &[], &crate::Catalog::default(), &Default::default());
    let lines = checked.problems.iter().map(|p| format!("{}: {}", p.line, p.message));
    lines.collect::<Vec<_>>().join("\n")
}

/// The first guard of a file, with its group.
fn standing(text: &str) -> StandingGuard {
    let empty = crate::Catalog::default();
    let checked = check_files([("guards.yaml", text)], &[], &empty, &Default::default());
    assert!(checked.problems.is_empty(), "{:?}", checked.problems);
    let guards = empty.with(checked.entries).guards(at(0));
    guards.iter().next().expect("a guard").clone()
}

fn at(seconds: i64) -> DateTime<Utc> {
    DateTime::from_timestamp(1_790_000_000 + seconds, 0).expect("a time")
}

const NOTHING: &Value = &Value::Null;

fn job(id: i64, target: &str) -> GuardedJob<'_> {
    GuardedJob {
        id: JobId(id),
        runbook: "restart-web",
        target,
        rule: Some("web-down"),
        launched_by: LaunchedBy::Rules,
        urgency: Urgency::Normal,
        inputs: NOTHING,
        above: &[],
        overruled: &[],
        labels: None,
        touched: None,
        let_back_by: None,
    }
}

fn place(job: &GuardedJob<'_>) -> QueuePlace {
    QueuePlace { urgency: job.urgency.rank(), deadline: None, id: job.id }
}

/// What a guard says of a job, in a line.
fn answer(guard: &StandingGuard, now: i64, state: &GuardState, job: &GuardedJob<'_>) -> String {
    match guard.admit(at(now), state, (job, &place(job))) {
        Admission::Admit => "admit".to_owned(),
        Admission::Hold(GuardHold { why, until, .. }) => {
            let until = until.map(|until| format!(", until +{}s", (until - at(0)).num_seconds()));
            format!("hold: {why}{}", until.unwrap_or_default())
        }
        Admission::Refuse(held) => format!("refuse: {}", held.why),
    }
}

#[test]
fn what_cannot_be_a_guard_is_said_with_its_place() {
    assert_snapshot!(problems("guard: nothing\n"), @"1: limits nothing; give it at least one of at_once, per, redundant, after_failure, untouched, ceiling, frozen, only, circuit");
    let text = "guard: wrong\nconcerns:\n  urgency: urgent..low\n  group: nowhere\nat_once: 0\n\
        per: { jobs: 10, within: 90d }\nredundant: [[vm/a], [vm/a, 'vm/*']]\n\
        ceiling: { input: by_gib, most: 0, within: 1d }\noverrule: { role: viewer }\n";
    assert_snapshot!(problems(text), @r"
        3: the range urgent..low is upside down; write low..urgent
        5: is a number from 1 to 1000; `arvok halt` stops everything
        6: is a time from 1s to 31d
        7: is a set of 2 to 20 different resources
        7: vm/* is a glob; a set names its resources one by one
        8: is a number above zero
        9: a viewer only reads; one of: responder, author, admin
        ");
    let empty = "guard: empty\nconcerns:\n  runbooks: []\nat_once: 1\n";
    assert_snapshot!(problems(empty), @"3: names nothing; leave the line out for all of them");
    let shares = "guard: shares\nat_once: 120%\nper: { jobs: 10%, within: 1h }\n";
    assert_snapshot!(problems(shares), @r"
        2: is a whole number, or a share of a group from 1% to 100%
        3: is a share of nothing; name the group in `concerns.group`
        ");
    let of_unknown = "group: web\nresources: ['vm/*']\n---\nguard: shares\n\
        concerns: { group: web }\nat_once: 10%\n";
    assert_snapshot!(problems(of_unknown), @"6: is a share of group `web`, which has globs and does not say how many resources it has; give the group its `size`");
    let circuit = "guard: circuit\nconcerns: { targets: 'vm/*', launched_by: people }\n\
        circuit: { failures: 3, within: 1h }\n";
    assert_snapshot!(problems(circuit), @r"
        2: does not go with `circuit`, which is of runbooks whatever their targets; write two guards
        2: does not go with `circuit`, which keeps rules from dispatching, not people
        ");
    let elsewhere = format!(
        "{GROUP}---\nguard: pairs\nconcerns: {{ group: pier }}\nredundant: [[vm/a, vm/z]]\n"
    );
    assert_snapshot!(problems(&elsewhere), @"6: vm/z is not in group `pier`, which is all it concerns");
}

#[test]
fn a_guard_concerns_the_jobs_for_which_every_line_holds() {
    let text = format!(
        "{GROUP}---\nguard: some\nconcerns:\n  runbooks: restart-*\n  rules: [web-*]\n  group: pier\n  \
        urgency: ..high\n  launched_by: rules\nat_once: 1\n"
    );
    let guard = standing(&text);
    let good = job(1, "vm/a");
    assert!(guard.concerns(&good));
    let others = [
        GuardedJob { runbook: "grow-disk", ..good },
        GuardedJob { rule: Some("disk-full"), ..good },
        GuardedJob { rule: None, ..good },
        GuardedJob { target: "vm/z", ..good },
        GuardedJob { urgency: Urgency::Urgent, ..good },
        GuardedJob { launched_by: LaunchedBy::People, ..good },
    ];
    assert!(others.iter().all(|other| !guard.concerns(other)));
}

#[test]
fn of_targets_as_many_are_under_way_as_a_number_or_a_share_says() {
    let guard = standing("guard: two\nat_once: 2\n");
    let mut state = GuardState::default();
    for (id, target) in [(1, "vm/a"), (2, "vm/b")] {
        assert_eq!(answer(&guard, 0, &state, &job(id, target)), "admit");
        guard.count(at(0), &mut state, &job(id, target));
    }
    assert_snapshot!(answer(&guard, 0, &state, &job(3, "vm/c")), @"hold: 2 of 2 targets at once under way: vm/a (job 1), vm/b (job 2)");
    assert_eq!(
        answer(&guard, 0, &state, &job(3, "vm/b")),
        "admit",
        "its target is counted already"
    );
    let under = GuardedJob { above: &[JobId(2)], ..job(3, "vm/c") };
    assert_eq!(answer(&guard, 0, &state, &under), "admit", "the job above waits for it");
    let overruled = [String::from("two")];
    let overruled = GuardedJob { overruled: &overruled, ..job(3, "vm/c") };
    assert_eq!(answer(&guard, 0, &state, &overruled), "admit");

    let share = standing(&format!(
        "{GROUP}---\nguard: share\nconcerns: {{ group: pier }}\nat_once: 50%\notherwise: refuse\n"
    ));
    assert_snapshot!(answer(&share, 0, &state, &job(3, "vm/c")), @"refuse: 2 of 2 targets (50 % of the 5 of group pier) under way: vm/a (job 1), vm/b (job 2)");
    let least =
        standing(&format!("{GROUP}---\nguard: share\nconcerns: {{ group: pier }}\nat_once: 5%\n"));
    assert_eq!(answer(&least, 0, &GuardState::default(), &job(3, "vm/c")), "admit");
}

#[test]
fn of_resources_that_stand_in_for_each_other_one_is_under_way() {
    let guard = standing("guard: pairs\nredundant: [[host/a, host/b], [host/c, host/d]]\n");
    let mut state = GuardState::default();
    guard.count(at(0), &mut state, &job(1, "host/a"));
    assert_snapshot!(answer(&guard, 0, &state, &job(2, "host/b")), @"hold: host/a stands in for it, and is under way (job 1)");
    assert_eq!(answer(&guard, 0, &state, &job(2, "host/c")), "admit");
    assert_eq!(
        answer(&guard, 0, &state, &job(2, "host/a")),
        "admit",
        "its target keeps it waiting"
    );
    assert_eq!(answer(&guard, 0, &state, &job(2, "host/z")), "admit");
}

#[test]
fn within_a_time_so_many_begin_and_so_much_of_an_input_is_used() {
    let guard = standing("guard: rate\nper: { jobs: 2, within: 1h }\n");
    let mut state = GuardState::default();
    guard.count(at(0), &mut state, &job(1, "vm/a"));
    guard.count(at(600), &mut state, &job(2, "vm/b"));
    assert_snapshot!(answer(&guard, 700, &state, &job(3, "vm/c")), @"hold: 2 of 2 jobs began within 1h, until +3600s");
    assert_eq!(answer(&guard, 3600, &state, &job(3, "vm/c")), "admit");

    let guard = standing("guard: disks\nceiling: { input: by_gib, most: 20, within: 1d }\n");
    let mut state = GuardState::default();
    let (eight, five, thirty, less) =
        (json!({ "by_gib": 8 }), json!({ "by_gib": 5 }), json!({ "by_gib": 30 }), {
            json!({ "by_gib": -8 })
        });
    let with = |id, inputs| GuardedJob { inputs, ..job(id, "vm/a") };
    guard.count(at(0), &mut state, &with(1, &eight));
    guard.count(at(60), &mut state, &with(2, &eight));
    guard.count(at(60), &mut state, &with(3, &less));
    assert_snapshot!(answer(&guard, 90, &state, &with(3, &five)), @"hold: 16 of 20 of by_gib are used within 1d, and it asks for 5, until +86400s");
    assert_snapshot!(answer(&guard, 90, &state, &with(3, &thirty)), @"refuse: it asks for 30 of by_gib, and 20 within 1d is all there is");
    assert_eq!(answer(&guard, 90, &state, &job(3, "vm/a")), "admit", "it has no such input");
}

#[test]
fn after_a_failure_none_begins_for_a_time() {
    let guard = standing("guard: distance\nafter_failure: 10m\n");
    let state = GuardState { failed: Some((JobId(7), at(0))), ..GuardState::default() };
    assert_snapshot!(answer(&guard, 60, &state, &job(8, "vm/a")), @"hold: job 7 failed or did not help, and none begins for 10m after, until +600s");
    assert_eq!(answer(&guard, 600, &state, &job(8, "vm/a")), "admit");
}

#[test]
fn a_circuit_opens_by_failures_of_one_runbook_and_stops_rules_alone() {
    let guard = standing("guard: circuit\ncircuit: { failures: 2, within: 1h }\n");
    let failures = BTreeMap::from([("restart-web".to_owned(), 2), ("grow-disk".to_owned(), 1)]);
    let mut state = GuardState { failures, ..GuardState::default() };
    let opened = guard.opens(at(0), &state);
    assert_eq!(opened.iter().map(|o| o.runbook.as_str()).collect::<Vec<_>>(), ["restart-web"]);
    state.circuits = opened;
    assert!(guard.opens(at(0), &state).is_empty(), "it is open");
    assert_snapshot!(answer(&guard, 0, &state, &job(8, "vm/a")), @"hold: 2 jobs of restart-web failed or did not help by 14:13:20 UTC; rules propose it until somebody says that it goes on (arvok guard resume circuit)");
    let other = GuardedJob { runbook: "grow-disk", ..job(8, "vm/a") };
    assert_eq!(answer(&guard, 0, &state, &other), "admit");
    let person = GuardedJob { launched_by: LaunchedBy::People, ..job(8, "vm/a") };
    assert_eq!(answer(&guard, 0, &state, &person), "admit", "a person has decided");
}

#[test]
fn while_an_event_is_on_none_begins_or_only_then() {
    // at(0) is 2026-09-21 14:13:20 UTC.
    let calendar = "calendar: sailings\nevents: |\n  BEGIN:VCALENDAR\n  BEGIN:VEVENT\n  \
        SUMMARY:Late sailing\n  DTSTART:20260921T180000Z\n  DTEND:20260921T200000Z\n  END:VEVENT\n  \
        BEGIN:VEVENT\n  SUMMARY:Inspection\n  DTSTART:20260922T080000Z\n  DTEND:20260922T090000Z\n  \
        END:VEVENT\n  END:VCALENDAR\n---\n";
    let begins = 13_600;
    let state = GuardState::default();
    let frozen = standing(&format!(
        "{calendar}guard: freeze\nfrozen: {{ during: sailings, events: Late* }}\n"
    ));
    assert_eq!(answer(&frozen, begins - 1, &state, &job(1, "vm/a")), "admit");
    assert_snapshot!(answer(&frozen, begins, &state, &job(1, "vm/a")), @"hold: frozen by Late sailing of calendar sailings, until +20800s");
    assert_eq!(answer(&frozen, begins + 7_200, &state, &job(1, "vm/a")), "admit");
    assert_eq!(answer(&frozen, 66_000, &state, &job(1, "vm/a")), "admit", "an inspection is none");
    assert_snapshot!(answer(&frozen, 200_000, &state, &job(1, "vm/a")), @"hold: what is on in calendar sailings is not known yet");
    let only = standing(&format!("{calendar}guard: window\nonly: {{ during: sailings }}\n"));
    assert_snapshot!(answer(&only, 0, &state, &job(1, "vm/a")), @"hold: none begins outside of calendar sailings; Late sailing is next, until +13600s");
    assert_eq!(answer(&only, begins, &state, &job(1, "vm/a")), "admit");
    assert_eq!(only.room(at(0), &state, 9), 0);
    assert_eq!(only.room(at(begins), &state, 9), 9);
    let missing = "guard: freeze\nfrozen: { during: sailing }\n";
    assert_snapshot!(problems(&format!("{calendar}{missing}")), @"17: there is no calendar `sailing` (did you mean `sailings`?)");
    assert_snapshot!(problems("calendar: none\nevents: nothing\nzone: Mars\n"), @"3: is not a time zone such as Europe/London");
}

#[test]
fn whoever_waits_longer_begins_first() {
    let guard = standing("guard: one\nat_once: 2\n");
    let first = QueuePlace { urgency: Urgency::Normal.rank(), deadline: None, id: JobId(3) };
    let state = GuardState { first_held: Some(first), ..GuardState::default() };
    assert_snapshot!(answer(&guard, 0, &state, &job(5, "vm/a")), @"hold: job 3 waits for the same before it");
    assert_eq!(answer(&guard, 0, &state, &job(2, "vm/a")), "admit", "it was made before");
    let urgent = GuardedJob { urgency: Urgency::Urgent, ..job(5, "vm/a") };
    assert_eq!(answer(&guard, 0, &state, &urgent), "admit");
    let let_back = GuardedJob { let_back_by: Some("one"), ..job(5, "vm/a") };
    assert_eq!(answer(&guard, 0, &state, &let_back), "admit");
}

/// What happens to a guard: a job begins on a target, perhaps as a step of another, or one ends.
#[derive(Clone, Debug)]
enum Happens {
    Asks { target: u8, above: Option<prop::sample::Index>, amount: u8 },
    Ends { which: prop::sample::Index },
    Passes { seconds: u16 },
}

fn happens() -> impl Strategy<Value = Happens> {
    prop_oneof![
        4 => (0u8..6, prop::option::of(any::<prop::sample::Index>()), 0u8..9)
            .prop_map(|(target, above, amount)| Happens::Asks { target, above, amount }),
        2 => any::<prop::sample::Index>().prop_map(|which| Happens::Ends { which }),
        1 => (1u16..900).prop_map(|seconds| Happens::Passes { seconds }),
    ]
}

/// A job that began.
#[derive(Clone, Debug)]
struct Began {
    id: JobId,
    target: String,
    above: Vec<JobId>,
    at: i64,
    amount: f64,
    open: bool,
}

/// Whether a guard admits a job after others.
fn admits(guard: &StandingGuard, all: &[Began], asks: &Began, jobs: u32) -> bool {
    let mut before: Vec<&Began> = all.iter().collect();
    before.sort_by_key(|b| std::cmp::Reverse((b.at, b.id)));
    let within = |seconds: i64| before.iter().filter(move |b| b.at > asks.at - seconds);
    let state = GuardState {
        under_way: before.iter().filter(|b| b.open).map(|b| (b.id, b.target.clone())).collect(),
        begun: within(900).map(|b| at(b.at)).take(jobs as usize).collect(),
        used: within(1_800).map(|b| b.amount).sum(),
        used_since: within(1_800).map(|b| at(b.at)).min(),
        ..GuardState::default()
    };
    let inputs = json!({ "n": asks.amount });
    let asked = GuardedJob { above: &asks.above, inputs: &inputs, ..job(asks.id.0, &asks.target) };
    guard.admit(at(asks.at), &state, (&asked, &place(&asked))) == Admission::Admit
}

/// The oracle: whether the last of these may stand beside the others.
fn may_stand(all: &[Began], last: &Began, (at_once, jobs): (u32, u32)) -> bool {
    let busy = all.iter().filter(|b| b.open && !last.above.contains(&b.id));
    let busy: BTreeSet<&str> = busy.map(|b| b.target.as_str()).collect();
    let pair = ["vm/0", "vm/1"];
    let within = |seconds: i64| all.iter().filter(move |b| b.at > last.at - seconds);
    busy.len() <= at_once as usize
        && !(pair.contains(&last.target.as_str()) && pair.iter().all(|one| busy.contains(one)))
        && within(900).count() <= jobs as usize
        && (last.amount == 0.0 || within(1_800).map(|b| b.amount).sum::<f64>() <= 20.0)
}

proptest! {
    /// Counted anew from all that ever happened, there is never one too many.
    #[test]
    fn never_one_more_than_a_guard_allows(
        at_once in 1u32..4, jobs in 1u32..6, story in vec(happens(), 1..80),
    ) {
        let guard = standing(&format!(
            "guard: all\nat_once: {at_once}\nper: {{ jobs: {jobs}, within: 15m }}\n\
            ceiling: {{ input: n, most: 20, within: 30m }}\nredundant: [[vm/0, vm/1]]\n"
        ));
        let mut all: Vec<Began> = Vec::new();
        let mut now = 0;
        for one in story {
            match one {
                Happens::Passes { seconds } => now += i64::from(seconds),
                Happens::Ends { which } if !all.is_empty() => which.get_mut(&mut all).open = false,
                Happens::Ends { .. } => {}
                Happens::Asks { target, above, amount } => {
                    let parent = above.filter(|_| !all.is_empty()).map(|above| above.get(&all));
                    let above = parent.filter(|parent| parent.open).map(|parent| {
                        [parent.above.clone(), vec![parent.id]].concat()
                    });
                    let asks = Began {
                        id: JobId(i64::try_from(all.len()).expect("few") + 1),
                        target: format!("vm/{target}"),
                        above: above.unwrap_or_default(),
                        at: now,
                        amount: f64::from(amount),
                        open: true,
                    };
                    let would = [all.clone(), vec![asks.clone()]].concat();
                    let admitted = admits(&guard, &all, &asks, jobs);
                    prop_assert_eq!(admitted, may_stand(&would, &asks, (at_once, jobs)));
                    if admitted {
                        all = would;
                    }
                }
            }
        }
    }
}

#[test]
fn a_document_of_another_kind_is_none() {
    let group = parse_file("g.yaml", GROUP).expect("a file").remove(0);
    let (_, group) = crate::catalog::check_document(&group).expect("a group");
    assert!(as_kind::<Guard>(&*group).is_none());
    let until = Some(at(5));
    let held = GuardHold { guard: "g".into(), why: "w".into(), until };
    let shown = |held: &GuardHold| admission::look_again(at(0), held) - at(0);
    assert_eq!(shown(&held), TimeDelta::seconds(5));
    assert_eq!(shown(&GuardHold { until: None, ..held.clone() }), TimeDelta::seconds(30));
    assert_eq!(shown(&GuardHold { until: Some(at(-9)), ..held }), TimeDelta::milliseconds(100));
}

#[test]
fn what_jobs_touch_besides_their_targets_is_counted_where_it_is_selected() {
    let touching = |touched: &str| GuardState {
        under_way: vec![(JobId(1), "host/a".to_owned())],
        touched: vec![(JobId(1), touched.to_owned())],
        ..GuardState::default()
    };
    let two = standing("guard: two\nconcerns: { targets: 'host/*' }\nat_once: 2\n");
    assert_snapshot!(answer(&two, 0, &touching("host/b"), &job(2, "host/c")), @"hold: 2 of 2 targets at once under way: host/a (job 1), host/b (job 1)");
    assert_eq!(answer(&two, 0, &touching("vm/x"), &job(2, "host/c")), "admit", "it is no host");
    assert_eq!(two.room(at(0), &touching("host/b"), 16), 0);
    let any = standing("guard: two\nat_once: 2\n");
    assert_eq!(answer(&any, 0, &touching("host/b"), &job(2, "host/c")), "admit", "none selected");
    let pair = standing("guard: pairs\nredundant: [[host/b, host/c]]\n");
    assert_snapshot!(answer(&pair, 0, &touching("host/b"), &job(2, "host/c")), @"hold: host/b stands in for it, and is under way (job 1)");
    let own = GuardedJob { above: &[JobId(1)], ..job(2, "host/c") };
    assert_eq!(answer(&pair, 0, &touching("host/b"), &own), "admit", "the job above waits for it");
}

#[test]
fn a_target_that_another_job_touched_is_left_alone_for_a_time() {
    let guard = standing("guard: apart\nuntouched: 10m\n");
    let touch = |ended: Option<i64>| crate::touch::Touch {
        resource: "host/a".to_owned(),
        job: JobId(7),
        ended: ended.map(at),
    };
    let (going_on, over) = (touch(None), touch(Some(0)));
    let asks = |now, touched| {
        let job = GuardedJob { touched: Some(touched), ..job(8, "host/a") };
        answer(&guard, now, &GuardState::default(), &job)
    };
    assert_snapshot!(asks(60, &going_on), @"hold: job 7 touches host/a; it is left alone for 10m");
    assert_snapshot!(asks(60, &over), @"hold: job 7 touched host/a and ended at 14:13:20 UTC; it is left alone for 10m, until +600s");
    assert_eq!(asks(600, &over), "admit");
    assert_eq!(answer(&guard, 60, &GuardState::default(), &job(8, "host/a")), "admit");
}

#[test]
fn a_guard_may_ask_for_labels_of_the_alert_that_set_a_job_off() {
    let guard = standing(
        "guard: gold\nconcerns: { labels: { tier: [gold, plat*], site: quill } }\nat_once: 1\n",
    );
    let labels = |text: &str| -> BTreeMap<String, String> {
        let pairs = text.split_whitespace().filter_map(|pair| pair.split_once('='));
        pairs.map(|(name, value)| (name.to_owned(), value.to_owned())).collect()
    };
    let concerns = |text: &str| {
        let labels = labels(text);
        guard.concerns(&GuardedJob { labels: Some(&labels), ..job(1, "vm/a") })
    };
    assert!(concerns("tier=gold site=quill deck=2") && concerns("tier=platinum site=quill"));
    assert!(!concerns("tier=silver site=quill") && !concerns("tier=gold") && !concerns(""));
    assert!(guard.concerns(&job(1, "vm/a")), "what is not known may be any");
    assert_snapshot!(guard.guard.concerns, @"labels site quill and tier gold, plat*");
    assert_snapshot!(problems(
        "guard: wrong\nconcerns: { labels: { tier: [], 'a/b': '' } }\ncircuit: { failures: 3, within: 1h }\n"
    ), @r#"
    2: does not go with `circuit`, which is of runbooks whatever their targets; write two guards
    2: names nothing; leave the line out for all of them
    2: a name or glob has 1 to 512 bytes, not 0
    "#);
}
