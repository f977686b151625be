//! Alerts by day: a day begins under load, an id comes again in the next one, old days go, and what
//! is left is read over all of them.

use crate::kit::{Records, Stage, answer, block};
use arvok_store::{DatabaseConnection, Purpose, days, retention::Retention};
use chrono::{TimeDelta, Utc};
use reqwest::Method;
use serde_json::{Value, json};
use std::{
    sync::atomic::{AtomicBool, Ordering},
    time::{Duration, Instant},
};

const RULE: &str = "runbook: note\ntarget: group/one\nsteps: [ { id: fine, require: 'true' } \
    ]\n---\n\
    rule: seen\nlisten: { kinds: test.day }\nsettle: { fold: [alert.resource] }\ndispatch: { \
    runbook: note }\n";

fn database(stage: &Stage) -> DatabaseConnection {
    block(arvok_store::connect(&stage.database, 2, Purpose::Work)).expect("a database")
}

/// Begins the day that comes so many days from now.
fn begin(db: &DatabaseConnection, days: i64) {
    let mut tries = 0;
    let begun = loop {
        match block(days::begin(db, Utc::now() + TimeDelta::days(days))) {
            Err(e) if e.is_passing() && tries < 50 => tries += 1,
            other => break other.expect("begins"),
        }
    };
    assert!(begun, "day {days}");
}

fn alert(id: &str, resource: &str) -> Value {
    json!({"id": id, "kind": "test.day", "resource": resource, "severity": "major",
        "state": "raised", "summary": id})
}

fn count(records: &Records, what: &str) -> i64 {
    records.rows(&format!("SELECT count(*) AS n FROM {what}"))[0]["n"].as_i64().expect("a count")
}

/// Whatever comes to two nodes at the same moment, one day or the other takes it, once.
#[test]
fn days_begin_under_load_and_nothing_is_lost_or_taken_twice() {
    let stage = Stage::with_demo();
    let other = stage.second_node();
    stage.publish(RULE);
    let (db, over, begun) = (database(&stage), AtomicBool::new(false), Instant::now());
    let sent = std::thread::scope(|s| {
        let senders: Vec<_> = (0..4)
            .map(|sender| {
                let (stage, other, over) = (&stage, &other, &over);
                s.spawn(move || {
                    let mut sent = 0;
                    while !over.load(Ordering::Relaxed) && begun.elapsed() < Duration::from_secs(60)
                    {
                        let id = format!("s{sender}-{sent}");
                        let (id, resource) = (id.as_str(), format!("vm/n{}", sent % 7));
                        let post = |node: &Stage| {
                            let request = node
                                .request(Method::POST, "/in/yard-hypervisor?trial=no")
                                .bearer_auth(&node.token);
                            let request =
                                request.header("content-type", "application/vnd.arvok.alert+json");
                            let (status, said) =
                                answer(request.body(alert(id, &resource).to_string()));
                            assert_eq!(status, 202, "{said}");
                            i64::from(said["alerts"][0]["seq"].is_i64())
                        };
                        let taken = std::thread::scope(|both| {
                            let here = both.spawn(|| post(stage));
                            post(other) + here.join().expect("an answer")
                        });
                        assert_eq!(taken, 1, "{id}");
                        sent += 1;
                    }
                    sent
                })
            })
            .collect();
        (1..=12).for_each(|day| begin(&db, day));
        over.store(true, Ordering::Relaxed);
        senders.into_iter().map(|s| s.join().expect("a sender")).sum::<i64>()
    });
    let records = stage.records();
    assert_eq!(count(&records, "alerts WHERE kind = 'test.day'"), sent);
    assert_eq!(
        count(&records, "(SELECT DISTINCT source, id FROM alerts WHERE kind = 'test.day') a"),
        sent
    );
    assert_eq!(count(&records, "verdicts WHERE rule = 'seen'"), sent);
    assert_eq!(count(&records, "alert_day"), 13);
    let shown = stage.get("/api/v1/storage");
    assert_eq!(shown["days"].as_array().map(Vec::len), Some(13), "{shown}");
}

