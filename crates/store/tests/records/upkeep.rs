//! What is kept, and for how long.

use crate::kit::{Published, alert, block, now, one, payloads, rows, rule, run};
use arvok_api::Change;
use arvok_core::{JobId, job::Place};
use arvok_store::{
    ConnectionTrait, Limits,
    changes::{self, Announced, Listener, Reached},
    days,
    intake::Writer,
    live_output::{self, LiveCall},
    sweep,
};
use chrono::TimeDelta;
use sea_orm::TransactionTrait;
use serde_json::json;
use std::time::Duration;

#[test]
fn what_is_over_goes_and_what_somebody_may_need_stays() {
    let published = Published::with(&[rule("any", "settle: { rest: 1h }")]);
    block(async {
        let db = &published.db;
        for (id, resource, state) in [
            ("a", "vm/never", "cleared"),
            ("b", "vm/worked", "raised"),
            ("c", "vm/worked", "cleared"),
            ("d", "vm/quiet", "raised"),
            ("e", "vm/quiet", "cleared"),
            ("f", "vm/stands", "raised"),
        ] {
            published.send(json!({ "id": id, "resource": resource, "state": state })).await;
        }
        run(db, "DELETE FROM job WHERE target IN ('vm/quiet', 'vm/stands'); DELETE FROM tally")
            .await;
        let sooner = sweep(db, Limits::default(), now()).await.expect("sweeps");
        assert_eq!(sooner, arvok_store::Swept::default(), "nothing is old");
        let far = now() + TimeDelta::days(2);
        assert_eq!(
            sweep(db, Limits::default(), far).await.expect("sweeps").alarms,
            1,
            "only ever cleared"
        );
        let far = now() + TimeDelta::days(401);
        let swept = sweep(db, Limits::default(), far).await.expect("sweeps");
        assert_eq!(swept.alarms, 1, "over, and no job belongs to it");
        let left = rows(db, "SELECT resource FROM alarm ORDER BY resource").await;
        assert_eq!(left, [json!({ "resource": "vm/stands" }), json!({ "resource": "vm/worked" })]);
        assert!(!swept.is_full());
    });
}

#[test]
fn unreadable_payloads_go_by_age_and_by_number_for_each_source() {
    let published = Published::with(&[]);
    block(async {
        let db = &published.db;
        run(
            db,
            "INSERT INTO unreadable (source, received, reason, payload)
                SELECT s, now() - make_interval(days => CASE WHEN n <= 3 THEN 31
                ELSE 0 END), 'odd', n::text
                FROM generate_series(1, 10) n, unnest(ARRAY['a', 'b']) s
            UNION ALL SELECT 'few', now(), 'odd', 'x'",
        )
        .await;
        let limits = Limits { unreadable_of_source: 5, ..Limits::default() };
        let swept = sweep(db, limits, now()).await.expect("sweeps");
        assert_eq!(
            swept.unreadable,
            6 + 4,
            "those of a month ago, and of each source all but the newest five"
        );
        let left = rows(
            db,
            "SELECT source, count(*) AS n, min(payload::int) FILTER (WHERE source
            <> 'few') AS oldest FROM unreadable GROUP BY source ORDER BY source",
        )
        .await;
        assert_eq!(left[0], json!({ "source": "a", "n": 5, "oldest": 6 }));
        assert_eq!(left[2]["n"], 1);
        assert_eq!(sweep(db, limits, now()).await.expect("sweeps").unreadable, 0);
    });
}

