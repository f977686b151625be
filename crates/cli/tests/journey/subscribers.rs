//! Events that leave: to addresses that have agreed, signed, each until it is taken or given up.

use crate::kit::{Peer, Records, Stage, answer, block, until};
use arvok_standins::{
    Faults,
    board::{self, BoardOptions, Manners, RunningBoard},
};
use reqwest::Method;
use serde_json::{Value, json};
use std::collections::BTreeSet;

const NAPS: &str = "
runbook: naps
inputs: { vm: { type: string } }
target: ${inputs.vm}
steps: [ { id: nap, pause: 1ms } ]
";

/// A board that is subscribed to what a stage tells, and the key.
fn subscribed(stage: &Stage, name: &str, listen: &str) -> RunningBoard {
    let made = stage.arvok(&[
        "secret",
        "make",
        &format!("key-of-{name}"),
        "--for",
        &format!("subscriber/{name}"),
    ]);
    assert_eq!(made.code, 0, "{}", made.all());
    let key = made.out.trim().to_owned();
    let board = block(async { board::start(BoardOptions { port: 0, token: "board".into(), key }) })
        .expect("a board");
    stage.publish(&document(name, &board, listen));
    board
}

fn document(name: &str, board: &RunningBoard, listen: &str) -> String {
    format!(
        "subscriber: {name}\naddress: {}/events\nlisten: \
        {listen}\nsigned_with: \"${{secret('key-of-{name}')}}\"\n",
        board.url()
    )
}

fn nap(stage: &Stage, vm: &str) -> i64 {
    let body = json!({ "runbook": "naps", "inputs": { "vm": vm } });
    let (status, made) = stage.call(Method::POST, "/api/v1/jobs", Some(&body));
    assert_eq!(status, 201, "{made}");
    let job = made["job"].as_i64().expect("a number");
    stage.job_in(job, &["succeeded"]);
    job
}

fn shown(stage: &Stage, name: &str) -> Value {
    stage.get(&format!("/api/v1/subscribers/{name}"))
}

/// Waits until it stands so with a subscriber.
fn stands(stage: &Stage, name: &str, what: impl Fn(&Value) -> bool) -> Value {
    until(&format!("how it stands with {name}"), || Some(shown(stage, name)).filter(&what))
}

/// The kinds that a board was told of a job, in the order in which it heard them.
fn told(board: &RunningBoard, job: i64) -> Vec<String> {
    let of = |e: &Value| e["data"]["job"]["id"] == job;
    board
        .events()
        .iter()
        .filter(|e| of(e))
        .map(|e| e["type"].as_str().expect("a type").to_owned())
        .collect()
}

/// Makes what waits be due at once, as if its time had come.
fn hurry(records: &Records, name: &str) {
    records.run(&format!("UPDATE outgoing SET next_at = now() WHERE subscriber = '{name}'"));
    records.run(&format!("UPDATE subscriber SET next_at = now() WHERE name = '{name}'"));
}

