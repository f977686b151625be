//! Plans: they run at their times, once over all nodes, on one resource after another, with
//! consent, and go on where the run before left off.

use crate::kit::{Browser, Stage, until};
use chrono::{DateTime, SecondsFormat, TimeDelta, Utc};
use reqwest::Method;
use serde_json::{Value, json};

/// Sets a share, and rests for a while.
const SHARE: &str = "
runbook: set-share
inputs: { share: { type: integer }, pause: { type: string, default: 0s } }
target: service/fares
steps:
  - { id: set, emit: fares.set, give: { share: '${inputs.share}' } }
  - { id: rest, pause: '${inputs.pause}' }
outputs: { share: '${inputs.share}' }
";

/// Raises the share by a half each time, until all have it.
const FARES: &str = "
plan: new-fares
summary: The new fares for half of the passengers more each time
runbook: set-share
at: { cron: '30 9 1 1 *', zone: Europe/London }
memory: { share: { type: integer, default: 0 } }
when: memory.share < 100
else: All passengers have the new fares
give: { share: '${memory.share + 50}' }
remember: { share: '${steps.run.gives.share}' }
";

/// Nothing on a machine, for a while.
const PATCH: &str = "
runbook: patch
inputs: { vm: { type: string, format: resource }, fails: { type: boolean, default: false } }
target: '${inputs.vm}'
steps:
  - { id: sound, require: '!inputs.fails', else: '${inputs.vm} does not boot' }
  - { id: patched, emit: machine.patched, give: { vm: '${inputs.vm}' } }
";

/// Lets the time of a plan come, as if it had been so many minutes ago.
fn pass(stage: &Stage, plan: &str, minutes: i64) {
    let key = || stage.records().rows(&format!("SELECT key FROM timer WHERE key = '{plan}'"));
    until("the timer to be set", || (!key().is_empty()).then_some(()));
    stage.records().run(&format!(
        "UPDATE timer SET due = date_trunc('second', now()) - interval '{minutes} minutes',
            held_until = NULL WHERE kind = 'plan' AND key = '{plan}'"
    ));
    // Whatever is published wakes the nodes.
    stage.publish(&format!("group: waker-{plan}-{minutes}\nresources: [vm/a]\n"));
}

fn runs(stage: &Stage, plan: &str) -> Vec<Value> {
    let found = stage.get(&format!("/api/v1/jobs?runbook=plan/{plan}"));
    found["items"].as_array().cloned().unwrap_or_default()
}

/// The newest run, once there are so many and it has ended so.
fn ended(stage: &Stage, plan: &str, count: usize, state: &str) -> Value {
    let newest = until(&format!("run {count} of {plan}"), || {
        let all = runs(stage, plan);
        (all.len() >= count).then(|| all[0]["id"].as_i64()).flatten()
    });
    stage.job_in(newest, &[state])
}

fn rfc(at: DateTime<Utc>) -> String {
    at.to_rfc3339_opts(SecondsFormat::Secs, true)
}

