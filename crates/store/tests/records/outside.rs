//! What jobs wait for outside of them: nothing that comes is slept through, whatever happens at the
//! same moment.

use crate::kit::{self, Published, block, by_hand, now, one, record, rule, run, seconds};
use arvok_core::{
    JobId, Principal, Role,
    job::{
        Decided, Decider, Emitted, EventSelector, EventWait, JobEffect, JobState, Outside, Place,
        Question, StepEvent, Transition,
    },
};
use arvok_store::{
    DatabaseConnection,
    calls::{self, Allowed, Caller, Permit},
    jobs::{self, ClaimedJob, Record},
    outside::{
        self,
        children::{self, NewChild},
        decisions, events, outbox, subscribers,
    },
};
use sea_orm::{ConnectionTrait, TransactionTrait};
use serde_json::{Value, json};
use std::time::Duration;

async fn take(db: &DatabaseConnection) -> Option<ClaimedJob> {
    kit::take(db, "a", &[]).await
}

async fn kept(db: &DatabaseConnection, job: &ClaimedJob, what: Record) {
    record(db, job, &what).await.expect("records");
}

fn waits() -> Transition {
    Transition::Wait { until: now() + seconds(3600), alarm: false }
}

fn question(place: &str, within: i64) -> Question {
    Question {
        by_mail: Vec::new(),
        place: Place::new(place),
        to: Decider::Role(Role::Responder),
        text: "Go on?".into(),
        choices: vec![("go".into(), "Go on".into()), ("stay".into(), "Stay".into())],
        until: now() + seconds(within),
        unanswered: None,
        by_link: true,
    }
}

fn decided(by: &str) -> Decided {
    Decided {
        choice: "go".into(),
        by: Principal::token(by),
        how: "api".into(),
        remark: String::new(),
    }
}

#[test]
fn what_comes_while_an_execution_lies_down_wakes_it_and_what_it_has_read_does_not() {
    let published = Published::with(&[rule("any", "")]);
    block(async {
        published.jobs(1).await;
        let db = &published.db;
        let job = take(db).await.expect("a job");
        kept(db, &job, Record { asked: vec![question("agree", 600)], ..Record::default() }).await;
        let id = one(db, "SELECT id AS x FROM decision").await.as_i64().expect("a number");
        // Two decide at once: one is told that it was too late.
        let (a, b) = (decided("pat"), decided("kim"));
        let (a, b) = tokio::join!(decisions::decide(db, id, &a), decisions::decide(db, id, &b));
        assert_eq!([a, b].map(|t| t.expect("asks")).into_iter().filter(|t| *t).count(), 1);
        // The execution has not read it yet.
        kept(db, &job, Record { posts: job.posts, then: waits(), ..Record::default() }).await;
        let woken = take(db).await.expect("it wakes at once");
        let open = [(Place::new("agree"), Outside::Decision)];
        let come = outside::come(db, woken.id, &open).await.expect("reads");
        assert!(matches!(&come.posts[..], [(place,
                StepEvent::Decided(d))] if place.as_str() == "agree" && d.choice == "go"));
        kept(db, &woken, Record { posts: woken.posts, then: waits(), ..Record::default() }).await;
        assert!(take(db).await.is_none(), "it sleeps");
    });
}

#[test]
fn a_question_whose_time_is_over_is_taken_by_nobody_and_one_of_an_ended_job_neither() {
    let published = Published::with(&[rule("any", "")]);
    block(async {
        published.jobs(2).await;
        let db = &published.db;
        let job = take(db).await.expect("a job");
        let asked = vec![question("late", -1), question("open", 600)];
        kept(db, &job, Record { asked, ..Record::default() }).await;
        let ids: Vec<i64> =
            decisions::of_job(db, job.id).await.expect("reads").into_iter().map(|d| d.id).collect();
        assert!(
            !decisions::decide(db, ids[0], &decided("pat")).await.expect("asks"),
            "its time is over"
        );
        let open =
            [(Place::new("late"), Outside::Decision), (Place::new("open"), Outside::Decision)];
        let come = outside::come(db, job.id, &open).await.expect("reads");
        assert!(
            matches!(&come.posts[..], [(place, StepEvent::Silent)] if place.as_str() == "late")
        );
        let end = Transition::End {
            state: JobState::Failed,
            effect: JobEffect::NotChecked,
            failure: None,
            outputs: Value::Null,
        };
        kept(db, &job, Record { then: end, ..Record::default() }).await;
        assert!(
            !decisions::decide(db, ids[1], &decided("pat")).await.expect("asks"),
            "nobody asks any more"
        );
        let states = one(db, "SELECT jsonb_agg(state ORDER BY id) AS x FROM decision").await;
        assert_eq!(states, json!(["silent", "withdrawn"]));
    });
}