#[test]
fn events_leave_signed_to_whoever_has_agreed_and_wants_them() {
    let stage = Stage::bare();
    stage.publish(NAPS);
    let board = subscribed(&stage, "board", "{ kinds: [job.started, job.succeeded] }");
    stands(&stage, "board", |s| s["state"] == "confirmed");
    let job = nap(&stage, "vm/quill-1");
    until("the board to hear", || (told(&board, job).len() == 2).then_some(()));
    assert_eq!(
        told(&board, job).into_iter().collect::<BTreeSet<_>>(),
        ["arvok.job.started", "arvok.job.succeeded"].map(String::from).into()
    );
    let event =
        board.events().into_iter().find(|e| e["type"] == "arvok.job.succeeded").expect("one");
    let source = event["source"].as_str().expect("a source");
    assert!(
        source.starts_with("/arvok/")
            && event["specversion"] == "1.0"
            && event["subject"] == "vm/quill-1",
        "{event}"
    );
    assert_eq!(event["data"]["job"]["runbook"], "naps");
    assert_eq!(board.forged(), 0);
    let listed = stage.arvok(&["subscriber", "list"]);
    assert!(listed.out.contains("board") && listed.out.contains("confirmed"), "{}", listed.all());
    let events = stage.arvok(&["subscriber", "events", "board", "--state", "delivered"]);
    assert!(
        events.out.contains("job.succeeded") && events.out.contains("vm/quill-1"),
        "{}",
        events.all()
    );
    let wrong = stage.arvok(&["subscriber", "events", "board", "--state", "lost"]);
    assert!(wrong.err.contains("it is one of waiting, delivered, given-up"), "{}", wrong.all());
    let again = stage.arvok(&["secret", "make", "key-of-board", "--for", "subscriber/board"]);
    assert!(again.err.contains("there is a secret `key-of-board` already"), "{}", again.all());

    // The key takes the place of another while both sign.
    let made = stage.arvok(&["secret", "make", "second", "--for", "subscriber/board"]);
    let next = block(async {
        board::start(BoardOptions { port: 0, token: "b".into(), key: made.out.trim().into() })
    })
    .expect("a board");
    let both = "signed_with: [\"${secret('key-of-board')}\", \"${secret('second')}\"]";
    stage.publish(
        &document("board", &board, "{ kinds: job.succeeded }")
            .replace("signed_with: \"${secret('key-of-board')}\"", both),
    );
    let job = nap(&stage, "vm/quill-2");
    until("the board to hear", || (told(&board, job).len() == 1).then_some(()));
    stage.publish(
        &document("board", &next, "{ kinds: job.succeeded }")
            .replace("signed_with: \"${secret('key-of-board')}\"", both),
    );
    let job = nap(&stage, "vm/quill-3");
    until("the next to hear", || (told(&next, job).len() == 1).then_some(()));
    assert_eq!((board.forged(), next.forged()), (0, 0));

    // A key that is none is said to be so where one looks, and the key itself nowhere.
    stage.secret("second", "hunter22-is-no-key", &["subscriber/board"]);
    let faulty = stands(&stage, "board", |s| s["state"] == "faulty");
    assert!(
        faulty["trouble"].as_str().is_some_and(|t| t.contains("is no key for signing")),
        "{faulty}"
    );
    let shown = stage.arvok(&["subscriber", "show", "board"]);
    assert!(shown.out.contains("faulty") && !shown.all().contains("hunter22"), "{}", shown.all());
    assert!(!stage.log().contains("whsec_") && !stage.log().contains("hunter22"));
}

#[test]
fn nothing_is_sent_before_an_address_has_agreed_and_it_may_agree_later_by_its_link() {
    let stage = Stage::bare();
    stage.publish(NAPS);
    let made = stage.arvok(&["secret", "make", "key-of-board", "--for", "subscriber/board"]);
    let key = made.out.trim().to_owned();
    let board = block(async { board::start(BoardOptions { port: 0, token: "board".into(), key }) })
        .expect("a board");
    board.behave(Manners { agrees: false, ..Manners::default() });
    stage.publish(&document("board", &board, "{}"));
    let asked = stands(&stage, "board", |s| s["trouble"].is_string());
    assert!(
        asked["trouble"].as_str().is_some_and(|t| t.contains("without WebHook-Allowed-Origin")),
        "{asked}"
    );
    assert_eq!(asked["state"], "asked");
    let refused = stage.arvok(&["subscriber", "confirm", "board"]);
    assert!(
        refused.code != 0 && refused.err.contains("board is asked: it answered 200 without"),
        "{}",
        refused.all()
    );
    let job = nap(&stage, "vm/quill-1");
    let waiting = stands(&stage, "board", |s| s["waiting"].as_i64() > Some(2));
    assert_eq!((waiting["delivered"].as_i64(), board.events().len()), (Some(0), 0), "{waiting}");

    let callback = board.callback().expect("where it may agree");
    let path = callback.split_once("/consent/").expect("a link").1.to_owned();
    let agree = |link: &str| {
        answer(
            stage
                .request(Method::POST, &format!("/consent/{link}"))
                .header("webhook-allowed-rate", "6000"),
        )
        .0
    };
    for forged in ["x", &path[..path.len() - 3], &"A".repeat(90)] {
        assert_eq!(agree(forged), 404, "{forged}");
    }
    // One that is older than a day, or of another address, is not good any more.
    let records = stage.records();
    // It is not asked anew meanwhile.
    records.run(
        "UPDATE subscriber SET asked_at = asked_at - interval '25 hours',
        next_at = now() + interval '1 hour'",
    );
    assert_eq!(agree(&path), 404);
    records.run("UPDATE subscriber SET asked_at = asked_at + interval '25 hours'");
    assert_eq!(agree(&path), 200);
    let browser = stage.request(Method::GET, &format!("/consent/{path}"));
    assert_eq!(
        answer(browser),
        (200, json!("Events will be sent to board.\n")),
        "who agrees twice agrees"
    );
    until("what waited to be sent", || (told(&board, job).len() >= 3).then_some(()));
    let agreed = shown(&stage, "board");
    assert_eq!((&agreed["state"], &agreed["rate"]), (&json!("confirmed"), &json!(6000)));

    // Another address is asked anew, and hears nothing until it agrees.
    let other = subscribed(&stage, "other", "{}");
    other.behave(Manners { agrees: false, ..Manners::default() });
    stage.publish(&document("board", &other, "{}"));
    stands(&stage, "board", |s| s["state"] == "asked" && s["trouble"].is_string());
    nap(&stage, "vm/quill-2");
    stands(&stage, "board", |s| s["waiting"].as_i64() > Some(2));
    assert_eq!(other.forged(), 0, "nothing signed with another key has come");
}

