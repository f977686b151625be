//! Mutes in the one transaction: what one covers is held and kept, by whichever node; what was held
//! by one that is lifted is acted on once, whoever was at work on it at that moment.

use crate::kit::{Published, alert, block, migrated, now, one, payloads, rows, rule, run, seconds};
use arvok_api::MuteFilter;
use arvok_core::{
    Principal,
    mute::{MuteState, Muted, MutedLines},
};
use arvok_store::{
    DatabaseConnection, StoreError, definitions,
    intake::{self, Slots, Writer, settle_due},
    mutes::{self, MuteToBegin},
};
use serde_json::json;
use std::collections::BTreeSet;

fn muted(resource: &str) -> Muted {
    let lines = MutedLines { resource: vec![resource.into()], ..MutedLines::default() };
    Muted::check(&lines).expect("checks")
}

async fn begin(db: &DatabaseConnection, resource: &str) -> i64 {
    let muted = muted(resource);
    let (from, until) = (now(), now() + seconds(3600));
    let said = MuteToBegin { muted: &muted, reason: "a new disk goes in", from, until };
    mutes::begin(db, said, &Principal::token("pat")).await.expect("begins")
}

async fn lift(db: &DatabaseConnection, id: i64) -> bool {
    mutes::lift(db, id, &Principal::token("mel")).await.expect("lifts")
}

async fn verdicts(published: &Published) -> Vec<serde_json::Value> {
    let sql = "SELECT verdict, count(*) AS n FROM verdicts GROUP BY 1 ORDER BY 1";
    rows(&published.db, sql).await
}

#[test]
fn what_is_muted_is_kept_held_and_acted_on_when_the_mute_is_lifted() {
    let mut published = Published::with(&[rule("grow", "")]);
    block(async {
        let id = begin(&published.db, "vm/quill-*").await;
        published.hear_of_mutes().await;
        published.send(json!({ "resource": "vm/quill-1" })).await;
        published.send(json!({ "resource": "vm/brack-1" })).await;
        assert_eq!(
            verdicts(&published).await,
            [json!({ "verdict": "dispatched", "n": 1 }), json!({ "verdict": "muted", "n": 1 })]
        );
        let reason = "SELECT reason AS x FROM verdicts WHERE verdict = 'muted'";
        let reason = one(&published.db, reason).await;
        assert!(reason.as_str().expect("a text").starts_with("muted by pat until "), "{reason}");
        assert_eq!(one(&published.db, "SELECT count(*) AS x FROM alarm").await, 2, "alarms stand");

        assert!(!mutes::release(&published.db).await.expect("looks"), "nothing was lifted");
        assert!(lift(&published.db, id).await);
        assert!(!lift(&published.db, id).await, "it is lifted once");
        assert!(mutes::release(&published.db).await.expect("releases"));
        assert!(!mutes::release(&published.db).await.expect("looks"), "once for each");
        published.hear_of_mutes().await;
        let none = BTreeSet::new();
        settle_due(&published.db, published.rules(), Slots::Tallies, &none, now() + seconds(1))
            .await
            .expect("settles");
        assert_eq!(verdicts(&published).await, [json!({ "verdict": "dispatched", "n": 2 })]);
    });
}

#[test]
fn what_waited_for_its_time_when_a_mute_began_is_held_further() {
    let mut published = Published::with(&[rule("patient", "settle: { still: 1m }")]);
    block(async {
        published.send(json!({ "resource": "vm/quill-1" })).await;
        begin(&published.db, "vm/quill-*").await;
        published.hear_of_mutes().await;
        let none = BTreeSet::new();
        let at = now() + seconds(90);
        settle_due(&published.db, published.rules(), Slots::Tallies, &none, at)
            .await
            .expect("settles");
        assert_eq!(verdicts(&published).await, [json!({ "verdict": "muted", "n": 1 })]);
        // An alert that comes when its time has passed finds it muted too.
        let later = payloads([alert(json!({ "resource": "vm/quill-1" }), at + seconds(4000))]);
        published.take(&later, &mut Writer::default()).await;
        assert_eq!(one(&published.db, "SELECT count(*) AS x FROM job").await, 1, "it is over");
    });
}

#[test]
fn whoever_decided_by_a_mute_that_is_lifted_meanwhile_decides_anew() {
    let mut published = Published::with(&[rule("grow", "")]);
    block(async {
        let id = begin(&published.db, "vm/**").await;
        published.hear_of_mutes().await;
        // The node has heard of what was lifted, but not of the mute's end.
        lift(&published.db, id).await;
        published.generation += 1;
        let batch = payloads([alert(json!({}), now())]);
        let batch: Vec<_> = batch.iter().collect();
        let taken =
            intake::record(&published.db, published.rules(), &batch, &mut Writer::default()).await;
        assert!(matches!(taken, Err(StoreError::Stale(_))), "{taken:?}");
        assert_eq!(one(&published.db, "SELECT count(*) AS x FROM alerts").await, 0);
    });
}