#[test]
fn an_alert_that_is_recorded_while_a_wait_begins_is_found_in_any_order() {
    let published = Published::with(&[rule("any", "")]);
    block(async {
        published.jobs(1).await;
        let db = &published.db;
        let job = take(db).await.expect("a job");
        let chosen = EventSelector { kinds: vec!["port.up".into()], ..EventSelector::default() };
        let listening = EventWait { place: Place::new("up"), chosen, since: now() - seconds(5) };
        // Somebody is recording an alert, and cannot see the wait any more.
        let before = db.begin().await.expect("begins");
        before.execute_unprepared("SELECT count(*) FROM wait").await.expect("looks");
        before
            .execute_unprepared(
                "INSERT INTO alerts (source, id, kind, severity, state, resource, time, received,
                    summary, labels, body)
                VALUES ('yard', '1', 'port.up', 2, 'noted', 'port/a', now(), now(), 'up', '{}',
                '{}')",
            )
            .await
            .expect("inserts");
        kept(db, &job, Record { listens: vec![listening], ..Record::default() }).await;
        let open = [(Place::new("up"), Outside::Event)];
        let come = outside::come(db, job.id, &open).await.expect("reads");
        assert!(come.posts.is_empty() && come.again, "not yet, but it may come: {come:?}");
        // Whoever dies before the record has seen nothing.
        let again = outside::come(db, job.id, &open).await.expect("reads");
        assert_eq!(again.looked, come.looked);
        kept(db, &job, Record { looked: come.looked, ..Record::default() }).await;
        let come = outside::come(db, job.id, &open).await.expect("reads");
        assert!(!come.again, "nobody asks again and again as long as somebody writes: {come:?}");
        assert_eq!(events::wake(db).await.expect("wakes"), [], "and nobody is woken");
        before.commit().await.expect("commits");
        // Others use the same server: their transactions may have begun before as well.
        let mut heard = 0;
        while heard == 0 {
            if events::wake(db).await.expect("wakes").is_empty() {
                continue;
            }
            let come = outside::come(db, job.id, &open).await.expect("reads");
            heard += come
                .posts
                .iter()
                .filter(|(_, what)| matches!(what, StepEvent::Heard(a) if a.len() == 1))
                .count();
            kept(db, &job, Record { looked: come.looked, ..Record::default() }).await;
        }
        assert_eq!(heard, 1, "the alert that was under way is found");
        // One that is recorded later is noted for the job, and wakes it.
        kept(db, &job, Record { posts: job.posts, then: waits(), ..Record::default() }).await;
        published.send(json!({ "resource": "port/b", "kind": "port.up" })).await;
        published.send(json!({ "resource": "port/b", "kind": "port.down" })).await;
        assert_eq!(events::wake(db).await.expect("wakes"), [job.id]);
        assert_eq!(events::wake(db).await.expect("wakes"), [], "once");
        let woken = take(db).await.expect("a job");
        assert_eq!(woken.id, job.id);
        let come = outside::come(db, job.id, &open).await.expect("reads");
        assert!(matches!(&come.posts[..], [(_,
                StepEvent::Heard(alerts))] if alerts[0].resource.as_str() == "port/b"));
        let over =
            Record { passed_over: come.read, withdrawn: vec!["up".into()], ..Record::default() };
        kept(db, &woken, over).await;
        let left =
            one(db, "SELECT (SELECT count(*) FROM wait) + (SELECT count(*) FROM heard) AS x").await;
        assert_eq!(left, 0);
    });
}

