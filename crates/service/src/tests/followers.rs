//! Who listens and does not hear: streams and rehearsals whose readers stand still.

use super::*;
use actix_web::body::MessageBody;
use arvok_api::Change;
use arvok_core::Principal;
use serde_json::json;
use std::{pin::pin, time::Duration};

fn follow() -> TestRequest {
    shown(TestRequest::get().uri("/api/v1/stream"), "viewer")
}

#[actix_web::test]
async fn there_is_room_for_so_many_followers_and_a_gone_one_leaves_its_place() {
    let desk = Desk::idle().await;
    let mut open = Vec::new();
    let full = loop {
        let answer = desk.head(follow()).await.expect("an answer");
        if answer.status() != 200 {
            break answer;
        }
        open.push(answer);
    };
    let again = full.headers().get("retry-after").and_then(|v| v.to_str().ok());
    assert_eq!((full.status().as_u16(), again), (429, Some("1")));
    assert_eq!(desk.node.metrics.own.streams.get(), i64::try_from(open.len()).expect("few"));
    let admin = shown(TestRequest::get().uri("/api/v1/stream"), "admin");
    assert_eq!(desk.head(admin).await.expect("a stream").status(), 200, "nobody else is kept out");
    open.pop();
    assert_eq!(desk.head(follow()).await.expect("a stream").status(), 200);
    drop(open);
    assert_eq!(desk.node.metrics.own.streams.get(), 0);
}

#[actix_web::test]
async fn a_stream_ends_with_its_token() {
    let desk = Desk::idle().await;
    let mut body = pin!(desk.head(follow()).await.expect("a stream").into_body());
    let by = &Principal::token("admin");
    arvok_store::access::remove_token(&desk.node.pools.questions, "viewer", by)
        .await
        .expect("revokes");
    let ended = tokio::time::timeout(Duration::from_secs(20), async {
        while let Some(chunk) =
            std::future::poll_fn(|context| body.as_mut().poll_next(context)).await
        {
            chunk.unwrap_or_else(|_| panic!("a chunk"));
        }
    });
    ended.await.expect("ends soon");
    assert_eq!(desk.node.metrics.own.streams.get(), 0);
}

#[actix_web::test]
async fn a_follower_that_does_not_read_is_told_to_ask_anew() {
    let desk = Desk::idle().await;
    let answer = desk.head(follow()).await.expect("a stream");
    for seq in 0..20_000 {
        desk.node.hear(Change { alerts: vec![seq], ..Change::default() });
    }
    let mut body = pin!(answer.into_body());
    let mut read = String::new();
    while !read.contains("data:") {
        let next = std::future::poll_fn(|context| body.as_mut().poll_next(context)).await;
        let chunk = next.expect("goes on").unwrap_or_else(|_| panic!("a chunk"));
        read.push_str(std::str::from_utf8(&chunk).expect("text"));
    }
    assert!(read.contains("\"reset\":true"), "{read}");
    assert!(!read.contains("id:"), "after a reset nothing is to be made up for: {read}");
}

#[actix_web::test]
async fn who_does_not_read_his_rehearsal_does_not_keep_others_from_theirs() {
    let desk = Desk::new().await;
    let rule = "rule: any\ndispatch: { runbook: note }\n";
    let alerts: Vec<_> = (0..30_000)
        .map(|i| {
            json!({ "source": "yard", "kind": "a", "resource": "vm/a", "id": i.to_string(),
            "time": "2026-11-25T03:00:00Z" })
        })
        .collect();
    let body = json!({ "file": { "file": "a.yaml", "text": rule }, "alerts": alerts });
    let rehearse = |body: &Value| {
        shown(TestRequest::post().uri("/api/v1/rehearsals"), "viewer").set_json(body)
    };
    let room = desk.node.capacity.rehearsals.available_permits();
    // All is ready before the first begins: its place is free again after a while.
    let (whole, one) =
        (small_enough(&body), json!({ "file": body["file"], "alerts": alerts[..1] }));
    let asked: Vec<_> = (0..room).map(|_| rehearse(&whole)).collect();
    let mut unread = Vec::new();
    for request in asked {
        let answer = desk.head(request).await.expect("begins");
        assert_eq!(answer.status(), 200);
        unread.push(answer);
    }
    assert_eq!(
        told(&desk.ask(rehearse(&one)).await),
        "429 busy: other rehearsals are running; try again when they have ended"
    );
    let freed = async {
        while desk.node.capacity.rehearsals.available_permits() < room {
            tokio::time::sleep(Duration::from_millis(20)).await;
        }
    };
    tokio::time::timeout(Duration::from_secs(30), freed)
        .await
        .expect("their places are free again");
    drop(unread);
    let read = desk.ask(rehearse(&one)).await;
    assert_eq!(read.status, 200, "{read:?}");
}

/// As many alerts as fit into a request.
fn small_enough(body: &Value) -> Value {
    let mut body = body.clone();
    if let Some(alerts) = body["alerts"].as_array_mut() {
        let each = alerts.first().map_or(1, |a| a.to_string().len() + 8);
        alerts.truncate((api::MAX_BODY - 1_000) / each);
    }
    body
}
