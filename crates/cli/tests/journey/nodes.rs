//! Several nodes over one database, and publications that come side by side: what one knows, all
//! know before they decide.

use crate::kit::{ARVOK, Stage, block, database, folder, only_reads, outage, until};
use arvok_postgres::{free_port, spawn_supervised};
use reqwest::Method;
use serde_json::{Value, json};
use std::{
    fs,
    path::Path,
    process::{Command, Stdio},
};

const NOTE: &str = "runbook: note\ninputs: { what: { type: string, default: x } }\ntarget: \
    group/one\nsteps: [ { id: fine, require: 'true' } ]\n";

fn rule(name: &str, more: &str) -> String {
    format!(
        "rule: {name}\nstance: act\nlisten: {{ kinds: test.{name} }}\n{more}dispatch: {{ runbook: \
        note, inputs: {{ what: \"${{alert.resource}}\" }} }}\n"
    )
}

fn publish(stage: &Stage, text: &str) -> (u16, Value) {
    let body = json!({ "files": [{ "file": "test.yaml", "text": text }] });
    stage.call(Method::POST, "/api/v1/publish", Some(&body))
}

#[test]
fn what_one_node_published_the_other_decides_by_at_once() {
    let stage = Stage::with_demo();
    let other = stage.second_node();
    stage.publish(NOTE);
    for n in 0..20 {
        let name = format!("fresh{n}");
        stage.publish(&rule(&name, ""));
        let alert = other
            .send("yard-hypervisor", &json!({"kind": format!("test.{name}"), "resource": "vm/a"}));
        assert_eq!(
            other.verdict(alert, &name).expect("a verdict")["verdict"],
            "dispatched",
            "round {n}"
        );
    }
}

/// One of the nodes cannot load what is published any more; what rules remember outlives it.
#[test]
fn a_node_that_does_not_know_a_rule_leaves_its_memory_alone() {
    let stage = Stage::with_demo();
    let other = stage.second_node();
    stage.publish(&format!(
        "{NOTE}---\n{}",
        rule("held", "settle: { fold: [alert.resource], still: 2s }\n")
    ));
    let sent: Vec<i64> = (0..60)
        .map(|n| {
            let node = if n % 2 == 0 { &stage } else { &other };
            node.send(
                "yard-hypervisor",
                &json!({"kind": "test.held", "resource": format!("vm/n{n}"), "state": "raised"}),
            )
        })
        .collect();
    for alert in sent {
        stage.verdict_is(alert, "held", "dispatched");
    }
}

#[test]
fn a_definition_that_no_longer_compiles_keeps_its_last_good_version_and_is_told() {
    let stage = Stage::with_demo();
    stage.publish(&format!(
        "{NOTE}---\n{}",
        rule("broken", "settle: { fold: [alert.resource], still: 1s }\n")
    ));
    let alert = |resource: &str| {
        stage.send(
            "yard-hypervisor",
            &json!({"kind": "test.broken", "resource": resource, "state": "raised"}),
        )
    };
    let held = alert("vm/before");
    // As a newer node with more words may have written it.
    stage.records().run(
        "INSERT INTO definition (kind, name, version, file, text, published_at, published_by)
        SELECT kind, name, version + 1, file, 'rule: broken\nfuture: 1\n', now(), 'token/other'
        FROM definition
        WHERE kind = 'rule' AND name = 'broken'",
    );
    let ready = || crate::kit::answer(stage.request(Method::GET, "/readyz"));
    let (_, said) =
        until("the node to say so", || Some(ready()).filter(|(status, _)| *status == 503));
    assert!(
        said["detail"].as_str().is_some_and(|d| d.contains("broken") && d.contains("stays")),
        "{said}"
    );
    stage.verdict_is(held, "broken", "dispatched");
    stage.verdict_is(alert("vm/after"), "broken", "dispatched");
    let metrics = stage.get("/metrics");
    assert!(
        metrics.as_str().is_some_and(|m| m.contains("arvok_faulty_definitions 1")),
        "{metrics}"
    );
    stage.publish(&rule("broken", ""));
    until("the node to be ready again", || (ready().0 == 200).then_some(()));
}

