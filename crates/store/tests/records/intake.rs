//! The one transaction, by several nodes at once.

use crate::kit::{Published, alert, block, now, one, payloads, rows, rule, run, seconds};
use arvok_core::{Verdict, source::OWN};
use arvok_store::{
    StoreError,
    intake::{self, Malformed, Payload, Writer, preview},
    nodes,
};
use serde_json::{Value, json};

/// Batches whose alerts touch the same alarms, tallies and pools, in every order.
fn crossing(rounds: usize, writers: usize) -> Vec<Vec<Vec<Payload>>> {
    let resource = |i: usize| format!("vm/r{}", i % 7);
    let one = |w: usize, r: usize, i: usize| {
        let n = if w.is_multiple_of(2) { i } else { 13 - i };
        alert(
            json!({ "id": format!("{w}-{r}-{i}"), "resource": resource(n + w * r),
            "state": if (w + r + i).is_multiple_of(5) { "cleared" } else { "raised" } }),
            now(),
        )
    };
    let batch = |w, r| payloads((0..14).map(|i| one(w, r, i)));
    (0..writers).map(|w| (0..rounds).map(|r| batch(w, r)).collect()).collect()
}

#[test]
fn writers_that_touch_the_same_rows_neither_block_nor_lose_each_other() {
    let rules = [
        rule("each", "settle: { after: { alerts: 3, within: 1h } }"),
        rule(
            "together",
            "settle: { gather: { by: alert.kind, for: 1h }, cap: { jobs: 2, per: 1h } }",
        ),
        rule("calm", "settle: { still: 1h, rest: 5m }"),
    ];
    let published = Published::with(&rules);
    let (rounds, writers) = (12, 4);
    block(async {
        let work = crossing(rounds, writers).into_iter().enumerate().map(|(shard, batches)| {
            let published = &published;
            async move {
                let mut writer =
                    Writer { shard: i16::try_from(shard).expect("few"), ..Writer::default() };
                let mut most = 0;
                for batch in batches {
                    let begun = std::time::Instant::now();
                    published.take(&batch, &mut writer).await;
                    most = most.max(begun.elapsed().as_secs());
                }
                most
            }
        });
        let longest = futures_util::future::join_all(work).await.into_iter().max();
        assert!(longest < Some(25), "nobody waited for a lock that another held for long");
        let db = &published.db;
        let sent = (rounds * writers * 14) as i64;
        assert_eq!(one(db, "SELECT count(*) AS x FROM alerts").await, sent);
        assert_eq!(
            one(db, "SELECT count(*) AS x FROM verdicts WHERE rule = 'each'").await,
            raised(rounds, writers)
        );
        let counted = "SELECT sum(count) AS x FROM verdict_count WHERE rule = 'each'";
        assert_eq!(
            one(db, counted).await,
            raised(rounds, writers),
            "counts agree with what they count"
        );
        assert_eq!(one(db, "SELECT sum(alerts) AS x FROM delivery_count").await, sent);
        // Each episode begins when an alarm is raised, and no alarm is raised twice.
        assert_eq!(one(db, "SELECT count(*) AS x FROM alarm").await, 7);
        let deadlocks =
            "SELECT deadlocks AS x FROM pg_stat_database WHERE datname = current_database()";
        assert_eq!(one(db, deadlocks).await, 0);
    });
}

fn raised(rounds: usize, writers: usize) -> i64 {
    let all = crossing(rounds, writers);
    let alerts = all.iter().flatten().flatten().flat_map(|p| &p.alerts);
    alerts.filter(|a| a.state.as_str() == "raised").count() as i64
}

#[test]
fn a_delivery_that_comes_twice_at_once_is_taken_once() {
    let published = Published::with(&[rule("any", "")]);
    block(async {
        let same = payloads((0..20).map(|i| {
            alert(json!({ "id": format!("a{}", i % 10), "resource": format!("vm/r{i}") }), now())
        }));
        let mut writers = [Writer::default(), Writer { shard: 1, ..Writer::default() }];
        let [first, second] = &mut writers;
        let (a, b) = tokio::join!(published.take(&same, first), published.take(&same, second));
        let fresh = |b: &arvok_store::intake::TakenBatch| {
            b.taken
                .iter()
                .flat_map(|t| &t.alerts)
                .filter(|t| !t.duplicate && t.seq.is_some())
                .count()
        };
        assert_eq!(fresh(&a) + fresh(&b), 10, "each id once, whoever was first");
        assert_eq!(one(&published.db, "SELECT count(*) AS x FROM alerts").await, 10);
        assert_eq!(one(&published.db, "SELECT sum(repeated) AS x FROM delivery_count").await, 30);
        assert_eq!(one(&published.db, "SELECT count(*) AS x FROM job").await, 10);
    });
}

