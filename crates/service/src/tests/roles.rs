//! Who may ask for what: every operation of the description, by everybody.

use super::*;
use std::fmt::Write;

/// Of each operation what nobody, a viewer, a responder, an author and an admin are answered. What
/// is asked about is not there, so that whoever may ask is told so (404) or what is missing (400).
#[actix_web::test]
async fn every_operation_knows_who_may_ask() {
    let desk = Desk::new().await;
    let whole: Value = serde_json::from_str(&api::openapi_document()).expect("a description");
    let mut table = String::new();
    for (path, methods) in whole["paths"].as_object().expect("paths") {
        for method in methods.as_object().expect("methods").keys() {
            let mut said = Vec::new();
            for token in ["", "viewer", "responder", "author", "admin"] {
                said.push(asked(&desk, method, path, token).await);
            }
            assert!(!said.contains(&500), "{method} {path}: {said:?}");
            let said: Vec<String> = said.iter().map(u16::to_string).collect();
            writeln!(table, "{:<7}{path:<44}{}", method.to_uppercase(), said.join(" "))
                .expect("writes");
        }
    }
    insta::assert_snapshot!(table);
}

async fn asked(desk: &Desk, method: &str, path: &str, token: &str) -> u16 {
    let filled: Vec<&str> =
        path.split('/').map(|part| if part.starts_with('{') { "1" } else { part }).collect();
    let method = method.to_uppercase().parse().expect("a method");
    let request = TestRequest::default().method(method).uri(&filled.join("/"));
    let request = if token.is_empty() { request } else { shown(request, token) };
    let request =
        request.insert_header((header::CONTENT_TYPE, "application/json")).set_payload(body(path));
    // As the heartbeat does, however long all of them take.
    desk.node.vitals.committed();
    match desk.head(request).await {
        Ok(answer) => answer.status().as_u16(),
        Err(e) => e.as_response_error().status_code().as_u16(),
    }
}

/// What the operation insists on, so that its answer is about the role.
fn body(path: &str) -> &'static str {
    match path {
        "/api/v1/jobs/{id}/resolve" => r#"{ "as": "done" }"#,
        "/api/v1/alarms/{id}/acts" => r#"{ "act": "acknowledged" }"#,
        "/api/v1/halts" => r#"{ "covers": { "rules": ["*"] }, "reason": "drill" }"#,
        "/api/v1/halt" => r#"{ "reason": "drill" }"#,
        "/api/v1/guards/{name}/resume" => r#"{ "reason": "drill" }"#,
        "/api/v1/jobs/{id}/overrule" => r#"{ "guard": "none", "reason": "drill" }"#,
        "/api/v1/runbooks/try" => r#"{ "runbook": "none", "step": "look" }"#,
        "/api/v1/trials" => r#"{ "source": "pier", "alert": { "kind": "a", "resource": "vm/a" } }"#,
        "/api/v1/memory/forget" => r#"{ "runbook": "r", "target": "vm/a", "reason": "drill" }"#,
        "/api/v1/mutes" => r#"{ "covers": { "rules": ["*"] }, "reason": "drill", "for": "1h" }"#,
        "/api/v1/plans/{name}/skip" => r#"{ "reason": "drill" }"#,
        "/api/v1/plans/{name}/unskip" => r#"{ "due": "2031-01-01T00:00:00Z" }"#,
        "/api/v1/proposals/{id}/dismiss" => r#"{ "note": "no" }"#,
        "/api/v1/runners" => r#"{ "name": "pier", "labels": { "site": "pier" } }"#,
        "/api/v1/secrets/{name}" => r#"{ "value": "sesame", "allowed": ["source/pier"] }"#,
        "/api/v1/session" => r#"{ "token": "viewer" }"#,
        "/api/v1/sources/test" => r#"{ "text": "source: pier" }"#,
        "/api/v1/tokens" => r#"{ "name": "kim", "role": "viewer" }"#,
        "/api/v1/unreadable/retry" => r#"{ "source": "pier" }"#,
        _ => "{}",
    }
}

#[actix_web::test]
async fn a_session_may_change_things_only_from_the_console() {
    let desk = Desk::new().await;
    let sign_in = TestRequest::post()
        .uri("/api/v1/session")
        .set_json(serde_json::json!({ "token": "author" }));
    let answer = desk.head(sign_in).await.expect("signs in");
    let cookie = answer.response().cookies().next().expect("a cookie").into_owned();
    assert!(cookie.secure() == Some(true) && cookie.http_only() == Some(true), "{cookie}");
    let with = |request: TestRequest| request.cookie(cookie.clone());
    let me = desk.ask(with(TestRequest::get().uri("/api/v1/me"))).await;
    assert_eq!((me.status, me.json["role"].as_str()), (200, Some("author")));
    let publish = || {
        with(TestRequest::post().uri("/api/v1/publish"))
            .set_json(serde_json::json!({ "files": [] }))
    };
    assert_eq!(
        told(&desk.ask(publish()).await),
        "403 cross-site: a change from the console must carry the header X-Arvok-Console"
    );
    assert_ne!(desk.ask(publish().insert_header(("x-arvok-console", "1"))).await.status, 403);
    assert!(
        access::remove_token(&desk.node.pools.questions, "author", &Principal::token("admin"))
            .await
            .expect("revokes")
            == access::Revoked::Yes
    );
    assert_eq!(
        desk.ask(with(TestRequest::get().uri("/api/v1/me"))).await.status,
        401,
        "the session ended with its token"
    );
}

#[actix_web::test]
async fn every_answer_tells_browsers_what_it_may_do() {
    let desk = Desk::new().await;
    for path in ["/healthz", "/api/v1/me", "/api/v1/nothing", "/in/x", "/"] {
        let answer = desk.head(TestRequest::get().uri(path)).await.expect("answers");
        for name in [
            "content-security-policy",
            "x-content-type-options",
            "referrer-policy",
            "x-frame-options",
        ] {
            assert!(answer.headers().contains_key(name), "{path}: {name}");
        }
    }
}
