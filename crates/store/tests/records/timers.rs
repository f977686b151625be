//! Timers: each time is handled by one node, what a dead one held by another, and what is published
//! later stands.

use crate::kit::{block, migrated, now, one, run};
use arvok_store::{
    DatabaseConnection,
    stored::Stored,
    timers::{self, Timer, TimerKind, WantedTimer},
};
use chrono::TimeDelta;

fn wanted(key: &str, spec: &str, seconds: i64) -> WantedTimer {
    let due = now() + TimeDelta::seconds(seconds);
    WantedTimer { key: key.into(), spec: spec.into(), due }
}

async fn set(db: &DatabaseConnection, generation: i64, wanted: &[WantedTimer]) {
    timers::set(db, TimerKind::Schedule, generation, wanted).await.expect("sets");
}

async fn held(db: &DatabaseConnection) -> Vec<Timer> {
    timers::hold_due(db, &TimerKind::ALL, 9, 30.0, 50).await.expect("holds")
}

#[test]
fn nodes_that_look_together_hold_each_due_timer_once() {
    let db = migrated();
    block(async {
        let all: Vec<_> = (0..120).map(|n| wanted(&format!("s{n:03}"), "a", -5)).collect();
        set(&db, 1, &all).await;
        let mut keys = Vec::new();
        for _ in 0..3 {
            let found = futures_util::future::join_all((0..4).map(|_| held(&db))).await;
            keys.extend(found.into_iter().flatten().map(|t| t.key));
        }
        let count = keys.len();
        keys.sort();
        keys.dedup();
        assert_eq!((count, keys.len()), (120, 120));
    });
}

#[test]
fn what_a_dead_node_held_is_taken_up_and_the_overtaken_one_changes_nothing() {
    let db = migrated();
    block(async {
        set(&db, 1, &[wanted("nightly", "a", -5), wanted("later", "a", 60)]).await;
        let first = held(&db).await;
        assert_eq!(first.iter().map(|t| t.key.as_str()).collect::<Vec<_>>(), ["nightly"]);
        assert!(held(&db).await.is_empty(), "it is held");
        run(&db, "UPDATE timer SET held_until = now() WHERE key = 'nightly'").await;
        let second = held(&db).await;
        assert_eq!(first, second, "the same time");
        let next = now() + TimeDelta::seconds(60);
        assert!(timers::go_on(&db, &second[0], next).await.expect("goes on"));
        assert!(!timers::go_on(&db, &first[0], now()).await.expect("asks"), "it was overtaken");
        timers::fail(&db, &first[0], "too late").await.expect("asks");
        assert_eq!(one(&db, "SELECT sum(failures)::int AS x FROM timer").await, 0);
        assert!(held(&db).await.is_empty());
    });
}

#[test]
fn what_fails_waits_longer_each_time_and_keeps_nobody() {
    let db = migrated();
    block(async {
        set(&db, 1, &[wanted("bad", "a", -9), wanted("good", "a", -5)]).await;
        let mut waits = Vec::new();
        for _ in 0..8 {
            run(&db, "UPDATE timer SET held_until = NULL WHERE key = 'bad'").await;
            let bad = held(&db).await.into_iter().find(|t| t.key == "bad").expect("is due");
            timers::fail(&db, &bad, "why").await.expect("fails");
            let wait = "SELECT round(extract(epoch FROM held_until - clock_timestamp()))::int AS x
                FROM timer WHERE key = 'bad'";
            waits.push(one(&db, wait).await.as_i64().expect("seconds"));
        }
        assert_eq!(waits, [1, 2, 4, 8, 16, 32, 60, 60]);
        let failing = timers::failing(&db, 5).await.expect("asks");
        let told: Vec<_> = failing
            .iter()
            .map(|f| (f.kind, f.key.as_str(), f.failures, f.failure.as_str()))
            .collect();
        assert_eq!(told, [(Stored(TimerKind::Schedule), "bad", 8, "why")]);
        let next = timers::next(&db, &TimerKind::ALL, 9).await.expect("asks").expect("one");
        assert!(next < now() + TimeDelta::seconds(61), "{next}");
    });
}

#[test]
fn what_a_later_publication_wants_stands_whatever_a_late_node_sets() {
    let db = migrated();
    block(async {
        let keys = "SELECT coalesce(string_agg(key || ' ' || spec, ', ' ORDER BY key), '') AS x
            FROM timer";
        set(&db, 5, &[wanted("a", "new", 60), wanted("b", "new", 60)]).await;
        set(&db, 4, &[wanted("a", "old", -5)]).await;
        assert_eq!(one(&db, keys).await, "a new, b new");
        assert!(held(&db).await.is_empty(), "nothing begins anew");
        // The same again changes nothing, though the first time would be another by now.
        let due = timers::due(&db, TimerKind::Schedule, "a").await.expect("asks");
        set(&db, 6, &[wanted("a", "new", 90), wanted("b", "other", 90)]).await;
        assert_eq!(timers::due(&db, TimerKind::Schedule, "a").await.expect("asks"), due);
        assert_eq!(one(&db, keys).await, "a new, b other");
        set(&db, 7, &[]).await;
        assert_eq!(one(&db, keys).await, "");
    });
}

#[test]
fn an_unwanted_timer_goes_unless_something_later_wants_it() {
    let db = migrated();
    block(async {
        set(&db, 5, &[wanted("a", "x", -5)]).await;
        let timer = held(&db).await.remove(0);
        run(&db, "UPDATE timer SET held_until = NULL").await;
        assert!(
            timers::hold_due(&db, &TimerKind::ALL, 4, 30.0, 50).await.expect("asks").is_empty(),
            "not known yet"
        );
        assert_eq!(timers::next(&db, &TimerKind::ALL, 4).await.expect("asks"), None);
        timers::forget(&db, &timer, 4).await.expect("asks");
        assert_eq!(one(&db, "SELECT count(*) AS x FROM timer").await, 1);
        timers::forget(&db, &timer, 5).await.expect("asks");
        assert_eq!(one(&db, "SELECT count(*) AS x FROM timer").await, 0);
    });
}
