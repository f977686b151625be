//! The door of webhooks.

use super::*;
use actix_web::http::header::ContentType;
use serde_json::json;

const SOURCE: &str =
    "source: pier\nintake: { webhook: { credential: { bearer: \"${secret('pier')}\" } } }\n";

fn post(source: &str, body: impl Into<web::Bytes>) -> TestRequest {
    TestRequest::post()
        .uri(&format!("/in/{source}?trial=no"))
        .insert_header(ContentType::json())
        .set_payload(body)
}

async fn secret(desk: &Desk, name: &str, value: &str, place: &str) {
    let request = TestRequest::put().uri(&format!("/api/v1/secrets/{name}"));
    let said = desk
        .ask(shown(request, "admin").set_json(json!({ "value": value, "allowed": [place] })))
        .await;
    assert!(said.status < 300, "{said:?}");
    desk.node.reload().await.expect("loads");
}

async fn with_source(text: &str) -> Desk {
    let desk = Desk::new().await;
    secret(&desk, "pier", "pass-word", "source/pier").await;
    let said = desk.publish(text).await;
    assert!(said.status < 300, "{said:?}");
    desk
}

fn alert() -> Vec<u8> {
    json!({ "kind": "disk.usage", "resource": "vm/a" }).to_string().into()
}

#[actix_web::test]
async fn a_sender_shows_what_its_source_asks_for_and_nothing_else_helps() {
    let kinds = [
        ("bearer: \"${secret('pier')}\"", "authorization", "Bearer pass-word", "bearer PASS-WORD"),
        (
            "basic: { user: pier, password: \"${secret('pier')}\" }",
            "authorization",
            "Basic cGllcjpwYXNzLXdvcmQ=",
            "Basic cGllcjpvdGhlcg==",
        ),
        (
            "header: { name: X-Pier-Key, value: \"${secret('pier')}\" }",
            "x-pier-key",
            "pass-word",
            "pass-wor",
        ),
    ];
    for (credential, name, right, wrong) in kinds {
        let text = format!(
            "source: pier\nintake: {{ webhook: {{ credential: {{ {credential} }}, answer: 200 }} \
            }}\n"
        );
        let desk = with_source(&text).await;
        let with = |value: &str| post("pier", alert()).insert_header((name, value));
        assert_eq!(desk.ask(with(right)).await.status, 200, "{credential}");
        assert_eq!(desk.ask(with(wrong)).await.status, 401, "{credential}");
        assert_eq!(desk.ask(post("pier", alert())).await.status, 401, "{credential}");
        // A token of an author opens every door, of a viewer none.
        assert_eq!(desk.ask(authored(post("pier", alert()))).await.status, 200);
        assert_eq!(desk.ask(shown(post("pier", alert()), "viewer")).await.status, 403);
        let kept = desk.ask(shown(TestRequest::get().uri("/api/v1/alerts"), "viewer")).await;
        assert!(!kept.json.to_string().contains("pass-word"), "{}", kept.json);
    }
}

