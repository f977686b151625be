//! Stored alerts as a rehearsal reads them: all of them in their order, and no further than is
//! asked for.

use crate::kit::{Published, alert, block, now, one, payloads, rule, seconds};
use arvok_core::AlertId;
use arvok_store::{
    intake::Writer,
    read::{Replay, count_for_replay, replay},
};
use futures_util::StreamExt;
use serde_json::json;

/// Alerts in two sources and two kinds, some with large payloads.
async fn filled(published: &Published, count: usize) -> Replay {
    let at = now();
    let one = |i: usize| {
        let log = if i.is_multiple_of(50) { "x".repeat(600 << 10) } else { String::new() };
        let kind = if i.is_multiple_of(2) { "disk.usage" } else { "cpu.usage" };
        let given = json!({ "id": format!("i{i}"), "kind": kind, "resource": format!("vm/r{i}"),
            "body": { "log": log, "i": i } });
        alert(given, at + seconds(i as i64))
    };
    for lot in (0..count).collect::<Vec<_>>().chunks(100) {
        published.take(&payloads(lot.iter().map(|i| one(*i))), &mut Writer::default()).await;
    }
    let rules: Vec<_> = published.matcher.rules().map(|(rule, _)| rule).collect();
    let rules: Vec<_> = rules.iter().map(|r| &***r).collect();
    Replay::of_rules(&rules, at, at + seconds(count as i64))
}

#[test]
fn every_alert_comes_once_and_in_its_order_with_its_payload_where_a_rule_looks_at_it() {
    for (lines, with_body) in [("listen: { where: alert.body.i > 5 }", true), ("", false)] {
        let published = Published::with(&[rule("any", lines)]);
        block(async {
            let wanted = filled(&published, 700).await;
            assert_eq!(count_for_replay(&published.db, &wanted).await.expect("counts"), 700);
            let alerts = replay(&published.db, &wanted).await.expect("reads");
            let alerts: Vec<_> = alerts.map(|a| a.expect("an alert")).collect().await;
            let ids: Vec<String> = alerts.iter().map(|(_, a)| a.id.clone()).collect();
            assert_eq!(ids, (0..700).map(|i| format!("i{i}")).collect::<Vec<_>>());
            assert!(alerts.windows(2).all(|w| w[0].0 < w[1].0));
            assert_eq!(
                alerts.iter().filter(|(_, a)| !a.body.is_null()).count(),
                if with_body { 700 } else { 0 }
            );
        });
    }
}

#[test]
fn what_cannot_matter_to_a_rule_is_not_read() {
    let published = Published::with(&[rule("disks", "listen: { kinds: disk.usage }")]);
    block(async {
        let wanted = filled(&published, 60).await;
        let alerts = replay(&published.db, &wanted).await.expect("reads");
        let alerts: Vec<_> = alerts.map(|a| a.expect("an alert")).collect().await;
        assert_eq!(alerts.len(), 30);
        assert!(alerts.iter().all(|(_, a)| a.kind == "disk.usage"));
    });
}

#[test]
fn who_stops_listening_stops_the_reading() {
    let published = Published::with(&[rule("any", "")]);
    block(async {
        let wanted = filled(&published, 3_000).await;
        for _ in 0..40 {
            let mut alerts = Box::pin(replay(&published.db, &wanted).await.expect("reads"));
            assert_eq!(alerts.next().await.expect("one").expect("an alert").0, AlertId(1));
        }
        // There are twelve connections: none of them is still reading for one of those forty.
        assert_eq!(one(&published.db, "SELECT 1 AS x").await, 1);
    });
}

#[test]
fn a_reading_that_breaks_off_is_not_taken_for_the_end() {
    let published = Published::with(&[rule("any", "listen: { where: alert.body.i > 5 }")]);
    block(async {
        let wanted = filled(&published, 2_000).await;
        let mut alerts = Box::pin(replay(&published.db, &wanted).await.expect("reads"));
        alerts.next().await.expect("one").expect("an alert");
        let cut = "SELECT count(pg_terminate_backend(pid)) AS x FROM pg_stat_activity
            WHERE query LIKE 'SELECT seq, id%' AND datname = current_database()
            AND pid <> pg_backend_pid()";
        assert_eq!(one(&published.db, cut).await, 1);
        let mut read = 1;
        let end = loop {
            match alerts.next().await {
                Some(Ok(_)) => read += 1,
                end => break end,
            }
        };
        assert!(matches!(end, Some(Err(_))), "{read} alerts came, and then {end:?}");
        assert!(read < 2_000 && alerts.next().await.is_none());
    });
}