#[test]
fn a_publication_is_checked_with_everything_that_would_stand() {
    let stage = Stage::with_demo();
    stage.publish(&format!("{NOTE}---\n{}", rule("gives", "")));
    let (status, said) =
        publish(&stage, &NOTE.replace("inputs: { what: { type: string, default: x } }\n", ""));
    assert_eq!(status, 422, "{said}");
    let told = said["problems"].to_string();
    assert!(told.contains("gives") && told.contains("what"), "{told}");
    let (status, said) = publish(
        &stage,
        &NOTE
            .replace("inputs: { what: { type: string, default: x } }\n", "")
            .replace("note", "other"),
    );
    assert_eq!(status, 200, "{said}");

    let said = stage.arvok(&["withdraw", "runbook", "note", "--yes"]);
    assert_eq!(said.code, 1, "{}", said.all());
    assert!(said.all().contains("gives"), "{}", said.all());
}

/// Each side's publication is right on its own, and both together are not.
#[test]
fn contradictory_publications_side_by_side_are_never_both_taken() {
    let stage = Stage::with_demo();
    let other = stage.second_node();
    for round in 0..12 {
        let (book, name) = (format!("book{round}"), format!("rule{round}"));
        let full = NOTE.replace("note", &book);
        stage.publish(&full);
        let bare = full.replace("inputs: { what: { type: string, default: x } }\n", "");
        let giving = rule(&name, "").replace("runbook: note", &format!("runbook: {book}"));
        let (one, two) = std::thread::scope(|s| {
            let one = s.spawn(|| publish(&stage, &bare));
            let two = s.spawn(|| publish(&other, &giving));
            (one.join().expect("an answer"), two.join().expect("an answer"))
        });
        let taken = [one.0, two.0].iter().filter(|s| **s == 200).count();
        assert_eq!(taken, 1, "{one:?}\n{two:?}");
        let refused = if one.0 == 200 { two } else { one };
        assert!([409, 422].contains(&refused.0), "{refused:?}");
        assert!(refused.1["detail"].is_string(), "{refused:?}");
    }
}

#[test]
fn what_a_withdrawn_rule_remembers_is_ended_with_the_reason() {
    let stage = Stage::with_demo();
    stage.publish(&format!("{NOTE}---\n{}", rule("leaves", "settle: { still: 1h }\n")));
    let alert = stage.send(
        "yard-hypervisor",
        &json!({"kind": "test.leaves", "resource": "vm/a", "state": "raised"}),
    );
    assert_eq!(stage.verdict(alert, "leaves").expect("a verdict")["verdict"], "waiting");
    let said = stage.arvok(&["withdraw", "rule", "leaves", "--yes"]);
    assert_eq!(said.code, 0, "{}", said.all());
    let verdict = stage.verdict(alert, "leaves").expect("a verdict");
    assert!(verdict["reason"].as_str().is_some_and(|r| r.contains("withdrawn")), "{verdict}");
    assert_eq!(stage.call(Method::GET, "/api/v1/definitions/rule/leaves", None).0, 404);
    let later = stage.send(
        "yard-hypervisor",
        &json!({"kind": "test.leaves", "resource": "vm/a", "state": "raised"}),
    );
    assert!(stage.verdict(later, "leaves").is_none());
    let said = stage.arvok(&["withdraw", "rule", "leaves", "--yes"]);
    assert_ne!(said.code, 0, "{}", said.all());
    // The name is free again, and its versions go on.
    stage.publish(&rule("leaves", ""));
    assert_eq!(stage.get("/api/v1/definitions/rule/leaves")["item"]["version"], 3);
}