#[test]
fn what_is_not_taken_is_tried_again_given_up_after_a_day_and_replayed() {
    let stage = Stage::bare();
    stage.publish(NAPS);
    let board = subscribed(&stage, "board", "{ kinds: [job.started, job.succeeded] }");
    stands(&stage, "board", |s| s["state"] == "confirmed");
    let records = stage.records();
    // One event that the board chokes on holds up none of the others.
    board.behave(Manners { chokes_on: Some("started".into()), ..Manners::default() });
    let jobs: Vec<i64> = (0..6).map(|n| nap(&stage, &format!("vm/quill-{n}"))).collect();
    until("the others to be taken", || {
        hurry(&records, "board");
        jobs.iter().all(|job| told(&board, *job) == ["arvok.job.succeeded"]).then_some(())
    });
    let failing =
        stands(&stage, "board", |s| s["waiting"] == 6 && s["failures"].as_i64() > Some(0));
    assert!(failing["trouble"].as_str().is_some_and(|t| t.contains("answered 500")), "{failing}");
    let listed = stage.arvok(&["subscriber", "show", "board"]);
    assert!(listed.out.contains("it answered 500"), "{}", listed.all());

    // After a day they are given up; they are listed, and go once more when somebody says so.
    records.run(
        "UPDATE outgoing SET queued_at = queued_at - interval '25 hours' WHERE state = 'waiting'",
    );
    until("them to be given up", || {
        hurry(&records, "board");
        (shown(&stage, "board")["given_up"] == 6).then_some(())
    });
    let given_up = stage.arvok(&["subscriber", "events", "board", "--state", "given-up"]);
    assert!(
        given_up.out.contains("job.started") && given_up.out.contains("it answered 500"),
        "{}",
        given_up.all()
    );
    board.behave(Manners::default());
    let replayed = stage.arvok(&["subscriber", "replay", "board"]);
    assert!(
        replayed.out.contains("6 events will be sent to board once more"),
        "{}",
        replayed.all()
    );
    until("them to be taken", || {
        jobs.iter().all(|job| told(&board, *job).len() == 2).then_some(())
    });
    assert_eq!(shown(&stage, "board")["given_up"], 0);

    // All that happened, once more, under the same ids.
    let before: BTreeSet<String> = ids(&board);
    let replayed = stage.arvok(&["subscriber", "replay", "board", "--since", "1h"]);
    assert!(replayed.out.contains("12 events will be sent"), "{}", replayed.all());
    until("all of them again", || (board.events().len() == 24).then_some(()));
    assert_eq!(ids(&board), before);
    let (status, viewer) = stage.call(
        Method::POST,
        "/api/v1/tokens",
        Some(&json!({ "name": "reader", "role": "viewer" })),
    );
    assert_eq!(status, 201);
    let viewer = viewer["token"].as_str().expect("a token");
    for path in ["replay", "confirm"] {
        let (status, _) = stage.call_as(
            viewer,
            Method::POST,
            &format!("/api/v1/subscribers/board/{path}"),
            Some(&json!({})),
        );
        assert_eq!(status, 403, "{path}");
    }

    // Whoever wants no more is left alone until a person asks it again.
    board.behave(Manners { gone: true, ..Manners::default() });
    nap(&stage, "vm/quill-7");
    let gone = stands(&stage, "board", |s| s["state"] == "gone");
    assert!(gone["waiting"].as_i64() > Some(0), "{gone}");
    let refused = stage.arvok(&["subscriber", "confirm", "board"]);
    assert!(refused.code != 0, "{}", refused.all());
    board.behave(Manners::default());
    let wants = stage.arvok(&["subscriber", "confirm", "board"]);
    assert!(wants.out.contains("board wants events"), "{}", wants.all());
    stands(&stage, "board", |s| s["waiting"] == 0);
}

