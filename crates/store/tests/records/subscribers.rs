//! Events on their way out: kept once, sent by one, given up in time, bounded.

use crate::kit::{Published, block, one, rule, run};
use arvok_store::{
    DatabaseConnection,
    outside::{
        outbox,
        subscribers::{self, Failed, Leaving, MOST_WAITING, Outgoing},
    },
};
use serde_json::json;
use std::time::Duration;

fn leaving(subscriber: &str, id: &str) -> Leaving {
    Leaving { subscriber: subscriber.into(), event_id: id.into(), event: json!({ "id": id }) }
}

/// A subscriber that has agreed.
async fn agreed(db: &DatabaseConnection, name: &str) {
    run(
        db,
        &format!(
            "INSERT INTO subscriber (name, address, confirmed_at)
        VALUES ('{name}', 'http://{name}', now())"
        ),
    )
    .await;
}

async fn take(db: &DatabaseConnection, name: &str, most: i64) -> Vec<Outgoing> {
    subscribers::claim(db, &[(name.to_owned(), most)]).await.expect("takes")
}

fn busy() -> Failed {
    let hour = Duration::from_secs(3600);
    Failed {
        status: Some(503),
        failure: "it answered 503".into(),
        again: hour,
        rest: None,
        gone: false,
    }
}

async fn count(db: &DatabaseConnection, state: &str) -> i64 {
    let sql = format!("SELECT count(*) AS x FROM outgoing WHERE state = '{state}'");
    number(db, &sql).await
}

async fn number(db: &DatabaseConnection, sql: &str) -> i64 {
    one(db, sql).await.as_i64().expect("a number")
}

#[test]
fn an_event_is_kept_once_though_two_nodes_let_it_enter() {
    let published = Published::with(&[rule("any", "")]);
    block(async {
        published.jobs(1).await;
        let db = &published.db;
        agreed(db, "board").await;
        let told = outbox::claim(db, "a", 100).await.expect("takes");
        let out = vec![leaving("board", &told[0].id)];
        subscribers::keep(db, &told, &out).await.expect("keeps");
        // Another had taken it too long ago, and is as far only now.
        subscribers::keep(db, &told, &out).await.expect("keeps");
        assert_eq!(count(db, "waiting").await, 1);
        let sent = take(db, "board", 8).await;
        assert_eq!((sent.len(), sent[0].tries), (1, 1));
        subscribers::delivered(db, &sent[0], 204).await.expect("is told");
        subscribers::keep(db, &told, &out).await.expect("keeps");
        assert!(take(db, "board", 8).await.is_empty(), "what has left does not leave again");
    });
}

#[test]
fn an_event_is_sent_by_one_node_and_by_another_when_that_has_died() {
    let published = Published::with(&[]);
    block(async {
        let db = &published.db;
        agreed(db, "board").await;
        let all: Vec<Leaving> = (0..10).map(|n| leaving("board", &format!("e{n}"))).collect();
        assert_eq!(subscribers::replay(db, &all).await.expect("keeps"), 10);
        assert_eq!(
            subscribers::replay(db, &all).await.expect("keeps"),
            0,
            "what waits already does not wait twice"
        );
        let first = take(db, "board", 6).await;
        let second = take(db, "board", 6).await;
        assert_eq!((first.len(), second.len()), (6, 4));
        assert!(take(db, "board", 6).await.is_empty());
        run(db, "UPDATE outgoing SET taken = now() - interval '2 minutes' WHERE number <= 6").await;
        let again = take(db, "board", 10).await;
        assert_eq!(
            again.iter().map(|o| (o.number, o.tries)).collect::<Vec<_>>(),
            (1..=6).map(|n| (n, 2)).collect::<Vec<_>>()
        );
        // Who was thought dead tells that it was taken after all; the other's failure then changes
        // nothing.
        subscribers::delivered(db, &first[0], 200).await.expect("is told");
        subscribers::failed(db, &again[0], &busy()).await.expect("is told");
        assert_eq!((count(db, "delivered").await, count(db, "waiting").await), (1, 9));
        // After a failure all of it rests for a moment, and the event itself longer.
        assert!(take(db, "board", 10).await.is_empty());
        subscribers::put_back(db, again[1].number, Duration::ZERO).await.expect("puts back");
        run(db, "UPDATE subscriber SET next_at = now()").await;
        let back = take(db, "board", 10).await;
        assert_eq!(
            back.iter().map(|o| (o.number, o.tries)).collect::<Vec<_>>(),
            [(2, 2)],
            "a try that was none"
        );
        subscribers::hurry(db, "board").await.expect("hurries");
        assert!(!subscribers::states_of(db, vec!["board".into()]).await.expect("reads").is_empty());
    });
}

