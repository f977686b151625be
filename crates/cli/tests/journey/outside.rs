//! What jobs wait for outside of them, live: decisions of people, events, jobs of their own; and
//! what they tell.

use crate::kit::{Peer, Stage, answer, until};
use reqwest::Method;
use serde_json::{Value, json};
use std::{thread, time::Duration};

fn said(stage: &Stage) -> Vec<String> {
    stage.harbour.chat.messages().into_iter().map(|m| m.text).collect()
}

fn launch(stage: &Stage, runbook: &str, inputs: &Value) -> i64 {
    let body = json!({ "runbook": runbook, "inputs": inputs });
    let (status, made) = stage.call(Method::POST, "/api/v1/jobs", Some(&body));
    assert_eq!(status, 201, "{made}");
    made["job"].as_i64().expect("a number")
}

/// Asks whether to go on, with a message that carries the link; says what was decided.
const ASKS: &str = "
runbook: asks
inputs: { on: { type: string }, within: { type: string, default: 5m } }
target: ${inputs.on}
steps:
  - { id: look, set: { load: 93 } }
  - id: agree
    ask:
      text: 'Restart ${inputs.on}? Its load is ${steps.look.load}.'
      choices: { restart: Restart it now, leave: Leave it as it is }
      within: 5m
      by_link: true
      tell:
        call: chat.post
        via: crew-chat
        give: { channel: yard, text: '${decision.text} ${decision.link}' }
  - id: end
    call: chat.post
    via: crew-chat
    give: { channel: yard, text: '${inputs.on}: ${steps.agree.choice}, says ${steps.agree.by}; ${steps.agree.remark}' }
";

/// The text behind the # of the link in a message.
fn link(message: &str) -> String {
    message.split_once("/decide#").expect("a link").1.trim().to_owned()
}

/// The message that tells of a question about something.
fn told_of(stage: &Stage, on: &str) -> String {
    until("the message", || {
        said(stage).into_iter().find(|m| m.contains("/decide#") && m.contains(on))
    })
}

/// Asks for one of two hosts, after a look at many things.
const ASKS_OF_ONE: &str = "
runbook: asks-of-one
target: group/hosts
steps:
  - { id: before, each: '[1, 2, 3]', as: n, gives: steps.count.n, steps: [ { id: count, set: { n: '${n}' } } ] }
  - id: hosts
    each: \"['host/a', 'host/b']\"
    as: host
    steps:
      - { id: look, set: { host: '${host}' } }
      - id: agree
        when: host == 'host/b'
        ask:
          text: 'Drain ${host}?'
          choices: { drain: Drain it }
          within: 5m
          by_link: true
          tell: { call: chat.post, via: crew-chat, give: { channel: yard, text: '${decision.text} ${decision.link}' } }
";

#[test]
fn a_question_within_a_list_shows_what_was_found_for_its_item_and_of_others_what_their_list_gave() {
    let stage = Stage::with_demo();
    stage.publish(ASKS_OF_ONE);
    launch(&stage, "asks-of-one", &json!({}));
    let link = link(&told_of(&stage, "host/b"));
    let (_, context) =
        stage.call(Method::POST, "/api/v1/decisions/link", Some(&json!({ "link": link })));
    let found = context["found"].as_array().expect("what was found");
    let found: Vec<Value> = found.iter().map(|f| json!([f["step"], f["gave"]])).collect();
    let before =
        json!([{ "item": 1, "gives": 1 }, { "item": 2, "gives": 2 }, { "item": 3, "gives": 3 }]);
    assert_eq!(
        found,
        [json!(["before", before]), json!(["hosts[1].look", { "host": "host/b" }])],
        "{context}"
    );
}

