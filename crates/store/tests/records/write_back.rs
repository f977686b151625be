//! Acts of people that are done at the sender of an alarm as well: each by one node at a time, in
//! their order, and by another one if that dies.

use crate::kit::{Published, block, one, run};
use arvok_api::WriteBackState;
use arvok_core::{Principal, alarm::AlarmAct};
use arvok_store::{
    DatabaseConnection, alarm_acts,
    write_back::{TakenAct, WriteBackTry, end, take},
};
use futures_util::future::join_all;
use serde_json::json;
use std::time::Duration;

async fn act(db: &DatabaseConnection, alarm: i64, act: AlarmAct) {
    let by = Principal::token("pat");
    let sent_to = vec!["yard".to_owned()];
    let added = alarm_acts::add(db, alarm, (&by, act, "said"), sent_to).await.expect("is added");
    assert!(added);
}

async fn alarm(published: &mut Published, resource: &str) -> i64 {
    published.send(json!({ "resource": resource, "body": { "problem": 7 } })).await;
    let sql = format!("SELECT id AS x FROM alarm WHERE resource = '{resource}'");
    one(&published.db, &sql).await.as_i64().expect("an alarm")
}

async fn taken(db: &DatabaseConnection) -> Vec<TakenAct> {
    let all = join_all((0..4).map(|_| take(db))).await;
    all.into_iter().flat_map(|taken| taken.expect("looks")).collect()
}

#[test]
fn acts_are_taken_by_one_in_their_order_and_by_another_if_that_dies() {
    let mut published = Published::with(&[]);
    block(async {
        let first = alarm(&mut published, "vm/a").await;
        let db = &published.db.clone();
        act(db, first, AlarmAct::Acknowledged).await;
        act(db, first, AlarmAct::Cleared).await;
        let mut all = taken(db).await;
        assert_eq!(all.len(), 1, "one of the two, by one of four");
        let taken_first = all.remove(0);
        let body = taken_first.alert.as_ref().map(|alert| alert.body["problem"].clone());
        assert_eq!((taken_first.act, body), (AlarmAct::Acknowledged, Some(json!(7))));
        assert!(!taken_first.was_under_way);
        assert!(taken(db).await.is_empty(), "what is being done is nobody else's");

        // Whoever has it is gone, and comes back when another has it.
        run(db, "UPDATE alarm_act SET next_at = now() WHERE sending = 'under-way'").await;
        let again = taken(db).await.remove(0);
        assert!(again.was_under_way && again.tries == 2, "{again:?}");
        assert!(!end(db, &taken_first, &WriteBackTry::Done).await.expect("is asked"));
        let wait = WriteBackTry::Again(Duration::from_secs(60), "it is away\0".to_owned());
        assert!(end(db, &again, &wait).await.expect("is written"));
        assert!(taken(db).await.is_empty(), "what comes later waits for it");
        run(db, "UPDATE alarm_act SET next_at = now() WHERE sending = 'waiting'").await;
        let third = taken(db).await.remove(0);
        assert_eq!((third.tries, third.was_under_way), (3, false));
        let over = WriteBackTry::Ended(WriteBackState::Failed, "it says no".to_owned());
        assert!(end(db, &third, &over).await.expect("is written"));
        assert_eq!(taken(db).await.remove(0).act, AlarmAct::Cleared);
        let shown = alarm_acts::of_alarm(db, first).await.expect("is read");
        let sent = shown[1].at_sender.as_ref().expect("is sent");
        assert_eq!(
            (sent.state, sent.reason.as_deref()),
            (WriteBackState::Failed, Some("it says no"))
        );
    });
}

#[test]
fn a_source_takes_one_turn_and_what_is_a_trial_or_of_another_source_is_not_sent() {
    let mut published = Published::with(&[]);
    block(async {
        let db = &published.db.clone();
        let (first, second) =
            (alarm(&mut published, "vm/a").await, alarm(&mut published, "vm/b").await);
        act(db, first, AlarmAct::Acknowledged).await;
        act(db, second, AlarmAct::Acknowledged).await;
        assert_eq!(take(db).await.expect("looks").len(), 1, "one of a source at a look");
        assert_eq!(take(db).await.expect("looks").len(), 1);
        run(db, "UPDATE alarm SET trial = true WHERE resource = 'vm/b'").await;
        act(db, second, AlarmAct::Noted).await;
        run(db, "UPDATE alarm SET source = 'other' WHERE resource = 'vm/a'").await;
        act(db, first, AlarmAct::Noted).await;
        let unsent = "SELECT count(*) AS x FROM alarm_act WHERE sending IS NULL";
        assert_eq!(one(db, unsent).await, 2);
    });
}