#[test]
fn of_a_flood_so_many_alerts_are_noted_and_none_is_missed() {
    let published = Published::with(&[rule("any", "")]);
    block(async {
        published.jobs(1).await;
        let db = &published.db;
        let job = take(db).await.expect("a job");
        let listening = EventWait {
            place: Place::new("up"),
            chosen: EventSelector::default(),
            since: now() - seconds(5),
        };
        kept(db, &job, Record { listens: vec![listening], ..Record::default() }).await;
        let open = [(Place::new("up"), Outside::Event)];
        while one(db, "SELECT count(*) AS x FROM wait WHERE NOT settled").await != 0 {
            events::wake(db).await.expect("wakes");
            let come = outside::come(db, job.id, &open).await.expect("reads");
            kept(db, &job, Record { looked: come.looked, ..Record::default() }).await;
        }
        // Nobody reads what comes, as of a job that is held.
        let flood = |from: i64, to: i64| {
            format!(
                "INSERT INTO alerts (source, id, kind, severity, state, resource, time, received,
                    summary, labels, body)
                SELECT 'yard', 'f' || n, 'port.up', 2, 'noted', 'port/' || n, now(), now(), 'up',
                '{{}}', '{{}}'
                FROM generate_series({from}, {to}) n"
            )
        };
        for n in 0..12 {
            run(db, &flood(n * 200 + 1, n * 200 + 200)).await;
        }
        assert_eq!(
            one(db, "SELECT count(*) AS x FROM heard").await,
            0,
            "whoever records finds out nothing"
        );
        while events::hear(db).await.expect("finds out") {}
        let noted = one(db, "SELECT count(*) AS x FROM heard").await.as_i64().expect("a number");
        assert!((1_000..1_200).contains(&noted), "{noted} are noted of 2,400");
        let mut heard = std::collections::BTreeSet::new();
        for round in 0.. {
            let come = outside::come(db, job.id, &open).await.expect("reads");
            for (_, what) in &come.posts {
                let StepEvent::Heard(alerts) = what else { panic!("{what:?}") };
                heard.extend(alerts.iter().map(|a| a.id.clone()));
            }
            let again = come.again;
            kept(
                db,
                &job,
                Record { passed_over: come.read, looked: come.looked, ..Record::default() },
            )
            .await;
            if round == 2 {
                // Some come while the rest is looked for.
                run(db, &flood(2_401, 2_450)).await;
                while events::hear(db).await.expect("finds out") {}
            }
            if !again {
                break;
            }
            assert!(round < 100, "it ends");
        }
        let missed = (1..=2_450).filter(|n| !heard.contains(&format!("f{n}"))).count();
        assert_eq!(missed, 0);
        assert_eq!(one(db, "SELECT count(*) AS x FROM heard").await, 0);
    });
}

#[test]
fn of_many_that_wait_for_a_label_only_those_hear_whose_it_is() {
    let published = Published::with(&[rule("any", "listen: { kinds: disk.usage }")]);
    block(async {
        let jobs = published.jobs(60).await;
        let db = &published.db;
        run(db, "DELETE FROM unheard").await;
        for (n, _) in jobs.iter().enumerate() {
            let job = take(db).await.expect("a job");
            let labels = [("vm".to_owned(), vec![format!("v{n}")])].into();
            let chosen =
                EventSelector { kinds: vec!["vm.up".into()], labels, ..EventSelector::default() };
            let listening =
                EventWait { place: Place::new("up"), chosen, since: now() - seconds(5) };
            kept(db, &job, Record { listens: vec![listening], ..Record::default() }).await;
        }
        for n in [7, 9, 999] {
            published.send(json!({ "kind": "vm.up", "labels": { "vm": format!("v{n}") } })).await;
        }
        while events::hear(db).await.expect("finds out") {}
        let heard = "SELECT w.chosen -> 'labels' -> 'vm' ->> 0 AS vm FROM heard h
            JOIN wait w USING (job_id, place) ORDER BY 1";
        assert_eq!(kit::rows(db, heard).await, [json!({ "vm": "v7" }), json!({ "vm": "v9" })]);
    });
}