#[test]
fn a_person_decides_by_command_and_by_link_once_and_in_time() {
    let stage = Stage::with_demo();
    stage.publish(ASKS);
    let job = launch(&stage, "asks", &json!({ "on": "vm/a" }));
    let message = told_of(&stage, "vm/a");
    let waiting = stage.job_in(job, &["waiting"]);
    assert!(
        waiting["job"]["doing"].as_str().is_some_and(|d| d.contains("waits for a decision")),
        "{}",
        waiting["job"]
    );
    let records = serde_json::to_string(&waiting).expect("JSON");
    assert!(!records.contains(&link(&message)), "the link is in no record");
    assert!(records.contains("⟨link to the decision⟩"), "{records}");

    let listed = stage.arvok(&["decision", "list"]);
    assert!(
        listed.out.contains("Restart vm/a? Its") && listed.out.contains("restart, leave"),
        "{}",
        listed.all()
    );
    assert_eq!(stage.get("/api/v1/watch")["decisions"][0]["job"], job);
    let id =
        stage.get("/api/v1/decisions")["items"][0]["id"].as_i64().expect("a number").to_string();
    let shown = stage.arvok(&["decision", "show", &id]);
    assert!(
        shown.out.contains("Restart it now") && shown.out.contains("the step fails"),
        "{}",
        shown.all()
    );
    let wrong = stage.arvok(&["decision", "take", &id, "reboot"]);
    assert!(
        wrong.code != 0 && wrong.err.contains("the choices are restart, leave"),
        "{}",
        wrong.all()
    );
    let (_, viewer) = stage.call(
        Method::POST,
        "/api/v1/tokens",
        Some(&json!({ "name": "reader", "role": "viewer" })),
    );
    let viewer = viewer["token"].as_str().expect("a token");
    let (status, refused) = stage.call_as(
        viewer,
        Method::POST,
        &format!("/api/v1/decisions/{id}"),
        Some(&json!({ "choice": "leave" })),
    );
    assert_eq!((status, refused["code"].as_str()), (403, Some("role-too-low")), "{refused}");
    let taken =
        stage.arvok(&["decision", "take", &id, "leave", "--remark", "the ferry is boarding"]);
    assert!(taken.out.contains("decided: leave (Leave it as it is)"), "{}", taken.all());
    stage.job_in(job, &["succeeded"]);
    assert_eq!(
        said(&stage).last().map(String::as_str),
        Some("vm/a: leave, says admin; the ferry is boarding")
    );
    let twice = stage.arvok(&["decision", "take", &id, "restart"]);
    assert!(
        twice.code == 6 && twice.err.contains("was taken already: leave, by admin"),
        "{}",
        twice.all()
    );

    // By link, without a token: shown with its context, taken once, and told who was quicker.
    let job = launch(&stage, "asks", &json!({ "on": "vm/b" }));
    let link = link(&told_of(&stage, "vm/b"));
    let post = |path: &str, body: Value| answer(stage.request(Method::POST, path).json(&body));
    let (status, context) = post("/api/v1/decisions/link", json!({ "link": link }));
    assert_eq!(status, 200, "{context}");
    assert_eq!(context["decision"]["text"], "Restart vm/b? Its load is 93.");
    assert_eq!(
        (&context["found"][0]["gave"]["load"], &context["job"]["id"]),
        (&json!(93), &json!(job))
    );
    let take = |name: &str| {
        post(
            "/api/v1/decisions/link/take",
            json!({ "link": link, "choice": "restart", "name": name }),
        )
    };
    assert_eq!(take("  ").0, 400, "somebody has to say who decides");
    let answers: Vec<(u16, Value)> = thread::scope(|s| {
        let takes: Vec<_> =
            ["pat", "kim", "lou", "sam"].map(|name| s.spawn(move || name)).into_iter().collect();
        takes.into_iter().map(|t| take(t.join().expect("a name"))).collect()
    });
    assert_eq!(answers.iter().filter(|(status, _)| *status == 200).count(), 1, "{answers:?}");
    let late = answers.iter().find(|(status, _)| *status != 200).expect("who came late");
    assert_eq!((late.0, &late.1["code"]), (410, &json!("link-used")), "{late:?}");
    stage.job_in(job, &["succeeded"]);
    assert!(
        said(&stage).last().is_some_and(|m| m.starts_with("vm/b: restart, says")),
        "{:?}",
        said(&stage)
    );
    let decided = stage.get(&format!("/api/v1/jobs/{job}"))["decisions"][0].clone();
    assert_eq!((&decided["state"], &decided["how"]), (&json!("taken"), &json!("link")));
    for forged in ["", "x", &link[..link.len() - 4], &format!("{link}A"), &"A".repeat(120)] {
        assert_eq!(post("/api/v1/decisions/link", json!({ "link": forged })).0, 404, "{forged}");
    }
    // A cancelled job asks no more.
    let job = launch(&stage, "asks", &json!({ "on": "vm/c" }));
    told_of(&stage, "vm/c");
    assert_eq!(stage.arvok(&["job", "cancel", &job.to_string()]).code, 0);
    stage.job_in(job, &["cancelled"]);
    assert_eq!(stage.get("/api/v1/decisions")["items"], json!([]));
}