#[test]
fn counts_are_added_up_and_lose_nothing() {
    let published = Published::with(&[rule("any", "settle: { rest: 1h }")]);
    block(async {
        let db = &published.db;
        for n in 0..9 {
            published
                .send(json!({ "id": format!("n{n}"), "resource": format!("vm/r{}", n % 3) }))
                .await;
        }
        let counts =
            "SELECT rule, verdict, sum(count) AS n FROM verdict_count GROUP BY 1, 2 ORDER BY 1, 2";
        let alerts = "SELECT how, sum(count) AS n FROM alert_count GROUP BY how ORDER BY how";
        let (before, alerts_before) = (rows(db, counts).await, rows(db, alerts).await);
        assert!(!before.is_empty());
        for later in [TimeDelta::hours(4), TimeDelta::days(35)] {
            let shift =
                "UPDATE verdict_count SET hour = hour - interval '4 hours' WHERE shard <> 0";
            run(db, shift).await;
            sweep(
                db,
                Limits { deliveries: TimeDelta::days(900), ..Limits::default() },
                now() + later,
            )
            .await
            .expect("sweeps");
            assert_eq!(rows(db, counts).await, before, "after {later}");
        }
        assert_eq!(
            one(db, "SELECT count(*) AS x FROM verdict_count WHERE shard <> 0").await,
            0,
            "each in one row"
        );
        let hours = one(
            db,
            "SELECT count(*) AS x FROM verdict_count WHERE extract(hour
                FROM hour AT TIME ZONE 'UTC') <> 0",
        )
        .await;
        assert_eq!(hours, 0, "what is over a month old is kept by day");
        assert_eq!(
            rows(db, alerts).await.len(),
            0,
            "minutes are kept for eight days: {alerts_before:?}"
        );
    });
}

#[test]
fn what_a_withdrawn_rule_left_behind_goes() {
    let published = Published::with(&[
        rule("patient", "settle: { still: 1h }"),
        rule("other", "settle: { still: 1h }"),
    ]);
    block(async {
        let db = &published.db;
        let seq = published.send(json!({})).await;
        // As if a batch that was under way had written it after the withdrawal.
        run(
            db,
            "UPDATE definition SET withdrawn = true, published_at = now() WHERE name = 'patient'",
        )
        .await;
        assert_eq!(
            sweep(db, Limits::default(), now()).await.expect("sweeps").memories,
            0,
            "others may be under way"
        );
        let later = now() + TimeDelta::minutes(2);
        assert_eq!(sweep(db, Limits::default(), later).await.expect("sweeps").memories, 1);
        assert_eq!(rows(db, "SELECT rule FROM tally").await, [json!({ "rule": "other" })]);
        let told = format!(
            "SELECT reason AS x FROM verdicts WHERE alert_seq = {seq} AND rule = 'patient'"
        );
        let told = one(db, &told).await;
        assert!(
            told.as_str()
                .is_some_and(|r| r.ends_with("the rule was withdrawn before it was decided")),
            "{told}"
        );
    });
}

#[test]
fn a_day_begins_once_however_many_look_and_numbers_go_on_in_its_room() {
    let published = Published::with(&[]);
    block(async {
        let db = &published.db;
        let first = published.send(json!({ "id": "a" })).await;
        let tomorrow = now() + TimeDelta::days(1);
        let looks = (0..4).map(|_| days::begin(db, tomorrow));
        let begun = futures_util::future::join_all(looks).await;
        let begun = begun.into_iter().filter(|b| *b.as_ref().unwrap_or(&false)).count();
        assert_eq!(begun, 1);
        let second = published.send(json!({ "id": "b" })).await;
        assert_eq!((first / days::ROOM, second / days::ROOM), (0, 1));
        assert!(!days::begin(db, tomorrow).await.expect("looks"), "it has begun");
        let all = days::all(db).await.expect("lists");
        assert_eq!(all.iter().map(|d| d.first_seq).collect::<Vec<_>>(), [days::ROOM, 0]);
    });
}

/// Longer than the beginning of a day waits for those who take alerts in.
const HELD: Duration = Duration::from_millis(700);