#[test]
fn a_rollout_is_raised_at_each_time_until_it_is_complete_whatever_node_dies() {
    let mut stage = Stage::bare();
    stage.publish(SHARE);
    stage.publish(&FARES.replace("give: { share", "give: { pause: 2s, share"));
    let second = stage.second_node();
    pass(&stage, "new-fares", 0);
    let run = until("the run", || runs(&second, "new-fares").first().cloned());
    assert_eq!(run["launched_by"], "plan/new-fares", "{run:#}");
    stage.kill_node();
    let first = ended(&second, "new-fares", 1, "succeeded");
    assert_eq!(first["job"]["target"], "plan/new-fares");
    let share = |of: &Stage| of.get("/api/v1/plans/new-fares")["memory"]["share"].clone();
    assert_eq!(share(&second), 50);
    pass(&second, "new-fares", 0);
    ended(&second, "new-fares", 2, "succeeded");
    assert_eq!(share(&second), 100);
    pass(&second, "new-fares", 0);
    let nothing = ended(&second, "new-fares", 3, "succeeded");
    assert_eq!(nothing["job"]["failure"], "All passengers have the new fares", "{nothing:#}");
    let sets = second.get("/api/v1/alerts?kind=fares.set")["items"].clone();
    assert_eq!(sets.as_array().map(Vec::len), Some(2), "no run is twice: {sets:#}");
    let children = second.get("/api/v1/jobs?runbook=set-share")["items"].clone();
    assert_eq!(children.as_array().map(Vec::len), Some(2), "{children:#}");
    drop(second);
    stage.start_node();

    let shown = stage.arvok(&["plan", "show", "new-fares"]);
    assert_eq!(shown.code, 0, "{}", shown.all());
    for part in ["set-share", "share=100", "To come:", "What was:", "All passengers have"] {
        assert!(shown.out.contains(part), "{part}: {}", shown.out);
    }
    let listed = stage.arvok(&["plan", "list"]);
    assert!(listed.out.contains("30 9 1 1 * (Europe/London)"), "{}", listed.out);
    // By hand it does nothing either, and says so beforehand.
    let dry = stage.arvok(&["plan", "run", "new-fares", "--dry-run"]);
    assert!(dry.out.contains("complete"), "{}", dry.all());
    let again = stage.arvok(&["plan", "run", "new-fares", "--yes", "--why", "to be sure"]);
    assert_eq!(again.code, 0, "{}", again.all());
    let by_hand = ended(&stage, "new-fares", 4, "succeeded");
    assert_eq!(by_hand["reason"].as_str().map(|r| r.ends_with(": to be sure")), Some(true));
    // A plan is no runbook.
    let body = json!({ "runbook": "plan/new-fares", "inputs": {} });
    let (status, refused) = stage.call(Method::POST, "/api/v1/jobs", Some(&body));
    assert_eq!(status, 400, "{refused}");
    assert!(refused["detail"].as_str().unwrap_or_default().contains("arvok plan run"), "{refused}");
}

#[test]
fn a_run_goes_through_its_resources_in_waves_and_stops_at_a_failure() {
    let stage = Stage::bare();
    stage.publish(PATCH);
    let group = |third: &str| {
        format!("group: kiosks\nresources: [vm/kiosk-1, vm/kiosk-2, {third}, vm/kiosk-4]\n")
    };
    stage.publish(&group("vm/kiosk-3"));
    stage.publish(
        "plan: patch-kiosks\nrunbook: patch\nof: { group: kiosks }\nat_once: 2\nwaves: [1, 50%]\n\
        between: 1s\ngive: { vm: '${resource}', fails: '${resource == \"vm/broken\"}' }\n",
    );
    let run = |stage: &Stage| stage.arvok(&["plan", "run", "patch-kiosks", "--yes", "--follow"]);
    let good = run(&stage);
    assert_eq!(good.code, 0, "{}", good.all());
    let patched = |stage: &Stage| {
        let all = stage.get("/api/v1/jobs?runbook=patch&limit=50")["items"].clone();
        all.as_array().map_or(0, Vec::len)
    };
    assert_eq!(patched(&stage), 4);
    stage.publish(&group("vm/broken"));
    let bad = run(&stage);
    assert_ne!(bad.code, 0, "{}", bad.all());
    let job = runs(&stage, "patch-kiosks")[0].clone();
    let failure = job["failure"].as_str().unwrap_or_default();
    assert!(
        failure.contains("1 of 4 items of `run` failed, one more was not begun; item 3:")
            && failure.contains("vm/broken does not boot"),
        "{failure}"
    );
    assert_eq!(patched(&stage), 7, "the last was not begun");

    // A resource that is muted is left out of a run for its time.
    stage.publish(&group("vm/kiosk-3"));
    let mute =
        ["mute", "begin", "--resource", "vm/kiosk-2", "--for", "1h", "--reason", "in the yard"];
    assert_eq!(stage.arvok(&mute).code, 0);
    stage.publish(
        "plan: patch-kiosks\nrunbook: patch\nof: { group: kiosks }\nat: { cron: '0 2 1 1 *' }\n\
        give: { vm: '${resource}' }\n",
    );
    pass(&stage, "patch-kiosks", 0);
    let run = ended(&stage, "patch-kiosks", 3, "succeeded");
    assert_eq!(run["inputs"]["left_out"], json!(["vm/kiosk-2"]), "{:#}", run["inputs"]);
    assert_eq!(run["inputs"]["resources"], json!(["vm/kiosk-1", "vm/kiosk-3", "vm/kiosk-4"]));
}