#[test]
fn silence_is_decided_once_and_never_beside_a_person() {
    let stage = Stage::with_demo();
    let other = stage.second_node();
    stage.publish(
        "
runbook: quick
inputs: { on: { type: string } }
target: ${inputs.on}
steps:
  - { id: agree, ask: { text: 'Go on?', choices: { go: Go on, stay: Stay }, within: 2s, unanswered: stay } }
outputs: { choice: '${steps.agree.choice}', silent: '${steps.agree.silent}' }
",
    );
    let jobs: Vec<i64> =
        (0..12).map(|n| launch(&stage, "quick", &json!({ "on": format!("vm/q{n}") }))).collect();
    let open = until("all to ask", || {
        let open = stage.get("/api/v1/decisions")["items"].as_array().cloned()?;
        (open.len() == jobs.len()).then_some(open)
    });
    // People decide at the very moment at which the time is over, over both nodes.
    let answers: Vec<(i64, u16)> = thread::scope(|s| {
        let takes: Vec<_> = open
            .iter()
            .enumerate()
            .map(|(n, decision)| {
                let node = if n % 2 == 0 { &stage } else { &other };
                let until: chrono::DateTime<chrono::Utc> =
                    decision["until"].as_str().expect("a time").parse().expect("a time");
                let (id, job) =
                    (decision["id"].clone(), decision["job"].as_i64().expect("a number"));
                s.spawn(move || {
                    let left =
                        until - chrono::Utc::now() - chrono::TimeDelta::milliseconds(n as i64 * 4);
                    thread::sleep(left.to_std().unwrap_or_default());
                    let (status, _) = node.call(
                        Method::POST,
                        &format!("/api/v1/decisions/{id}"),
                        Some(&json!({ "choice": "go" })),
                    );
                    (job, status)
                })
            })
            .collect();
        takes.into_iter().map(|t| t.join().expect("answered")).collect()
    });
    for (job, status) in answers {
        let outputs = stage.job_in(job, &["succeeded"])["outputs"].clone();
        let expected = if status == 200 { ("go", false) } else { ("stay", true) };
        assert_eq!(
            (outputs["choice"].as_str(), outputs["silent"].as_bool()),
            (Some(expected.0), Some(expected.1)),
            "{job}"
        );
    }
}

/// Waits for the end, or something else, of another job.
const AWAITS: &str = "
runbook: awaits
inputs: { job: { type: integer }, on: { type: string }, kind: { type: string, default: job.resumed } }
target: ${inputs.on}
steps:
  - id: resumed
    await: { sources: arvok, kinds: '${inputs.kind}', where: 'event.labels.job == string(inputs.job)' }
    within: 5m
outputs: { summary: '${steps.resumed.summary}' }
---
runbook: naps
target: vm/naps
steps: [ { id: nap, pause: 1h } ]
";

#[test]
fn a_job_waits_until_another_is_resumed_whichever_node_tells_of_it() {
    let stage = Stage::with_demo();
    let mut other = stage.second_node();
    stage.publish(AWAITS);
    let naps = launch(&stage, "naps", &json!({}));
    stage.job_in(naps, &["waiting"]);
    let waits = launch(&stage, "awaits", &json!({ "job": naps, "on": "vm/w" }));
    stage.job_in(waits, &["waiting"]);
    let of_naps = naps.to_string();
    assert_eq!(stage.arvok(&["job", "pause", &of_naps]).code, 0);
    stage.job_in(naps, &["paused"]);
    assert_eq!(
        stage.get(&format!("/api/v1/jobs/{waits}"))["job"]["state"],
        "waiting",
        "it is held, not resumed"
    );
    assert_eq!(other.arvok(&["job", "resume", &of_naps]).code, 0);
    // Whoever told of it may die at once: what was written with it enters all the same.
    other.kill_node();
    let done = stage.job_in(waits, &["succeeded"]);
    assert_eq!(done["outputs"]["summary"], format!("job {naps} (naps) resumed"));

    // What the job's own events were is listed when it is asked for, and not between the alerts of
    // others.
    let listed = stage.arvok(&["alert", "list", "--source", "arvok"]);
    assert!(
        listed.out.contains("job.paused") && listed.out.contains("job.resumed"),
        "{}",
        listed.all()
    );
    assert!(!stage.arvok(&["alert", "list"]).out.contains("job.paused"));
    let told = stage.get("/api/v1/alerts?source=arvok&limit=500")["items"]
        .as_array()
        .cloned()
        .expect("a list");
    let of_job = |kind: &str| {
        told.iter().filter(|a| a["kind"] == kind && a["labels"]["job"] == of_naps).count()
    };
    assert_eq!(
        ["job.queued", "job.started", "job.paused", "job.resumed"].map(of_job),
        [1, 1, 1, 1],
        "each once"
    );
}