#[test]
fn by_a_stale_set_nothing_is_taken() {
    let published = Published::with(&[rule("any", "")]);
    block(async {
        let batch = payloads([alert(json!({}), now())]);
        let batch: Vec<&Payload> = batch.iter().collect();
        let rules = intake::Rules { generation: published.generation - 1, ..published.rules() };
        let refused = intake::record(&published.db, rules, &batch, &mut Writer::default()).await;
        assert!(
            matches!(refused, Err(StoreError::Stale(g)) if g == published.generation),
            "{refused:?}"
        );
        for table in ["alerts", "alarm", "tally", "verdicts", "job"] {
            assert_eq!(
                one(&published.db, &format!("SELECT count(*) AS x FROM {table}")).await,
                0,
                "{table}"
            );
        }
    });
}

#[test]
fn what_is_strange_is_kept_in_the_same_commit_as_its_neighbours() {
    let published = Published::with(&[]);
    block(async {
        let malformed = |n: usize| Malformed {
            reason: format!("`kind`: is missing in {n}"),
            payload: "{}".into(),
            item: n > 0,
            beside: json!({ "headers": { "x-kind": "a" } }),
            caught: false,
            base64: false,
        };
        let payload = Payload {
            malformed: vec![malformed(0), malformed(1)],
            ..payloads([alert(json!({}), now())]).remove(0)
        };
        let batch = published.take(&[payload], &mut Writer::default()).await;
        assert_eq!((batch.taken[0].alerts.len(), batch.taken[0].kept.len()), (1, 2));
        assert!(batch.change.unreadable);
        let kept =
            rows(&published.db, "SELECT id, source, reason, item FROM unreadable ORDER BY id")
                .await;
        let ids: Vec<Value> = kept.iter().map(|k| k["id"].clone()).collect();
        assert_eq!(json!(ids), json!(batch.taken[0].kept), "the numbers that the sender is told");
        assert_eq!(kept[1]["reason"], "`kind`: is missing in 1");
        assert_eq!((&kept[0]["item"], &kept[1]["item"]), (&json!(false), &json!(true)));
    });
}

#[test]
fn what_would_be_decided_is_what_is_decided() {
    let lines = [
        "settle: { rest: 10m }",
        "settle: { after: { alerts: 2, within: 10m } }",
        "settle: { still: 5m }",
    ];
    let rules: Vec<String> =
        lines.iter().enumerate().map(|(i, l)| rule(&format!("r{i}"), l)).collect();
    let published = Published::with(&rules);
    block(async {
        for n in 0..4 {
            let state = if n == 2 { "cleared" } else { "raised" };
            let alert = alert(json!({ "id": format!("n{n}"), "state": state }), now() + seconds(n));
            let mut foreseen = Vec::new();
            for (rule, _) in published.matcher.rules() {
                foreseen.push(
                    preview(
                        &published.db,
                        rule,
                        &alert,
                        (&[], &arvok_core::guard::Guards::NONE, None),
                        alert.received,
                    )
                    .await
                    .expect("a preview")
                    .0,
                );
            }
            let matches = alert.state.as_str() == "raised";
            let batch = published.take(&payloads([alert]), &mut Writer::default()).await;
            let seq = batch.taken[0].alerts[0].seq.expect("new");
            let sql =
                format!("SELECT verdict AS x FROM verdicts WHERE alert_seq = {seq} ORDER BY rule");
            let given: Vec<Verdict> = rows(&published.db, &sql)
                .await
                .iter()
                .filter_map(|r| Verdict::parse(r["x"].as_str()?))
                .collect();
            assert_eq!(given, if matches { foreseen } else { Vec::new() }, "alert {n}");
        }
        let before = one(&published.db, "SELECT count(*) AS x FROM job").await;
        let (rule, _) = published.matcher.rules().next().expect("a rule");
        preview(
            &published.db,
            rule,
            &alert(json!({ "resource": "vm/other" }), now()),
            (&[], &arvok_core::guard::Guards::NONE, None),
            now(),
        )
        .await
        .expect("a preview");
        assert_eq!(
            one(&published.db, "SELECT count(*) AS x FROM job").await,
            before,
            "asking changes nothing"
        );
    });
}