#[test]
fn times_are_skipped_missed_and_passed_over_and_that_is_told() {
    let stage = Stage::bare();
    stage.publish(SHARE);
    stage.publish(FARES);
    let next = stage.get("/api/v1/plans/new-fares")["plan"]["next"]["at"].clone();
    let skip = ["plan", "skip", "new-fares", "--reason", "the harbour counts its stock"];
    let skipped = stage.arvok(&skip);
    assert_eq!(skipped.code, 0, "{}", skipped.all());
    let detail = stage.get("/api/v1/plans/new-fares");
    assert_ne!(detail["plan"]["next"]["at"], next, "the next is that after it");
    assert_eq!(detail["coming"][0]["omitted"], "skipped");
    assert_eq!(detail["coming"][0]["by"], "token/admin", "{:#}", detail["coming"][0]);
    let due = next.as_str().expect("a time");
    let unskipped = stage.arvok(&["plan", "unskip", "new-fares", "--due", due]);
    assert_eq!(unskipped.code, 0, "{}", unskipped.all());
    assert_eq!(stage.get("/api/v1/plans/new-fares")["plan"]["next"]["at"], next);
    let wrong = stage.arvok(&[
        "plan",
        "skip",
        "new-fares",
        "--due",
        "2031-05-05T05:05:05Z",
        "--reason",
        "nobody is here",
    ]);
    assert!(wrong.err.contains("does not run at 2031-05-05T05:05:05Z"), "{}", wrong.all());
    for (query, said) in [
        ("from=soon", "`soon` is not a time such as"),
        ("from=2027-01-02T00:00:00Z&until=2027-01-01T00:00:00Z", "until: is before `from`"),
        ("from=2027-01-02T00:00:00Z&until=2029-01-01T00:00:00Z", "until: at most 100 days after"),
        ("plan=nothing", "there is no plan `nothing`"),
    ] {
        let (_, refused) = stage.call(Method::GET, &format!("/api/v1/plan-times?{query}"), None);
        let detail = refused["detail"].as_str().unwrap_or_default();
        assert!(detail.contains(said), "{query}: {detail}");
    }
    let over = ["plan", "skip", "new-fares", "--due", "2020-01-01T09:30:00Z", "--reason", "x"];
    assert!(stage.arvok(&over).err.contains("is over"));

    // A time that is skipped passes without a run.
    stage.records().run(
        "INSERT INTO plan_omission (plan, due, why, reason, by)
            SELECT 'new-fares', date_trunc('second', now()) - interval '20 seconds', 'skipped',
                'not today', 'token/maren'",
    );
    stage.records().run(
        "UPDATE timer SET due = (SELECT due FROM plan_omission), held_until = NULL
            WHERE key = 'new-fares'",
    );
    stage.publish("group: waker\nresources: [vm/a]\n");
    let handled = || {
        let sql = "SELECT 1 AS n FROM timer WHERE key = 'new-fares' AND due > now()";
        (!stage.records().rows(sql).is_empty()).then_some(())
    };
    until("the time to be handled", handled);
    assert!(runs(&stage, "new-fares").is_empty());

    // One whose run was launched by a node that died then is not missed, however late it is.
    let other = FARES.replace("plan: new-fares", "plan: other");
    stage.publish(&other.replace("share < 100", "share < 0"));
    pass(&stage, "other", 0);
    ended(&stage, "other", 1, "succeeded");
    stage.records().run(
        "UPDATE job SET launch_key = to_char((launch_key::timestamptz - interval '90 minutes')
            AT TIME ZONE 'UTC', 'YYYY-MM-DD\"T\"HH24:MI:SS+00:00') WHERE runbook = 'plan/other'",
    );
    stage.records().run(
        "UPDATE timer SET held_until = NULL, due = (SELECT launch_key::timestamptz FROM job
            WHERE runbook = 'plan/other') WHERE key = 'other'",
    );
    stage.publish("group: waker-other\nresources: [vm/a]\n");
    until("it to be handled", || {
        let sql = "SELECT 1 AS n FROM timer WHERE key = 'other' AND due > now()";
        (!stage.records().rows(sql).is_empty()).then_some(())
    });
    let of = "SELECT 1 AS n FROM plan_omission WHERE plan = 'other'";
    assert!(stage.records().rows(of).is_empty(), "it had its run");

    // One that passed while no node ran is told, and not made up for.
    pass(&stage, "new-fares", 90);
    let told = |kind: &str| {
        until(kind, || {
            let found = stage.get(&format!("/api/v1/alerts?source=arvok&kind={kind}"));
            found["items"].as_array()?.first().cloned()
        })
    };
    let missed = told("plan.missed");
    assert_eq!(missed["resource"], "plan/new-fares");
    assert!(
        missed["summary"].as_str().is_some_and(|s| s.contains("1 time passed while no node ran")),
        "{missed:#}"
    );
    assert!(runs(&stage, "new-fares").is_empty());

    // While a run is under way there is no other.
    stage.publish(&FARES.replace("give: { share", "give: { pause: 1h, share"));
    let run = stage.arvok(&["plan", "run", "new-fares", "--yes"]);
    assert_eq!(run.code, 0, "{}", run.all());
    let refused = stage.arvok(&["plan", "run", "new-fares", "--yes"]);
    assert!(refused.err.contains("is under way: job"), "{}", refused.all());
    pass(&stage, "new-fares", 0);
    let overlapped = told("plan.overlapped");
    assert!(
        overlapped["summary"].as_str().is_some_and(|s| s.contains("the run before is not over")),
        "{overlapped:#}"
    );
    assert_eq!(runs(&stage, "new-fares").len(), 1);
    let times = stage.arvok(&["plan", "times"]);
    for word in ["missed", "overlapped", "skipped", "waiting"] {
        assert!(times.out.contains(word), "{word}: {}", times.out);
    }
}