#[test]
fn an_event_counts_however_near_it_is_to_the_beginning_of_the_wait() {
    let stage = Stage::with_demo();
    stage.publish(
        "
runbook: hears
inputs: { port: { type: string }, since: { type: string, default: step } }
target: ${inputs.port}
steps:
  - id: up
    await: { kinds: port.up, resource: '${inputs.port}', where: event.value >= 5.0 }
    within: 2m
outputs: { value: '${steps.up.value}' }
---
runbook: looks-back
inputs: { port: { type: string } }
target: ${inputs.port}
steps:
  - { id: first, pause: 2s }
  - { id: up, await: { kinds: port.up, resource: '${inputs.port}' }, since: job, within: 1m }
",
    );
    let port = |n: usize, value: f64| {
        json!({ "kind": "port.up", "resource": format!("port/p{n}"),
        "state": "noted", "severity": "minor", "value": value })
    };
    // Each alert comes while its job begins to wait, or just after.
    let jobs: Vec<i64> = thread::scope(|s| {
        let all: Vec<_> = (0..16)
            .map(|n| {
                let (stage, port) = (&stage, &port);
                s.spawn(move || {
                    let job = launch(stage, "hears", &json!({ "port": format!("port/p{n}") }));
                    stage.send("yard-hypervisor", &port(n, 1.0));
                    thread::sleep(Duration::from_millis(n as u64 * 15));
                    until("the wait to have begun", || {
                        stage.get(&format!("/api/v1/jobs/{job}"))["steps"][0]["attempts"][0]
                            .as_object()
                            .map(|_| ())
                    });
                    stage.send("yard-hypervisor", &port(n, 9.0));
                    job
                })
            })
            .collect();
        all.into_iter().map(|t| t.join().expect("sent")).collect()
    });
    for job in jobs {
        assert_eq!(stage.job_in(job, &["succeeded"])["outputs"]["value"], 9.0);
    }
    let job = launch(&stage, "looks-back", &json!({ "port": "port/p99" }));
    stage.send("yard-hypervisor", &port(99, 1.0));
    stage.job_in(job, &["succeeded"]);
    // What is noted for a wait at the very moment at which that ends goes with the next upkeep.
    until("nothing to be left of what was waited for", || {
        let left = stage
            .records()
            .rows("SELECT (SELECT count(*) FROM wait) + (SELECT count(*) FROM heard) AS n");
        (left == [json!({ "n": 0 })]).then_some(())
    });
}

/// A job that has another done, on its own target or on another.
const PARENT: &str = "
runbook: parent
inputs: { on: { type: string }, child: { type: string }, nap: { type: boolean, default: false } }
target: ${inputs.on}
steps:
  - { id: child, runbook: child, give: { on: '${inputs.child}', nap: '${inputs.nap}' }, undo: { call: chat.post, via: crew-chat, give: { channel: yard, text: 'never mind ${inputs.child}' } } }
  - { id: after, require: inputs.child != 'vm/refuse', else: 'not wanted' }
outputs: { from: '${steps.child.gives.on}', job: '${steps.child.job}' }
---
runbook: child
inputs: { on: { type: string }, nap: { type: boolean } }
target: ${inputs.on}
steps:
  - { id: tell, call: chat.post, via: crew-chat, give: { channel: yard, text: 'child on ${inputs.on}' } }
  - { id: nap, when: inputs.nap, pause: 1h }
outputs: { on: '${inputs.on}' }
";