fn ids(board: &RunningBoard) -> BTreeSet<String> {
    board.events().iter().map(|e| e["id"].as_str().expect("an id").to_owned()).collect()
}

#[test]
fn however_many_stall_each_other_hears_of_it() {
    let stage = Stage::bare();
    stage.publish(NAPS);
    let names: Vec<String> = (0..20).map(|n| format!("a-stalls-{n}")).collect();
    let stalled: Vec<RunningBoard> =
        names.iter().map(|name| subscribed(&stage, name, "{}")).collect();
    let slow =
        Manners { faults: Faults { delay_ms: 60_000, ..Faults::default() }, ..Manners::default() };
    stalled.iter().for_each(|board| board.behave(slow.clone()));
    let last = subscribed(&stage, "z-last", "{ kinds: job.succeeded }");
    names.iter().for_each(|name| drop(stands(&stage, name, |s| s["state"] == "confirmed")));
    stands(&stage, "z-last", |s| s["state"] == "confirmed");
    // More than they have room for together.
    for n in 0..8 {
        nap(&stage, &format!("vm/quill-{n}"));
    }
    let failures =
        || names.iter().filter_map(|name| shown(&stage, name)["failures"].as_i64()).sum::<i64>();
    let before = failures();
    let job = nap(&stage, "vm/quill-9");
    until("the last to hear", || (told(&last, job).len() == 1).then_some(()));
    assert!(failures() - before < 100, "it did not wait until tries of those that stall had ended");
    assert_eq!(stalled.iter().map(|board| board.events().len()).sum::<usize>(), 0);
}

#[test]
fn each_event_comes_whatever_dies_and_one_that_stalls_holds_up_nobody() {
    let mut stage = Stage::bare();
    stage.publish(NAPS);
    let (quick, slow) =
        (subscribed(&stage, "quick", "{ kinds: job.succeeded }"), subscribed(&stage, "slow", "{}"));
    slow.behave(Manners {
        faults: Faults { delay_ms: 60_000, ..Faults::default() },
        ..Manners::default()
    });
    for name in ["quick", "slow"] {
        stands(&stage, name, |s| s["state"] == "confirmed");
    }
    let mut other = stage.second_node();
    quick.behave(Manners { faults: Faults { busy: 3, ..Faults::default() }, ..Manners::default() });
    let jobs: Vec<i64> = (0..10)
        .map(|n| nap(if n % 2 == 0 { &stage } else { &other }, &format!("vm/quill-{n}")))
        .collect();
    other.kill_node();
    stage.kill_node();
    stage.start_node();
    let records = stage.records();
    until("all of them", || {
        hurry(&records, "quick");
        records.run(
            "UPDATE outgoing SET taken = taken - interval '1 minute'
            WHERE subscriber = 'quick' AND taken < now() - interval '3 seconds'",
        );
        jobs.iter().all(|job| !told(&quick, *job).is_empty()).then_some(())
    });
    assert_eq!(ids(&quick).len(), jobs.len(), "each under one id");
    assert_eq!(slow.events().len(), 0);

    // What waits for whoever stalls is bounded; what is over that is counted, and can be replayed.
    records.run(
        "INSERT INTO outgoing (subscriber, event_id, event, next_at) SELECT 'slow', 'x' || n, '{}',
            now() + interval '1 hour'
            FROM generate_series(1, 10000) n",
    );
    let job = nap(&stage, "vm/quill-11");
    until("the quick one to hear", || (told(&quick, job).len() == 1).then_some(()));
    let full = stands(&stage, "slow", |s| s["left_out"].as_i64() > Some(2));
    assert_eq!(full["waiting"], 10_000);
}

