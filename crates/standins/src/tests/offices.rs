//! Desk, kiosks, pager, features, queue and cloud: what each does, and the faults that they have in
//! common.

use super::*;
use crate::{Faults, cloud, desk, features, kiosks, pager, queue};
use std::time::Duration;

const SOON: Duration = Duration::from_millis(60);

async fn until(caller: &Caller, path: &str, is: impl Fn(&Value) -> bool) -> Value {
    let asking = async {
        loop {
            let (_, found) = caller.get(path).await;
            if is(&found) {
                return found;
            }
        }
    };
    tokio::time::timeout(Duration::from_secs(20), asking).await.expect("it comes to that")
}

#[tokio::test]
async fn the_desk_gives_tokens_to_its_client_and_opens_once_for_each_key() {
    let options = desk::DeskOptions { port: 0, token: "faults".into(), secret: "s3cret".into() };
    let desk = desk::start(options).expect("starts");
    let http = arvok_connect::http_client().build().expect("a client");
    let ask = |secret: &'static str, grant: &'static str| {
        let asking = http.post(format!("{}/token", desk.url())).basic_auth("arvok", Some(secret));
        let asking = asking.header("content-type", "application/x-www-form-urlencoded");
        asking.body(format!("grant_type={grant}")).send()
    };
    assert_eq!(ask("wrong", "client_credentials").await.expect("answers").status(), 401);
    assert_eq!(ask("s3cret", "password").await.expect("answers").status(), 400);
    let token: Value =
        ask("s3cret", "client_credentials").await.expect("answers").json().await.expect("JSON");
    let token: &'static str =
        Box::leak(token["access_token"].as_str().expect("a token").to_owned().into_boxed_str());
    let caller = Caller::of(desk.url(), token);
    assert_eq!(Caller::of(desk.url(), "other").get("/tickets").await.0, 401);
    for _ in 0..2 {
        assert_eq!(caller.post_once("k1", "/tickets", &json!({ "title": "one" })).await.0, 201);
    }
    for n in 0..4 {
        assert_eq!(
            caller
                .post("/tickets", json!({ "title": format!("more {n}"), "about": "vm/a" }))
                .await
                .0,
            201
        );
    }
    assert_eq!(caller.post("/tickets", json!({ "title": " " })).await.0, 422);
    let (_, first) = caller.get("/tickets?limit=3").await;
    assert_eq!((first["tickets"].as_array().map(Vec::len), &first["next"]), (Some(3), &json!("3")));
    let (_, last) = caller.get("/tickets?limit=3&after=3&about=vm/a").await;
    assert_eq!((last["tickets"].as_array().map(Vec::len), &last["next"]), (Some(2), &Value::Null));
    assert_eq!(
        caller.post("/tickets/1/notes", json!({ "text": "seen" })).await.1["notes"],
        json!(["seen"])
    );
    let close =
        caller.request(Method::PUT, "/tickets/1/close").json(&json!({ "because": "mended" }));
    assert_eq!(caller.ask(close).await.1["closed_because"], "mended");
    assert_eq!(caller.get("/tickets/9").await, (404, error("there is no ticket 9")));
    assert!(desk::DESCRIPTION.contains("openapi: 3.1.0"));
}

#[tokio::test]
async fn the_register_lists_in_pages_and_a_restart_mends_a_page() {
    let register = kiosks::start(0, "k".into(), SOON).expect("starts");
    let caller = Caller::of(register.url(), "k");
    let first = caller.request(Method::GET, "/kiosks").send().await.expect("answers");
    assert_eq!(first.headers()["link"], "</kiosks?from=3>; rel=\"next\"");
    let last = caller.request(Method::GET, "/kiosks?from=6").send().await.expect("answers");
    assert!(last.headers().get("link").is_none());
    register.with(|k| k.break_page("brack-kiosk-1"));
    assert_eq!(caller.get("/kiosks/brack-kiosk-1").await.1["page"], "Error 500");
    assert_eq!(
        caller.post("/kiosks/brack-kiosk-1/restart", json!({})).await.1["state"],
        "restarting"
    );
    let up = until(&caller, "/kiosks/brack-kiosk-1", |k| k["state"] == "up").await;
    assert_eq!(up["page"], "Departures from brack");
    register.with(|k| k.add("brack-kiosk-9", "brack"));
    let put = caller.request(Method::PUT, "/kiosks/brack-kiosk-9").json(&json!({ "by": "arvok" }));
    assert_eq!(caller.ask(put).await.1["registered_by"], "arvok");
    assert_eq!(caller.get("/kiosks/none").await.0, 404);
}

#[tokio::test]
async fn the_pager_knows_rotas_by_their_keys_and_pages_once_for_each_matter() {
    let pager = pager::start(0, "p".into(), "rota-key".into()).expect("starts");
    let caller = Caller::of(pager.url(), "p");
    let page = |key: &'static str, body: Value| {
        caller.ask(caller.request(Method::POST, "/pages").header("X-Rota-Key", key).json(&body))
    };
    assert_eq!(page("wrong", json!({ "about": "a" })).await.0, 403);
    for times in 1..3 {
        assert_eq!(
            page("rota-key", json!({ "about": "disk", "text": "full" })).await.1["times"],
            times
        );
    }
    assert_eq!(
        page("rota-key", json!({ "about": "disk", "what": "over" })).await.1["state"],
        "over"
    );
    assert_eq!(page("rota-key", json!({ "about": "else", "what": "over" })).await.0, 404);
    assert_eq!(caller.get("/pages").await.1["pages"].as_array().map(Vec::len), Some(1));
}