#[test]
fn the_job_of_a_step_that_was_made_is_waited_for_though_its_runbook_is_withdrawn() {
    let stage = Stage::bare();
    stage.publish(
        "runbook: above\ntarget: vm/a\nsteps:\n  - { id: wait, ask: { text: Go on?, choices: { go: \
        Go on }, within: 10m } }\n  \
        - { id: below, runbook: below }\noutputs: { gave: '${steps.below.gives.it}' }\n---\n\
        runbook: below\ntarget: vm/a\nsteps: [{ id: made, set: { it: 7 } }]\noutputs: { it: \
        '${steps.made.it}' }\n",
    );
    let job = launch(&stage, "above", &json!({}));
    stage.job_in(job, &["waiting"]);
    // As if a node had made the job of the step and died before it told.
    stage.records().run(&format!(
        "INSERT INTO job (id, parent, parent_place, root, depth, holds, runbook, runbook_version,
            inputs, target, urgency, state,
            chain, progress, created_at, reason)
        SELECT nextval('job_number'), id, 'below', id, 1, false, 'below', 1, '{{}}', target,
        urgency, 'queued', chain,
            '{{\"started\": null}}', now(), 'a step' FROM job WHERE id = {job}"
    ));
    let gone = stage.arvok(&["withdraw", "runbook", "above", "below", "--yes"]);
    assert_eq!(gone.code, 0, "{}", gone.all());
    assert_eq!(stage.arvok(&["decision", "take", "1", "go"]).code, 0);
    assert_eq!(stage.job_in(job, &["succeeded"])["outputs"], json!({ "gave": 7 }));
}

#[test]
fn a_job_has_another_done_shares_its_target_and_stops_it() {
    let mut stage = Stage::with_demo();
    stage.publish(PARENT);
    for child in ["vm/a", "vm/b"] {
        let job = launch(&stage, "parent", &json!({ "on": "vm/a", "child": child }));
        let done = stage.job_in(job, &["succeeded"]);
        let below = done["outputs"]["job"].as_i64().expect("a number");
        assert_eq!(done["outputs"]["from"], child);
        let below = stage.job_in(below, &["succeeded"]);
        assert_eq!(
            (&below["job"]["parent"], &below["job"]["target"]),
            (&json!(job), &json!(child))
        );
        let shown = stage.arvok(&["job", "show", &job.to_string()]);
        assert!(shown.out.contains(&format!(", job {}", below["job"]["id"])), "{}", shown.all());
    }
    assert_eq!(said(&stage), ["child on vm/a", "child on vm/b"]);
    // What it had done is taken back when a later step fails.
    let job = launch(&stage, "parent", &json!({ "on": "vm/a", "child": "vm/refuse" }));
    stage.job_in(job, &["failed"]);
    assert_eq!(said(&stage)[2..], ["child on vm/refuse", "never mind vm/refuse"]);

    // A node's death between the two changes nothing; stopping the one stops the other.
    let job = launch(&stage, "parent", &json!({ "on": "vm/a", "child": "vm/d", "nap": true }));
    let child = until("the child to wait", || {
        let child = stage.get(&format!("/api/v1/jobs/{job}"))["children"][0].clone();
        (child["state"] == "waiting").then(|| child["id"].as_i64()).flatten()
    });
    stage.kill_node();
    stage.start_node();
    let held = stage.arvok(&["job", "pause", &job.to_string()]);
    assert_eq!(held.code, 0, "{}", held.all());
    stage.job_in(child, &["paused"]);
    assert_eq!(stage.arvok(&["job", "resume", &job.to_string()]).code, 0);
    stage.job_in(child, &["waiting"]);
    assert_eq!(stage.arvok(&["job", "cancel", &job.to_string(), "--why", "enough"]).code, 0);
    let job = stage.job_in(job, &["cancelled"]);
    let child = stage.job_in(child, &["cancelled"]);
    assert_eq!(
        child["job"]["failure"],
        format!("job {} was cancelled by admin: enough", job["job"]["id"])
    );
}

#[test]
fn a_job_whose_time_ends_while_a_person_holds_the_job_of_its_step_ends_with_it() {
    let stage = Stage::with_demo();
    stage.publish(&PARENT.replacen(
        "target: ${inputs.on}\n",
        "target: ${inputs.on}\ntimeout: 4s\n",
        1,
    ));
    let job = launch(&stage, "parent", &json!({ "on": "vm/a", "child": "vm/d", "nap": true }));
    let child = until("the child to wait", || {
        let child = stage.get(&format!("/api/v1/jobs/{job}"))["children"][0].clone();
        (child["state"] == "waiting").then(|| child["id"].as_i64()).flatten()
    });
    assert_eq!(stage.arvok(&["job", "pause", &child.to_string()]).code, 0);
    stage.job_in(child, &["paused"]);
    let job = stage.job_in(job, &["failed"]);
    assert_eq!(job["job"]["failure"], "the runbook's time of 4s is over");
    let child = stage.job_in(child, &["cancelled"]);
    assert_eq!(child["job"]["failure"], format!("the time of job {} is over", job["job"]["id"]));
}

