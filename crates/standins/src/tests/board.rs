//! The harbour board.

use super::*;
use crate::board::{BoardOptions, Manners, start};
use standardwebhooks::Webhook;

const KEY: &str = "whsec_c2tlcnJvdyBmZXJyaWVzIGhhcmJvdXIgYm9hcmQ=";

/// Posts an event, signed with a key at a moment.
async fn post(caller: &Caller, key: &str, at: i64, kind: &str) -> (u16, Value) {
    let body = json!({ "id": "e1", "type": kind }).to_string();
    let signed = Webhook::new(key).expect("a key").sign("e1", at, body.as_bytes()).expect("signs");
    let request = caller.request(Method::POST, "/events").header("webhook-id", "e1");
    let request =
        request.header("webhook-timestamp", at).header("webhook-signature", signed).body(body);
    caller.ask(request).await
}

#[tokio::test]
async fn events_are_shown_if_their_signature_is_good_and_fresh() {
    let board =
        start(BoardOptions { port: 0, token: "board".into(), key: KEY.into() }).expect("starts");
    let caller = Caller::of(board.url(), "board");
    let now = chrono::Utc::now().timestamp();
    assert_eq!(post(&caller, KEY, now, "arvok.job.failed").await.0, 204);
    let bad = (401, error("the signature is not good"));
    assert_eq!(
        post(&caller, "whsec_YW5vdGhlciBrZXkgYWx0b2dldGhlciBoZXJl", now, "forged").await,
        bad
    );
    assert_eq!(post(&caller, KEY, now - 600, "late").await, bad);
    assert_eq!((board.events().len(), board.forged()), (1, 2));
    assert_eq!(caller.get("/events").await.1["events"][0]["type"], "arvok.job.failed");
    assert_eq!(Caller::of(board.url(), "stranger").get("/events").await.0, 401);
    assert!(start(BoardOptions { port: 0, token: "board".into(), key: "%%".into() }).is_err());
}

#[tokio::test]
async fn it_agrees_or_not_and_misbehaves_as_it_is_told() {
    let board =
        start(BoardOptions { port: 0, token: "board".into(), key: KEY.into() }).expect("starts");
    let caller = Caller::of(board.url(), "board");
    let asks = || {
        let asking = caller
            .request(Method::OPTIONS, "/events")
            .header("webhook-request-origin", "ops.skerrow.example");
        asking.header("webhook-request-callback", "http://127.0.0.1/consent/x")
    };
    let allowed = async || {
        let answer = asks().send().await.expect("an answer");
        answer
            .headers()
            .get("webhook-allowed-origin")
            .and_then(|v| v.to_str().ok())
            .map(str::to_owned)
    };
    assert_eq!(allowed().await.as_deref(), Some("ops.skerrow.example"));
    assert_eq!(board.callback().as_deref(), Some("http://127.0.0.1/consent/x"));
    let behave = async |manners: Value| {
        let asked = caller.request(Method::PUT, "/manners").json(&manners);
        caller.ask(asked).await.0
    };
    let now = chrono::Utc::now().timestamp();
    assert_eq!(behave(json!({ "agrees": false, "chokes_on": "failed" })).await, 204);
    assert_eq!(allowed().await, None);
    assert_eq!(post(&caller, KEY, now, "arvok.job.failed").await.0, 500);
    assert_eq!(post(&caller, KEY, now, "arvok.job.started").await.0, 204);
    assert_eq!(behave(json!({ "faults": { "busy": 1 } })).await, 204);
    assert_eq!(post(&caller, KEY, now, "arvok.job.started").await.0, 503);
    assert_eq!(behave(json!({ "gone": true })).await, 204);
    assert_eq!(post(&caller, KEY, now, "arvok.job.started").await.0, 410);
    assert_eq!(behave(json!({ "manner": 1 })).await, 400);
    board.behave(Manners::default());
    assert_eq!(post(&caller, KEY, now, "arvok.job.started").await.0, 204);
}