#[test]
fn waiting_for_a_row_that_another_holds_shows_in_the_backlog() {
    let published = Published::with(&[rule("any", "settle: { still: 1h }")]);
    block(async {
        published.send(json!({})).await;
        let holder = sea_orm::TransactionTrait::begin(&published.db).await.expect("a transaction");
        sea_orm::ConnectionTrait::execute_unprepared(&holder, "SELECT 1 FROM alarm FOR UPDATE")
            .await
            .expect("locks");
        let sending = published.send(json!({ "value": 5 }));
        tokio::pin!(sending);
        let waits = async {
            loop {
                let waits = nodes::backlog(&published.db).await.expect("a backlog").lock_waits;
                if waits > 0 {
                    return waits;
                }
            }
        };
        let waits = tokio::select! { waits = waits => waits, _ = &mut sending => 0 };
        assert_eq!(waits, 1);
        holder.rollback().await.expect("ends");
        sending.await;
        assert_eq!(nodes::backlog(&published.db).await.expect("a backlog").lock_waits, 0);
    });
}

#[test]
fn alerts_that_arvok_tells_of_itself_are_alerts_like_any_others() {
    let published = Published::with(&[rule(
        "self",
        &format!("listen: {{ sources: {OWN} }}\nsettle: {{ rest: 1h }}"),
    )]);
    block(async {
        let mut own = alert(json!({ "kind": "node.behind" }), now());
        own.source = OWN.to_owned();
        published.take(&payloads([own]), &mut Writer::default()).await;
        published.send(json!({ "kind": "node.behind" })).await;
        assert_eq!(
            one(&published.db, "SELECT count(*) AS x FROM job").await,
            1,
            "and nobody else's pass for them"
        );
    });
}

#[test]
fn counts_of_deliveries_are_added_up_by_the_minute_and_later_by_the_hour_and_stay_what_they_were() {
    let published = Published::with(&[]);
    block(async {
        let db = &published.db;
        run(
            db,
            "INSERT INTO delivery_count (source, minute, shard, alerts, repeated, unreadable)
                SELECT s, date_trunc('hour', now()) - m * interval '1 minute', n, 3, 1, 0
                FROM unnest(ARRAY['yard', 'pier']) s, generate_series(12, 1450) m,
                generate_series(0, 2) n
                UNION ALL SELECT s, date_trunc('hour', now()) - interval '10 days' - m * interval
                '1 minute', n, 3, 1, 0
                FROM unnest(ARRAY['yard', 'pier']) s, generate_series(0, 119) m, generate_series(0,
                2) n",
        )
        .await;
        let sums = "SELECT jsonb_build_array(sum(alerts), sum(repeated)) AS x FROM delivery_count";
        let before = one(db, sums).await;
        for _ in 0..6 {
            arvok_store::sweep(db, arvok_store::Limits::default(), chrono::Utc::now())
                .await
                .expect("sweeps");
        }
        assert_eq!(one(db, sums).await, before);
        let shards = "SELECT count(*) AS x FROM delivery_count WHERE shard <> 0";
        assert_eq!(one(db, shards).await, 0);
        let old =
            "SELECT count(*) AS x FROM delivery_count WHERE minute < now() - interval '9 days'";
        assert!(
            one(db, old).await.as_i64().is_some_and(|n| n <= 6),
            "by the hour: {}",
            one(db, old).await
        );
    });
}

/// The database keeps the names of labels in an order of its own, by their length.
#[test]
fn the_same_alert_again_is_no_conflict_in_whatever_order_its_labels_are_kept() {
    let published = Published::with(&[]);
    block(async {
        let batch = |tier: &str| {
            let labels =
                json!({ "runbook": "tell", "job": "1", "effect": "not checked", "tier": tier });
            payloads([alert(json!({ "id": "a", "labels": labels }), now())])
        };
        let mut writer = Writer::default();
        for (tier, conflicts) in [("gold", 0), ("gold", 0), ("silver", 1)] {
            published.take(&batch(tier), &mut writer).await;
            assert_eq!(
                one(&published.db, "SELECT count(*) AS x FROM unreadable").await,
                conflicts,
                "{tier}"
            );
        }
        let reason = one(&published.db, "SELECT reason AS x FROM unreadable").await;
        assert!(reason.as_str().is_some_and(|r| r.contains("with another labels")), "{reason}");
    });
}
