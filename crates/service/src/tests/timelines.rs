//! Alerts, verdicts and jobs over time.

use super::*;
use arvok_store::ConnectionTrait;
use serde_json::json;

const SOURCE: &str =
    "source: pier\nintake: { webhook: { credential: { bearer: \"${secret('x')}\" } } }\n";

fn rule(name: &str, kind: &str, settle: &str) -> String {
    format!(
        "rule: {name}\nstance: act\nlisten: {{ kinds: {kind} }}\nsettle: {settle}\n\
         dispatch: {{ runbook: note, inputs: {{ on: '${{alert.resource}}' }} }}\n"
    )
}

const NOTE: &str = "runbook: note\ninputs: { on: { type: string } }\ntarget: '${inputs.on}'\n\
                    steps: [ { id: fine, require: 'true' } ]\n";

/// Sums of the marks, by their names.
fn sums(timeline: &Value, names: &[&str]) -> Vec<i64> {
    let marks = timeline["marks"].as_array().expect("marks");
    names
        .iter()
        .map(|name| marks.iter().map(|mark| mark[name].as_i64().expect("a number")).sum())
        .collect()
}

async fn asked(desk: &Desk, path: &str) -> Said {
    desk.ask(shown(TestRequest::get().uri(path), "viewer")).await
}

async fn desk() -> Desk {
    let desk = Desk::new().await;
    let rules = [rule("quick", "a.quick", "{}"), rule("calm", "a.*", "{ still: 1h }")];
    let text = [&[SOURCE.to_owned(), NOTE.to_owned()], rules.as_slice()].concat().join("---\n");
    assert!(desk.publish(&text).await.status < 300);
    for (i, kind) in ["a.quick", "a.quick", "a.slow", "b.none", "b.none"].into_iter().enumerate() {
        let alert = json!({ "kind": kind, "resource": format!("vm/r{i}") });
        assert_eq!(
            desk.ask(authored(TestRequest::post().uri("/in/pier?trial=no").set_json(alert)))
                .await
                .status,
            202
        );
    }
    desk
}

const HOW: [&str; 6] = ["dispatched", "proposed", "watched", "folded", "held", "unmatched"];

#[actix_web::test]
async fn all_alerts_by_the_furthest_that_any_rule_took_them_and_those_of_one_rule() {
    let desk = desk().await;
    assert_eq!(sums(&asked(&desk, "/api/v1/timeline").await.json, &HOW), [2, 0, 0, 0, 1, 2]);
    assert_eq!(
        sums(&asked(&desk, "/api/v1/timeline?rule=quick").await.json, &HOW),
        [2, 0, 0, 0, 0, 0]
    );
    assert_eq!(
        sums(&asked(&desk, "/api/v1/timeline?rule=calm").await.json, &HOW),
        [0, 0, 0, 0, 3, 0]
    );
    // Over a longer time it is counted by hour, and says the same.
    let since = (clock::now() - chrono::TimeDelta::days(7))
        .to_rfc3339_opts(chrono::SecondsFormat::Secs, true);
    let week = asked(&desk, &format!("/api/v1/timeline?rule=calm&since={since}")).await.json;
    assert_eq!(sums(&week, &HOW), [0, 0, 0, 0, 3, 0]);
    assert!(week["step_seconds"].as_i64() >= Some(3600), "{week}");
    // So are very many of one hour.
    let many = "UPDATE verdict_count SET count = count + 60000 WHERE rule = 'calm'
        AND verdict = 'waiting'";
    desk.node.pools.work.execute_unprepared(many).await.expect("counts");
    let flood = asked(&desk, "/api/v1/timeline?rule=calm").await.json;
    assert!(flood["step_seconds"] == 3600 && sums(&flood, &HOW)[4] > 60_000, "{flood}");
    let unknown = asked(&desk, "/api/v1/timeline?rule=quik").await;
    assert_eq!(told(&unknown), "404 not-found: there is no rule `quik`; did you mean `quick`?");
}

#[actix_web::test]
async fn jobs_by_what_has_become_of_them_within_the_stretch_that_was_asked_for() {
    let desk = desk().await;
    let names = ["confirmed", "unproved", "under_way", "failed"];
    assert_eq!(sums(&asked(&desk, "/api/v1/timeline/jobs").await.json, &names), [0, 0, 2, 0]);
    let ended = "UPDATE job SET state = 'succeeded', effect = 'confirmed' WHERE id = 1;
        UPDATE job SET state = 'unsure', created_at = now() - interval '2 hours' WHERE id = 2;
        INSERT INTO job SELECT (jsonb_populate_record(j,
        '{\"id\": 90, \"state\": \"succeeded\", \"effect\": \"unconfirmed\"}')).*
            FROM job j WHERE id = 1";
    desk.node.pools.work.execute_unprepared(ended).await.expect("ends");
    assert_eq!(sums(&asked(&desk, "/api/v1/timeline/jobs").await.json, &names), [1, 1, 0, 0]);
    let since = (clock::now() - chrono::TimeDelta::hours(3))
        .to_rfc3339_opts(chrono::SecondsFormat::Secs, true);
    let all = asked(&desk, &format!("/api/v1/timeline/jobs?since={since}")).await.json;
    assert_eq!(sums(&all, &names), [1, 1, 0, 1]);
    let until = (clock::now() - chrono::TimeDelta::hours(1))
        .to_rfc3339_opts(chrono::SecondsFormat::Secs, true);
    let listed = asked(&desk, &format!("/api/v1/jobs?since={since}&until={until}")).await.json;
    assert_eq!(listed["items"].as_array().map(Vec::len), Some(1), "{listed}");
    assert_eq!(listed["items"][0]["id"], 2);
    for odd in ["since=2999-01-01T00:00:00Z", "since=gestern", "until=0000-01-01T00:00:00Z"] {
        assert_eq!(
            asked(&desk, &format!("/api/v1/timeline/jobs?{odd}")).await.status,
            400,
            "{odd}"
        );
    }
}
