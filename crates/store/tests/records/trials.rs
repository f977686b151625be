//! Trials in the records: counted nowhere, in nobody's way, and cleared away without touching what
//! is real, whoever is at work meanwhile.

use crate::kit::{
    Published, alert, block, find, now, one, payloads, rows, rule, run, seconds, take,
};
use arvok_core::Principal;
use arvok_store::{
    DatabaseConnection,
    intake::{Slots, Writer, settle_due},
    trials,
};
use serde_json::json;
use std::collections::BTreeSet;

/// All that is counted, but for the moments.
async fn counts(db: &DatabaseConnection) -> Vec<serde_json::Value> {
    rows(
        db,
        "SELECT 'verdicts' AS what, verdict AS of, sum(count) AS n FROM verdict_count GROUP BY 2
        UNION ALL SELECT 'alerts', how::text, sum(count) FROM alert_count GROUP BY 2
        UNION ALL SELECT 'delivered', source, sum(alerts + repeated) FROM delivery_count GROUP BY 2
        UNION ALL SELECT 'jobs', runbook, sum(jobs + confirmed) FROM job_count GROUP BY 2
        ORDER BY 1, 2",
    )
    .await
}

#[test]
fn a_trial_is_decided_by_the_same_rules_and_counted_nowhere() {
    let published = Published::with(&[rule("grow", "settle: { cap: { jobs: 1, per: 1h } }")]);
    block(async {
        let db = &published.db;
        for _ in 0..3 {
            published.send(json!({ "trial": true })).await;
        }
        let verdicts = "SELECT string_agg(verdict, ' ' ORDER BY alert_seq) AS x FROM verdicts";
        assert_eq!(one(db, verdicts).await, "dispatched folded folded");
        assert_eq!(counts(db).await, Vec::<serde_json::Value>::new());
        // Neither an episode nor a cap of trials holds back what is real.
        published.send(json!({})).await;
        assert_eq!(one(db, verdicts).await, "dispatched folded folded dispatched");
        assert_eq!(one(db, "SELECT count(*) AS x FROM alarm").await, 2);
        // What is decided again later moves no count either.
        run(db, "UPDATE verdicts SET verdict = 'resting' WHERE trial").await;
        let held = "SELECT coalesce(sum(count), 0) AS x FROM alert_count WHERE how = 5";
        assert_eq!(one(db, held).await, 0);
        assert_eq!(one(db, "SELECT sum(jobs) AS x FROM job_count").await, 1);
    });
}

#[test]
fn a_dry_job_waits_for_nobody_and_nobody_for_it() {
    let published = Published::with(&[rule("grow", "")]);
    block(async {
        let db = &published.db;
        published.send(json!({})).await;
        let real = take(db, "a", &[]).await.expect("the real one");
        published.send(json!({ "trial": true })).await;
        published.send(json!({ "resource": "vm/b", "trial": true })).await;
        published.send(json!({ "resource": "vm/c" })).await;
        // The runbook may have one job at once, and one is under way, on the target of the first.
        let one_at_once = [("note".to_owned(), 1)];
        let found = find(db, "a", 9, &one_at_once).await.jobs;
        assert_eq!(found.len(), 2, "both trials, and not the other real one");
        assert!(found.iter().all(|job| job.trial.is_some()), "{found:?}");
        let end =
            format!("UPDATE job SET state = 'succeeded', claim = NULL WHERE id = {}", real.id);
        run(db, &end).await;
        let dry = take(db, "a", &[]).await.expect("a trial");
        assert!(dry.trial.is_some());
        let found = find(db, "a", 9, &one_at_once).await.jobs;
        assert!(found.iter().any(|job| job.trial.is_none()), "a trial takes nobody's place");
    });
}

#[test]
fn what_a_trial_makes_a_rule_wait_for_is_a_trial_too() {
    let published = Published::with(&[rule("silent", "settle: { missing: 1m }")]);
    block(async {
        published.send(json!({ "trial": true, "state": "noted" })).await;
        run(&published.db, "DELETE FROM verdicts; DELETE FROM alerts").await;
        let none = BTreeSet::new();
        let at = now() + seconds(120);
        settle_due(&published.db, published.rules(), Slots::Tallies, &none, at)
            .await
            .expect("settles");
        let real = "SELECT count(*) AS x FROM job WHERE trial IS NULL";
        assert_eq!(one(&published.db, real).await, 0);
    });
}

/// What is real, as the records have it.
async fn real(db: &DatabaseConnection) -> Vec<serde_json::Value> {
    rows(
        db,
        "SELECT 'alert' AS what, resource AS of FROM alerts WHERE trial IS NULL
        UNION ALL SELECT 'alarm', resource FROM alarm WHERE NOT trial
        UNION ALL SELECT 'verdict', rule || alert_seq FROM verdicts WHERE NOT trial
        UNION ALL SELECT 'job', id::text FROM job WHERE trial IS NULL
        UNION ALL SELECT 'tally', key FROM tally WHERE key LIKE '[%' ORDER BY 1, 2",
    )
    .await
}

#[test]
fn trials_are_cleared_away_and_nothing_else_whoever_sends_meanwhile() {
    let published =
        Published::with(&[rule("grow", "settle: { cap: { jobs: 99, per: 1h } }"), rule("and", "")]);
    block(async {
        let db = &published.db;
        let node = async |n: usize| {
            for i in 0..10 {
                let at = |trial| {
                    alert(json!({ "resource": format!("vm/n{n}-{i}"), "trial": trial }), now())
                };
                let both = payloads([at(true), at(false)]);
                published.take(&both, &mut Writer::default()).await;
            }
        };
        let pat = Principal::token("pat");
        let clears = async {
            for _ in 0..10 {
                trials::clear(db, &pat).await.expect("clears");
            }
        };
        futures_util::future::join4(node(0), node(1), node(2), clears).await;
        let before = real(db).await;
        let kept = |what: &str| before.iter().filter(|row| row["what"] == what).count();
        assert_eq!(
            ["alert", "alarm", "verdict", "job", "tally"].map(kept),
            [30, 30, 60, 60, 60],
            "nothing real was lost"
        );
        // Jobs that are not over stay, with what they are about.
        let cleared = trials::clear(db, &pat).await.expect("clears");
        assert_eq!((cleared.jobs, cleared.under_way > 0), (0, true));
        run(db, "UPDATE job SET state = 'cancelled' WHERE trial IS NOT NULL").await;
        let cleared = trials::clear(db, &pat).await.expect("clears");
        assert_eq!((cleared.jobs > 0, cleared.under_way), (true, 0));
        let left = "SELECT (SELECT count(*) FROM alerts WHERE trial IS NOT NULL)
            + (SELECT count(*) FROM alarm WHERE trial) + (SELECT count(*) FROM verdicts WHERE trial)
            + (SELECT count(*) FROM job WHERE trial IS NOT NULL)
            + (SELECT count(*) FROM tally WHERE key NOT LIKE '[%')
            + (SELECT count(*) FROM pool WHERE key LIKE '% trial %') AS x";
        assert_eq!(one(db, left).await, 0);
        let untold = "SELECT count(*) AS x FROM job_change c
            WHERE NOT EXISTS (SELECT 1 FROM job j WHERE j.id = c.job_id)";
        assert_eq!(one(db, untold).await, 0, "nothing is left to be told of them");
        assert_eq!(real(db).await, before);
        assert_eq!(
            one(db, "SELECT count(*) AS x FROM audit WHERE act = 'trial.cleared'").await,
            12
        );
    });
}
