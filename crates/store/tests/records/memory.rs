//! What runs of runbooks remember: written once with the record, by whoever holds the job, with an
//! end to its history.

use crate::kit::{Published, block, record, rule, take};
use arvok_api::MemoryFilter;
use arvok_core::{
    Principal,
    job::{JobEffect, JobState, Place, Transition},
};
use arvok_store::{
    DatabaseConnection,
    jobs::{ClaimedJob, Record},
    memory::{self, ForgottenMemory},
};
use serde_json::{Value, json};

fn remembers(place: &str, runs: i64) -> Record {
    let then = Transition::GoOn { until: None };
    Record {
        remembered: vec![(Place::new(place), json!({ "runs": runs }))],
        then,
        ..Record::default()
    }
}

fn ended() -> Record {
    let (state, effect) = (JobState::Succeeded, JobEffect::NotChecked);
    let then = Transition::End { state, effect, failure: None, outputs: Value::Null };
    Record { then, ..Record::default() }
}

async fn stands(db: &DatabaseConnection, job: &ClaimedJob) -> Value {
    let recalled = memory::recall(db, &job.runbook, &job.target).await.expect("recalls");
    Value::Object(recalled.remembered)
}

async fn history(db: &DatabaseConnection, target: &str) -> Vec<i64> {
    let filter = MemoryFilter {
        target: Some(target.to_owned()),
        history: true,
        limit: Some(500),
        ..MemoryFilter::default()
    };
    let items = memory::list(db, &filter).await.expect("lists").items;
    items.iter().filter_map(|item| item.remembered["runs"].as_i64()).collect()
}

#[test]
fn what_is_recorded_twice_is_remembered_once_and_whoever_lost_the_job_writes_nothing() {
    let published = Published::with(&[rule("count", "")]);
    block(async {
        let db = &published.db;
        published.send(json!({ "resource": "host/a" })).await;
        let lost = take(db, "a", &[]).await.expect("a job");
        record(db, &lost, &remembers("one", 1)).await.expect("records");
        record(db, &lost, &remembers("one", 1)).await.expect("as after a lost answer");
        assert_eq!(stands(db, &lost).await, json!({ "runs": 1 }));
        assert_eq!(history(db, "host/a").await, [1]);
        // Its node is taken for dead, and another has the job.
        crate::kit::run(db, "UPDATE job SET lease_until = now() - interval '1 minute'").await;
        let held = take(db, "b", &[]).await.expect("the same job");
        assert_eq!(held.id, lost.id);
        record(db, &lost, &remembers("two", 7)).await.expect_err("the claim is lost");
        record(db, &held, &remembers("two", 2)).await.expect("records");
        assert_eq!(history(db, "host/a").await, [2, 1]);
    });
}

#[test]
fn of_each_target_the_last_times_are_kept_and_nothing_is_forgotten_under_a_job() {
    let published = Published::with(&[rule("count", "")]);
    block(async {
        let db = &published.db;
        for target in ["host/a", "host/b"] {
            published.send(json!({ "resource": target })).await;
        }
        let one = take(db, "a", &[]).await.expect("a job");
        let other = take(db, "a", &[one.claim]).await.expect("another");
        record(db, &other, &remembers("one", 1000)).await.expect("records");
        for run in 0..60 {
            record(db, &one, &remembers(&format!("s{run}"), run)).await.expect("records");
        }
        let kept = history(db, &one.target).await;
        assert_eq!((kept.len(), kept.first(), kept.last()), (50, Some(&59), Some(&10)));
        assert_eq!(history(db, &other.target).await, [1000], "each for itself");

        let (by, of) = (Principal::token("pat"), (one.runbook.as_str(), one.target.as_str()));
        let refused = memory::forget(db, of, &by, "begins anew").await.expect("asks");
        assert_eq!(refused, ForgottenMemory::AtWork(one.id.0));
        record(db, &one, &ended()).await.expect("ends");
        let forget = async || memory::forget(db, of, &by, "begins anew").await.expect("asks");
        assert_eq!(forget().await, ForgottenMemory::Done);
        assert_eq!(forget().await, ForgottenMemory::Nothing);
        assert_eq!(stands(db, &one).await, json!({}));
        assert_eq!(stands(db, &other).await, json!({ "runs": 1000 }), "no other is forgotten");
    });
}
