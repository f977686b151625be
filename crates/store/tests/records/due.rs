//! Due times: decided once by however many nodes, and what cannot be handled holds nobody back.

use crate::kit::{Published, alert, block, now, one, payloads, rows, rule, run, seconds};
use arvok_store::{
    StoreError,
    intake::{DueDone, Rules, Slots, Writer, set_aside_now, settle_due},
};
use chrono::{DateTime, Utc};
use serde_json::json;
use std::collections::BTreeSet;

async fn settle(published: &Published, slots: Slots, at: DateTime<Utc>) -> DueDone {
    settle_due(&published.db, published.rules(), slots, &BTreeSet::new(), at)
        .await
        .expect("settles")
}

async fn send(published: &Published, count: usize) -> DateTime<Utc> {
    let at = now();
    let batch = payloads((0..count).map(|i| alert(json!({ "resource": format!("vm/r{i}") }), at)));
    let taken = published.take(&batch, &mut Writer::default()).await;
    assert!(taken.due.is_some_and(|due| due > at), "something waits: {taken:?}");
    at
}

#[test]
fn each_due_time_is_decided_once_by_nodes_that_look_at_the_same_moment() {
    let published = Published::with(&[rule("patient", "settle: { still: 1m }")]);
    block(async {
        let at = send(&published, 60).await;
        let early = settle(&published, Slots::Tallies, at + seconds(59)).await;
        assert_eq!((early.taken, early.next), (0, Some(at + seconds(60))));
        let looks = (0..5).map(|_| settle(&published, Slots::Tallies, at + seconds(60)));
        let taken: usize =
            futures_util::future::join_all(looks).await.iter().map(|d| d.taken).sum();
        assert_eq!(taken, 60);
        assert_eq!(one(&published.db, "SELECT count(*) AS x FROM job").await, 60);
        assert_eq!(
            one(&published.db, "SELECT count(*) AS x FROM verdicts WHERE verdict = 'dispatched'")
                .await,
            60
        );
        let later = settle(&published, Slots::Tallies, at + seconds(3600)).await;
        assert_eq!((later.taken, later.next), (0, None), "nothing waits any more");
    });
}

#[test]
fn a_gathering_is_decided_once_whoever_looks_and_with_all_its_members() {
    let published =
        Published::with(&[rule("together", "settle: { gather: { by: alert.kind, for: 1m } }")]);
    block(async {
        let at = send(&published, 20).await;
        let looks = (0..5).map(|_| settle(&published, Slots::Pools, at + seconds(61)));
        let done = futures_util::future::join_all(looks).await;
        assert_eq!(done.iter().map(|d| d.taken).sum::<usize>(), 1);
        assert_eq!(one(&published.db, "SELECT count(*) AS x FROM job").await, 1);
        let verdicts = "SELECT verdict, job_id, count(*) AS n FROM verdicts GROUP BY 1, 2";
        let all = [json!({ "verdict": "dispatched", "job_id": 1, "n": 20 })];
        assert_eq!(rows(&published.db, verdicts).await, all);
    });
}

