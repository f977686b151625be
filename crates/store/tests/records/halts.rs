//! Halts of some jobs: which they concern, that none of those is found, begun or taken up, and that
//! all others are.

use crate::kit::{Published, block, by_hand, find, one, rule, run, take};
use arvok_core::{
    JobId, Principal,
    halt::{HaltLines, HaltedJobs},
};
use arvok_store::{
    DatabaseConnection, StoreError,
    jobs::{self, MAX_HALTS, renew},
};
use serde_json::{Value, json};
use std::collections::BTreeSet;

fn lines(runbooks: &[&str], rules: &[&str], targets: &[&str]) -> (HaltLines, HaltedJobs) {
    let owned = |of: &[&str]| of.iter().map(|line| (*line).to_owned()).collect();
    let (runbooks, rules, targets) = (owned(runbooks), owned(rules), owned(targets));
    let lines = HaltLines { runbooks, rules, targets };
    let halted = lines.check().expect("says something");
    (lines, halted)
}

async fn halt(db: &DatabaseConnection, of: &(HaltLines, HaltedJobs), running: bool) -> i64 {
    let pat = Principal::token("pat");
    jobs::begin_halt(db, (&of.0, &of.1), &pat, "testing", running).await.expect("halts").id
}

/// What the database makes of lines is what the core does, whatever stands in them.
#[test]
fn a_halt_of_some_concerns_what_its_lines_say_and_nothing_else() {
    let published = Published::with(&[]);
    let texts = [
        "a",
        "ab",
        "a.b",
        "a+b",
        "a/b",
        "a/b/c",
        "(a)",
        "[a]",
        "a$b",
        "^a",
        "a|b",
        "a\\b",
        "a_b",
        "a-b",
        "é",
        "a{2}",
        "vm/quill-1",
        "vm/quill-10",
        "a b",
        "***:a",
        "",
    ];
    let globs = [
        "a",
        "a*",
        "*",
        "**",
        "a/*",
        "a/**",
        "**/c",
        "?",
        "a?b",
        "(a)",
        "[a]",
        "a.b",
        "a+b",
        "^a",
        "a$b",
        "a|b",
        "a\\b",
        "a{2}",
        "é*",
        "vm/quill-?",
        "vm/*-1",
        "***:a",
        "*_*",
    ];
    block(async {
        let db = &published.db;
        for glob in globs {
            let of = lines(&[], &[], &[glob]);
            let id = halt(db, &of, true).await;
            for text in texts {
                let job = json!({ "id": 7, "runbook": "r", "target": text }).to_string();
                let job = job.replace('\'', "''");
                let sql = format!(
                    "SELECT halt_concerns(h, jsonb_populate_record(NULL::job, '{job}')) AS x
                    FROM halt h"
                );
                let core = of.1.concerns("r", None, text);
                assert_eq!(one(db, &sql).await, core, "{glob} of {text}");
            }
            let pat = Principal::token("pat");
            assert!(jobs::lift_halt_of(db, id, &pat).await.expect("lifts"));
        }
        let of = lines(&["wake"], &["as*"], &[]);
        halt(db, &of, true).await;
        for (runbook, rule) in
            [("wake", json!("asleep")), ("wake", Value::Null), ("a", json!("as"))]
        {
            let job = json!({ "runbook": runbook, "rule": rule, "target": "vm/a" });
            let sql = format!(
                "SELECT halt_concerns(h, jsonb_populate_record(NULL::job, '{job}')) AS x FROM halt h"
            );
            let core = of.1.concerns(runbook, rule.as_str(), "vm/a");
            assert_eq!(one(db, &sql).await, core, "{job}");
        }
    });
}

async fn found(db: &DatabaseConnection) -> BTreeSet<i64> {
    find(db, "a", 8, &[]).await.jobs.iter().map(|job| job.id.0).collect()
}

#[test]
fn what_a_halt_concerns_is_neither_found_nor_taken_up_and_all_else_is() {
    let published = Published::with(&[rule("any", "")]);
    block(async {
        published.jobs(6).await;
        let (db, pat) = (&published.db, Principal::token("pat"));
        by_hand(db, "UPDATE job SET target = 'host/a' WHERE id IN (1, 4)").await;
        let ours =
            "UPDATE job SET state = 'waiting', begun = true, wake_at = now() WHERE id IN (4, 5)";
        by_hand(db, ours).await;
        let hosts = halt(db, &lines(&[], &[], &["host/*"]), false).await;
        assert_eq!(found(db).await, [5].into(), "what waits is taken up first, but for the halted");
        by_hand(
            db,
            "UPDATE job SET state = 'running', wake_at = NULL, claim = 99,
            lease_until = now() + interval '1 minute' WHERE id = 5",
        )
        .await;
        assert_eq!(found(db).await, [2, 3, 6].into());
        // Two that overlap: whoever lifts one leaves the other.
        let rules = halt(db, &lines(&[], &["any"], &[]), false).await;
        assert_eq!(found(db).await, [].into());
        assert!(jobs::lift_halt_of(db, hosts, &pat).await.expect("lifts"));
        assert!(!jobs::lift_halt_of(db, hosts, &pat).await.expect("asks"), "it is gone");
        assert_eq!(found(db).await, [].into());
        assert!(jobs::lift_halt_of(db, rules, &pat).await.expect("lifts"));
        assert_eq!(found(db).await, [4].into());
        // The halt of all is another one, and lifts none of some.
        halt(db, &lines(&[], &[], &["host/*"]), false).await;
        jobs::set_halt(db, &pat, "all of them", false).await.expect("halts");
        assert_eq!(found(db).await, [].into());
        assert!(jobs::lift_halt(db, &pat).await.expect("lifts"));
        assert_eq!(jobs::halts(db).await.expect("lists").len(), 1);
        assert_eq!(found(db).await, [2, 3, 6].into());
    });
}