fn start(data: &Path, database: Option<&str>) -> (arvok_postgres::SupervisedChild, String) {
    let address = format!("127.0.0.1:{}", free_port().expect("a free port"));
    let mut command = Command::new(ARVOK);
    command
        .arg("serve")
        .env("ARVOK_LISTEN", &address)
        .env("ARVOK_DATA", data)
        .env("ARVOK_LOG", "warn")
        .current_dir(data);
    if let Some(url) = database {
        command.env("ARVOK_DATABASE", url).env("ARVOK_DATABASE_CONNECTIONS", "8");
    }
    let log =
        fs::OpenOptions::new().create(true).append(true).open(data.join("log")).expect("a log");
    let node =
        spawn_supervised(&command, "TERM", Stdio::null(), log.into()).expect("the node starts");
    (node, format!("http://{address}"))
}

fn answers(server: &str, data: &Path) -> Option<()> {
    let token = fs::read_to_string(data.join("admin.token")).ok()?;
    let said = crate::kit::arvok(
        &["token", "list"],
        &[("ARVOK_SERVER", server), ("ARVOK_TOKEN", token.trim())],
        "",
    );
    (said.code == 0).then_some(())
}

#[test]
fn first_starts_at_the_same_moment_agree_on_the_key_and_the_token() {
    let data = folder("first");
    let url = database();
    let nodes: Vec<_> = (0..3).map(|_| start(&data, Some(&url))).collect();
    for (_, server) in &nodes {
        until("the token to work on every node", || answers(server, &data));
    }
    let token = fs::read_to_string(data.join("admin.token")).expect("a token");
    let ask = |args: &[&str], server: &str, input: &str| {
        crate::kit::arvok(args, &[("ARVOK_SERVER", server), ("ARVOK_TOKEN", token.trim())], input)
    };
    let said = ask(&["secret", "set", "yard", "--for", "source/yard"], &nodes[0].1, "hush-hush\n");
    assert_eq!(said.code, 0, "{}", said.all());
    let text =
        "source: yard\nintake: { webhook: { credential: { bearer: \"${secret('yard')}\" } } }\n";
    let file = data.join("yard.yaml");
    fs::write(&file, text).expect("writes");
    let said = ask(&["publish", file.to_str().expect("a path"), "--yes"], &nodes[1].1, "");
    assert_eq!(said.code, 0, "{}", said.all());
    for (_, server) in &nodes {
        let said = crate::kit::arvok(
            &["send", "yard", "--kind", "a", "--resource", "vm/a"],
            &[("ARVOK_SERVER", server), ("ARVOK_TOKEN", "hush-hush")],
            "",
        );
        assert_eq!(said.code, 0, "each node can open what the first sealed: {}", said.all());
    }
}

#[test]
fn of_two_that_make_a_private_database_one_waits_for_the_other() {
    let data = folder("twice");
    let (mut first, server) = start(&data, None);
    let (mut second, other) = start(&data, None);
    let one = until("one of them", || {
        [&server, &other].into_iter().find(|s| answers(s, &data).is_some())
    });
    let rest = if *one == server {
        first.end();
        other
    } else {
        second.end();
        server
    };
    until("the one that waited", || answers(&rest, &data));
}