#[test]
fn the_job_of_a_step_is_made_once_and_its_end_is_heard_whenever_it_comes() {
    let published = Published::with(&[rule("any", "")]);
    block(async {
        published.jobs(1).await;
        let db = &published.db;
        let parent = take(db).await.expect("a job");
        let place = Place::new("child");
        let new = |target: &str| NewChild {
            parent: parent.id,
            place: &place,
            runbook: "note",
            version: 1,
            inputs: json!({}),
            target: target.to_owned(),
        };
        let (a, b) = tokio::join!(
            children::launch(db, new(&parent.target), now()),
            children::launch(db, new(&parent.target), now())
        );
        let child = a.expect("makes").expect("a job");
        assert_eq!(b.expect("makes"), Some(child), "the same, however often");
        // Who holds a job holds those of its steps.
        let held =
            |state: &str| format!("UPDATE job SET state = '{state}' WHERE id = {}", parent.id.0);
        run(db, &held("paused")).await;
        assert!(take(db).await.is_none(), "it does not begin");
        run(db, &held("running")).await;
        // It shares the target that the job above it holds.
        let taken = take(db).await.expect("it is not held up by its parent");
        assert_eq!((taken.id, taken.depth), (child, 1));
        // It ends before the parent lies down, which has not heard of it.
        let end = Transition::End {
            state: JobState::Succeeded,
            effect: JobEffect::Confirmed,
            failure: None,
            outputs: json!({ "a": 1 }),
        };
        kept(db, &taken, Record { then: end, ..Record::default() }).await;
        kept(db, &parent, Record { posts: parent.posts, then: waits(), ..Record::default() }).await;
        let woken = take(db).await.expect("it wakes at once");
        assert_eq!(woken.id, parent.id);
        let come = outside::come(db, woken.id, &[(place.clone(), Outside::Job(child))])
            .await
            .expect("reads");
        assert!(
            matches!(&come.posts[..], [(_,
                StepEvent::Ended(end))] if end.outputs == json!({ "a": 1 })),
            "{come:?}"
        );
        assert!(
            children::recall(db, child, true, "enough").await.expect("recalls"),
            "it needs not be told any more"
        );
        assert!(jobs::cancel_queued(db, JobId(999_999), "x", None).await.is_ok_and(|done| !done));
    });
}

#[test]
fn what_a_job_waited_for_goes_with_its_end_whatever_it_says_of_it() {
    let published = Published::with(&[rule("any", "")]);
    block(async {
        published.jobs(1).await;
        let db = &published.db;
        let job = take(db).await.expect("a job");
        let listening =
            EventWait { place: Place::new("up"), chosen: EventSelector::default(), since: now() };
        let asked = vec![question("agree", 600)];
        kept(db, &job, Record { asked, listens: vec![listening], ..Record::default() }).await;
        run(db, "INSERT INTO heard (job_id, place, alert_seq) VALUES (1, 'up', 1)").await;
        let then = Transition::End {
            state: JobState::Succeeded,
            effect: JobEffect::NotChecked,
            failure: None,
            outputs: Value::Null,
        };
        let withdrawn = vec!["agree".to_owned(), "up".to_owned()];
        kept(db, &job, Record { withdrawn, passed_over: vec![1], then, ..Record::default() }).await;
        let left = "SELECT jsonb_build_array((SELECT count(*) FROM wait), (SELECT count(*)
            FROM heard), (SELECT state FROM decision)) AS x";
        assert_eq!(one(db, left).await, json!([0, 0, "withdrawn"]));
    });
}