#[test]
fn of_two_that_wait_for_each_others_targets_the_younger_gives_way() {
    let stage = Stage::with_demo();
    stage.publish(
        "
runbook: both
inputs: { one: { type: string }, other: { type: string } }
target: ${inputs.one}
steps:
  - { id: first, pause: 2s }
  - { id: second, runbook: short, give: { on: '${inputs.other}' } }
---
runbook: short
inputs: { on: { type: string } }
target: ${inputs.on}
steps: [ { id: fine, set: { ok: true } } ]
",
    );
    let one = launch(&stage, "both", &json!({ "one": "vm/x", "other": "vm/y" }));
    let two = launch(&stage, "both", &json!({ "one": "vm/y", "other": "vm/x" }));
    let younger = stage.job_in(two, &["failed"]);
    let why = younger["job"]["failure"].as_str().expect("a reason");
    assert!(
        why.contains("this is the younger and gives way") && why.contains("vm/x")
            || why.contains("holds"),
        "{why}"
    );
    stage.job_in(one, &["succeeded"]);
}

#[test]
fn a_rule_whose_jobs_events_feed_it_is_stopped_and_says_so() {
    let stage = Stage::with_demo();
    stage.publish(
        "
runbook: echo
inputs: { n: { type: integer } }
target: group/echo
steps: [ { id: again, emit: echo.heard, resource: 'echo/e${inputs.n}', give: { n: '${inputs.n + 1}' } } ]
---
rule: feeds-itself
stance: act
listen: { sources: arvok, kinds: echo.heard, states: noted }
dispatch: { runbook: echo, inputs: { n: '${alert.body.given.n}' } }
",
    );
    launch(&stage, "echo", &json!({ "n": 1 }));
    let broken = until("the rule to be stopped", || {
        let verdicts =
            stage.get("/api/v1/verdicts?rule=feeds-itself")["items"].as_array().cloned()?;
        verdicts.into_iter().find(|v| v["verdict"] == "broken")
    });
    let reason = broken["reason"].as_str().expect("a reason");
    assert!(reason.contains("events of its own jobs have set it off 5 times in a row"), "{reason}");
    let jobs = stage.get("/api/v1/jobs?runbook=echo")["items"].as_array().map(Vec::len);
    assert_eq!(jobs, Some(6), "the one by hand and five rounds");
    // It needs a person, and says so wherever one looks. What Arvok tells of itself is no alert
    // that came.
    let listed = stage.arvok(&["alert", "list", "--verdict", "broken"]);
    assert!(listed.out.contains("echo.heard"), "{}", listed.all());
    let watch = stage.get("/api/v1/watch");
    let stopped = &watch["broken"][0];
    assert_eq!(
        (&stopped["rule"], &stopped["alerts"]),
        (&json!("feeds-itself"), &json!(1)),
        "{watch}"
    );
    assert!(
        stopped["reason"].as_str().is_some_and(|why| why.contains("have set it off 5 times")),
        "{stopped}"
    );
    assert_eq!(
        (&watch["narrowing"]["matched"], &watch["narrowing"]["dispatched"]),
        (&json!(0), &json!(0)),
        "{watch}"
    );
    // A version that does not stop takes it away.
    stage.publish(
        "rule: feeds-itself\nstance: watch\nlisten: { sources: arvok, kinds: echo.other \
        }\ndispatch: { runbook: echo, inputs: { n: 1 } }\n",
    );
    assert_eq!(stage.get("/api/v1/watch")["broken"], json!([]));
}

