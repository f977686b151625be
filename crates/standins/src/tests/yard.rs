//! The yard.

use super::*;
use crate::yard::{RunningYard, YardOptions, start};
use actix_web::{App, HttpResponse, HttpServer, web};
use std::{
    sync::{Arc, Mutex},
    time::Duration,
};

fn options() -> YardOptions {
    YardOptions {
        port: 0,
        token: "office".into(),
        report_to: None,
        tick: Duration::from_secs(60),
        seconds_a_tick: 0.0,
    }
}

fn yard() -> (RunningYard, Caller) {
    let yard = start(options()).expect("starts");
    let caller = Caller::of(yard.url(), "office");
    (yard, caller)
}

const GROW: &str = "/v1/vms/quill-booking-db-1/grow";

#[tokio::test]
async fn what_there_is_is_listed_and_changed() {
    let (_yard, caller) = yard();
    let (status, vms) = caller.get("/v1/vms").await;
    assert_eq!((status, vms["vms"].as_object().map(|v| v.len())), (200, Some(8)));
    assert_eq!(caller.get("/v1/hosts").await.1["hosts"][0]["memory_gib"], 64);
    let grown = caller.post(GROW, json!({ "disk": "data", "by_gib": 8.0 })).await;
    assert_eq!(grown, (200, json!({ "disk": "data", "size_gib": 48 })));
    let (_, vm) = caller.get("/v1/vms/quill-booking-db-1").await;
    assert_eq!((&vm["vm"]["disks"][1]["size_gib"], &vm["vm"]["grown"]), (&json!(48), &json!(1)));
    let off = caller.post("/v1/vms/brack-kiosk-3/power", json!({ "on": false })).await;
    assert_eq!(off, (200, json!({ "name": "brack-kiosk-3", "powered": false })));
}

#[tokio::test]
async fn a_guest_sets_out_and_its_host_has_more_room_when_it_has_arrived() {
    let (yard, caller) = yard();
    let to = json!({ "to": "quill-hv-4" });
    let (status, told) = caller.post("/v1/vms/quill-mail-1/move", to.clone()).await;
    assert_eq!(
        (status, told),
        (202, json!({ "name": "quill-mail-1", "to": "quill-hv-4", "seconds": 16 }))
    );
    yard.with(|c| c.pass(20.0));
    let (_, told) = caller.get("/v1/hosts").await;
    assert_eq!(
        (&told["hosts"][1]["used_gib"], &told["hosts"][3]["used_gib"]),
        (&json!(32), &json!(12)),
        "{told}"
    );
    let guests =
        told["hosts"][3]["guests"].as_array().expect("guests").iter().map(|g| g["name"].clone());
    assert!(guests.collect::<Vec<_>>().contains(&json!("quill-mail-1")), "{told}");
    let refused = caller.post("/v1/vms/quill-mail-1/move", json!({ "to": "quill-hv-9" })).await;
    assert_eq!(refused, (409, error("there is no host quill-hv-9")));
    assert_eq!(caller.get("/v1/about").await.1["version"], "4.2.0");
    assert_eq!(caller.get("/v1/monitor/about").await.1["component"], "yard monitor");
}

#[tokio::test]
async fn what_cannot_be_done_says_why() {
    let (yard, caller) = yard();
    assert_eq!(caller.get("/v1/vms/none").await, (404, error("there is no VM none")));
    assert_eq!(
        caller.post("/v1/vms/none/power", json!({ "on": true })).await,
        (404, error("there is no VM none"))
    );
    let (status, said) = caller.post(GROW, json!({ "disk": "dta", "by_gib": 8.0 })).await;
    assert_eq!((status, said), (409, error("the VM has no disk dta")));
    assert_eq!(caller.post(GROW, json!({ "disk": "data", "by_gib": -1.0 })).await.0, 409);
    assert_eq!(caller.post(GROW, json!({ "disk": "data" })).await.0, 400);
    assert_eq!(
        Caller::of(yard.url(), "deck").post(GROW, json!({ "disk": "data", "by_gib": 8.0 })).await.0,
        401
    );
    assert_eq!(yard.with(|c| c.vms["quill-booking-db-1"].grown), 0);
}

