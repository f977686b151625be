//! What cannot be a plan, when one runs, and what a freeze would hold back. What a run does is in
//! `cases/plans`.

use super::*;
use crate::{
    Catalog, Principal,
    catalog::{Entry, check_document, check_files},
    document::parse_file,
    mute::{Muted, MutedLines},
};
use chrono::TimeDelta;
use insta::assert_snapshot;

fn plan(text: &str) -> Plan {
    let documents = parse_file("plan.yaml", text).expect("is YAML");
    Plan::check(&documents[0]).unwrap_or_else(|problems| panic!("{text}\n{problems:#?}"))
}

fn wrong(text: &str) -> String {
    let documents = parse_file("plan.yaml", text).expect("is YAML");
    let problems = Plan::check(&documents[0]).expect_err("is wrong");
    let told = problems.iter().map(|p| format!("{}:{}: {}", p.line, p.column, p.message));
    told.collect::<Vec<_>>().join("\n")
}

fn catalog(text: &str) -> Catalog {
    let documents = parse_file("all.yaml", text).expect("is YAML");
    let entry = |document: &Document| {
        let (kind, definition) = check_document(document).unwrap_or_else(|e| panic!("{e:#?}"));
        let (name, document) = (document.name.clone(), document.clone());
        Arc::new(Entry { name, version: 1, document: Arc::new(document), kind, definition })
    };
    Catalog::new(documents.iter().map(entry))
}

fn at(text: &str) -> DateTime<Utc> {
    text.parse().expect("a time")
}

fn shown(times: &[DateTime<Utc>]) -> String {
    times.iter().map(|t| t.format("%a %d %H:%M").to_string()).collect::<Vec<_>>().join(", ")
}

