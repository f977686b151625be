//! What a node does while something is wrong with it.

use super::*;
use crate::{problem::ApiError, self_monitoring};
use std::time::{Duration, Instant};

/// A due time that nobody looks at, so that there is something to tell.
async fn overdue(desk: &Desk) {
    let sql = "INSERT INTO tally (rule, key, state, alarms, due)
        VALUES ('gone', '[]', '{}', '{}', now() - interval '5 minutes')";
    run_sql(desk, sql).await;
}

async fn run_sql(desk: &Desk, sql: &str) {
    arvok_store::ConnectionTrait::execute_unprepared(&desk.node.pools.work, sql).await.expect(sql);
}

#[actix_web::test]
async fn the_watch_over_itself_does_not_wait_for_an_intake_that_stands_still() {
    let desk = Desk::idle().await;
    overdue(&desk).await;
    let begun = Instant::now();
    self_monitoring::look(&desk.node, chrono::DateTime::UNIX_EPOCH).await.expect("looks");
    assert!(begun.elapsed() < Duration::from_secs(5), "it goes on beating");
    assert!(desk.node.admission.bytes() > 0, "its alarm waits in the queue like any other");
}

#[actix_web::test]
async fn what_is_wrong_is_told_once_and_is_over_when_it_is_over() {
    let desk = Desk::new().await;
    overdue(&desk).await;
    for _ in 0..3 {
        self_monitoring::look(&desk.node, chrono::DateTime::UNIX_EPOCH).await.expect("looks");
    }
    let alarms =
        || desk.ask(shown(TestRequest::get().uri("/api/v1/alarms?source=arvok"), "viewer"));
    let standing = alarms().await.json;
    assert_eq!(standing["items"].as_array().map(Vec::len), Some(1), "{standing}");
    assert_eq!(standing["items"][0]["kind"], "due.late");
    assert_eq!(standing["items"][0]["state"], "raised");
    run_sql(&desk, "DELETE FROM tally").await;
    self_monitoring::look(&desk.node, chrono::DateTime::UNIX_EPOCH).await.expect("looks");
    assert_eq!(alarms().await.json["items"][0]["state"], "cleared");
}

#[actix_web::test]
async fn what_cannot_be_compiled_keeps_its_last_good_version_and_says_so() {
    let desk = Desk::new().await;
    let note = "runbook: note\ntarget: vm/a\nsteps: [ { id: fine, require: 'true' } ]\n";
    assert!(desk.publish(note).await.status < 300);
    assert_eq!(desk.ask(TestRequest::get().uri("/readyz")).await.status, 200);
    // As a newer version of the program may have published.
    let newer = "INSERT INTO definition (kind, name, version, file, text, published_at,
        published_by)
        VALUES ('runbook', 'note', 2, 'a.yaml', 'runbook: note' || chr(10) || 'novel: 5', now(),
        'token/pat')";
    run_sql(&desk, newer).await;
    desk.node.reload().await.expect("loads what it can");
    let said = desk.ask(TestRequest::get().uri("/readyz")).await;
    assert_eq!(
        told(&said),
        "503 not-ready: runbook note version 2 cannot be compiled by this node; what was before \
        stays"
    );
    assert!(
        desk.node
            .published()
            .catalog
            .get::<arvok_core::runbook::Runbook>("note")
            .is_some_and(|(_, v)| v == 1)
    );
    let metrics = desk.ask(TestRequest::get().uri("/metrics")).await.json.to_string();
    assert!(metrics.contains("arvok_faulty_definitions 1"), "{metrics}");
}

#[test]
fn every_refusal_has_a_status_a_code_and_words() {
    let text = || "what".to_owned();
    let all = [
        ApiError::NoToken,
        ApiError::BadToken,
        ApiError::role(Role::Admin, Role::Viewer),
        ApiError::CrossSite,
        ApiError::NotFound(text()),
        ApiError::BadRequest(text()),
        ApiError::TooLarge(10),
        ApiError::Unreadable { id: 7, reason: text() },
        ApiError::Conflict(text()),
        ApiError::Definitions(Vec::new()),
        ApiError::Faulty(Vec::new()),
        ApiError::Busy,
        ApiError::Asked,
        ApiError::Followed,
        ApiError::Slow,
        ApiError::Address(text()),
        ApiError::Method("POST".into()),
        ApiError::Rehearsing,
        ApiError::Unavailable,
        ApiError::NotReady(text()),
        ApiError::Internal,
    ];
    let said: Vec<String> = all
        .iter()
        .map(|e| {
            let answer = e.error_response();
            let retry = answer
                .headers()
                .get(header::RETRY_AFTER)
                .and_then(|v| v.to_str().ok())
                .unwrap_or("-");
            format!("{} retry {retry}: {e}", answer.status().as_u16())
        })
        .collect();
    insta::assert_snapshot!(said.join("\n"), @"
    401 retry -: a token is needed: send `Authorization: Bearer ...`, or sign in
    401 retry -: this token is not known here; it may have been revoked, or the session has ended
    403 retry -: this needs the role admin or a higher one; the token has the role viewer
    403 retry -: a change from the console must carry the header X-Arvok-Console
    404 retry -: there is no what
    400 retry -: what
    413 retry -: the body has more than 10 bytes
    422 retry -: the payload cannot be read: what; it is kept as unreadable 7
    409 retry -: what
    422 retry -: the definitions have 0 problems; nothing was published
    422 retry -: the rule has 0 problems
    429 retry 1: too many deliveries are waiting; send it again in a second
    429 retry 1: the node has too many questions to answer at the moment; ask again in a second
    429 retry 1: as many follow the changes at this node as it has room for; try again later, or at another node
    408 retry -: the body did not come in time
    403 retry -: `what` has a new address, opens its session in another way, or a script of it has other code, and names a secret, which would go there; an admin publishes that
    405 retry -: this takes POST only
    429 retry 1: other rehearsals are running; try again when they have ended
    503 retry 5: the records cannot be reached at the moment; try again
    503 retry -: what
    500 retry -: something went wrong inside; the log says what
    ");
}

#[test]
fn errors_of_the_store_become_what_a_caller_can_do_about_them() {
    use arvok_store::StoreError;
    let said = |e: StoreError| ApiError::from(e).status_code().as_u16();
    assert_eq!(said(StoreError::Taken("a".into())), 409);
    assert_eq!(said(StoreError::Stale(4)), 409);
    assert_eq!(said(StoreError::BrokenOff("it")), 503);
    assert_eq!(said(StoreError::Contended("they")), 503);
    assert_eq!(said(StoreError::ClaimLost), 500);
}