#[test]
fn numbers_that_ran_ahead_are_noted_though_somebody_takes_alerts_in_all_the_while() {
    let published = Published::with(&[]);
    block(async {
        let db = &published.db;
        let mut writer = Writer::default();
        published.take(&payloads([alert(json!({ "id": "a" }), now())]), &mut writer).await;
        assert!(!days::begin(db, now()).await.expect("makes tables ahead"));
        run(db, &format!("SELECT setval('alert_seq_seq', {})", days::ROOM + 5)).await;
        let others = db.begin().await.expect("a transaction");
        others
            .execute_unprepared(&format!("SELECT pg_advisory_xact_lock_shared({})", days::TURN))
            .await
            .expect("turn");
        let others = async {
            tokio::time::sleep(HELD).await;
            others.commit().await.expect("commits");
        };
        let batch = payloads([alert(json!({ "id": "b" }), now())]);
        let (taken, ()) = tokio::join!(published.take(&batch, &mut writer), others);
        assert_eq!(taken.taken[0].alerts[0].seq.expect("new") / days::ROOM, 1);
        assert_eq!(writer.known.first, days::ROOM);
    });
}

#[test]
fn an_announcement_is_heard_cut_and_a_lost_one_is_noticed() {
    let published = Published::with(&[]);
    block(async {
        let db = &published.db;
        let mut listener = Listener::start(db).await.expect("listens");
        let change =
            Change { alerts: (0..500).collect(), jobs: (0..5_000).collect(), ..Change::default() };
        changes::announce(db, change.clone()).await.expect("announces");
        let Ok(Announced::Change(heard)) = listener.next().await else { panic!("a change") };
        assert_eq!(
            (heard.alerts.len(), heard.jobs.len()),
            (20, 100),
            "what does not fit is left out"
        );
        assert_eq!(heard.alerts.last(), Some(&499), "the newest are told");
        let mut reached = Reached::default();
        reached.hear(&change);
        assert_eq!((reached.alerts, reached.jobs), (499, 4_999));
        let seq = published.send(json!({})).await;
        let now_reached = changes::reached(db).await.expect("asks");
        assert_eq!((now_reached.alerts, now_reached.generation), (seq, published.generation));
        run(
            db,
            "SELECT pg_terminate_backend(pid) FROM pg_stat_activity WHERE query LIKE 'LISTEN%'
            AND pid <> pg_backend_pid()",
        )
        .await;
        let after = listener.next().await;
        assert!(
            after.is_err()
                || after.is_ok_and(|heard| matches!(heard, Announced::Change(c) if c.reset)),
            "a lost connection is told"
        );
    });
}

#[test]
fn what_nodes_that_died_have_left_of_calls_goes() {
    let published = Published::with(&[]);
    block(async {
        let db = &published.db;
        let call = |attempt| LiveCall { job: JobId(7), place: Place::new("act"), attempt };
        live_output::put(db, &call(1), "one", 1).await.expect("puts");
        live_output::put(db, &call(1), "two", 2).await.expect("puts");
        live_output::put(db, &call(2), "again", 1).await.expect("puts");
        let of_job = async || live_output::of_job(db, 7).await.expect("reads");
        let lines: Vec<_> = of_job().await.into_iter().map(|l| (l.attempt, l.lines)).collect();
        assert_eq!(lines, [(1, "two".to_owned()), (2, "again".to_owned())]);
        live_output::remove(db, &call(1)).await.expect("removes");
        sweep(db, Limits::default(), now()).await.expect("sweeps");
        assert_eq!(of_job().await.len(), 1, "it may be written still");
        run(
            db,
            "INSERT INTO call_slot (connection, until, holder) VALUES
            ('scripts of node-gone', now() - interval '2 hours', '7 act'),
            ('scripts of node-here', now() + interval '1 minute', '8 act')",
        )
        .await;
        sweep(db, Limits::default(), now() + TimeDelta::minutes(6)).await.expect("sweeps");
        assert_eq!(of_job().await.len(), 0);
        assert_eq!(rows(db, "SELECT connection FROM call_slot").await.len(), 1);
    });
}
