//! The crew chat.

use super::*;
use crate::chat::start;

#[tokio::test]
async fn what_is_said_is_kept_by_channel_in_order() {
    let chat = start(0, "crew".into()).expect("starts");
    let caller = Caller::of(chat.url(), "crew");
    for (channel, text) in [("ops", "one"), ("deck", "two"), ("ops", "three")] {
        let (status, said) =
            caller.post(&format!("/channels/{channel}/messages"), json!({ "text": text })).await;
        assert_eq!((status, &said["channel"]), (201, &json!(channel)));
    }
    let (status, read) = caller.get("/channels/ops/messages").await;
    let texts: Vec<&Value> =
        read["messages"].as_array().expect("messages").iter().map(|m| &m["text"]).collect();
    assert_eq!((status, texts), (200, vec![&json!("one"), &json!("three")]));
    assert_eq!(chat.messages().iter().map(|m| m.id).collect::<Vec<_>>(), [1, 2, 3]);
    assert_eq!(caller.get("/channels/empty/messages").await.1, json!({ "messages": [] }));
    chat.stop().await;
    let gone = async { while caller.get("/channels/ops/messages").await.0 != 0 {} };
    tokio::time::timeout(std::time::Duration::from_secs(20), gone).await.expect("it has stopped");
}

#[tokio::test]
async fn empty_and_endless_messages_and_strangers_are_refused() {
    let chat = start(0, "crew".into()).expect("starts");
    let caller = Caller::of(chat.url(), "crew");
    let refused = (422, error("a message has 1 to 4000 bytes"));
    for text in ["", " \n", &"x".repeat(4001)] {
        assert_eq!(caller.post("/channels/ops/messages", json!({ "text": text })).await, refused);
    }
    assert_eq!(
        caller.post("/channels/ops/messages", json!({ "text": "x".repeat(4000) })).await.0,
        201
    );
    assert_eq!(caller.post("/channels/ops/messages", json!({ "said": "x" })).await.0, 400);
    let stranger = Caller::of(chat.url(), "deck");
    for (status, said) in [
        stranger.get("/channels/ops/messages").await,
        stranger.post("/channels/ops/messages", json!({ "text": "x" })).await,
    ] {
        assert_eq!((status, said), (401, error("a bearer token is needed, and not this one")));
    }
    assert_eq!(chat.messages().len(), 1, "of strangers nothing is kept");
}

#[tokio::test]
async fn the_oldest_go_when_there_are_too_many() {
    let chat = start(0, "crew".into()).expect("starts");
    let caller = Caller::of(chat.url(), "crew");
    for n in 0..1005 {
        assert_eq!(
            caller.post("/channels/ops/messages", json!({ "text": format!("n{n}") })).await.0,
            201
        );
    }
    let kept = chat.messages();
    assert_eq!((kept.len(), kept[0].text.as_str(), kept[999].id), (1000, "n5", 1005));
}

#[tokio::test]
async fn a_port_that_is_taken_is_named() {
    let chat = start(0, "crew".into()).expect("starts");
    let port: u16 = chat.url().rsplit(':').next().and_then(|p| p.parse().ok()).expect("a port");
    let refused = start(port, "crew".into()).expect_err("taken").to_string();
    assert!(
        refused.starts_with(&format!("the stand-in cannot listen on 127.0.0.1:{port}: ")),
        "{refused}"
    );
}
