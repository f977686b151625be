//! What is published: all of it or nothing, by whoever was first.

use crate::kit::{NOTE, Published, block, now, one, rows, rule};
use arvok_core::{JobId, Principal, job::JobState};
use arvok_store::{
    DatabaseConnection, StoreError,
    definitions::{self, NewVersion, Publication, load, publish, standing, versions},
    proposals::{self, Decided},
};
use serde_json::json;

fn version(kind: &str, name: &str, version: i32, text: &str) -> NewVersion {
    NewVersion {
        kind: kind.into(),
        name: name.into(),
        version,
        file: "more.yaml".into(),
        text: text.into(),
        parts: Default::default(),
    }
}

async fn generation(db: &DatabaseConnection) -> i64 {
    definitions::generation(db).await.expect("a generation")
}

#[test]
fn of_two_that_publish_at_once_one_is_told_what_stands() {
    let published = Published::with(&[]);
    block(async {
        let db = &published.db;
        let at = generation(db).await;
        let new = |name: &str| Publication {
            generation: at,
            versions: vec![
                version("rule", name, 1, &rule(name, "")),
                version("runbook", "note", 2, NOTE),
            ],
            ..Publication::default()
        };
        let [pat, kim] = ["pat", "kim"].map(Principal::token);
        let (a, b) =
            tokio::join!(publish(db, new("a"), &pat, now()), publish(db, new("b"), &kim, now()));
        let stands = generation(db).await;
        let refused = match (a, b) {
            (Ok(()), Err(refused)) | (Err(refused), Ok(())) => refused,
            both => panic!("exactly one of them: {both:?}"),
        };
        assert!(matches!(refused, StoreError::Stale(g) if g == stands), "{refused:?}");
        assert!(stands > at);
        assert_eq!(
            one(db, "SELECT count(*) AS x FROM definition WHERE kind = 'rule'").await,
            1,
            "all of it or nothing"
        );
    });
}

#[test]
fn the_newest_stands_and_all_versions_are_kept() {
    let published = Published::with(&[rule("a", "")]);
    block(async {
        let db = &published.db;
        for n in 2..=4 {
            let text = rule("a", &format!("summary: the {n}th"));
            let publication = Publication {
                generation: generation(db).await,
                versions: vec![version("rule", "a", n, &text)],
                ..Publication::default()
            };
            publish(db, publication, &Principal::token("kim"), now()).await.expect("publishes");
        }
        let stands = standing(db).await.expect("stands");
        let newest: Vec<(&str, i32)> =
            stands.newest.iter().map(|n| (n.name.as_str(), n.version)).collect();
        assert_eq!(newest, [("a", 4), ("note", 1)]);
        let loaded = load(db, &stands.newest).await.expect("loads");
        assert!(loaded.iter().any(|d| d.name == "a" && d.text.contains("the 4th")), "{loaded:?}");
        let all = versions(db, "rule", "a").await.expect("versions");
        let told: Vec<(i32, &str)> = all.iter().map(|v| (v.version, v.published_by.id())).collect();
        assert_eq!(told, [(4, "kim"), (3, "kim"), (2, "kim"), (1, "pat")]);
        let old = definitions::version(db, "rule", "a", 2).await.expect("asks").expect("there");
        assert!(old.text.contains("the 2th"));
        assert!(definitions::version(db, "rule", "a", 9).await.expect("asks").is_none());
        let said = definitions::since(db, now() - crate::kit::seconds(60)).await.expect("asks");
        assert_eq!(said.len(), 5);
        assert_eq!(said[0], "rule a by kim");
    });
}

#[test]
fn a_withdrawn_rule_remembers_nothing_and_says_why() {
    let proposing =
        rule("careful", "settle: { rest: 1h }").replace("stance: act", "stance: propose");
    let published = Published::with(&[
        rule("patient", "settle: { still: 1h }"),
        rule("other", "settle: { still: 1h }"),
        proposing,
    ]);
    block(async {
        let db = &published.db;
        let seq = published.send(json!({})).await;
        let publication = Publication {
            generation: published.generation,
            withdrawn: vec![
                version("rule", "patient", 2, "rule: patient"),
                version("rule", "careful", 2, "rule: careful"),
            ],
            ..Publication::default()
        };
        publish(db, publication, &Principal::token("pat"), now()).await.expect("withdraws");
        let left = rows(db, "SELECT rule FROM tally ORDER BY rule").await;
        assert_eq!(left, [json!({ "rule": "other" })]);
        let sql = format!(
            "SELECT reason AS x FROM verdicts WHERE alert_seq = {seq} AND rule = 'patient'"
        );
        let reason = one(db, &sql).await;
        assert!(
            reason
                .as_str()
                .is_some_and(|r| r.ends_with("the rule was withdrawn before it was decided")),
            "{reason}"
        );
        let proposal = rows(db, "SELECT state, note FROM proposal").await;
        assert_eq!(proposal, [json!({ "state": "withdrawn", "note": "its rule was withdrawn" })]);
        let stands = standing(db).await.expect("stands");
        assert!(stands.newest.iter().any(|n| n.name == "patient" && n.withdrawn && n.version == 2));
    });
}

#[test]
fn a_proposal_is_decided_by_one_of_those_who_decide_at_once() {
    let proposing =
        rule("careful", "settle: { rest: 1h }").replace("stance: act", "stance: propose");
    let published = Published::with(&[proposing]);
    block(async {
        let db = &published.db;
        for round in 0..8 {
            published.send(json!({ "resource": format!("vm/p{round}") })).await;
            let id = one(db, "SELECT max(id) AS x FROM proposal WHERE state = 'open'")
                .await
                .as_i64()
                .expect("open");
            let [pat, kim, ola] = ["pat", "kim", "ola"].map(Principal::token);
            let by = |by| Decided { by, at: now(), note: Some("seen"), instead: None };
            let (launched, again, dismissed) = tokio::join!(
                proposals::launch(db, JobId(id), by(&pat)),
                proposals::launch(db, JobId(id), by(&kim)),
                proposals::dismiss(db, JobId(id), by(&ola))
            );
            let done = [launched, again, dismissed].map(|d| d.expect("decides"));
            assert_eq!(done.iter().filter(|d| **d).count(), 1, "{done:?}");
            let jobs = one(db, &format!("SELECT count(*) AS x FROM job WHERE id = {id}")).await;
            assert_eq!(jobs, i64::from(!done[2]), "it is launched or it is not: {done:?}");
            let row =
                rows(db, &format!("SELECT state, decided_by, note FROM proposal WHERE id = {id}"))
                    .await
                    .remove(0);
            let who =
                ["token/pat", "token/kim", "token/ola"][done.iter().position(|d| *d).expect("one")];
            let state = if done[2] { "dismissed" } else { "launched" };
            assert_eq!(row, json!({ "state": state, "decided_by": who, "note": "seen" }));
        }
        let queued = format!("SELECT count(*) AS x FROM job WHERE state <> '{}'", JobState::Queued);
        assert_eq!(one(db, &queued).await, 0);
        let pat = Principal::token("pat");
        let unknown = Decided { by: &pat, at: now(), note: None, instead: None };
        assert!(!proposals::launch(db, JobId(999_999), unknown).await.expect("asks"));
    });
}