#[test]
fn of_a_gathering_only_what_inputs_read_is_loaded_and_too_much_of_it_is_refused_by_name() {
    let gathers = |name: &str, on: &str| {
        rule(name, "settle: { gather: { by: alert.kind, for: 1m } }")
            .replace("${alert.resource}", on)
    };
    let names =
        gathers("names", r#"vm/${tally.gathered.map(a, a.resource).join("-").replace("/", "-")}"#);
    let reads = gathers("reads", r#"vm/${tally.gathered.map(a, a.body.host).join("-")}"#);
    let published = Published::with(&[names, reads]);
    block(async {
        let mut at = now();
        for n in 0..3 {
            let fill = "x".repeat(2 << 20);
            let sent = json!({ "resource": format!("vm/r{n}"), "body": { "host": format!("h{n}"),
                "fill": fill } });
            let one = alert(sent, now());
            at = one.received;
            published.take(&payloads([one]), &mut Writer::default()).await;
        }
        settle(&published, Slots::Pools, at + seconds(61)).await;
        let jobs =
            rows(&published.db, "SELECT rule, state, target, failure FROM job ORDER BY rule").await;
        assert_eq!(
            (&jobs[0]["state"], &jobs[0]["target"]),
            (&json!("queued"), &json!("vm/vm-r0-vm-r1-vm-r2"))
        );
        assert_eq!(jobs[1]["state"], "refused");
        let why = jobs[1]["failure"].as_str().expect("a reason");
        assert!(
            why.starts_with(
                "the payloads of its 3 alerts have 6144 KiB, more than inputs may read"
            ),
            "{why}"
        );
    });
}

#[test]
fn what_cannot_be_handled_is_set_aside_for_longer_each_time_and_its_neighbours_go_on() {
    let published = Published::with(&[rule("patient", "settle: { still: 1m }")]);
    block(async {
        let at = send(&published, 5).await;
        let db = &published.db;
        // Whatever wrote it: a memory that cannot be read.
        run(db, "UPDATE tally SET state = '7' WHERE key = '[\"yard\",\"vm/r2\",\"disk.usage\"]'")
            .await;
        let mut when = at + seconds(60);
        let mut waits = Vec::new();
        for tries in 1..=4 {
            let done = settle(&published, Slots::Tallies, when).await;
            assert_eq!(done.aside.len(), 1, "try {tries}: {done:?}");
            assert_eq!(
                (done.aside[0].0.as_str(), done.aside[0].1.as_str()),
                ("patient", "[\"yard\",\"vm/r2\",\"disk.usage\"]")
            );
            let aside = set_aside_now(db, 10).await.expect("lists");
            assert_eq!((aside.len(), aside[0].tries), (1, tries));
            let again = aside[0].again_at.expect("tried again");
            waits.push((again - when).num_seconds());
            when = again;
        }
        assert_eq!(waits, [5, 10, 20, 40]);
        assert_eq!(one(db, "SELECT count(*) AS x FROM job").await, 4, "the others");
        run(db, "UPDATE tally SET aside_tries = 40 WHERE aside IS NOT NULL").await;
        settle(&published, Slots::Tallies, when).await;
        let again = set_aside_now(db, 10).await.expect("lists")[0].again_at.expect("tried again");
        assert_eq!((again - when).num_seconds(), 3600, "never for longer than an hour");
    });
}

#[test]
fn of_a_rule_that_is_not_known_nothing_is_touched() {
    let published = Published::with(&[
        rule("patient", "settle: { still: 1m }"),
        rule("other", "settle: { still: 1m }"),
    ]);
    block(async {
        let at = send(&published, 3).await;
        let db = &published.db;
        let half = published.catalog.clone().without(&[(arvok_core::Kind::Rule, "other".into())]);
        let matcher = half.matcher();
        let rules = Rules {
            catalog: &half,
            matcher: &matcher,
            mutes: &[],
            guards: &published.guards,
            proposing: &published.proposing,
            generation: published.generation,
        };
        let done = settle_due(db, rules, Slots::Tallies, &BTreeSet::new(), at + seconds(60))
            .await
            .expect("settles");
        assert_eq!(
            (done.taken, done.unknown.iter().map(String::as_str).collect::<Vec<_>>()),
            (3, vec!["other"])
        );
        assert_eq!(
            one(db, "SELECT count(*) AS x FROM tally WHERE rule = 'other' AND due IS NOT NULL")
                .await,
            3
        );
        let again = settle_due(db, rules, Slots::Tallies, &done.unknown, at + seconds(60))
            .await
            .expect("settles");
        assert_eq!((again.taken, again.next), (0, None), "it is not looked at again and again");
        let whole = settle(&published, Slots::Tallies, at + seconds(60)).await;
        assert_eq!(whole.taken, 3, "who knows it decides");
        let stale = Rules { generation: published.generation - 1, ..published.rules() };
        published.send(json!({ "resource": "vm/late" })).await;
        run(db, "UPDATE tally SET due = now() - interval '1 second'").await;
        let refused = settle_due(db, stale, Slots::Tallies, &BTreeSet::new(), now()).await;
        assert!(
            matches!(refused, Err(StoreError::Stale(g)) if g == published.generation),
            "{refused:?}"
        );
    });
}

#[test]
fn a_clearing_and_a_due_time_at_the_same_moment_agree() {
    let published = Published::with(&[rule("patient", "settle: { still: 1m }")]);
    block(async {
        for round in 0..12 {
            let at = now();
            let resource = format!("vm/c{round}");
            let raise =
                payloads([alert(json!({ "id": format!("u{round}"), "resource": resource }), at)]);
            published.take(&raise, &mut Writer::default()).await;
            let clear =
                json!({ "id": format!("d{round}"), "resource": resource, "state": "cleared" });
            let clear = payloads([alert(clear, at + seconds(60))]);
            let mut writer = Writer::default();
            tokio::join!(
                published.take(&clear, &mut writer),
                settle(&published, Slots::Tallies, at + seconds(60))
            );
            // Whoever found the row locked comes again.
            settle(&published, Slots::Tallies, at + seconds(61)).await;
            let sql = format!(
                "SELECT verdict AS x FROM verdicts v JOIN alerts a ON a.seq = v.alert_seq
                    WHERE a.resource = '{resource}'"
            );
            let verdict = one(&published.db, &sql).await;
            let jobs = format!("SELECT count(*) AS x FROM job WHERE target = '{resource}'");
            let jobs = one(&published.db, &jobs).await;
            let agree = [(json!("dispatched"), json!(1)), (json!("waiting"), json!(0))];
            assert!(
                agree.contains(&(verdict.clone(), jobs.clone())),
                "round {round}: {verdict}, {jobs} jobs"
            );
        }
    });
}