/// Nodes take alerts in, and say and lift mutes at the same time: in the end each alarm has led to
/// one job, and nothing is held any more.
#[test]
fn nothing_stays_held_whoever_lifts_and_whoever_is_at_work_meanwhile() {
    let first = Published::with(&[rule("grow", "")]);
    let db = &first.db;
    block(async {
        let node = async |n: usize| {
            for i in 0..12 {
                loop {
                    let generation = definitions::generation(db).await.expect("reads");
                    let (open, _) = mutes::open(db).await.expect("reads");
                    let rules = intake::Rules { mutes: &open, generation, ..first.rules() };
                    let resource = format!("vm/n{n}-{i}");
                    let batch = payloads([alert(json!({ "resource": resource }), now())]);
                    let batch: Vec<_> = batch.iter().collect();
                    match intake::record(db, rules, &batch, &mut Writer::default()).await {
                        Err(StoreError::Stale(_)) => continue,
                        taken => break drop(taken.expect("takes")),
                    }
                }
            }
        };
        let people = async {
            for _ in 0..15 {
                let id = begin(db, "vm/**").await;
                lift(db, id).await;
                mutes::release(db).await.expect("releases");
            }
        };
        futures_util::future::join4(node(0), node(1), node(2), people).await;
        mutes::release(db).await.expect("releases");
        let generation = definitions::generation(db).await.expect("reads");
        let rules = intake::Rules { generation, ..first.rules() };
        let none = BTreeSet::new();
        settle_due(db, rules, Slots::Tallies, &none, now() + seconds(1)).await.expect("settles");
        let held = "SELECT count(*) AS x FROM tally
            WHERE state #>> '{episode,held,verdict}' = 'muted'";
        assert_eq!(one(db, held).await, 0);
        assert_eq!(one(db, "SELECT count(*) AS x FROM job").await, 36);
    });
}

#[test]
fn there_are_so_many_at_most_and_those_that_were_over_long_ago_go() {
    let db = migrated();
    block(async {
        run(
            &db,
            "INSERT INTO mute (lines, by, reason, from_at, until_at)
            SELECT '{\"rules\": [\"r\"]}', 'token/pat', 'w', now(), now() + interval '1 hour'
            FROM generate_series(1, 200)",
        )
        .await;
        let muted = muted("vm/**");
        let said =
            MuteToBegin { muted: &muted, reason: "w", from: now(), until: now() + seconds(60) };
        let refused = mutes::begin(&db, said, &Principal::token("pat")).await;
        assert!(matches!(refused, Err(StoreError::TooMany(..))), "{refused:?}");
        run(
            &db,
            "UPDATE mute SET from_at = now() - interval '500 days',
            until_at = now() - interval '499 days' WHERE id % 2 = 0",
        )
        .await;
        mutes::begin(&db, said, &Principal::token("pat")).await.expect("there is room");
        let all = MuteFilter { all: true, limit: Some(150), ..MuteFilter::default() };
        let page = mutes::list(&db, &all, now()).await.expect("lists");
        let over = |page: &[arvok_api::MuteItem]| {
            page.iter().filter(|mute| mute.state == MuteState::Over).count()
        };
        assert_eq!((page.items.len(), over(&page.items)), (150, 75));
        let rest = MuteFilter { after: page.next.and_then(|n| n.parse().ok()), ..all };
        assert_eq!(mutes::list(&db, &rest, now()).await.expect("lists").items.len(), 51);
        let generation = definitions::generation(&db).await.expect("reads");
        arvok_store::sweep(&db, arvok_store::Limits::default(), now()).await.expect("sweeps");
        let after = definitions::generation(&db).await.expect("reads");
        assert_eq!(after, generation, "what is published is the same");
        assert_eq!(one(&db, "SELECT count(*) AS x FROM mute").await, 101);
    });
}

#[test]
fn a_mute_that_cannot_be_read_is_told_and_the_others_hold() {
    let db = migrated();
    block(async {
        begin(&db, "vm/**").await;
        run(
            &db,
            "INSERT INTO mute (lines, by, reason, from_at, until_at)
            VALUES ('{\"decks\": [\"r\"]}', 'token/pat', 'w', now(), now() + interval '1 hour')",
        )
        .await;
        let (open, faults) = mutes::open(&db).await.expect("reads");
        assert_eq!((open.len(), faults.len()), (1, 1), "{faults:?}");
    });
}