#[test]
fn a_connection_has_as_many_calls_at_once_and_within_a_time_as_it_allows() {
    let stage = Stage::bare();
    let other = stage.second_node();
    let peer = Peer::start();
    peer.delay(Duration::from_millis(250));
    let limited = |line: &str| {
        peer.definitions("safe").replace("timeout: 60s", &format!("timeout: 60s\n{line}"))
    };
    let tell = |from: usize, count: usize| {
        for n in from..from + count {
            let node = if n.is_multiple_of(2) { &stage } else { &other };
            launch(node, "tell", &json!({ "what": format!("vm/t{n}") }));
        }
        until("all to be told", || (peer.told().len() == from + count).then_some(()));
    };
    let both_know = |key: &str, what: Value| {
        until("the other node to know it", || {
            let (status, shown) = other.call(Method::GET, "/api/v1/connections/peer", None);
            (status == 200 && shown[key] == what).then_some(())
        });
    };
    stage.publish(&limited("at_once: 2"));
    both_know("at_once", json!(2));
    tell(0, 8);
    let most = peer.told().iter().map(|t| t.at_once).max();
    assert_eq!(most, Some(2), "and no more");
    stage.publish(&limited("rate: { calls: 4, per: 1s }"));
    both_know("rate", json!("4 in 1s"));
    tell(8, 8);
    let told = peer.told();
    let took = told[15].at - told[8].at;
    assert!(
        took >= Duration::from_millis(1_600),
        "eight calls take seven shares of 250 ms, not {took:?}"
    );
    let left = stage.records().rows("SELECT count(*) AS n FROM call_slot");
    assert_eq!(left, [json!({ "n": 0 })], "each turn was given back");
}

#[test]
fn jobs_whose_calls_wait_for_their_turn_rest_and_are_in_nobodys_way() {
    let mut stage = Stage::bare();
    let peer = Peer::start();
    peer.delay(Duration::from_millis(150));
    stage.publish(&peer.definitions("safe").replace("timeout: 60s", "timeout: 60s\nat_once: 2"));
    stage.publish("runbook: quick\ntarget: vm/q\nsteps: [ { id: set, set: { a: '1' } } ]\n");
    let jobs: Vec<i64> =
        (0..90).map(|n| launch(&stage, "tell", &json!({ "what": format!("vm/t{n}") }))).collect();
    let quick = launch(&stage, "quick", &json!({}));
    stage.job_in(quick, &["succeeded"]);
    assert!(peer.told().len() < 60, "it had to wait for others: {}", peer.told().len());
    let last = *jobs.last().expect("a job");
    let waiting = stage.job_in(last, &["waiting"]);
    assert_eq!(waiting["job"]["doing"], "waits for the turn of its call: tell");
    assert_eq!(stage.arvok(&["job", "cancel", &last.to_string()]).code, 0);
    stage.job_in(last, &["cancelled"]);
    // The death of the node that has the turns loses neither them nor the queue.
    stage.kill_node();
    stage.start_node();
    until("all others to have succeeded", || {
        let done = stage.records().rows("SELECT count(*) AS n FROM job WHERE state = 'succeeded'");
        (done == [json!({ "n": 90 })]).then_some(())
    });
    assert_eq!(peer.told().iter().map(|t| t.at_once).max(), Some(2));
    let told: std::collections::BTreeSet<_> = peer.told().into_iter().map(|t| t.body).collect();
    assert_eq!(told.len(), 89, "the one that was cancelled was not called");
}

#[test]
fn calls_of_one_job_that_wait_for_their_turn_keep_no_connection_from_its_execution() {
    let stage = Stage::bare();
    let peer = Peer::start();
    peer.delay(Duration::from_millis(20));
    stage.publish(&peer.definitions("safe").replace("timeout: 60s", "timeout: 60s\nat_once: 1"));
    stage.publish(
        "runbook: many\ninputs: { on: { type: string } }\ntarget: ${inputs.on}\nsteps:\n  \
         - id: all\n    each: '[1,2,3,4,5,6,7,8,9,10,11,12,13,14,15,16,17,18,19,20,21,22,23,24,25,26,27,28,29,30]'\n    as: n\n    at_once: 30\n    \
         steps: [ { id: tell, call: peer.tell, via: peer, give: { what: '${inputs.on} ${n}' } } \
         ]\n",
    );
    let jobs = ["vm/a", "vm/b", "vm/c"].map(|on| launch(&stage, "many", &json!({ "on": on })));
    for job in jobs {
        stage.job_in(job, &["succeeded"]);
    }
    assert_eq!(peer.told().len(), 90, "each once");
    assert_eq!(peer.told().iter().map(|t| t.at_once).max(), Some(1));
}