#[test]
fn nodes_are_listed_with_what_waits_and_a_missing_one_is_an_alarm() {
    let stage = Stage::with_demo();
    let mut other = stage.second_node();
    let nodes = || stage.get("/api/v1/nodes")["nodes"].as_array().expect("nodes").clone();
    until("both to be heard of", || (nodes().len() == 2).then_some(()));
    assert!(
        nodes().iter().all(|n| n["fault"].is_null() && n["lag"].as_f64().is_some_and(|l| l < 30.0))
    );
    let said = stage.arvok(&["node", "list"]);
    assert_eq!(said.out.matches(" ready ").count(), 2, "{}", said.all());
    assert!(said.out.contains("No job waits for its turn."), "{}", said.out);

    stage.publish(&format!(
        "{NOTE}---\nrule: tells\nlisten: {{ sources: arvok, kinds: node.missing }}\ndispatch: {{ \
        runbook: note }}\n"
    ));
    other.kill_node();
    stage.records().run(&format!(
        "UPDATE node SET seen = seen - interval '1 minute' WHERE address = '{}'",
        other.address.trim_start_matches("http://")
    ));
    let alarm = until("the alarm about it", || {
        stage.get("/api/v1/alarms?state=raised&source=arvok")["items"].as_array()?.first().cloned()
    });
    assert_eq!(alarm["kind"], "node.missing", "{alarm}");
    assert_eq!(stage.get("/api/v1/verdicts?rule=tells")["items"].as_array().map(Vec::len), Some(1));
    other.start_node();
    until("it to be over", || {
        stage.get("/api/v1/alarms?state=raised&source=arvok")["items"]
            .as_array()?
            .is_empty()
            .then_some(())
    });
    other.signal(nix::sys::signal::Signal::SIGTERM);
    until("one to have left in order", || (nodes().len() == 1).then_some(()));
}

#[test]
fn a_node_that_is_asked_to_end_hands_its_jobs_over_at_once() {
    let (stage, peer) = (Stage::with_demo(), crate::kit::Peer::start());
    let other = stage.second_node();
    stage.publish(&peer.definitions("keyed"));
    peer.delay(std::time::Duration::from_secs(7));
    stage.send(
        "yard-hypervisor",
        &json!({"kind": "test.tell", "resource": "vm/a", "severity": "major"}),
    );
    until("the call to be out", || (peer.told().len() == 1).then_some(()));
    let holder = stage
        .records()
        .rows("SELECT n.address FROM job j JOIN node n ON n.name = j.node WHERE j.id = 1");
    let holds = |s: &Stage| holder[0]["address"] == s.address.trim_start_matches("http://");
    let (leaves, stays) = if holds(&stage) { (&stage, &other) } else { (&other, &stage) };
    peer.delay(std::time::Duration::ZERO);
    let begun = std::time::Instant::now();
    leaves.signal(nix::sys::signal::Signal::SIGTERM);
    stays.job_in(1, &["succeeded"]);
    assert!(begun.elapsed().as_secs() < 9, "before the lease had run out: {:?}", begun.elapsed());
    assert_eq!(peer.told().len(), 2, "told again with the same key: {:?}", peer.told());
    assert_eq!(peer.told()[0].key, peer.told()[1].key);
}

/// Errors of the log ended the tasks that logged, and the node stayed ready.
#[test]
fn a_node_whose_log_nobody_reads_goes_on_with_its_work() {
    let mut stage = Stage::with_demo();
    stage.restart_unread();
    stage.publish(NOTE);
    let launch = |stage: &Stage| {
        let body = json!({ "runbook": "note", "inputs": {} });
        let made = until("a launch", || {
            stage.call(Method::POST, "/api/v1/jobs", Some(&body)).1["job"].as_i64()
        });
        stage.job_in(made, &["succeeded"]);
    };
    launch(&stage);
    // Whatever cannot be done for a moment is logged by every task.
    outage(&stage.database, std::time::Duration::from_millis(1_500));
    until("the node to be ready again", || (ready(&stage).0 == 200).then_some(()));
    launch(&stage);
    let (_, numbers) = answer_text(&stage, "/metrics");
    let number = |name: &str| {
        let line = numbers.lines().find(|l| l.starts_with(name)).unwrap_or_default();
        line.rsplit(' ').next().and_then(|n| n.parse::<f64>().ok())
    };
    assert!(number("arvok_log_lines_lost").is_some_and(|n| n > 0.0), "{numbers}");
    let mut ended = numbers.lines().filter(|l| l.starts_with("arvok_tasks_ended_total"));
    assert!(ended.all(|l| l.ends_with(" 0")), "{numbers}");
    stage.signal(nix::sys::signal::Signal::SIGTERM);
    until("the node to end", || (!stage.is_running()).then_some(()));
    let left = stage.records().rows("SELECT count(*) AS n FROM node");
    assert_eq!(left, [json!({ "n": 0 })], "it has left in order");
}

