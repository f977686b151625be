//! Calls that runners make: each is one runner's, begun once, and ended by whoever has begun it.

use crate::kit::{Published, block, rows};
use arvok_api::{CallBeat, ClaimedCall};
use arvok_core::{JobId, Labels, Principal};
use arvok_store::{
    jobs,
    runners::calls::{self, NewRunnerCall},
};
use sea_orm::ConnectionTrait;
use std::collections::BTreeSet;

fn labels(text: &str) -> Labels {
    text.parse().expect("are labels")
}

fn call(id: i64, claim: &str) -> ClaimedCall {
    ClaimedCall { id, claim: claim.to_owned() }
}

async fn ask(db: &impl ConnectionTrait, through: &Labels) -> i64 {
    let number = calls::next_number(db).await.expect("a number");
    let new = NewRunnerCall { through, sealed: vec![1], step: None };
    calls::ask(db, number, new).await.expect("is asked for");
    number
}

#[test]
fn what_was_perhaps_asked_for_is_ended_for_good() {
    let published = Published::with(&[]);
    block(async {
        let (db, site) = (&published.db, labels("site=nessfold"));
        // It never came to that, and cannot any more.
        let never = calls::next_number(db).await.expect("a number");
        assert!(calls::ask_no_more(db, never).await.expect("ends").is_none());
        let new = NewRunnerCall { through: &site, sealed: vec![1], step: None };
        assert!(calls::ask(db, never, new).await.is_err(), "its number is taken");
        assert!(calls::claim(db, ("a", &site), "a", 9).await.expect("claims").is_empty());
        // It had come to that, and was begun or not.
        let (waiting, begun) = (ask(db, &site).await, ask(db, &site).await);
        assert_eq!(calls::claim(db, ("a", &site), "a", 9).await.expect("claims").len(), 2);
        assert_eq!(calls::begin(db, "a", &[call(begun, "a")]).await.expect("begins"), [begun]);
        let state = async |number: i64| {
            calls::ask_no_more(db, number).await.expect("ends").map(|stood| stood.state)
        };
        assert_eq!(state(waiting).await.as_deref(), Some("claimed"));
        assert_eq!(state(begun).await.as_deref(), Some("begun"));
        assert!(calls::begin(db, "a", &[call(waiting, "a")]).await.expect("begins").is_empty());
    });
}

#[test]
fn while_what_is_under_way_is_halted_no_call_of_a_job_is_handed_out_or_begun() {
    let published = Published::with(&[]);
    block(async {
        let (db, site, pat) = (&published.db, labels("site=nessfold"), Principal::token("pat"));
        let of_job = async || {
            let number = calls::next_number(db).await.expect("a number");
            let step = Some((JobId(7), "tell".to_owned(), 1));
            let new = NewRunnerCall { through: &site, sealed: vec![1], step };
            calls::ask(db, number, new).await.expect("is asked for");
            number
        };
        let claimed = of_job().await;
        assert_eq!(calls::claim(db, ("a", &site), "a", 9).await.expect("claims").len(), 1);
        jobs::set_halt(db, &pat, "testing", false).await.expect("halts");
        let waiting = of_job().await;
        assert_eq!(calls::claim(db, ("a", &site), "b", 9).await.expect("claims").len(), 1);
        jobs::set_halt(db, &pat, "testing", true).await.expect("halts");
        let both = [call(claimed, "a"), call(waiting, "b")];
        assert!(calls::begin(db, "a", &both).await.expect("begins").is_empty());
        let later = of_job().await;
        let by_hand = ask(db, &site).await;
        let found = calls::claim(db, ("a", &site), "c", 9).await.expect("claims");
        assert_eq!(found.iter().map(|one| one.id).collect::<Vec<_>>(), [by_hand]);
        assert!(jobs::lift_halt(db, &pat).await.expect("lifts"));
        assert_eq!(calls::begin(db, "a", &both).await.expect("begins").len(), 2);
        let found = calls::claim(db, ("a", &site), "d", 9).await.expect("claims");
        assert_eq!(found.iter().map(|one| one.id).collect::<Vec<_>>(), [later]);
    });
}

#[test]
fn many_runners_share_calls_and_none_is_begun_twice() {
    let published = Published::with(&[]);
    block(async {
        let (db, site) = (&published.db, labels("site=nessfold"));
        let mut asked = BTreeSet::new();
        for _ in 0..100 {
            asked.insert(ask(db, &site).await);
        }
        let both = labels("site=nessfold,kind=pier");
        let working = (0..8).map(|n| {
            let (runner, claim, both) = (format!("runner-{n}"), format!("claim-{n}"), both.clone());
            let db = db.clone();
            tokio::spawn(async move {
                let mut begun = Vec::new();
                loop {
                    let found =
                        calls::claim(&db, (&runner, &both), &claim, 3).await.expect("claims");
                    if found.is_empty() {
                        return begun;
                    }
                    let found: Vec<_> = found.iter().map(|one| call(one.id, &claim)).collect();
                    begun.extend(calls::begin(&db, &runner, &found).await.expect("begins"));
                    // What was begun is not begun again.
                    let again = calls::begin(&db, &runner, &found).await.expect("begins");
                    assert!(again.is_empty(), "{again:?}");
                }
            })
        });
        let working: Vec<_> = working.collect();
        let mut begun = Vec::new();
        for one in working {
            begun.extend(one.await.expect("ends"));
        }
        assert_eq!(begun.len(), 100, "each once");
        assert_eq!(begun.into_iter().collect::<BTreeSet<_>>(), asked);
    });
}