#[tokio::test]
async fn a_share_is_changed_by_whoever_saw_it_last() {
    let switches = features::start(0, "f".into()).expect("starts");
    let caller = Caller::of(switches.url(), "f");
    let change = |share: u8, from: u8| {
        let body = json!({ "share": share, "by": "arvok", "from": from });
        caller.ask(caller.request(Method::PUT, "/features/new-fares").json(&body))
    };
    assert_eq!(change(10, 0).await.0, 200);
    assert_eq!(change(20, 0).await, (409, error("the share is 10 by now")));
    assert_eq!(change(101, 10).await.0, 422);
    assert_eq!(caller.get("/features/new-fares").await.1["share"], 10);
}

#[tokio::test]
async fn a_worker_that_is_added_comes_after_a_while_and_the_queue_drains() {
    let queue = queue::start(0, "q".into(), SOON).expect("starts");
    let caller = Caller::of(queue.url(), "q");
    queue.with(|q| q.pile_up(500.0));
    assert!(caller.get("/queue").await.1["waiting"].as_u64() >= Some(500));
    assert_eq!(caller.post("/workers", json!({})).await.1["on_their_way"], 1);
    until(&caller, "/queue", |q| q["workers"] == 2).await;
    queue.with(|q| q.each = 5_000.0);
    until(&caller, "/queue", |q| q["waiting"] == 0).await;
    assert_eq!(caller.ask(caller.request(Method::DELETE, "/workers")).await.1["workers"], 1);
    assert_eq!(caller.ask(caller.request(Method::DELETE, "/workers")).await.0, 409);
}

#[tokio::test]
async fn instances_take_time_and_whoever_left_an_address_is_called() {
    let cloud = cloud::start(0, "c".into(), SOON).expect("starts");
    let caller = Caller::of(cloud.url(), "c");
    let (status, begun) = caller.post("/instances", json!({ "name": "w8" })).await;
    assert_eq!((status, &begun["operation"]), (202, &json!(1)));
    assert_eq!(caller.get("/instances/w8").await.1["state"], "starting");
    until(&caller, "/operations/1", |o| o["state"] == "done").await;
    until(&caller, "/instances/w8", |i| i["state"] == "running").await;
    assert_eq!(caller.post("/instances", json!({ "name": "w8" })).await.0, 409);
    // The pager stands in for whoever is called: a body that it does not take is an answer all the
    // same.
    let called = tokio::net::TcpListener::bind("127.0.0.1:0").await.expect("a port");
    let address = format!("http://{}/here", called.local_addr().expect("an address"));
    assert_eq!(caller.post("/instances/w8/save", json!({ "call_back": address })).await.0, 202);
    tokio::time::timeout(Duration::from_secs(20), called.accept())
        .await
        .expect("it calls")
        .expect("a caller");
    assert!(caller.get("/instances/w8").await.1["saved_as"].is_string());
    cloud.with(|c| c.no_room = Some("no room".into()));
    assert_eq!(caller.post("/instances", json!({ "name": "w9" })).await, (409, error("no room")));
    cloud.stop().await;
}

#[tokio::test]
async fn faults_come_one_to_a_request_in_their_order() {
    let switches = features::start(0, "f".into()).expect("starts");
    let caller = Caller::of(switches.url(), "f");
    let all = Faults { busy: 1, elsewhere: 1, hang_up: 1, garbled: 1, ..Faults::default() };
    let set = caller.request(Method::PUT, "/faults").json(&all);
    assert_eq!(caller.ask(set).await.0, 204);
    assert_eq!(caller.get("/about").await, (503, error("the office is busy")));
    let away = arvok_connect::http_client()
        .redirect(reqwest::redirect::Policy::none())
        .build()
        .expect("a client");
    let away = away
        .get(format!("{}/about", switches.url()))
        .bearer_auth("f")
        .send()
        .await
        .expect("answers");
    assert_eq!(
        (away.status().as_u16(), away.headers()["location"].to_str().ok()),
        (307, Some("http://127.0.0.1:9/elsewhere"))
    );
    assert_eq!(caller.get("/about").await.0, 0, "the line is cut");
    assert_eq!(caller.get("/about").await, (200, Value::Null), "it is no JSON");
    assert_eq!(caller.get("/about").await.1["component"], "feature switches");
    switches.set_faults(Faults { endless: 1, ..Faults::default() });
    let mut endless = caller.request(Method::GET, "/about").send().await.expect("answers");
    let mut bytes = 0;
    while bytes < 4 << 20 {
        bytes += endless.chunk().await.expect("goes on").expect("without an end").len();
    }
}