#[test]
fn a_node_that_cannot_commit_is_not_ready_and_says_so_at_once() {
    let stage = Stage::with_demo();
    // As a standby does that a failover has left behind.
    only_reads(&stage.database, true);
    let said = until("the node not to be ready", || {
        Some(ready(&stage)).filter(|(status, _)| *status == 503)
    });
    assert!(said.1.contains("its last commit is ") && said.1.contains("or only reads"), "{said:?}");
    let begun = std::time::Instant::now();
    assert_eq!(ready(&stage).0, 503);
    assert!(begun.elapsed() < std::time::Duration::from_secs(1), "it asks nobody");
    assert_eq!(answer_text(&stage, "/healthz").0, 200, "the process lives");
    only_reads(&stage.database, false);
    until("the node to be ready again", || (ready(&stage).0 == 200).then_some(()));
}

#[test]
fn a_node_that_is_asked_to_end_says_so_first_and_works_on_meanwhile() {
    let mut stage = Stage::with_demo();
    stage.restart_with_drain("4s");
    stage.signal(nix::sys::signal::Signal::SIGTERM);
    let said = until("the node not to be ready", || {
        Some(ready(&stage)).filter(|(status, _)| *status == 503)
    });
    assert!(said.1.contains("it is about to stop"), "{said:?}");
    // Whoever has not heard of it yet is served.
    stage.send("yard-hypervisor", &json!({ "kind": "test.late", "resource": "vm/a" }));
    let kept = block(async {
        let said = stage.request(Method::GET, "/healthz").send().await.expect("an answer");
        said.headers().get("connection").map(|v| v.to_str().unwrap_or_default().to_owned())
    });
    assert_eq!(kept.as_deref(), Some("close"), "lines that are kept open are closed");
    until("the node to end", || (!stage.is_running()).then_some(()));
    assert_eq!(stage.records().rows("SELECT count(*) AS n FROM node"), [json!({ "n": 0 })]);
    assert_eq!(
        stage.records().rows("SELECT count(*) AS n FROM alerts WHERE kind = 'test.late'"),
        [json!({ "n": 1 })]
    );
}

#[test]
fn a_node_that_is_gone_is_forgotten_and_one_that_is_heard_of_is_not() {
    let stage = Stage::with_demo();
    let here = stage.address.trim_start_matches("http://").to_owned();
    stage.records().run(
        "INSERT INTO node SELECT (jsonb_populate_record(n,
            '{\"name\": \"gone\", \"address\": \"10.0.0.9:8470\"}')).*
            FROM node n LIMIT 1; UPDATE node SET seen = now() - interval '5 minutes'
            WHERE name = 'gone'",
    );
    let alive = stage.arvok(&["node", "forget", &here]);
    assert!(
        alive.code == 6 && alive.err.contains("was heard of within the last 30 s"),
        "{}",
        alive.all()
    );
    let gone = stage.arvok(&["node", "forget", "10.0.0.9:8470"]);
    assert!(gone.code == 0 && gone.out.contains("10.0.0.9:8470 is forgotten"), "{}", gone.all());
    assert!(!stage.arvok(&["node", "list"]).out.contains("10.0.0.9"));
    assert_eq!(stage.arvok(&["node", "forget", "10.0.0.9:8470"]).code, 5);
    let (_, numbers) = answer_text(&stage, "/metrics");
    assert!(
        numbers.contains("arvok_database_up 1\n") && numbers.contains("arvok_build_info{version="),
        "{numbers}"
    );
}

fn ready(stage: &Stage) -> (u16, String) {
    answer_text(stage, "/readyz")
}

fn answer_text(stage: &Stage, path: &str) -> (u16, String) {
    block(async {
        let Ok(said) = stage.request(Method::GET, path).send().await else {
            return (0, String::new());
        };
        (said.status().as_u16(), said.text().await.unwrap_or_default())
    })
}
