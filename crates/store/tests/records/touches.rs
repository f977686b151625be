//! What jobs touch: recorded with the call, kept away from by rules and guards.

use crate::kit::{Published, begin_within, block, find, now, one, record, rows, rule, seconds};
use arvok_core::{
    JobId, ResourcePath,
    job::{JobEffect, JobState, Place, Transition},
};
use arvok_store::{
    DatabaseConnection,
    intake::{self, Slots, settle_due},
    jobs::{ClaimedJob, Limited, Record, guards, guards::LetBack},
    read, touches,
};
use serde_json::{Value, json};
use std::collections::BTreeSet;

const KEEPS_AWAY: &str = "settle: { untouched: 15m }";

fn touching(resources: &[&str]) -> Record {
    let place = || Place::new("move");
    let touched = resources.iter().map(|resource| (place(), (*resource).to_owned()));
    Record { touched: touched.collect(), ..Record::default() }
}

fn ended() -> Record {
    let then = Transition::End {
        state: JobState::Succeeded,
        effect: JobEffect::NotChecked,
        failure: None,
        outputs: Value::Null,
    };
    Record { then, ..Record::default() }
}

/// Begins the next job with what it touches at once.
async fn begin_touching(published: &Published, resources: &[&str]) -> Option<ClaimedJob> {
    let db = &published.db;
    let found = find(db, "a", 1, &[]).await;
    let first = touching(resources);
    let records = vec![Some(&first); found.jobs.len()];
    let limited = Limited { guards: &published.guards, ..Limited::default() };
    let kept = begin_within(db, "a", &found.jobs, &records, limited).await.expect("begins");
    found.jobs.into_iter().find(|job| kept.contains(&job.id.0))
}

async fn verdict_of(db: &DatabaseConnection, alert: i64) -> (Value, String) {
    let sql = format!("SELECT verdict, reason FROM verdicts WHERE alert_seq = {alert}");
    let row = rows(db, &sql).await.remove(0);
    (row["verdict"].clone(), row["reason"].as_str().unwrap_or_default().to_owned())
}

#[test]
fn a_rule_keeps_away_from_what_a_job_touches_until_long_enough_after_its_end() {
    let published = Published::with(&[rule("relieve", KEEPS_AWAY)]);
    block(async {
        let db = &published.db;
        published.send(json!({ "resource": "host/a" })).await;
        let job = begin_touching(&published, &["vm/guest", "host/b", "host/b"]).await;
        let job = job.expect("begins");
        let told = touches::of_job(db, job.id, 10).await.expect("reads");
        let told: Vec<&str> = told.iter().map(|touch| touch.resource.as_str()).collect();
        assert_eq!(told, ["host/b", "vm/guest"], "each once, for people");

        let b = published.send(json!({ "resource": "host/b" })).await;
        let part = published.send(json!({ "resource": "host/b/disk" })).await;
        let other = published.send(json!({ "resource": "host/bb" })).await;
        for kept_away in [b, part] {
            let (verdict, reason) = verdict_of(db, kept_away).await;
            assert_eq!(verdict, "resting", "{reason}");
            let words = format!("job {} touches host/b; left alone for 15m, until ", job.id);
            assert!(reason.starts_with(&words), "{reason}");
        }
        assert_eq!(verdict_of(db, other).await.0, "dispatched", "names are not cut");

        // It is over: fifteen minutes from then on.
        record(db, &job, &ended()).await.expect("ends");
        let at = |minutes: i64| now() + seconds(minutes * 60);
        let look = async |at| {
            settle_due(db, published.rules(), Slots::Tallies, &BTreeSet::new(), at)
                .await
                .expect("looks")
        };
        look(at(14)).await;
        assert_eq!(verdict_of(db, b).await.0, "resting");
        look(at(16)).await;
        let (verdict, reason) = verdict_of(db, b).await;
        assert_eq!(verdict, "dispatched");
        assert!(reason.contains("it rests no longer and is raised"), "{reason}");
    });
}

#[test]
fn what_is_foreseen_of_an_alert_knows_what_was_touched() {
    let published = Published::with(&[rule("relieve", KEEPS_AWAY)]);
    block(async {
        let db = &published.db;
        published.send(json!({ "resource": "host/a" })).await;
        begin_touching(&published, &["host/b"]).await.expect("begins");
        let alert = crate::kit::alert(json!({ "resource": "host/b" }), now());
        let (relieve, _) = published.catalog.get("relieve").expect("the rule");
        let held = (&[][..], &published.guards, None);
        let (verdict, reason) =
            intake::preview(db, relieve, &alert, held, now()).await.expect("foresees");
        assert_eq!(verdict.as_str(), "resting");
        assert!(reason.contains("touches host/b"), "{reason}");
    });
}