#[test]
fn what_a_job_tells_stays_until_it_has_entered_and_nobody_else_takes_it_meanwhile() {
    let published = Published::with(&[rule("any", "")]);
    block(async {
        published.jobs(1).await;
        let db = &published.db;
        let all = outbox::claim(db, "a", 100).await.expect("takes");
        assert_eq!(
            all.iter().map(|t| t.alert["kind"].as_str()).collect::<Vec<_>>(),
            [Some("job.queued")]
        );
        let ids =
            |told: &[outbox::OutboxEvent]| told.iter().map(|t| t.id.clone()).collect::<Vec<_>>();
        assert!(outbox::claim(db, "b", 100).await.expect("takes").is_empty(), "somebody has it");
        let again = outbox::claim(db, "a", 100).await.expect("takes");
        assert_eq!(ids(&again), ids(&all), "they could not enter, and are known when they do");
        // Whoever had it died: another takes it after a while; or gave its turn away.
        run(db, "UPDATE outbox_turn SET until = now() - interval '1 second'").await;
        assert_eq!(ids(&outbox::claim(db, "b", 100).await.expect("takes")), ids(&all));
        outbox::leave(db, "a").await.expect("it is not its turn");
        assert!(outbox::claim(db, "a", 100).await.expect("takes").is_empty());
        outbox::leave(db, "b").await.expect("gives it away");
        let later = outbox::claim(db, "a", 100).await.expect("takes");
        assert_eq!(ids(&later), ids(&all));
        subscribers::keep(db, &later, &[]).await.expect("goes");
        let job = take(db).await.expect("a job");
        let emitted = Emitted {
            place: Place::new("said"),
            id: "quay-1-said".into(),
            kind: "fares.imported".into(),
            severity: arvok_core::Severity::Minor,
            state: arvok_core::AlertState::Noted,
            resource: arvok_core::ResourcePath::parse("service/fares").expect("a path"),
            say: "in\0deed".into(),
            labels: [("night".to_owned(), "3".to_owned())].into(),
            give: json!({ "rows": 12 }),
        };
        kept(db, &job, Record { emitted: vec![emitted], ..Record::default() }).await;
        let told = outbox::claim(db, "a", 100).await.expect("takes");
        let kinds: Vec<_> =
            told.iter().map(|t| t.alert["kind"].as_str().unwrap_or_default()).collect();
        assert_eq!(kinds, ["job.started", "fares.imported"]);
        let said = &told[1].alert;
        assert_eq!(
            (&said["labels"]["night"], &said["labels"]["job"]),
            (&json!("3"), &json!(job.id.to_string()))
        );
        assert_eq!(
            (&said["body"]["given"], &said["body"]["chain"]),
            (&json!({ "rows": 12 }), &json!(["any"]))
        );
    });
}

#[test]
fn whoever_has_no_patience_for_a_rate_reserves_nothing() {
    let published = Published::with(&[rule("any", "")]);
    block(async {
        let reserve = async || {
            let (minute, patience) = (Duration::from_secs(60), Duration::from_secs(15));
            calls::reserve(&published.db, "yard", 6, minute, patience)
                .await
                .expect("reserves")
                .map(|w| w.as_secs_f64())
        };
        assert!(reserve().await.is_some_and(|wait| wait < 1.0), "at once");
        assert!(
            reserve().await.is_some_and(|wait| (5.0..=10.0).contains(&wait)),
            "ten seconds later"
        );
        for _ in 0..50 {
            assert_eq!(reserve().await, None, "the next would be in twenty");
        }
        let ahead = "SELECT (next_at < now() + interval '21 seconds') AS x FROM call_rate";
        assert_eq!(one(&published.db, ahead).await, true, "and is still");
    });
}

#[test]
fn turns_of_calls_come_by_urgency_and_whoever_does_not_come_is_passed_over() {
    let published = Published::with(&[rule("any", "")]);
    block(async {
        published.jobs(4).await;
        let db = &published.db;
        let mut jobs = Vec::new();
        for _ in 0..4 {
            jobs.push(take(db).await.expect("a job"));
        }
        for job in &jobs {
            kept(db, job, Record::default()).await;
        }
        let [first, second, third, urgent] = [0, 1, 2, 3].map(|n| jobs[n].id);
        run(db, &format!("UPDATE job SET urgency = urgency + 1 WHERE id = {urgent}")).await;
        let two = Allowed { at_once: Some(1), rate: None };
        let turn = async |job: JobId| {
            let step = Caller::Step { job, place: Place::new("tell"), attempt: 1 };
            calls::permit(db, "yard", two, (&step, ""), Duration::from_secs(30))
                .await
                .expect("asks")
        };
        let came = |turn| match turn {
            Permit::Granted(Some(slot), wait) if wait.is_zero() => slot,
            other => panic!("{other:?}"),
        };
        let slot = came(turn(first).await);
        assert_eq!(came(turn(first).await), slot, "of a node that died it goes on");
        for job in [second, third, urgent] {
            assert!(matches!(turn(job).await, Permit::Queued(_)));
        }
        let told = async |job: JobId| {
            let place = Place::new("tell");
            outside::come(db, job, &[(place, Outside::Turn)]).await.expect("reads").posts.len() == 1
        };
        assert!(!told(urgent).await);
        assert_eq!(calls::give_back(db, &slot).await.expect("gives back"), [urgent]);
        assert!(told(urgent).await && !told(second).await);
        // Nobody overtakes whoever was told, unless it does not come.
        assert!(matches!(turn(second).await, Permit::Queued(_)));
        run(
            db,
            "UPDATE call_queue SET told_at = told_at - interval '11 seconds'
            WHERE told_at IS NOT NULL",
        )
        .await;
        let slot = came(turn(second).await);
        assert!(matches!(turn(urgent).await, Permit::Queued(_)), "it has its place again");
        // A job that is held, or has left, is not waited for.
        by_hand(db, &format!("UPDATE job SET state = 'paused' WHERE id = {urgent}")).await;
        assert_eq!(calls::give_back(db, &slot).await.expect("gives back"), [third]);
        calls::leave(db, third, vec!["tell".into()]).await.expect("leaves");
        let slot = came(turn(first).await);
        by_hand(db, &format!("UPDATE job SET state = 'waiting' WHERE id = {urgent}")).await;
        // A person has patience for less, and goes first.
        let pat = Caller::Person(Principal::token("pat"));
        let by_hand = async || {
            calls::permit(db, "yard", two, (&pat, "1"), Duration::from_secs(30))
                .await
                .expect("asks")
        };
        assert!(matches!(by_hand().await, Permit::Queued(_)));
        assert!(calls::give_back(db, &slot).await.expect("gives back").is_empty());
        assert!(matches!(turn(urgent).await, Permit::Queued(_)));
        came(by_hand().await);
    });
}