#[test]
fn a_claim_that_has_gone_says_nothing_any_more() {
    let published = Published::with(&[]);
    block(async {
        let (db, site) = (&published.db, labels("site=nessfold"));
        let ask = async || ask(db, &site).await;
        let claim = async |runner: &str, serves: &str| {
            let found = calls::claim(db, (runner, &labels(serves)), runner, 1).await;
            found.expect("claims").first().map(|one| one.id)
        };
        let begin = async |runner: &str, id: i64| {
            calls::begin(db, runner, &[call(id, runner)]).await.expect("begins") == [id]
        };
        let beat = async |runner: &str, id: i64| {
            let beat = CallBeat { call: call(id, runner), lines: None, line_count: 0 };
            !calls::beat(db, runner, &[beat]).await.expect("beats").is_empty()
        };
        let end = async |runner: &str, id: i64| {
            calls::end(db, runner, &call(id, runner), vec![2]).await.expect("ends")
        };
        let late = async |column: &str, id: i64| {
            let sql = format!(
                "UPDATE runner_call SET {column} = now() - interval '1 second' WHERE id = {id}"
            );
            db.execute_unprepared(&sql).await.expect("is late");
        };
        // Labels: all that are wanted, and no others are needed.
        let one = ask().await;
        assert_eq!(claim("other", "site=brack").await, None);
        assert_eq!(claim("half", "kind=pier").await, None);
        assert_eq!(claim("a", "site=nessfold").await, Some(one));
        assert_eq!(claim("b", "site=nessfold").await, None, "it is taken");
        // Not begun in time, it is another's, and the first can begin it no more.
        late("lease_until", one).await;
        assert!(!begin("a", one).await, "late");
        assert_eq!(claim("b", "site=nessfold").await, Some(one));
        assert!(!begin("a", one).await && begin("b", one).await);
        assert!(!beat("a", one).await && beat("b", one).await);
        // Begun and not heard of, it is given to nobody; its node gives it up, or it goes on.
        late("lease_until", one).await;
        assert_eq!(claim("c", "site=nessfold").await, None);
        let standing = calls::want(db, one).await.expect("is read").expect("is there");
        assert!(standing.is_lost);
        assert!(!beat("a", one).await && beat("b", one).await);
        let standing = calls::want(db, one).await.expect("is read").expect("is there");
        assert!(!standing.is_lost);
        assert!(calls::withdraw(db, one).await.expect("is withdrawn").is_some());
        assert!(!beat("b", one).await && !end("b", one).await, "it was given up");
        // What nobody wants any more is not claimed, not begun, and goes on no more.
        let unwanted = ask().await;
        late("wanted_until", unwanted).await;
        assert_eq!(claim("a", "site=nessfold").await, None);
        let two = ask().await;
        assert_eq!(claim("a", "site=nessfold").await, Some(two));
        late("wanted_until", two).await;
        assert!(!begin("a", two).await);
        let three = ask().await;
        assert_eq!(claim("a", "site=nessfold").await, Some(three));
        assert!(begin("a", three).await);
        late("wanted_until", three).await;
        assert!(beat("a", three).await, "the database may have been away");
        let long = "UPDATE runner_call SET wanted_until = now() - interval '21 seconds'";
        db.execute_unprepared(long).await.expect("is late");
        assert!(!beat("a", three).await);
        assert!(end("a", three).await, "whoever asked may still be told");
        assert!(!end("a", three).await, "once");
        let standing = calls::want(db, three).await.expect("is read").expect("is there");
        assert_eq!((standing.state.as_str(), standing.result), ("ended", Some(vec![2])));
        assert!(calls::withdraw(db, three).await.expect("is withdrawn").is_some());
        assert!(calls::want(db, three).await.expect("is read").is_none());
        let four = ask().await;
        assert!(calls::withdraw_unbegun(db, four).await.expect("looks"));
        let five = ask().await;
        assert!(claim("a", "site=nessfold").await == Some(five) && begin("a", five).await);
        assert!(!calls::withdraw_unbegun(db, five).await.expect("looks"), "it was begun");
        // What nobody has wanted for a minute goes.
        db.execute_unprepared("UPDATE runner_call SET wanted_until = now() - interval '2 minutes'")
            .await
            .expect("is old");
        assert!(calls::sweep(db).await.expect("sweeps") > 0);
        assert!(rows(db, "SELECT 1 AS n FROM runner_call").await.is_empty());
    });
}