#[actix_web::test]
async fn what_is_wrong_with_a_payload_is_told_and_kept() {
    let desk = with_source(SOURCE).await;
    let deep = "[".repeat(70) + &"]".repeat(70);
    let mut said = Vec::new();
    for body in ["", "{", "[]", "[1]", "{\"kind\": \"a b\", \"resource\": \"vm/a\"}", deep.as_str()]
    {
        let normal = ("content-type", "application/vnd.arvok.alert+json");
        let sent = authored(post("pier", body.to_owned())).insert_header(normal);
        said.push(told(&desk.ask(sent).await));
    }
    said.push(told(&desk.ask(authored(post("peer", alert()))).await));
    said.push(told(&desk.ask(authored(post("pier", vec![b' '; api::MAX_BODY + 1]))).await));
    said.push(told(&desk.ask(authored(TestRequest::put().uri("/in/pier"))).await));
    insta::assert_snapshot!(said.join("\n"), @r#"
    422 unreadable: the payload cannot be read: is not JSON: EOF while parsing a value at line 1 column 0; it is kept as unreadable 1
    422 unreadable: the payload cannot be read: is not JSON: EOF while parsing an object at line 1 column 1; it is kept as unreadable 2
    202 -: {"alerts":[],"left_out":0}
    422 unreadable: the payload cannot be read: item 0, `alert`: is `1`; a map of keys and values was expected; it is kept as unreadable 3
    422 unreadable: the payload cannot be read: `kind`: `a b` is not a dotted kind such as disk.usage (letters, digits, - and _; at most 128 bytes); it is kept as unreadable 4
    422 unreadable: the payload cannot be read: is nested deeper than 64 levels; it is kept as unreadable 5
    404 not-found: there is no source `peer`; did you mean `pier`?
    413 too-large: the body has more than 1048576 bytes
    405 method-not-allowed: this takes POST only
    "#);
    let kept =
        desk.ask(shown(TestRequest::get().uri("/api/v1/unreadable?source=pier"), "viewer")).await;
    assert_eq!(kept.json["items"].as_array().map(Vec::len), Some(5), "{}", kept.json);
}

#[actix_web::test]
async fn of_several_alerts_the_strange_one_is_named_and_the_others_are_taken() {
    let desk = with_source(SOURCE).await;
    let body = json!([
        { "kind": "disk.usage", "resource": "vm/a", "id": "1" },
        { "kind": "disk.usage", "resource": "nowhere", "id": "2" },
        { "kind": "disk.usage", "resource": "vm/c", "id": "3" },
    ]);
    let said = desk.ask(authored(post("pier", body.to_string()))).await;
    assert_eq!(
        (said.status, said.json["alerts"].as_array().map(Vec::len)),
        (202, Some(2)),
        "{}",
        said.json
    );
    let malformed = &said.json["unreadable"][0];
    assert_eq!(malformed["item"], 1);
    assert!(malformed["reason"].as_str().is_some_and(|r| r.contains("resource")), "{malformed}");
    // Mended, it is read again, and only once.
    let retry = || {
        authored(TestRequest::post().uri("/api/v1/unreadable/retry"))
            .set_json(json!({ "source": "pier" }))
    };
    let still = desk.ask(retry()).await;
    assert_eq!(
        (&still.json["read"], still.json["still"].as_array().map(Vec::len)),
        (&json!(0), Some(1)),
        "{}",
        still.json
    );
    let mended = format!(
        "{SOURCE}read:\n  kind: body.kind\n  resource: '\"vm/\" + body.resource'\n  id: body.id\n"
    );
    assert!(desk.publish(&mended).await.status < 300);
    let read = desk.ask(retry()).await;
    assert_eq!((&read.json["read"], &read.json["alerts"]), (&json!(1), &json!(1)), "{}", read.json);
    assert_eq!(desk.ask(retry()).await.json["read"], 0);
}

#[actix_web::test]
async fn the_keys_of_a_payload_stand_as_they_came() {
    let read = "read:\n  kind: '\"a.b\"'\n  resource: '\"vm/\" + body.zone.host'\n";
    let desk = with_source(&format!("{SOURCE}{read}")).await;
    let body =
        r#"{"zone":{"host":"a","dc":"quill","at":[{"to":1,"by":2}]},"id":7,"aa":{},"Z":null}"#;
    let said = desk.ask(authored(post("pier", body))).await;
    assert_eq!(said.status, 202, "{said:?}");
    let seq = said.json["alerts"][0]["seq"].as_i64().expect("a handle");
    let shown =
        desk.ask(shown(TestRequest::get().uri(&format!("/api/v1/alerts/{seq}")), "viewer")).await;
    assert_eq!(shown.json["body"].to_string(), body);
    // What cannot be read is kept as it came as well.
    let malformed = r#"{"zone":{"name":"a"},"id":7,"aa":1}"#;
    assert_eq!(desk.ask(authored(post("pier", malformed))).await.status, 422);
    let kept = desk
        .ask(self::shown(TestRequest::get().uri("/api/v1/unreadable?source=pier"), "viewer"))
        .await;
    assert_eq!(kept.json["items"][0]["payload"], malformed);
}

#[actix_web::test]
async fn the_same_key_is_the_same_delivery() {
    let desk = with_source(SOURCE).await;
    let send = |key: &str| {
        authored(post("pier", alert())).insert_header(("idempotency-key", key.to_owned()))
    };
    let duplicate = |said: &Said| said.json["alerts"][0]["duplicate"].clone();
    assert_eq!(duplicate(&desk.ask(send("k-1")).await), false);
    assert_eq!(duplicate(&desk.ask(send("k-1")).await), true);
    assert_eq!(duplicate(&desk.ask(send("k-2")).await), false);
    // What cannot be a key is refused: passed over, it would let everything in twice.
    for odd in ["", "a b", &"x".repeat(101)] {
        let said = desk.ask(send(odd)).await;
        assert_eq!(
            told(&said),
            "400 bad-request: Idempotency-Key: 1 to 100 visible characters of ASCII",
            "{odd}"
        );
    }
}

#[actix_web::test]
async fn when_there_is_no_room_a_sender_is_told_to_come_again() {
    let desk = Desk::idle().await;
    secret(&desk, "pier", "pass-word", "source/pier").await;
    assert!(desk.publish(SOURCE).await.status < 300);
    let shares: Vec<_> = ["pier", "yard"]
        .iter()
        .flat_map(|source| std::iter::from_fn(|| desk.node.admission.admit(source, api::MAX_BODY)))
        .collect();
    assert!(shares.len() >= 8, "{}", shares.len());
    let full = desk.ask(authored(post("pier", alert()))).await;
    assert_eq!((full.status, full.retry_after.as_deref()), (429, Some("1")), "{full:?}");
    assert_eq!(desk.node.metrics.intake.refused.get(), 1);
    drop(shares);
    assert!(desk.node.admission.admit("pier", api::MAX_BODY).is_some(), "room again");
}

#[actix_web::test]
async fn a_sender_with_a_name_and_a_password_is_asked_for_these_and_who_is_refused_is_counted() {
    let desk = Desk::new().await;
    secret(&desk, "quay", "quay-pass-word", "source/quay").await;
    let source = "source: quay\nintake: { webhook: { credential: { basic: { user: collector, \
        password: \"${secret('quay')}\" } } } }\n";
    assert!(desk.publish(source).await.status < 300);
    let bare = desk.head(post("quay", alert())).await.expect("an answer");
    let scheme = bare
        .headers()
        .get("www-authenticate")
        .and_then(|v| v.to_str().ok())
        .unwrap_or_default()
        .to_owned();
    assert_eq!(
        (bare.status().as_u16(), scheme.starts_with("Basic realm=")),
        (401, true),
        "{scheme}"
    );
    let with = |pair: &str| {
        let shown =
            format!("Basic {}", base64::Engine::encode(&base64::prelude::BASE64_STANDARD, pair));
        post("quay", alert()).insert_header(("authorization", shown))
    };
    assert_eq!(
        told(&desk.ask(with("collector:guess")).await),
        "401 bad-token: this is not the name and the password of the source"
    );
    assert_eq!(desk.ask(with("collector:quay-pass-word")).await.status, 202);
    let label = crate::metrics::SourceLabel { source: "quay".into() };
    assert_eq!(desk.node.metrics.intake.refused_senders.get_or_create(&label).get(), 2);
}

#[actix_web::test]
async fn a_kept_payload_is_read_again_with_what_came_beside_it() {
    let desk =
        with_source(&format!("{SOURCE}read:\n  kind: body.kind\n  resource: '\"vm/a\"'\n")).await;
    let malformed = authored(post("pier", r#"{"n":1}"#)).insert_header(("x-kind", "pump.stuck"));
    assert_eq!(desk.ask(malformed).await.status, 422);
    let mended = format!("{SOURCE}read:\n  kind: headers['x-kind']\n  resource: '\"vm/a\"'\n");
    assert!(desk.publish(&mended).await.status < 300);
    let retry =
        TestRequest::post().uri("/api/v1/unreadable/retry").set_json(json!({ "source": "pier" }));
    let said = desk.ask(authored(retry)).await;
    assert_eq!((said.status, &said.json["read"]), (200, &json!(1)), "{said:?}");
    let listed = desk.ask(shown(TestRequest::get().uri("/api/v1/alerts"), "viewer")).await;
    assert_eq!(listed.json["items"][0]["kind"], "pump.stuck");
}

#[actix_web::test]
async fn an_id_that_comes_again_with_other_content_is_told_counted_and_kept() {
    let desk = with_source(SOURCE).await;
    let of = |resource: &str, value: f64| {
        json!({ "id": "n-1", "kind": "disk.usage",
        "resource": resource, "value": value, "time": "2026-11-01T10:00:00Z" })
    };
    let send = async |body: serde_json::Value| {
        desk.ask(authored(post("pier", body.to_string()))).await.json
    };
    assert_eq!(send(of("vm/a", 91.0)).await["alerts"][0]["duplicate"], false);
    let same = send(of("vm/a", 91.0)).await;
    assert_eq!(
        (&same["alerts"][0]["duplicate"], &same["alerts"][0]["conflict"]),
        (&json!(true), &json!(null))
    );
    let other = send(of("vm/b", 91.0)).await;
    let told = "id `n-1` came before, as alert 1, with another resource: `vm/a`, now `vm/b`";
    assert_eq!(
        other["alerts"][0]["conflict"]
            .as_str()
            .map(|t| t.replace(|c: char| c.is_ascii_digit(), "1")),
        Some(told.to_owned())
    );
    // Within one payload as well.
    let both = json!([
        { "id": "n-2", "kind": "disk.usage", "resource": "vm/a" },
        { "id": "n-2", "kind": "disk.usage", "resource": "vm/c" },
    ]);
    let both = send(both).await;
    assert_eq!(
        (&both["alerts"][0]["conflict"], &both["alerts"][1]["duplicate"]),
        (&json!(null), &json!(true))
    );
    assert!(both["alerts"][1]["conflict"].is_string(), "{both}");
    assert_eq!(desk.ask(post("pier", of("vm/d", 1.0).to_string())).await.status, 401);
    // Whoever is refused does not wait until that is recorded.
    desk.node.capacity.refusals_recorded().await;
    let asked =
        desk.ask(shown(TestRequest::get().uri("/api/v1/definitions/source"), "viewer")).await;
    let used = &asked.json["items"][0]["used"];
    assert_eq!(
        (&used["alerts"], &used["conflicts"], &used["unreadable"], &used["refused"]),
        (&json!(2), &json!(2), &json!(2), &json!(1)),
        "{used}"
    );
    let kept =
        desk.ask(shown(TestRequest::get().uri("/api/v1/unreadable?source=pier"), "viewer")).await;
    assert!(
        kept.json["items"][1]["payload"].as_str().is_some_and(|p| p.contains("vm/b")),
        "{}",
        kept.json
    );
    // Of one that gives an id to everything all are told and counted, and some are kept.
    let one =
        |n: usize| json!({ "id": "n-3", "kind": "disk.usage", "resource": format!("vm/{n}") });
    let flood = send((0..60).map(one).collect()).await;
    let told = flood["alerts"]
        .as_array()
        .into_iter()
        .flatten()
        .filter(|alert| alert["conflict"].is_string());
    assert_eq!(told.count(), 59);
    let asked =
        desk.ask(shown(TestRequest::get().uri("/api/v1/definitions/source"), "viewer")).await;
    assert_eq!(asked.json["items"][0]["used"]["conflicts"], 2 + 59);
    let kept = desk
        .ask(shown(TestRequest::get().uri("/api/v1/unreadable?source=pier&limit=200"), "viewer"))
        .await;
    assert_eq!(kept.json["items"].as_array().map(Vec::len), Some(2 + 20));
}