#[test]
fn what_was_found_before_a_halt_does_not_begin_behind_it() {
    let published = Published::with(&[rule("any", "")]);
    block(async {
        published.jobs(4).await;
        let db = &published.db;
        by_hand(db, "UPDATE job SET target = 'host/a' WHERE id = 2").await;
        let found = find(db, "a", 8, &[]).await;
        assert_eq!(found.jobs.len(), 4);
        halt(db, &lines(&[], &[], &["host/*"]), false).await;
        let goes_on = arvok_store::jobs::Record::default();
        let mut records = vec![Some(&goes_on); 4];
        records[3] = None;
        let begun = crate::kit::begin(db, "a", &found.jobs, &records, &[]).await.expect("begins");
        assert_eq!(begun, [1, 3, 4], "neither with a record nor without");
    });
}

#[test]
fn of_those_that_run_only_what_a_halt_concerns_hears_of_it_and_goes_on_when_none_is_left() {
    let published = Published::with(&[rule("any", "")]);
    block(async {
        published.jobs(3).await;
        let (db, pat) = (&published.db, Principal::token("pat"));
        let mut claims = Vec::new();
        while let Some(job) = take(db, "a", &[]).await {
            claims.push((job.id, job.claim));
        }
        assert_eq!(claims.len(), 3);
        let target = one(db, "SELECT target AS x FROM job WHERE id = 2").await;
        let target = target.as_str().expect("a target");
        let quiet = halt(db, &lines(&[], &[], &[target]), false).await;
        let halted = async || {
            let all: Vec<_> = claims.iter().map(|(_, claim)| *claim).collect();
            let renewed = renew(db, &all).await.expect("renews");
            let told = renewed.into_iter().filter(|renewed| renewed.halted.is_some());
            told.map(|renewed| {
                let of = claims.iter().find(|(_, claim)| *claim == renewed.claim);
                (of.expect("one of them").0, renewed.halted.unwrap_or_default())
            })
            .collect::<Vec<_>>()
        };
        assert_eq!(halted().await, [], "what is under way goes on");
        let loud = halt(db, &lines(&[], &[], &[target]), true).await;
        assert_eq!(halted().await, [(JobId(2), "halted by pat: testing".to_owned())]);
        by_hand(
            db,
            "UPDATE job SET state = 'paused', progress = '{\"paused\": {\"since\": \"2026-01-01T00:00:00Z\",
            \"words\": \"w\", \"by_halt\": true}}' WHERE id = 2",
        )
        .await;
        assert_eq!(jobs::let_go_on(db).await.expect("looks"), 0, "it stands");
        assert!(jobs::lift_halt_of(db, loud, &pat).await.expect("lifts"));
        assert_eq!(one(db, "SELECT word AS x FROM job WHERE id = 2").await, "resume");
        // It is not taken up as long as the quiet one stands.
        assert!(take(db, "a", &[]).await.is_none());
        assert!(jobs::lift_halt_of(db, quiet, &pat).await.expect("lifts"));
        assert_eq!(take(db, "a", &[]).await.map(|job| job.id), Some(JobId(2)));
    });
}

#[test]
fn there_are_so_many_halts_and_no_more_however_many_come_at_once() {
    let published = Published::with(&[]);
    block(async {
        let db = &published.db;
        run(
            db,
            &format!(
                "INSERT INTO halt (is_one, by, reason, covers, targets) SELECT NULL, 'token/pat', 'w',
                '{{\"targets\": [\"a\"]}}', '{{a}}' FROM generate_series(1, {})",
                MAX_HALTS - 1
            ),
        )
        .await;
        let of = lines(&[], &[], &["vm/a"]);
        let pat = Principal::token("pat");
        let begin = || jobs::begin_halt(db, (&of.0, &of.1), &pat, "testing", false);
        let both = tokio::join!(begin(), begin());
        let refused = [both.0, both.1].into_iter().filter_map(Result::err).collect::<Vec<_>>();
        assert!(matches!(refused[..], [StoreError::TooMany("halts", MAX_HALTS)]), "{refused:?}");
    });
}

/// The database compiles what it holds to be costly: done for each job, that took minutes.
#[test]
fn thousands_of_halted_jobs_hide_none_that_stands_behind_them() {
    let published = Published::with(&[rule("any", "")]);
    block(async {
        published.jobs(2).await;
        let db = &published.db;
        by_hand(
            db,
            "UPDATE job SET urgency = 0 WHERE id = 2;
            INSERT INTO job SELECT (jsonb_populate_record(j,
                jsonb_build_object('id', 1000 + n, 'target', 'bulk/x' || n))).*
            FROM job j, generate_series(1, 4000) n WHERE j.id = 1",
        )
        .await;
        run(db, "ANALYZE job").await;
        halt(db, &lines(&[], &[], &["bulk/*", "vm/t0"]), false).await;
        let found = tokio::time::timeout(std::time::Duration::from_secs(30), found(db)).await;
        assert_eq!(found.expect("in time"), [2].into());
    });
}