#[test]
fn whoever_wants_no_more_is_sent_nothing_and_what_waits_for_a_day_is_given_up() {
    let published = Published::with(&[]);
    block(async {
        let db = &published.db;
        agreed(db, "board").await;
        agreed(db, "other").await;
        let all = [
            leaving("board", "a"),
            leaving("board", "b"),
            leaving("other", "a"),
            leaving("nobody", "a"),
        ];
        subscribers::replay(db, &all).await.expect("keeps");
        let sent = take(db, "board", 1).await;
        subscribers::failed(db, &sent[0], &Failed { gone: true, ..busy() }).await.expect("is told");
        run(db, "UPDATE subscriber SET next_at = now()").await;
        run(db, "UPDATE outgoing SET next_at = now()").await;
        assert!(take(db, "board", 8).await.is_empty());
        assert!(
            subscribers::to_ask(db, vec!["board".into()]).await.expect("asks").is_empty(),
            "nor is it asked"
        );
        assert_eq!(take(db, "other", 8).await.len(), 1, "the other is sent its own");
        assert_eq!(subscribers::give_up(db).await.expect("gives up"), 0);
        run(db, "UPDATE outgoing SET queued_at = now() - interval '25 hours'").await;
        assert_eq!(
            subscribers::give_up(db).await.expect("gives up"),
            3,
            "what is being sent is left"
        );
        assert_eq!(subscribers::replay_given_up(db, "board").await.expect("sends"), 2);
        let failing = subscribers::failing(db, 1).await.expect("reads");
        assert_eq!(failing.iter().map(|f| f.name.as_str()).collect::<Vec<_>>(), ["board"]);
    });
}

#[test]
fn an_address_is_asked_by_one_node_and_what_it_agrees_to_is_what_it_was_asked() {
    let published = Published::with(&[]);
    block(async {
        let db = &published.db;
        let generation = number(db, "SELECT generation AS x FROM catalog").await;
        let at = |address: &str| vec![("board".to_owned(), address.to_owned())];
        subscribers::note(db, generation, &at("http://a")).await.expect("notes");
        subscribers::note(db, generation - 1, &at("http://old"))
            .await
            .expect("a node of before changes nothing");
        let names = || vec!["board".to_owned()];
        let asked = subscribers::to_ask(db, names()).await.expect("asks");
        assert_eq!(asked.iter().map(|a| a.address.as_str()).collect::<Vec<_>>(), ["http://a"]);
        assert!(
            subscribers::to_ask(db, names()).await.expect("asks").is_empty(),
            "somebody asks it"
        );
        subscribers::not_agreed(db, &asked[0], "no", Duration::ZERO).await.expect("is told");
        let again = subscribers::to_ask(db, names()).await.expect("asks");
        assert_eq!(
            (again[0].asked_at, again[0].failures),
            (asked[0].asked_at, 1),
            "the same question, for a day"
        );
        subscribers::note(db, generation, &at("http://b")).await.expect("notes");
        assert!(
            !subscribers::agreed(db, "board", asked[0].asked_at, None).await.expect("agrees"),
            "another address"
        );
        let asked = subscribers::to_ask(db, names()).await.expect("asks");
        assert!(
            subscribers::agreed(db, "board", asked[0].asked_at, Some(60)).await.expect("agrees")
        );
        subscribers::not_agreed(db, &asked[0], "late", Duration::ZERO).await.expect("is told");
        let known = subscribers::states_of(db, names()).await.expect("reads").remove(0);
        assert!(
            known.confirmed_at.is_some() && known.rate == Some(60) && known.failures == 0,
            "{known:?}"
        );
        subscribers::note(db, generation, &at("http://b")).await.expect("notes");
        let known = subscribers::states_of(db, names()).await.expect("reads").remove(0);
        assert!(known.confirmed_at.is_some(), "the same address has agreed");
    });
}