#[test]
fn a_rate_spreads_calls_and_those_of_later_wait_in_the_queue() {
    let published = Published::with(&[rule("any", "")]);
    block(async {
        published.jobs(2).await;
        let db = &published.db;
        let mut jobs = Vec::new();
        for _ in 0..2 {
            jobs.push(take(db).await.expect("a job"));
        }
        for job in &jobs {
            kept(db, job, Record::default()).await;
        }
        let allowed = Allowed { at_once: None, rate: Some((2, Duration::from_secs(20))) };
        let turn = async |n: usize, place: &str| {
            let step = Caller::Step { job: jobs[n].id, place: Place::new(place), attempt: 1 };
            calls::permit(db, "yard", allowed, (&step, ""), Duration::from_secs(30))
                .await
                .expect("asks")
        };
        assert_eq!(turn(0, "a").await, Permit::Granted(None, Duration::ZERO));
        let again = |turn| match turn {
            Permit::Queued(again) => again.as_secs_f64(),
            granted @ Permit::Granted(..) => panic!("{granted:?}"),
        };
        assert!((8.0..=10.0).contains(&again(turn(0, "b").await)));
        assert!((18.0..=20.0).contains(&again(turn(1, "c").await)), "one is ahead of it");
        run(db, "UPDATE call_rate SET next_at = clock_timestamp() + interval '500 milliseconds'")
            .await;
        assert!(again(turn(1, "c").await) > 8.0, "still");
        assert!(matches!(turn(0, "b").await, Permit::Granted(None,
                wait) if wait <= Duration::from_millis(500)));
    });
}

#[test]
fn a_wait_that_cannot_be_read_keeps_no_other_from_hearing() {
    let published = Published::with(&[rule("any", "")]);
    block(async {
        published.jobs(2).await;
        let db = &published.db;
        for _ in 0..2 {
            let job = take(db).await.expect("a job");
            let chosen =
                EventSelector { kinds: vec!["port.up".into()], ..EventSelector::default() };
            let listening =
                EventWait { place: Place::new("up"), chosen, since: now() - seconds(5) };
            kept(db, &job, Record { listens: vec![listening], ..Record::default() }).await;
        }
        run(
            db,
            "UPDATE wait SET chosen = '{\"states\": 7}' WHERE job_id = (SELECT min(job_id)
            FROM wait)",
        )
        .await;
        run(
            db,
            "INSERT INTO alerts (source, id, kind, severity, state, resource, time, received,
                summary, labels, body)
                VALUES ('yard', 'f', 'port.up', 2, 'noted', 'port/1', now(), now(), 'up', '{}',
                '{}')",
        )
        .await;
        while events::hear(db).await.expect("finds out") {}
        assert_eq!(one(db, "SELECT count(DISTINCT job_id) AS x FROM heard").await, 2);
    });
}