#[test]
fn one_trace_leads_from_an_alert_to_the_call_of_its_job_and_to_what_is_told_of_it() {
    const SENT: &str = "00-4bf92f3577b34da6a3ce929d0e0e4736-00f067aa0ba902b7-01";
    const EVENT: &str = "00-0af7651916cd43dd8448eb211c80319c-b7ad6b7169203331-00";
    let (stage, peer) = (Stage::bare(), Peer::start());
    stage.publish(&peer.definitions("never"));
    stage.secret("tower", "of-the-tower", &["source/tower"]);
    stage.publish(
        "source: tower\nintake: { cloudevents: { credential: { bearer: \"${secret('tower')}\" } } }\n\
         read: { kind: '\"test.tell\"', resource: event.subject }\n",
    );
    let board = subscribed(&stage, "board", "{ kinds: job.* }");
    let trace_of = |span: &Value| span.as_str().expect("a trace")[3..35].to_owned();
    let post = |subject: &str, own: Option<&str>| {
        let mut event = json!({ "specversion": "1.0", "id": subject, "source": "/tower",
            "type": "noted", "subject": subject });
        if let Some(own) = own {
            event["traceparent"] = own.into();
        }
        let (status, taken) = answer(
            stage
                .request(Method::POST, "/in/tower?trial=no")
                .bearer_auth(&stage.token)
                .header("content-type", "application/cloudevents+json")
                .header("traceparent", SENT)
                .body(event.to_string()),
        );
        assert_eq!(status, 202, "{taken}");
        taken["alerts"][0]["seq"].as_i64().expect("a handle")
    };
    // A request may name a trace, and an event a nearer one.
    for (subject, own, sent) in [("vm/a", None, SENT), ("vm/b", Some(EVENT), EVENT)] {
        let alert = post(subject, own);
        let shown = stage.get(&format!("/api/v1/alerts/{alert}"));
        assert_eq!(shown["trace"], sent);
        let id = stage.verdict_is(alert, "tell", "dispatched")["job"].as_i64().expect("a job");
        let job = stage.job_in(id, &["succeeded"]);
        assert_eq!(trace_of(&job["trace"]), sent[3..35], "the job is part of the trace");
        assert_ne!(job["trace"], sent, "by a span of its own");
        let told = peer.told().into_iter().find(|told| told.body.contains(subject));
        let called = Value::from(told.expect("a request").trace.expect("a trace"));
        assert_eq!(trace_of(&called), sent[3..35]);
        assert!(called != job["trace"] && called != *sent, "{called}");
        assert_eq!(called.as_str().expect("a text")[52..], sent[52..], "whether it is recorded");
        let calls = until("the call to be kept", || {
            let calls = stage.get("/api/v1/connections/peer/calls")["items"].clone();
            calls.as_array()?.iter().find(|call| call["job"] == id).cloned()
        });
        assert_eq!(calls["trace"], called);
        let event = until("what is told of its end", || {
            let ends =
                |e: &Value| e["type"] == "arvok.job.succeeded" && e["data"]["job"]["id"] == id;
            board.events().into_iter().find(ends)
        });
        assert_eq!(event["traceparent"], job["trace"]);
    }
    // What nobody traces begins a trace of its own; a launch may name one.
    let body = json!({ "runbook": "tell", "inputs": { "what": "vm/c" } });
    let launch = |trace: Option<&str>| {
        let request = stage.request(Method::POST, "/api/v1/jobs").bearer_auth(&stage.token);
        let request = trace.into_iter().fold(request, |r, trace| r.header("traceparent", trace));
        let (status, made) = answer(request.json(&body));
        assert_eq!(status, 201, "{made}");
        trace_of(&stage.job_in(made["job"].as_i64().expect("a job"), &["succeeded"])["trace"])
    };
    let own: BTreeSet<String> = [launch(None), launch(None), launch(Some("nonsense"))].into();
    assert_eq!(own.len(), 3, "each its own: {own:?}");
    assert_eq!(launch(Some(SENT)), SENT[3..35]);
    // One that is about an alert belongs to the alert's.
    let alert = post("vm/d", Some(EVENT));
    let about = json!({ "runbook": "tell", "inputs": { "what": "vm/e" }, "alert": alert });
    let (status, made) = stage.call(Method::POST, "/api/v1/jobs", Some(&about));
    assert_eq!(status, 201, "{made}");
    let job = stage.job_in(made["job"].as_i64().expect("a job"), &["succeeded"]);
    assert_eq!(trace_of(&job["trace"]), EVENT[3..35]);
}
