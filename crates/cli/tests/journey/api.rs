//! The API: roles, sessions, pages, the stream, the console's files.

use crate::kit::{Stage, answer, block, until};
use reqwest::{Method, StatusCode, header};
use serde_json::{Value, json};

#[test]
fn each_role_may_do_its_part_and_no_more() {
    let stage = Stage::with_demo();
    let token = |role: &str| {
        let (status, made) =
            stage.call(Method::POST, "/api/v1/tokens", Some(&json!({"name": role, "role": role})));
        assert_eq!(status, 201, "{made}");
        made["token"].as_str().expect("a token").to_owned()
    };
    let tokens = [token("viewer"), token("responder"), token("author")];
    let publish = json!({"files": [], "dry_run": true});
    let tries = [
        (Method::GET, "/api/v1/alerts", None),
        (Method::POST, "/api/v1/jobs/1/resolve", Some(json!({"as": "done"}))),
        (Method::POST, "/api/v1/publish", Some(publish)),
        (Method::GET, "/api/v1/tokens", None),
        (Method::PUT, "/api/v1/secrets/x", Some(json!({"value": "y"}))),
    ];
    let table: Vec<String> = tries
        .iter()
        .map(|(method, path, body)| {
            let row: Vec<u16> = tokens
                .iter()
                .map(|t| stage.call_as(t, method.clone(), path, body.as_ref()).0)
                .collect();
            format!("{method} {path} {row:?}")
        })
        .collect();
    insta::assert_snapshot!(table.join("\n"), @"
    GET /api/v1/alerts [200, 200, 200]
    POST /api/v1/jobs/1/resolve [403, 404, 404]
    POST /api/v1/publish [403, 403, 200]
    GET /api/v1/tokens [403, 403, 403]
    PUT /api/v1/secrets/x [403, 403, 403]
    ");
    let (status, body) =
        stage.call_as(&tokens[0], Method::POST, "/api/v1/publish", Some(&json!({"files": []})));
    assert_eq!(
        (status, body["detail"].as_str()),
        (403, Some("this needs the role author or a higher one; the token has the role viewer"))
    );
    assert_eq!(
        stage
            .call(
                Method::POST,
                "/api/v1/tokens",
                Some(&json!({"name": "viewer", "role": "viewer"}))
            )
            .0,
        409
    );
    assert_eq!(stage.call(Method::DELETE, "/api/v1/tokens/viewer", None).0, 204);
    assert_eq!(
        stage.call_as(&tokens[0], Method::GET, "/api/v1/alerts", None).0,
        401,
        "a revoked token is nobody's"
    );
}

#[test]
fn a_session_needs_its_cookie_and_changes_need_the_consoles_header() {
    let stage = Stage::bare();
    let signed_in = block(async {
        let body = json!({ "token": stage.token });
        stage.request(Method::POST, "/api/v1/session").json(&body).send().await.expect("an answer")
    });
    let cookie = signed_in.headers()[header::SET_COOKIE].to_str().expect("a cookie").to_owned();
    for part in ["__Host-arvok=", "HttpOnly", "SameSite=Strict", "Secure", "Path=/"] {
        assert!(cookie.contains(part), "{cookie}");
    }
    let cookie = cookie.split(';').next().expect("a value").to_owned();
    let with =
        |method: Method, path: &str| stage.request(method, path).header(header::COOKIE, &cookie);
    assert_eq!(
        answer(with(Method::GET, "/api/v1/me")).1,
        json!({"name": "admin", "role": "admin"})
    );
    let foreign = answer(with(Method::DELETE, "/api/v1/session"));
    assert_eq!((foreign.0, foreign.1["code"].as_str()), (403, Some("cross-site")));
    assert_eq!(
        answer(with(Method::DELETE, "/api/v1/session").header("x-arvok-console", "1")).0,
        204
    );
    assert_eq!(answer(with(Method::GET, "/api/v1/me")).0, 401, "a session that was ended is over");
    let wrong =
        answer(stage.request(Method::POST, "/api/v1/session").json(&json!({"token": "arvok_0"})));
    assert_eq!(wrong.0, 401);
}

#[test]
fn pages_follow_each_other_without_gap_or_repeat() {
    let stage = Stage::with_demo();
    let all: Vec<i64> = (0..7)
        .map(|i| {
            stage.send("yard-hypervisor", &json!({"kind": "a", "resource": format!("vm/n{i}")}))
        })
        .collect();
    let (mut seen, mut after) = (Vec::new(), String::new());
    loop {
        let page = stage.get(&format!("/api/v1/alerts?limit=3{after}"));
        seen.extend(
            page["items"].as_array().into_iter().flatten().filter_map(|a| a["seq"].as_i64()),
        );
        match page["next"].as_str() {
            Some(next) => after = format!("&after={next}"),
            None => break,
        }
    }
    assert_eq!(seen, all.into_iter().rev().collect::<Vec<_>>());
    let found = stage.get("/api/v1/alerts?text=N3");
    assert_eq!(found["items"][0]["resource"], "vm/n3", "searching does not mind the case");
}

/// Reads events until one's data fits; that event's id.
fn event(response: &mut reqwest::Response, fits: impl Fn(&Value) -> bool) -> String {
    let mut text = String::new();
    block(async {
        loop {
            let chunk = tokio::time::timeout(std::time::Duration::from_secs(30), response.chunk());
            let chunk =
                chunk.await.expect("an event in time").expect("the stream").expect("no end");
            text += &String::from_utf8_lossy(&chunk);
            for block in text.split("\n\n") {
                let line =
                    |key: &str| block.lines().find_map(|l| l.strip_prefix(key).map(str::to_owned));
                let data = line("data: ").and_then(|d| serde_json::from_str(&d).ok());
                if data.is_some_and(|d| fits(&d)) {
                    return line("id: ").unwrap_or_default();
                }
            }
        }
    })
}

#[test]
fn the_stream_tells_what_changed_and_remembers_for_those_who_return() {
    let stage = Stage::with_demo();
    let open = |last: &str| {
        let request = stage
            .request(Method::GET, "/api/v1/stream")
            .bearer_auth(&stage.token)
            .header("last-event-id", last);
        block(request.send()).expect("a stream")
    };
    let mut stream =
        block(stage.request(Method::GET, "/api/v1/stream").bearer_auth(&stage.token).send())
            .expect("a stream");
    let first = stage.send("yard-hypervisor", &json!({"kind": "a", "resource": "vm/a"}));
    let id = event(&mut stream, |d| d["alerts"][0] == first);
    drop(stream);
    let missed = stage.send("yard-hypervisor", &json!({"kind": "a", "resource": "vm/b"}));
    event(&mut open(&id), |d| d["alerts"][0] == missed);
    event(&mut open("another-node-5"), |d| d["reset"] == true);
}

#[test]
fn who_follows_without_end_leaves_room_for_alerts() {
    let stage = Stage::with_demo();
    let open_as = |token: &str| {
        block(stage.request(Method::GET, "/api/v1/stream").bearer_auth(token).send())
            .expect("an answer")
    };
    let open = || open_as(&stage.token);
    let (_, made) = stage.call(
        Method::POST,
        "/api/v1/tokens",
        Some(&json!({ "name": "kim", "role": "viewer" })),
    );
    let kim = made["token"].as_str().expect("a token");
    let mut streams: Vec<reqwest::Response> =
        std::iter::repeat_with(|| open_as(kim)).take(30).collect();
    let refused: Vec<_> =
        streams.iter().filter(|s| s.status() == StatusCode::TOO_MANY_REQUESTS).collect();
    assert_eq!(refused.len(), 6, "24 of one caller may follow");
    assert!(refused[0].headers().contains_key(header::RETRY_AFTER));
    streams.extend(std::iter::repeat_with(open).take(30));
    let refused: Vec<_> =
        streams.iter().filter(|s| s.status() == StatusCode::TOO_MANY_REQUESTS).collect();
    assert_eq!(refused.len(), 12, "and nobody keeps others out");
    assert!(refused[0].headers().contains_key(header::RETRY_AFTER));
    stage.send("yard-hypervisor", &json!({"kind": "a", "resource": "vm/a"}));
    drop(streams);
    until("room again", || (open().status() == StatusCode::OK).then_some(()));
}

#[test]
fn the_consoles_files_are_compressed_kept_and_fenced() {
    let stage = Stage::bare();
    let get = |path: &str| {
        block(stage.request(Method::GET, path).header("accept-encoding", "br").send())
            .expect("an answer")
    };
    let index = get("/alerts/5");
    assert_eq!(
        index.headers()[header::CACHE_CONTROL],
        "no-cache",
        "a deep link is the console's own"
    );
    assert!(
        index.headers()[header::CONTENT_SECURITY_POLICY]
            .to_str()
            .is_ok_and(|p| p.contains("default-src 'self'"))
    );
    let page = block(stage.request(Method::GET, "/").send())
        .and_then(|r| block(r.text()))
        .expect("a page");
    let script =
        page.split("src=\"/assets/").nth(1).and_then(|r| r.split('"').next()).expect("a script");
    let script = get(&format!("/assets/{script}"));
    assert_eq!(script.headers()[header::CONTENT_ENCODING], "br");
    assert!(
        script.headers()[header::CACHE_CONTROL].to_str().is_ok_and(|c| c.contains("immutable"))
    );
    assert_eq!(get("/assets/none.js").status(), 404);
    assert_eq!(get("/healthz").status(), 200);
    until("metrics", || get("/metrics").status().is_success().then_some(()));
}

#[test]
fn two_nodes_over_one_database_share_everything() {
    let stage = Stage::with_demo();
    let other = stage.second_node();
    let alert = other.send(
        "yard-hypervisor",
        &json!({"kind": "disk.usage",
        "resource": "vm/quill-booking-db-1", "severity": "major", "value": 90,
            "labels": {"tier": "gold"}}),
    );
    let verdict = stage.verdict_is(alert, "booking-disk-filling", "dispatched");
    // The other node may take it up as well, and its yard is an empty one.
    let job = stage.job_in(
        verdict["job"].as_i64().expect("a job"),
        &["running", "waiting", "succeeded", "failed"],
    );
    assert_eq!(job["job"]["runbook"], "grow-disk", "what one node took the other knows");
    other.publish(
        "rule: later\nlisten: { kinds: late }\ndispatch: { runbook: grow-disk, inputs: { \
        vm: x/y } }\n",
    );
    until("the other node to know the rule", || {
        (stage.call(Method::GET, "/api/v1/definitions/rule/later", None).0 == 200).then_some(())
    });
}

/// What the console routes is what the service answers with its page: a link to anything else looks
/// dead.
#[test]
fn every_page_of_the_console_answers_to_whoever_opens_it() {
    let stage = Stage::bare();
    let routes = include_str!("../../../../console/src/routes.tsx");
    let paths: Vec<&str> =
        routes.split("path: '").skip(1).filter_map(|rest| rest.split('\'').next()).collect();
    assert!(paths.len() > 20, "{paths:?}");
    for path in paths.into_iter().filter(|path| *path != "*") {
        let path = format!("/{}", path.trim_start_matches('/').replace(':', "x"));
        let answer = block(stage.request(Method::GET, &path).header("accept", "text/html").send())
            .expect("an answer");
        assert_eq!(answer.status(), StatusCode::OK, "{path}");
    }
}