#[tokio::test]
async fn a_key_makes_a_request_count_once() {
    let (yard, caller) = yard();
    let grow = json!({ "disk": "data", "by_gib": 8.0 });
    let first = caller.post_once("job-7-grow", GROW, &grow).await;
    assert_eq!(first, (200, json!({ "disk": "data", "size_gib": 48 })));
    assert_eq!(caller.post_once("job-7-grow", GROW, &grow).await, first, "the first answer again");
    assert_eq!(caller.post_once("job-8-grow", GROW, &grow).await.1["size_gib"], 56.0);
    assert_eq!(yard.with(|c| c.vms["quill-booking-db-1"].grown), 2);
    // What was refused was not done: with the same key it may be tried again.
    assert_eq!(
        caller.post_once("job-9-grow", GROW, &json!({ "disk": "dta", "by_gib": 8.0 })).await.0,
        409
    );
    assert_eq!(caller.post_once("job-9-grow", GROW, &grow).await.0, 200);
}

#[tokio::test]
async fn faults_come_in_their_number_and_go() {
    let (yard, caller) = yard();
    assert_eq!(caller.faults(json!({ "busy": 2, "hang_up": 1 })).await, 204);
    assert_eq!(caller.faults(json!({ "bussy": 2 })).await, 400, "a misspelt fault is none");
    let grow = json!({ "disk": "data", "by_gib": 8.0 });
    let mut said = Vec::new();
    for _ in 0..4 {
        said.push(caller.post_once("job-7-grow", GROW, &grow).await.0);
    }
    assert_eq!(said, [503, 503, 0, 200]);
    assert_eq!(
        yard.with(|c| c.vms["quill-booking-db-1"].grown),
        1,
        "done when the line broke, and only then"
    );
    assert_eq!(caller.faults(json!({ "delay_ms": 5_000 })).await, 204);
    let slow = caller.request(Method::GET, "/v1/hosts").timeout(Duration::from_millis(300));
    assert_eq!(caller.ask(slow).await.0, 0);
    assert_eq!(Caller::of(yard.url(), "deck").faults(json!({})).await, 401);
    assert_eq!(caller.faults(json!({})).await, 204, "faults hold nobody up who switches them off");
    assert_eq!(caller.get("/v1/hosts").await.0, 200);
}

/// A peer that takes what the monitor posts, or answers with what it is told.
async fn listener(answers: Vec<u16>) -> (String, Arc<Mutex<Vec<Value>>>) {
    let heard = Arc::new(Mutex::new(Vec::new()));
    let (keep, answers) = (Arc::clone(&heard), Arc::new(Mutex::new(answers)));
    let server = HttpServer::new(move || {
        let (keep, answers) = (Arc::clone(&keep), Arc::clone(&answers));
        let take = move |body: web::Json<Value>| {
            let mut left = answers.lock().expect("answers");
            let status = if left.is_empty() { 202 } else { left.remove(0) };
            if status < 300 {
                keep.lock().expect("heard").push(body.into_inner());
            }
            async move { HttpResponse::build(status.try_into().expect("a status")).finish() }
        };
        App::new().route("/in/yard", web::post().to(take))
    });
    let server = server.workers(1).disable_signals().bind(("127.0.0.1", 0)).expect("a port");
    let url = format!("http://{}/in/yard", server.addrs()[0]);
    tokio::spawn(server.run());
    (url, heard)
}

async fn until(what: &str, mut holds: impl FnMut() -> bool) {
    let waiting = async {
        while !holds() {
            tokio::time::sleep(Duration::from_millis(10)).await;
        }
    };
    tokio::time::timeout(Duration::from_secs(20), waiting).await.expect(what);
}