#[test]
fn what_is_stored_is_read_over_all_days_and_goes_by_day_and_by_source() {
    let stage = Stage::with_demo();
    stage.publish(RULE);
    stage.secret("yard-monitor", "monitor-token", &["source/yard-hypervisor", "source/brief"]);
    stage.publish(
        "source: brief\nintake: { webhook: { credential: { \
        bearer: \"${secret('yard-monitor')}\" } } }\n",
    );
    let db = database(&stage);
    let send =
        |source: &str, day: i64| stage.send(source, &alert(&format!("{source}-{day}"), "vm/same"));
    let mut seqs: Vec<(i64, i64)> = Vec::new();
    for day in 0..5 {
        if day > 0 {
            begin(&db, day);
        }
        seqs.push((send("yard-hypervisor", day), send("brief", day)));
    }
    assert_eq!(seqs[3].0 / days::ROOM, 3, "each day numbers in a room of its own: {seqs:?}");

    // Of the same alarm, newest first, page by page, over all days.
    let list = |path: &str| -> Vec<i64> {
        let page = stage.get(path);
        page["items"]
            .as_array()
            .expect("items")
            .iter()
            .filter_map(|i| (i["seq"].as_i64()).or(i["alert"].as_i64()))
            .collect()
    };
    let all: Vec<i64> = seqs.iter().rev().flat_map(|(a, b)| [*b, *a]).collect();
    for path in [
        "/api/v1/alerts?kind=test.day",
        "/api/v1/alerts?resource=vm/same",
        "/api/v1/alerts?rule=seen",
        "/api/v1/verdicts?rule=seen",
    ] {
        assert_eq!(list(path), all, "{path}");
        let join = if path.contains('?') { "&" } else { "?" };
        assert_eq!(list(&format!("{path}{join}after={}&limit=3", all[1])), all[2..5], "{path}");
    }
    assert_eq!(list("/api/v1/alerts?text=brief-1"), [seqs[1].1]);
    // As if all that had been in the last five days.
    stage.records().run("UPDATE alert_day SET begun_at = begun_at - interval '5 days'");
    let rehearsed = stage.rehearse(&json!({
        "rule": "seen", "since": "10d"
    }));
    assert_eq!(rehearsed["now"]["alerts"], 10, "{rehearsed:#}");
    // The story of the last alert goes back to the first.
    let why = stage.arvok(&["alert", "why", &seqs[4].0.to_string()]);
    assert!(why.code == 0 && why.out.contains("seen"), "{}", why.all());

    // One source is kept for a day, the others for three.
    let day = TimeDelta::days;
    let retention = Retention {
        alerts: day(3),
        sources: [("brief".to_owned(), day(1))].into(),
        ..Retention::default()
    };
    let now = Utc::now() - TimeDelta::hours(12);
    let gone = block(days::expire(&db, &retention, now)).expect("expires");
    assert_eq!(gone, (1, 2), "the first day whole, and of the two days after it what is brief");
    assert_eq!(block(days::expire(&db, &retention, now)).expect("expires"), (0, 0));
    let left: Vec<i64> = all
        .iter()
        .copied()
        .filter(|s| ![seqs[0].0, seqs[0].1, seqs[1].1, seqs[2].1].contains(s))
        .collect();
    for path in
        ["/api/v1/alerts?kind=test.day", "/api/v1/alerts?rule=seen", "/api/v1/verdicts?rule=seen"]
    {
        assert_eq!(list(path), left, "{path}");
    }
    let (status, said) = stage.call(Method::GET, &format!("/api/v1/alerts/{}", seqs[0].0), None);
    assert_eq!(status, 404);
    assert!(said["detail"].as_str().is_some_and(|d| d.contains("kept no longer")), "{said}");
    let said = stage.arvok(&["storage", "show"]);
    assert!(said.code == 0 && said.out.contains("recognised for 2d"), "{}", said.all());
}

#[test]
fn an_id_that_comes_again_in_the_days_after_is_still_known() {
    let mut stage = Stage::with_demo();
    let db = database(&stage);
    let post = |stage: &Stage| {
        let request =
            stage.request(Method::POST, "/in/yard-hypervisor?trial=no").bearer_auth(&stage.token);
        let request = request.header("content-type", "application/vnd.arvok.alert+json");
        answer(request.body(alert("once", "vm/a").to_string())).1["alerts"][0]["duplicate"] == true
    };
    assert!(!post(&stage) && post(&stage));
    begin(&db, 1);
    assert!(post(&stage), "the day after");
    begin(&db, 2);
    assert!(post(&stage), "two days after");
    // Half a week later by the days' own times.
    stage.records().run("UPDATE alert_day SET begun_at = begun_at - interval '4 days'");
    // A node that has just started has no older view of the days.
    stage.kill_node();
    stage.start_node();
    assert!(!post(&stage), "longer than an id is known");
    assert!(post(&stage));
}

/// A node dies after the numbers went on and before the day is noted.
#[test]
fn a_death_while_a_day_begins_keeps_nobody_waiting() {
    let stage = Stage::with_demo();
    block(days::begin(&database(&stage), Utc::now())).expect("makes tables ahead");
    stage.records().run(&format!("SELECT setval('alert_seq_seq', {}, false)", days::ROOM));
    let seq = stage.send("yard-hypervisor", &alert("a", "vm/a"));
    assert!(seq > days::ROOM, "{seq}");
    assert_eq!(count(&stage.records(), "alert_day"), 2);

    // Whatever brought the numbers beyond all tables.
    stage.records().run(&format!("SELECT setval('alert_seq_seq', {}, false)", 9 * days::ROOM + 5));
    begin(&database(&stage), 1);
    let seq = stage.send("yard-hypervisor", &alert("b", "vm/a"));
    assert!(seq > 9 * days::ROOM, "{seq}");
    assert_eq!(
        stage.get("/api/v1/alerts?resource=vm/a")["items"].as_array().map(Vec::len),
        Some(2)
    );
}

/// The rule waits for longer than its alerts are kept.
#[test]
fn a_job_for_an_alert_that_is_kept_no_longer_is_refused_and_seen() {
    let stage = Stage::with_demo();
    stage.publish(
        "runbook: note\ntarget: group/one\nsteps: [ { id: fine, require: 'true' } ]\n---\n\
         rule: patient\nstance: act\nlisten: { kinds: test.day }\nsettle: { still: 3s }\ndispatch: \
         { runbook: note }\n",
    );
    let db = database(&stage);
    let seq = stage.send("yard-hypervisor", &alert("a", "vm/a"));
    stage.verdict_is(seq, "patient", "waiting");
    begin(&db, 1);
    let retention = Retention { alerts: TimeDelta::days(1), ..Retention::default() };
    let gone =
        block(days::expire(&db, &retention, Utc::now() + TimeDelta::days(3))).expect("expires");
    assert_eq!(gone.0, 1);
    let job = stage.job_in(1, &["refused"]);
    assert!(
        job["job"]["failure"].as_str().is_some_and(|f| f.contains("kept no longer")),
        "{job:#}"
    );
}