#[test]
fn a_plan_that_runs_often_takes_nothing_from_the_others() {
    let stage = Stage::bare();
    stage.publish(SHARE);
    let often = |n: usize| {
        format!(
            "plan: often-{n:02}\nrunbook: set-share\nat: {{ cron: '* * * * *' }}\n\
            give: {{ share: {n} }}\n"
        )
    };
    stage.publish(&(0..20).map(often).collect::<Vec<_>>().join("---\n"));
    stage.publish(
        "plan: rarely\nrunbook: set-share\nat: { cron: '0 3 * * *' }\ngive: { share: 1 }\n",
    );
    let from = Utc::now() + TimeDelta::days(1);
    let (from, until) = (rfc(from), rfc(from + TimeDelta::days(1)));
    let times = stage.get(&format!("/api/v1/plan-times?from={from}&until={until}"));
    let entries = times["entries"].as_array().cloned().unwrap_or_default();
    let of = |plan: &str| entries.iter().filter(|e| e["plan"] == plan).count();
    assert_eq!(of("rarely"), 1, "{entries:#?}");
    assert!((0..20).all(|n| of(&format!("often-{n:02}")) > 0), "{entries:#?}");
    assert!(entries.len() <= 2_000 && times["more"] == true, "{}", entries.len());
    assert!(entries.iter().any(|e| e["times"] == 60), "those of an hour are one");
}