#[test]
fn what_is_wrong_is_told_where_it_stands() {
    let unfit = r"
plan: fares
runbook: raise-share
at: { cron: '30 9 * * *', time: '2027-01-12T02:30' }
waves: [1]
stop_after: 0
when: memory.shares < 100
else: '${memory.share'
consent: { to: { role: viewer }, within: 2d, text: 'May I, ${who}?' }
memory: { share: { type: number }, other: { type: number, default: 1 } }
give: { share: '${memory.share + resource}' }
remember: { shares: 1 }
";
    assert_snapshot!(wrong(unfit));
    assert_snapshot!(wrong("plan: p\nrunbook: r\nof: { group: g, resources: [vm/a] }\nbegin_within: 0s\n"), @r"
    3:5: names either `resources` or a `group`
    4:15: nothing can begin in no time
    ");
    assert_snapshot!(wrong("plan: p\nrunbook: r\nof: { resources: [vm/a, vm/a, none] }\nwaves: [0, 200%]\n"), @r"
    3:25: names vm/a a second time
    3:31: `none` is not a resource path; write class/name or class/name/part, for example vm/quill-booking-db-1
    4:9: is a number from 1, or a share of all items from 1% to 100%
    4:12: is a number from 1, or a share of all items from 1% to 100%
    ");
    assert_snapshot!(wrong("plan: p\nrunbook: r\nat: { time: 'tomorrow', zone: Europe/London }\n"), @"3:13: is no time such as 2027-01-12T02:30, or with its offset (RFC 3339)");
    assert_snapshot!(wrong("plan: p\nrunbook: r\nat: { time: '2027-03-28T01:30', zone: Europe/London }\n"), @"3:13: is left out in Europe/London, where clocks are put forward then; name another");
    assert_snapshot!(wrong("plan: p\nrunbook: r\nat: { cron: '@daily' }\n"), @"3:13: is not minute, hour, day of the month, month and day of the week, such as `30 2 * * 1-5`");
    assert_snapshot!(wrong("plan: p\nrunbook: r\nat: { calendar: nights, zone: UTC }\nbetween: 1h\n"), @r"
    3:31: is said by the calendar itself
    4:10: is for several resources; name them in `of`
    ");
}

const OTHERS: &str = r"
runbook: patch-machine
inputs: { vm: { type: string, format: resource } }
target: '${inputs.vm}'
steps: [ { id: a, set: { n: 1 } } ]
---
group: web
resources: [vm/a, vm/b]
---
group: globs
resources: ['vm/*']
---
calendar: nights
zone: Europe/London
events: |
  BEGIN:VCALENDAR
  BEGIN:VEVENT
  SUMMARY:Patch night
  DTSTART:20270105T023000
  DURATION:PT3H
  RRULE:FREQ=WEEKLY;BYDAY=TU
  END:VEVENT
  BEGIN:VEVENT
  SUMMARY:Stocktaking
  DTSTART:20270112T000000
  DURATION:PT6H
  END:VEVENT
  END:VCALENDAR
";

#[test]
fn what_does_not_fit_with_others_is_told_where_it_stands() {
    let told = |text: &str| {
        let files = [("others.yaml", OTHERS), ("plan.yaml", text)];
        let checked = check_files(files, &[], &Catalog::default(), &Default::default());
        let told =
            checked.problems.iter().map(|p| format!("{}:{}: {}", p.line, p.column, p.message));
        told.collect::<Vec<_>>().join("\n")
    };
    assert_eq!(
        told("plan: p\nrunbook: patch-machine\nof: { group: web }\ngive: { vm: '${resource}' }\n"),
        ""
    );
    assert_snapshot!(told("plan: p\nrunbook: patch-machines\nof: { group: webs }\nat: { calendar: night }\n"), @r"
    2:10: there is no runbook `patch-machines` (did you mean `patch-machine`?)
    4:17: there is no calendar `night` (did you mean `nights`?)
    3:14: there is no group `webs` (did you mean `web`?)
    ");
    assert_snapshot!(told("plan: p\nrunbook: patch-machine\nof: { group: globs }\ngive: { machine: '${resource}' }\n"), @r"
    4:7: runbook `patch-machine`: there is no input `machine`
    4:7: runbook `patch-machine`: the input `vm` is missing
    3:14: group `globs` has globs, and nobody knows which resources there are; a plan runs for those that are named
    ");
    assert_snapshot!(told("plan: p\nrunbook: patch-machine\ngive: { vm: 3 }\nat: { calendar: nights, events: 'Harbour *' }\n"), @r#"
    3:13: runbook `patch-machine`: the input `vm` is wrong: 3 is not of type "string"
    4:33: none of the events of calendar `nights` is called so
    "#);
    assert_snapshot!(told("plan: p\nrunbook: patch-machine\ngive: { vm: 'vm/a' }\nconsent: { to: { team: nobody } }\n"), @"4:24: there is no contact `nobody`");
}

#[test]
fn a_plan_runs_one_runbook_that_is_written_out() {
    let said = wrong("plan: p\nrunbook: '${inputs.due}'\n");
    assert_eq!(said, "2:10: is the name of one runbook, written out, in a plan");
}

#[test]
fn it_runs_at_the_times_of_its_kind() {
    let none = Catalog::default();
    let span = (at("2027-03-26T00:00:00Z"), at("2027-03-30T00:00:00Z"));
    let times = |plan: &Plan, catalog: &Catalog, span| {
        shown(&plan.at.as_ref().expect("has times").between(catalog, span, 5))
    };
    let nightly = plan("plan: p\nrunbook: r\nat: { cron: '30 2 * * *', zone: Europe/London }\n");
    assert_eq!(
        times(&nightly, &none, span),
        "Fri 26 02:30, Sat 27 02:30, Sun 28 01:30, Mon 29 01:30",
        "clocks are put forward on the 28th"
    );
    let once = plan("plan: p\nrunbook: r\nat: { time: '2027-03-29 09:00', zone: Europe/London }\n");
    assert_eq!(times(&once, &none, span), "Mon 29 08:00");
    let calendar = catalog(OTHERS);
    let nights = plan("plan: p\nrunbook: r\nat: { calendar: nights, events: Patch* }\n");
    let january = (at("2027-01-05T02:30:00Z"), at("2027-01-20T00:00:00Z"));
    assert_eq!(times(&nights, &calendar, january), "Tue 12 02:30, Tue 19 02:30", "after the first");
    let all = plan("plan: p\nrunbook: r\nat: { calendar: nights }\n");
    assert_eq!(times(&all, &calendar, january), "Tue 12 00:00, Tue 12 02:30, Tue 19 02:30");
    let rare = OTHERS.replace("20270112T000000", "20311229T000000");
    let rare = catalog(&rare.replace("FREQ=WEEKLY;BYDAY=TU", "FREQ=WEEKLY;COUNT=2"));
    let next = all.at.as_ref().expect("has times").next(&rare, january.1);
    assert_eq!(next, Some(at("2031-12-29T00:00:00Z")), "however far ahead it is");
    let fingerprint = |plan: &Plan, version| plan.at.as_ref().expect("times").fingerprint(version);
    assert_ne!(
        fingerprint(&all, "1"),
        fingerprint(&all, "2"),
        "a calendar that changed begins anew"
    );
    assert_eq!(fingerprint(&once, "1"), fingerprint(&once, "2"));
}

#[test]
fn what_passed_while_no_node_ran_is_made_up_for_once_or_told() {
    let none = Catalog::default();
    let due = |text: &str, first: &str, now: &str| {
        let plan = plan(&format!("plan: p\nrunbook: r\nat: {text}\n"));
        plan.at.expect("has times").due(&none, at(first), at(now))
    };
    let first = "2027-01-05T02:30:00Z";
    let nightly = "{ cron: '30 2 * * *' }";
    assert_eq!(due(nightly, first, "2027-01-05T02:29:00Z"), None);
    let on_time = due(nightly, first, "2027-01-05T02:30:10Z").expect("has come");
    assert!(on_time.runs && on_time.missed == 0);
    let late = due(nightly, first, "2027-01-07T09:00:00Z").expect("has come");
    assert_eq!((late.runs, late.missed), (false, 3), "left out, it is told");
    assert_eq!(late.next, Some(at("2027-01-08T02:30:00Z")));
    let made_up = due("{ cron: '30 2 * * *', missed: once }", first, "2027-01-07T09:00:00Z");
    let made_up = made_up.expect("has come");
    assert_eq!((made_up.runs, made_up.missed), (true, 2));
    assert_eq!(made_up.due, at("2027-01-07T02:30:00Z"));
    let once = due("{ time: '2027-01-05T02:30' }", first, "2027-01-05T02:30:00Z");
    assert_eq!(once.map(|due| (due.runs, due.next)), Some((true, None)), "and never again");
}

#[test]
fn a_run_is_given_the_resources_of_now() {
    let of_group = plan("plan: p\nrunbook: r\nof: { group: web }\ngive: { vm: '${resource}' }\n");
    let all = catalog(OTHERS);
    let due = at("2027-01-05T02:30:00Z");
    let given = of_group.inputs(&all, &[], (Some(due), due)).expect("runs");
    assert_eq!(
        Value::Object(given),
        json!({ "due": "2027-01-05T02:30:00Z", "resources": ["vm/a", "vm/b"], "left_out": [] })
    );
    let gone = of_group.inputs(&Catalog::default(), &[], (None, due)).expect_err("is no group");
    assert_eq!(gone.to_string(), "there is no group `web`");
}

#[test]
fn what_is_muted_is_left_out_unless_somebody_runs_it() {
    let all = catalog(OTHERS);
    let due = at("2027-01-05T02:30:00Z");
    let mute = |lines: MutedLines| Mute {
        id: 1,
        muted: Muted::check(&lines).expect("covers something"),
        by: Principal::token("maren"),
        reason: "in the yard".into(),
        from: due - TimeDelta::hours(1),
        until: due + TimeDelta::hours(4),
    };
    let resource =
        |glob: &str| mute(MutedLines { resource: vec![glob.into()], ..Default::default() });
    let of_group =
        plan("plan: p\nrunbook: patch-machine\nof: { group: web }\ngive: { vm: '${resource}' }\n");
    let given = |mutes: &[Mute], due: Option<DateTime<Utc>>| {
        let now = at("2027-01-05T02:30:10Z");
        of_group.inputs(&all, mutes, (due, now)).map(|given| Value::Object(given).to_string())
    };
    let one = [resource("vm/a")];
    assert_eq!(
        given(&one, Some(due)).expect("runs"),
        r#"{"due":"2027-01-05T02:30:00Z","resources":["vm/b"],"left_out":["vm/a"]}"#
    );
    assert!(given(&one, None).expect("runs").contains(r#"["vm/a","vm/b"]"#), "by hand");
    assert_eq!(
        given(&[resource("vm/*")], Some(due)).expect_err("is muted").to_string(),
        "all its resources are, vm/a and 1 more, muted until 2027-01-05 06:30 UTC by maren: in the yard"
    );
    let runbook = mute(MutedLines { runbooks: vec!["patch-*".into()], ..Default::default() });
    assert_eq!(
        given(&[runbook], Some(due)).expect_err("is muted").to_string(),
        "runbook patch-machine is muted until 2027-01-05 06:30 UTC by maren: in the yard"
    );
    let kind = MutedLines {
        kinds: vec!["disk.*".into()],
        resource: vec!["vm/*".into()],
        ..Default::default()
    };
    assert!(given(&[mute(kind)], Some(due)).is_ok(), "mutes alerts, and not what is planned");
    let single = plan("plan: p\nrunbook: patch-machine\ngive: { vm: vm/a }\n");
    let refused = single.inputs(&all, &one, (Some(due), due)).expect_err("is muted");
    assert_eq!(
        refused.to_string(),
        "vm/a is muted until 2027-01-05 06:30 UTC by maren: in the yard"
    );
}

#[test]
fn a_freeze_holds_back_what_begins_within_it() {
    let guards = r"
guard: no-patching-while-counting
concerns: { runbooks: patch-machine, group: web }
frozen: { during: nights, events: Stocktaking }
---
guard: plans-at-night
concerns: { launched_by: plans, runbooks: plan/elsewhere }
only: { during: nights, events: Patch* }
";
    let all = catalog(&format!("{OTHERS}---{guards}"));
    let times = ["2027-01-11T03:00:00Z", "2027-01-12T03:00:00Z", "2027-01-13T03:00:00Z"].map(at);
    let told = |text: &str| {
        let freezes = plan(text).freezes(&all, &times);
        let one = |freeze: Option<PlannedFreeze>| {
            freeze.map_or("-".to_owned(), |f| {
                let until = f.until.map_or("?".into(), |at| at.format("%d %H:%M").to_string());
                format!("{}: {} until {until}", f.guard, f.because)
            })
        };
        freezes.into_iter().map(one).collect::<Vec<_>>().join("\n")
    };
    assert_snapshot!(told("plan: p\nrunbook: patch-machine\nof: { group: web }\ngive: { vm: '${resource}' }\n"), @r"
    -
    no-patching-while-counting: frozen by Stocktaking of calendar nights until 12 06:00
    -
    ");
    assert_snapshot!(told("plan: p\nrunbook: patch-machine\ngive: { vm: vm/a }\n"), @r"
    -
    no-patching-while-counting: frozen by Stocktaking of calendar nights until 12 06:00
    -
    ");
    assert_snapshot!(told("plan: p\nrunbook: patch-machine\ngive: { vm: vm/elsewhere }\n"), @r"
    -
    -
    -
    ");
    assert_snapshot!(told("plan: elsewhere\nrunbook: patch-machine\ngive: { vm: vm/elsewhere }\n"), @r"
    plans-at-night: only during calendar nights until 12 02:30
    -
    plans-at-night: only during calendar nights until 19 02:30
    ");
}
