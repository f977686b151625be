//! Calls of connections: the last of each, how they went, and what is called back.

use crate::kit::{Published, block, now, one, rows, rule, run};
use arvok_api::CallState;
use arvok_core::{JobId, Principal, job::Place};
use arvok_store::{
    Limits,
    calls::{Caller, NewCall, keep, last, recent_outcomes},
    outside::callbacks::{self, Try},
    sweep,
};
use chrono::{DateTime, TimeDelta, Utc};
use serde_json::{Value, json};

fn call(connection: &str, minutes_ago: i64, ended: CallState) -> NewCall {
    NewCall {
        connection: connection.into(),
        operation: "vm.inspect".into(),
        caller: Caller::Step { job: JobId(1), place: Place::new("look"), attempt: 2 },
        at: now() - TimeDelta::minutes(minutes_ago),
        millis: 10 * i32::try_from(minutes_ago).expect("a few"),
        ended,
        message: (ended != CallState::Done).then(|| "no answer\0".to_owned()),
        trace: None,
    }
}

#[test]
fn the_last_calls_of_a_connection_are_told_and_old_and_many_ones_go() {
    let published = Published::with(&[]);
    block(async {
        let db = &published.db;
        let by_hand = NewCall {
            caller: Caller::Person(Principal::token("pat")),
            ..call("yard", 90, CallState::Done)
        };
        let all = [
            by_hand,
            call("yard", 3, CallState::Done),
            call("yard", 2, CallState::Unknown),
            call("yard", 1, CallState::Done),
            call("chat", 1, CallState::Done),
        ];
        keep(db, &all).await.expect("keeps");
        keep(db, &[]).await.expect("nothing is kept");
        let found = last(db, "yard", None, 2).await.expect("reads");
        assert_eq!(
            found.iter().map(|c| c.ended.0).collect::<Vec<_>>(),
            [CallState::Done, CallState::Unknown]
        );
        assert_eq!(found[1].message.as_deref(), Some("no answer\u{fffd}"));
        let before = last(db, "yard", Some(found[1].id), 9).await.expect("reads");
        assert_eq!(
            before.iter().map(|c| c.by.as_ref().map(|by| by.0.id())).collect::<Vec<_>>(),
            [None, Some("pat")]
        );

        let names = vec!["yard".to_owned(), "never".to_owned()];
        let told = recent_outcomes(db, names, now()).await.expect("counts");
        assert_eq!(
            (told[0].calls, told[0].failed, told[0].median),
            (3, 1, Some(20.0)),
            "of the last hour"
        );
        assert_eq!((told[1].calls, told[1].last_at), (0, None));

        let few = Limits { calls_of_connection: 2, ..Limits::default() };
        assert_eq!(sweep(db, few, now()).await.expect("sweeps").calls, 2);
        assert_eq!(last(db, "yard", None, 9).await.expect("reads").len(), 2);
        assert_eq!(sweep(db, few, now()).await.expect("sweeps").calls, 0);
        assert_eq!(sweep(db, few, now() + TimeDelta::days(31)).await.expect("sweeps").calls, 3);
    });
}

#[test]
fn what_is_called_back_enters_once_while_somebody_waits_for_it() {
    let published = Published::with(&[rule("any", "")]);
    block(async {
        let job = published.jobs(1).await[0];
        let db = &published.db;
        let created: DateTime<Utc> = one(db, "SELECT created_at AS x FROM job")
            .await
            .as_str()
            .expect("a time")
            .parse()
            .expect("a time");
        let of = Try { job, created, place: Place::new("save"), attempt: 1 };
        let called = json!({ "output": { "at": "store/1" } });
        let take = async |of: &Try| {
            callbacks::record_answer(db, of, "call.answered", &called).await.expect("takes")
        };
        assert!(!take(&of).await, "the step has not begun");
        run(
            db,
            "INSERT INTO attempt (job_id, place, attempt, state, started_at, give)
                SELECT id, 'save', 1, 'running', now(), '{}' FROM job;
            UPDATE job SET state = 'waiting'; DELETE FROM outbox",
        )
        .await;
        assert!(!take(&Try { attempt: 2, ..of.clone() }).await, "another try");
        assert!(
            !take(&Try { created: created - TimeDelta::seconds(1), ..of.clone() }).await,
            "a job of before a restore"
        );
        assert!(take(&of).await && take(&of).await, "who sends it twice is told the same");
        let told: Vec<Value> = rows(
            db,
            "SELECT kind, alert -> 'labels' AS labels, alert #> '{body,callback}' AS said
                FROM outbox",
        )
        .await;
        assert_eq!(told.len(), 1, "{told:?}");
        assert_eq!((&told[0]["labels"]["step"], &told[0]["said"]), (&json!("save"), &called));
        run(db, "UPDATE attempt SET state = 'done'").await;
        assert!(!take(&of).await, "nobody waits any more");
    });
}