#[test]
fn what_waits_for_one_is_bounded_and_what_is_over_goes() {
    let published = Published::with(&[rule("any", "")]);
    block(async {
        published.jobs(2).await;
        let db = &published.db;
        agreed(db, "board").await;
        agreed(db, "other").await;
        let sql = format!(
            "INSERT INTO outgoing (subscriber, event_id, event) SELECT 'board', n::text, '{{}}'
                FROM generate_series(1, {MOST_WAITING}) n"
        );
        run(db, &sql).await;
        let told = outbox::claim(db, "a", 100).await.expect("takes");
        let out: Vec<Leaving> =
            told.iter().flat_map(|t| [leaving("board", &t.id), leaving("other", &t.id)]).collect();
        subscribers::keep(db, &told, &out).await.expect("keeps");
        let known =
            subscribers::states_of(db, vec!["board".into(), "other".into()]).await.expect("reads");
        let of: Vec<_> = known.iter().map(|k| (k.waiting, k.left_out)).collect();
        assert_eq!(of, [(MOST_WAITING, 2), (2, 0)]);
        run(db, "UPDATE outgoing SET state = 'given-up', ended_at = now()").await;
        let limits =
            arvok_store::Limits { given_up_of_subscriber: 7_000, ..arvok_store::Limits::default() };
        arvok_store::sweep(db, limits, chrono::Utc::now()).await.expect("sweeps");
        assert_eq!(count(db, "given-up").await, 7_002);
        run(
            db,
            "UPDATE outgoing SET ended_at = now() - interval '31 days' WHERE subscriber = 'other'",
        )
        .await;
        run(
            db,
            "INSERT INTO definition (kind, name, version, text, file, published_by, published_at,
                withdrawn)
            VALUES ('subscriber', 'board', 1, '', '', 'token/pat', now(), true)",
        )
        .await;
        for _ in 0..3 {
            arvok_store::sweep(db, limits, chrono::Utc::now()).await.expect("sweeps");
        }
        assert_eq!(count(db, "given-up").await, 0, "of whoever is withdrawn nothing stays");
        let left = number(db, "SELECT count(*) AS x FROM subscriber").await;
        assert_eq!(left, 1);
    });
}

#[test]
fn whoever_failed_last_is_tried_with_one_event_and_what_was_taken_is_kept_by_number() {
    let published = Published::with(&[]);
    block(async {
        let db = &published.db;
        agreed(db, "board").await;
        let all: Vec<Leaving> = (0..30).map(|n| leaving("board", &format!("e{n}"))).collect();
        subscribers::replay(db, &all).await.expect("keeps");
        let sent = take(db, "board", 2).await;
        subscribers::failed(db, &sent[0], &busy()).await.expect("is told");
        run(db, "UPDATE subscriber SET next_at = now()").await;
        run(db, "UPDATE outgoing SET next_at = now(), taken = NULL").await;
        let next = take(db, "board", 8).await;
        assert_eq!(
            (next.len(), next[0].number, next[0].tries),
            (1, 3, 1),
            "one that nobody has tried"
        );
        subscribers::delivered(db, &next[0], 200).await.expect("is told");
        assert_eq!(take(db, "board", 8).await.len(), 8, "it takes events again");
        run(db, "UPDATE outgoing SET state = 'delivered', ended_at = now()").await;
        let limits =
            arvok_store::Limits { delivered_of_subscriber: 20, ..arvok_store::Limits::default() };
        let swept = arvok_store::sweep(db, limits, chrono::Utc::now()).await.expect("sweeps");
        assert_eq!((swept.outgoing, count(db, "delivered").await), (10, 20));
    });
}