#[test]
fn a_guard_counts_what_is_touched_and_keeps_jobs_away_from_it() {
    let guard = "guard: hosts\nconcerns: { targets: 'host/*' }\nat_once: 2\n---\n\
        guard: apart\nuntouched: 10m\n";
    let published = Published::with(&[rule("relieve", ""), guard.to_owned()]);
    block(async {
        let db = &published.db;
        for host in ["host/a", "host/b", "host/c"] {
            published.send(json!({ "resource": host })).await;
        }
        let first = begin_touching(&published, &["host/d"]).await.expect("begins");
        assert_eq!(first.target, "host/a");
        assert!(begin_touching(&published, &[]).await.is_none(), "two hosts are in use");
        assert!(begin_touching(&published, &[]).await.is_none(), "two hosts are in use");
        let why = "SELECT held ->> 'why' AS x FROM job WHERE target = 'host/b'";
        let both = format!(
            "2 of 2 targets at once under way: host/a (job {}), host/d (job {})",
            first.id, first.id
        );
        assert_eq!(one(db, why).await, json!(both));
        let asked = guards::known(db, &published.guards).await.expect("known");
        assert_eq!(asked["hosts"].0.touched, [(first.id, "host/d".to_owned())]);

        // What was touched is left alone also when the job is over, the rest goes on.
        published.send(json!({ "resource": "host/d" })).await;
        record(db, &first, &ended()).await.expect("ends");
        guards::let_back_held(db, &published.guards, LetBack::All).await.expect("lets back");
        let mut begun = BTreeSet::new();
        while let Some(job) = begin_touching(&published, &[]).await {
            begun.insert(job.target.clone());
        }
        assert_eq!(begun, ["host/b", "host/c"].map(str::to_owned).into());
        let why = "SELECT held ->> 'guard' AS x FROM job WHERE target = 'host/d'";
        assert!([json!("hosts"), json!("apart")].contains(&one(db, why).await));
    });
}

#[test]
fn two_hosts_under_pressure_never_take_from_each_other() {
    // Whoever begins a job touches the next host; a rule that keeps away never dispatches for it.
    let published = Published::with(&[rule("relieve", KEEPS_AWAY)]);
    block(async {
        let db = &published.db;
        published.send(json!({ "resource": "host/a" })).await;
        begin_touching(&published, &["host/b", "vm/guest"]).await.expect("begins");
        let sends = (0..8).map(|_| published.send(json!({ "resource": "host/b" })));
        futures_util::future::join_all(sends).await;
        let jobs = "SELECT count(*) AS x FROM job WHERE target = 'host/b'";
        assert_eq!(one(db, jobs).await, 0);
    });
}

#[test]
fn what_is_known_of_a_resource_is_told_and_what_is_old_goes() {
    let published = Published::with(&[rule("relieve", "")]);
    block(async {
        let db = &published.db;
        published.send(json!({ "resource": "host/a/disk", "summary": "it fills" })).await;
        let job = begin_touching(&published, &["host/a"]).await.expect("begins");
        let resource = ResourcePath::parse("host/a").expect("a resource");
        let known = read::known_of(db, &resource, now()).await.expect("tells");
        assert_eq!(
            (&known["alarms"][0]["summary"], &known["alarms"][0]["severity"]),
            (&json!("it fills"), &json!("major"))
        );
        assert_eq!(known["jobs"][0]["target"], "host/a/disk");
        assert_eq!(
            known["touched"],
            json!([{ "job": job.id, "resource": "host/a", "ended": null, "seconds_ago": 0 }])
        );
        let other = ResourcePath::parse("host/b").expect("a resource");
        assert_eq!(
            read::known_of(db, &other, now()).await.expect("tells"),
            json!({ "alarms": [], "jobs": [], "touched": [] })
        );

        crate::kit::run(db, "UPDATE touch SET at = now() - interval '40 days'").await;
        arvok_store::sweep(db, arvok_store::Limits::default(), now()).await.expect("sweeps");
        assert_eq!(touches::of_job(db, JobId(job.id.0), 10).await.expect("reads").len(), 0);
    });
}