#[actix_web::test]
async fn the_monitor_posts_in_order_and_again_what_was_not_taken() {
    let (url, heard) = listener(vec![503, 500, 202, 503]).await;
    let options = YardOptions {
        report_to: Some((url, "monitor".into())),
        tick: Duration::from_millis(10),
        ..options()
    };
    let yard = start(options).expect("starts");
    yard.with(|c| {
        c.fill("quill-booking-db-1", "data", 90.0, 0.0);
        c.fill("quill-booking-db-2", "data", 98.0, 0.0);
    });
    until("two readings", || heard.lock().expect("heard").len() >= 2).await;
    yard.with(|c| c.fill("quill-booking-db-1", "data", 50.0, 0.0));
    until("a third", || heard.lock().expect("heard").len() >= 3).await;
    let heard = heard.lock().expect("heard").clone();
    let told: Vec<(i64, &str, &str)> = heard
        .iter()
        .map(|h| &h["reading"])
        .map(|r| {
            (
                r["number"].as_i64().expect("a number"),
                r["level"].as_str().expect("a level"),
                r["vm"].as_str().expect("a VM"),
            )
        })
        .collect();
    assert_eq!(
        told,
        [
            (1, "high", "quill-booking-db-1"),
            (2, "full", "quill-booking-db-2"),
            (3, "ok", "quill-booking-db-1")
        ]
    );
    yard.stop().await;
}

#[actix_web::test]
async fn a_silent_monitor_keeps_what_it_saw() {
    let (url, heard) = listener(Vec::new()).await;
    let options = YardOptions {
        report_to: Some((url, "monitor".into())),
        tick: Duration::from_millis(10),
        ..options()
    };
    let yard = start(options).expect("starts");
    yard.set_faults(crate::Faults { silent: true, ..crate::Faults::default() });
    yard.with(|c| c.fill("quill-report-2", "scratch", 91.0, 0.0));
    let before = yard.with(|c| c.clock);
    until("some ticks", || {
        yard.with(|c| {
            c.clock += 1.0;
            c.clock > before + 20.0
        })
    })
    .await;
    assert!(heard.lock().expect("heard").is_empty());
    yard.set_faults(crate::Faults::default());
    until("what it saw", || {
        heard.lock().expect("heard").iter().any(|h| h["reading"]["vm"] == "quill-report-2")
    })
    .await;
}

#[tokio::test]
async fn vms_have_processors_tags_and_states_that_they_can_be_put_back_to() {
    let (_yard, caller) = yard();
    let put = |path: &str, body: Value| caller.ask(caller.request(Method::PUT, path).json(&body));
    let vm = "/v1/vms/quill-mail-1";
    assert_eq!(put(&format!("{vm}/snapshots/before"), json!({})).await.0, 201);
    let cpus = put(&format!("{vm}/cpus"), json!({ "cpus": 4 })).await;
    assert_eq!(cpus, (200, json!({ "name": "quill-mail-1", "cpus": 4 })));
    assert_eq!(put(&format!("{vm}/cpus"), json!({ "cpus": 99 })).await.0, 409);
    let restored = caller.post(&format!("{vm}/snapshots/before/restore"), json!({})).await;
    assert_eq!(restored, (200, json!({ "name": "quill-mail-1", "snapshot": "before" })));
    assert_eq!(caller.get(vm).await.1["vm"]["cpus"], 2);
    let none = caller.post(&format!("{vm}/snapshots/after/restore"), json!({})).await;
    assert_eq!(none, (409, error("quill-mail-1 has no snapshot after")));
    let tags =
        put(&format!("{vm}/tags"), json!({ "add": ["patched", "mail"], "remove": ["mail"] })).await;
    assert_eq!(tags, (200, json!({ "name": "quill-mail-1", "tags": ["patched"] })));
    let (_, tagged) = caller.get("/v1/vms?tag=patched").await;
    assert_eq!(
        tagged["vms"].as_object().map(|v| v.keys().cloned().collect()),
        Some(vec!["quill-mail-1".to_owned()])
    );
}