#[test]
fn one_time_alone_has_one_run_and_a_freeze_is_told_beforehand() {
    let stage = Stage::bare();
    stage.publish(SHARE);
    let soon = Utc::now() + TimeDelta::seconds(8);
    let once = |at: &str| {
        format!("plan: once\nrunbook: set-share\nat: {{ time: '{at}' }}\ngive: {{ share: 5 }}\n")
    };
    stage.publish(&once(&rfc(soon)));
    let run = ended(&stage, "once", 1, "succeeded");
    assert_eq!(run["inputs"]["due"], rfc(soon));
    // Published again when it is over it does not run again.
    stage.publish(&once(&rfc(soon)).replace("share: 5", "share: 6"));
    let timers = || stage.records().rows("SELECT key FROM timer WHERE kind = 'plan'");
    until("it to have no time", || timers().is_empty().then_some(()));
    assert_eq!(stage.get("/api/v1/plans/once")["plan"]["next"], Value::Null);

    let day = (Utc::now() + TimeDelta::days(3)).date_naive();
    let events = format!(
        "calendar: harbour\nevents: |\n  BEGIN:VCALENDAR\n  BEGIN:VEVENT\n  SUMMARY:Stocktaking\n  \
        DTSTART:{0}T020000Z\n  DURATION:PT3H\n  END:VEVENT\n  END:VCALENDAR\n---\n\
        guard: no-fares\nconcerns: {{ runbooks: set-share }}\nfrozen: {{ during: harbour }}\n",
        day.format("%Y%m%d")
    );
    stage.publish(&events);
    stage.publish(&once(&format!("{day}T03:00")).replace("plan: once", "plan: later"));
    let next = stage.get("/api/v1/plans/later")["plan"]["next"].clone();
    assert_eq!(next["frozen"]["guard"], "no-fares", "{next:#}");
    assert_eq!(next["frozen"]["too_late"], true, "two hours are more than it waits: {next:#}");
    let shown = stage.arvok(&["plan", "show", "later"]);
    assert!(shown.out.contains("frozen by Stocktaking of calendar harbour"), "{}", shown.out);
    // It runs when events of a calendar begin.
    stage.publish(
        "plan: nights\nrunbook: set-share\nat: { calendar: harbour, events: Stock* }\n\
        give: { share: 7 }\n",
    );
    let next = stage.get("/api/v1/plans/nights")["plan"]["next"]["at"].clone();
    assert_eq!(next, format!("{day}T02:00:00Z"));
}

#[test]
fn it_is_asked_for_before_it_runs_and_seen_in_the_console() {
    let stage = Stage::bare();
    stage.publish(SHARE);
    stage.publish(&format!(
        "{FARES}consent: {{ text: 'The new fares for ${{memory.share + 50}} %?', within: 2h }}\n"
    ));
    let browser = Browser::open(&stage, false);
    browser.sign_in(&stage.token);
    browser.see("Sign out");
    browser.go("/plans");
    browser.see("new-fares");
    browser.go("/plans/new-fares");
    browser.see("30 9 1 1 * (Europe/London)");
    browser.click("Skip…");
    browser.fill("[role=alertdialog] input", "the harbour counts its stock");
    browser.click("Skip it");
    browser.see("skipped");
    browser.click("Run now…");
    browser.fill("[role=alertdialog] input", "the catalogue is out");
    browser.click("Run it");
    let run = until("the run", || runs(&stage, "new-fares").first()?["id"].as_i64());
    stage.job_in(run, &["waiting"]);
    let asked = stage.get("/api/v1/decisions")["items"][0].clone();
    assert_eq!(asked["text"], "The new fares for 50 %?", "{asked:#}");
    let id = asked["id"].as_i64().expect("a number");
    let said =
        stage.arvok(&["decision", "take", &id.to_string(), "not_now", "--remark", "no ferry"]);
    assert_eq!(said.code, 0, "{}", said.all());
    let job = stage.job_in(run, &["succeeded"]);
    assert_eq!(job["job"]["failure"], "admin said: not now: no ferry");
    assert_eq!(stage.get("/api/v1/plans/new-fares")["memory"]["share"], 0);
    browser.see("admin said: not now: no ferry");
}
