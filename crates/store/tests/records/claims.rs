//! Jobs and who holds them: no two nodes at once, and nobody for ever.

use crate::kit::{
    Published, begin, block, by_hand, find, now, one, record, rows, rule, run, seconds, take,
};
use arvok_api::StepState;
use arvok_core::{
    AlertState, JobId, Principal, ResourcePath, Severity,
    job::{Emitted, JobCommand, JobEffect, JobState, Place, Resolution, StepOutputs, Transition},
};
use arvok_store::{
    ConnectionTrait, DatabaseConnection, StoreError,
    jobs::{
        self, Answered, AttemptEnd, AttemptStart, Claim, Claimed, Limited, Record, Search, Share,
        renew,
    },
    nodes,
};
use sea_orm::TransactionTrait;
use serde_json::{Value, json};
use std::collections::BTreeSet;

fn any() -> Published {
    Published::with(&[rule("any", "")])
}

async fn renewed(db: &DatabaseConnection, claims: &[Claim]) -> Vec<Claim> {
    renew(db, claims).await.expect("renews").into_iter().map(|r| r.claim).collect()
}

async fn lapse(db: &DatabaseConnection) {
    run(db, "UPDATE job SET lease_until = now() - interval '1 second' WHERE state = 'running'")
        .await;
}

fn end(state: JobState) -> Record {
    let then = Transition::End {
        state,
        effect: JobEffect::NotChecked,
        failure: None,
        outputs: json!({ "a": 1 }),
    };
    Record { then, ..Record::default() }
}

#[test]
fn every_job_is_claimed_once_by_however_many_at_once() {
    let published = any();
    block(async {
        let all: BTreeSet<JobId> = published.jobs(24).await.into_iter().collect();
        let db = &published.db;
        let nodes = (0..6).map(|n| async move {
            let mut mine = Vec::new();
            while let Some(job) = take(db, &format!("node-{n}"), &[]).await {
                mine.push((job.id, job.claim));
            }
            mine
        });
        let claimed: Vec<(JobId, Claim)> =
            futures_util::future::join_all(nodes).await.into_iter().flatten().collect();
        assert_eq!(claimed.len(), all.len(), "none twice");
        assert_eq!(claimed.iter().map(|c| c.0).collect::<BTreeSet<_>>(), all);
        assert_eq!(
            claimed.iter().map(|c| c.1).collect::<BTreeSet<_>>().len(),
            all.len(),
            "each claim has its number"
        );
    });
}

#[test]
fn of_a_runbook_no_more_are_begun_at_once_than_may_be_however_many_ask() {
    let published = any();
    block(async {
        published.jobs(8).await;
        let db = &published.db;
        let limits = [("note".to_owned(), 3)];
        let ask = async |node: &str| {
            let found = find(db, node, 1, &limits).await;
            assert!(found.jobs.is_empty() || found.unbegun);
            begin(db, node, &found.jobs, &[Some(&Record::default())], &limits)
                .await
                .expect("begins")
                .len()
        };
        let nodes = ["a", "b", "c", "d", "e", "f"].map(|node| async move {
            let mut begun = 0;
            for _ in 0..4 {
                begun += ask(node).await;
            }
            begun
        });
        let begun: usize = futures_util::future::join_all(nodes).await.into_iter().sum();
        assert_eq!(begun, 3);
        run(
            db,
            "UPDATE job SET state = 'succeeded' WHERE id = (SELECT min(id) FROM job
            WHERE state = 'running')",
        )
        .await;
        assert_eq!((ask("a").await, ask("a").await), (1, 0), "one has ended, one more begins");
        assert!(take(db, "a", &[]).await.is_some(), "without a limit any may");
    });
}

#[test]
fn the_most_urgent_comes_first_then_the_deadline_then_age() {
    let published = any();
    block(async {
        let jobs = published.jobs(5).await;
        let db = &published.db;
        run(db, &format!("UPDATE job SET urgency = 3 WHERE id = {}", jobs[4])).await;
        run(
            db,
            &format!("UPDATE job SET deadline = now() + interval '1 hour' WHERE id = {}", jobs[3]),
        )
        .await;
        run(
            db,
            &format!("UPDATE job SET deadline = now() + interval '2 hours' WHERE id = {}", jobs[2]),
        )
        .await;
        run(
            db,
            &format!(
                "UPDATE job SET deadline = now() - interval '1 second' WHERE id = {}",
                jobs[1]
            ),
        )
        .await;
        let mut order = Vec::new();
        while let Some(job) = take(db, "a", &[]).await {
            order.push(job.id);
        }
        assert_eq!(order, [jobs[4], jobs[3], jobs[2], jobs[0]], "what is too late is not begun");
        assert_eq!(jobs::expire(db).await.expect("expires"), [jobs[1]]);
        assert_eq!(jobs::expire(db).await.expect("expires"), Vec::<JobId>::new());
        let state = one(
            db,
            &format!("SELECT state || ', ' || failure AS x FROM job WHERE id = {}", jobs[1]),
        )
        .await;
        assert_eq!(state, "expired, not started before its deadline");
    });
}

#[test]
fn a_target_has_one_job_at_a_time_until_it_has_ended() {
    let published = any();
    block(async {
        for kind in ["a", "b", "c"] {
            published.send(json!({ "resource": "vm/same", "kind": kind })).await;
        }
        let db = &published.db;
        let (a, b) = tokio::join!(take(db, "a", &[]), take(db, "b", &[]));
        let first = match (a, b) {
            (Some(job), None) | (None, Some(job)) => job,
            both => panic!("exactly one of them: {both:?}"),
        };
        for state in ["waiting", "paused", "unsure"] {
            by_hand(
                db,
                &format!(
                    "UPDATE job SET state = '{state}', wake_at = now() + interval '1 hour'
                        WHERE id = {}",
                    first.id
                ),
            )
            .await;
            assert!(take(db, "b", &[]).await.is_none(), "{state}: the target is not free");
        }
        run(db, &format!("UPDATE job SET state = 'running' WHERE id = {}", first.id)).await;
        record(db, &first, &end(JobState::Succeeded)).await.expect("ends");
        let next = take(db, "b", &[]).await.expect("the next in line");
        // Of two that ask at once the one with the later job may have been quicker.
        assert_ne!(next.id, first.id);
    });
}

#[test]
fn what_is_alive_is_not_taken_up_again_and_what_was_left_behind_is() {
    let published = any();
    block(async {
        published.jobs(1).await;
        let db = &published.db;
        let first = take(db, "a", &[]).await.expect("a job");
        assert_eq!(renewed(db, &[first.claim, Claim(first.claim.0 + 99)]).await, [first.claim]);
        lapse(db).await;
        assert!(take(db, "a", &[first.claim]).await.is_none(), "the node executes it itself");
        let second = take(db, "b", &[]).await.expect("left behind, for another node");
        assert_eq!(second.id, first.id);
        assert_ne!(second.claim, first.claim);
        assert!(
            renew(db, &[first.claim]).await.expect("renews").is_empty(),
            "the former claim is over"
        );
        let late = record(db, &first, &end(JobState::Failed)).await;
        assert!(matches!(late, Err(StoreError::ClaimLost)), "{late:?}");
        assert_eq!(
            one(db, "SELECT state AS x FROM job").await,
            "running",
            "and nothing of it was kept"
        );
        record(db, &second, &end(JobState::Succeeded)).await.expect("ends");
        let again = record(db, &second, &end(JobState::Failed)).await;
        assert!(matches!(again, Err(StoreError::ClaimLost)), "an end is an end: {again:?}");
    });
}

#[test]
fn renewing_passes_over_a_row_that_somebody_holds() {
    let published = any();
    block(async {
        published.jobs(3).await;
        let db = &published.db;
        let mut claims = Vec::new();
        while let Some(job) = take(db, "a", &claims).await {
            claims.push(job.claim);
        }
        let holder = sea_orm::TransactionTrait::begin(db).await.expect("a transaction");
        let lock = format!("SELECT 1 FROM job WHERE claim = {} FOR UPDATE", claims[1].0);
        sea_orm::ConnectionTrait::execute_unprepared(&holder, &lock).await.expect("locks");
        assert_eq!(renewed(db, &claims).await, [claims[0], claims[2]]);
        holder.rollback().await.expect("ends");
        assert_eq!(renewed(db, &claims).await, claims);
    });
}

#[test]
fn what_is_left_behind_again_and_again_is_given_up_and_frees_its_target() {
    let published = any();
    block(async {
        published.send(json!({ "resource": "vm/same", "kind": "a" })).await;
        published.send(json!({ "resource": "vm/same", "kind": "b" })).await;
        let db = &published.db;
        let mut times = 0;
        while let Some(job) = take(db, "a", &[]).await {
            jobs::let_go(db, job.claim, "the execution ended: \0 odd").await.expect("lets go");
            lapse(db).await;
            times += 1;
            assert!(times < 20, "it is never given up");
        }
        assert_eq!(times, 6, "taken up, and five times again");
        let given_up = jobs::give_up(db).await.expect("gives up");
        assert_eq!(given_up.len(), 1);
        let failure =
            one(db, &format!("SELECT failure AS x FROM job WHERE id = {}", given_up[0])).await;
        assert_eq!(
            failure,
            "given up: it was left behind 5 times at the same step; the execution ended: \u{fffd} \
            odd"
        );
        assert!(
            take(db, "a", &[]).await.is_some_and(|j| j.id != given_up[0]),
            "the next on the target"
        );
    });
}

#[test]
fn a_step_forward_forgets_how_often_it_was_left_behind() {
    let published = any();
    block(async {
        published.jobs(1).await;
        let db = &published.db;
        let place = |step: i32| Place::new(format!("pool[{step}].grow"));
        for step in 0..8 {
            let job = take(db, "a", &[]).await.expect("still tried");
            let done = Record {
                began: vec![AttemptStart {
                    place: place(step),
                    attempt: 1,
                    give: json!({}),
                    request: None,
                }],
                ended: vec![AttemptEnd {
                    place: place(step),
                    attempt: 1,
                    state: StepState::Done,
                    output: Some(json!([step])),
                    error: None,
                }],
                ..Record::default()
            };
            record(db, &job, &done).await.expect("records");
            lapse(db).await;
        }
        assert_eq!(one(db, "SELECT count(*) AS x FROM attempt WHERE state = 'done'").await, 8);
        assert_eq!(jobs::give_up(db).await.expect("gives up"), Vec::<JobId>::new());
    });
}

#[test]
fn a_job_that_was_found_and_not_begun_was_never_claimed() {
    let published = any();
    block(async {
        let id = published.jobs(1).await[0];
        let db = &published.db;
        let found = find(db, "a", 1, &[]).await;
        assert!(found.unbegun);
        let job = &found.jobs[0];
        assert_eq!(one(db, "SELECT state AS x FROM job").await, "queued");
        let lost = record(db, job, &end(JobState::Failed)).await;
        assert!(matches!(lost, Err(StoreError::ClaimLost)));
        // It can never begin: it is not in the way of the others for ever.
        jobs::put_back(db, id, "no such runbook").await.expect("puts back");
        lapse(db).await;
        let again = find(db, "b", 1, &[]).await;
        assert!(!again.unbegun, "it was left behind: the claim is kept at once");
        assert_eq!(again.jobs[0].id, id);
        assert_eq!(one(db, "SELECT lapses AS x FROM job").await, 2);
        jobs::put_back(db, id, "late").await.expect("nothing happens");
        assert_eq!(
            one(db, "SELECT lapses AS x FROM job").await,
            2,
            "only what is queued is put back"
        );
    });
}

#[test]
fn claim_and_first_record_are_one_commit() {
    let published = any();
    block(async {
        published.jobs(2).await;
        let db = &published.db;
        let Claimed { jobs, .. } = find(db, "a", 1, &[]).await;
        let job = &jobs[0];
        let began = AttemptStart {
            place: Place::new("look"),
            attempt: 1,
            give: json!({ "x": "\u{e9}" }),
            request: None,
        };
        let began = Record { began: vec![began], ..Record::default() };
        assert_eq!(
            one(db, &format!("SELECT state AS x FROM job WHERE id = {}", job.id)).await,
            "queued",
            "not yet"
        );
        begin(db, "a", &jobs, &[Some(&began)], &[]).await.expect("begins");
        let seen = rows(
            db,
            &format!(
                "SELECT j.state, a.state AS tried, a.give FROM job j
                    JOIN attempt a ON a.job_id = j.id WHERE j.id = {}",
                job.id
            ),
        )
        .await;
        assert_eq!(
            seen,
            [json!({ "state": "running", "tried": "running", "give": { "x": "\u{e9}" } })]
        );
        // The same record again, as after a connection that broke at the commit.
        record(db, job, &began).await.expect("once more");
        assert_eq!(one(db, "SELECT count(*) AS x FROM attempt").await, 1);
    });
}

#[test]
fn a_job_that_waits_holds_nothing_and_wakes_when_its_time_has_come() {
    let published = any();
    block(async {
        published.jobs(1).await;
        let db = &published.db;
        let job = take(db, "a", &[]).await.expect("a job");
        let wait = Record {
            then: Transition::Wait { until: now() + seconds(3600), alarm: false },
            ..Record::default()
        };
        record(db, &job, &wait).await.expect("waits");
        let row = rows(db, "SELECT state, node, claim, lease_until FROM job").await;
        assert_eq!(
            row,
            [json!({ "state": "waiting", "node": null, "claim": null, "lease_until": null })]
        );
        assert!(take(db, "a", &[]).await.is_none());
        run(db, "UPDATE job SET wake_at = now()").await;
        let woken = take(db, "b", &[]).await.expect("its time has come");
        assert_eq!(woken.id, job.id);
        assert_eq!(one(db, "SELECT lapses AS x FROM job").await, 0, "nobody left it behind");
    });
}

#[test]
fn what_is_said_to_a_job_is_heard_once_and_by_whoever_executes_it() {
    let published = any();
    block(async {
        published.jobs(1).await;
        let db = &published.db;
        let word = JobCommand::Resolve {
            place: None,
            word: Resolution::Done,
            output: serde_json::Value::Null,
        };
        let job = take(db, "a", &[]).await.expect("a job");
        assert!(
            !jobs::command(db, job.id, &word, None).await.expect("asks"),
            "it runs: there is nothing to resolve"
        );
        record(db, &job, &end(JobState::Unsure)).await.expect("unsure");
        assert_eq!(
            one(db, "SELECT finished_at AS x FROM job").await,
            Value::Null,
            "it has not ended"
        );
        assert!(take(db, "a", &[]).await.is_none(), "nobody has said anything");
        let (a, b) = tokio::join!(
            jobs::command(db, job.id, &word, None),
            jobs::command(db, job.id, &word, None)
        );
        assert_eq!(
            [a, b].map(|said| said.expect("asks")).into_iter().filter(|s| *s).count(),
            1,
            "one was first"
        );
        assert!(!jobs::command(db, JobId(999_999), &word, None).await.expect("asks"));
        let taken = take(db, "b", &[]).await.expect("it is taken up for it");
        let (number, said) = taken.word.clone().expect("a word");
        assert_eq!(said, word);
        // It is heard only when that is recorded: another node would hear it again.
        lapse(db).await;
        let again = take(db, "c", &[]).await.expect("left behind");
        assert_eq!(again.word, Some((number, word)));
        let heard = Record { heard: Some(number), ..Record::default() };
        record(db, &again, &heard).await.expect("records");
        assert_eq!(one(db, "SELECT word AS x FROM job").await, Value::Null);
        // A job that is executed hears with the renewal of its claim; what is said meanwhile keeps
        // it from lying down.
        let pause = JobCommand::Pause { words: "held by pat".into() };
        assert!(jobs::command(db, again.id, &pause, None).await.expect("says"));
        let brought = renew(db, &[again.claim]).await.expect("renews");
        let brought: Vec<_> = brought.into_iter().map(|r| (r.claim, r.said)).collect();
        assert_eq!(brought, [(again.claim, Some((number + 1, pause.clone())))]);
        let wait = Record {
            then: Transition::Wait { until: now() + seconds(3600), alarm: false },
            ..Record::default()
        };
        record(db, &again, &wait).await.expect("waits");
        let woken = take(db, "d", &[]).await.expect("it wakes at once");
        assert_eq!(woken.word, Some((number + 1, pause)));
        let rest = Record { heard: Some(number + 1), then: Transition::Rest, ..Record::default() };
        record(db, &woken, &rest).await.expect("rests");
        assert_eq!(one(db, "SELECT state AS x FROM job").await, "paused");
        assert!(take(db, "d", &[]).await.is_none(), "nobody lets it go on");
        assert!(jobs::command(db, woken.id, &JobCommand::Resume, None).await.expect("says"));
        assert_eq!(
            take(db, "d", &[]).await.and_then(|j| j.word).map(|w| w.1),
            Some(JobCommand::Resume)
        );
    });
}

#[test]
fn what_was_kept_of_the_steps_is_read_back() {
    let published = any();
    block(async {
        published.jobs(1).await;
        let db = &published.db;
        let job = take(db, "a", &[]).await.expect("a job");
        let began = |place: &str, give: Value| AttemptStart {
            place: Place::new(place),
            attempt: 1,
            give,
            request: None,
        };
        let done = |place: &str, output: Value| AttemptEnd {
            place: Place::new(place),
            attempt: 1,
            state: StepState::Done,
            output: Some(output),
            error: None,
        };
        let kept = Record {
            began: vec![
                began("look", json!({})),
                began("pool", json!({ "each": ["a", "b"] })),
                began("pool[0].grow", json!({})),
                began("pool[0].grow.undo", json!({})),
            ],
            ended: vec![
                done("look", json!({ "size": 4 })),
                done("pool[0].grow", json!(7)),
                done("pool[0].grow.undo", json!(8)),
            ],
            ..Record::default()
        };
        record(db, &job, &kept).await.expect("records");
        let mut told = StepOutputs::default();
        told.output(&Place::new("look"), json!({ "size": 4 }));
        told.list(&Place::new("pool"), vec![json!("a"), json!("b")]);
        told.output(&Place::new("pool[0].grow"), json!(7));
        assert_eq!(jobs::stored_outputs(db, job.id).await.expect("reads"), told);
    });
}

#[test]
fn a_job_is_cancelled_before_it_began() {
    let published = any();
    block(async {
        let id = published.jobs(1).await[0];
        let db = &published.db;
        assert!(jobs::cancel_queued(db, id, "cancelled by pat", None).await.expect("cancels"));
        assert!(!jobs::cancel_queued(db, id, "once more", None).await.expect("asks"));
        let row = one(db, "SELECT state || ', ' || failure AS x FROM job").await;
        assert_eq!(row, "cancelled, cancelled by pat");
        assert!(take(db, "a", &[]).await.is_none());
    });
}

#[test]
fn who_claims_looks_at_what_is_due_alone_however_many_jobs_there_are() {
    let published = any();
    block(async {
        let db = &published.db;
        // Not counted: so many in one transaction would take long for that alone.
        run(db, "ALTER TABLE job DISABLE TRIGGER USER").await;
        run(
            db,
            "INSERT INTO job (id, runbook, runbook_version, inputs, target, urgency, state,
                progress, created_at, wake_at, finished_at, begun, deadline)
            SELECT 1000 + n, 'note', 1, '{}', 'vm/w' || n, CASE WHEN n > 20000 THEN 3 ELSE 1 END,
                CASE WHEN n <= 10000 THEN 'waiting' WHEN n <= 30000 THEN 'queued'
                ELSE 'succeeded' END, '{}',
                now(), now() + interval '1 day', CASE WHEN n > 30000 THEN now() END, false,
                -- More urgent than the others, and too late.
                CASE WHEN n BETWEEN 20001 AND 30000 THEN now() - interval '1 second' END
            FROM generate_series(1, 40000) n",
        )
        .await;
        run(db, "ALTER TABLE job ENABLE TRIGGER USER").await;
        // With what is known of the table, with nothing, and with what was known when nothing was
        // queued.
        let empty = "ALTER TABLE job DROP CONSTRAINT job_state_word;
            ALTER TABLE job DISABLE TRIGGER USER;
            UPDATE job SET state = 'held back' WHERE state = 'queued'; ANALYZE job;
            UPDATE job SET state = 'queued' WHERE state = 'held back';
            ALTER TABLE job ENABLE TRIGGER USER";
        for known in
            ["ANALYZE job", "DELETE FROM pg_statistic WHERE starelid = 'job'::regclass", empty]
        {
            run(db, known).await;
            // Of the connection's own transaction, so that nothing is waited for.
            let read = "SELECT sum(pg_stat_get_xact_tuples_returned(r) +
                pg_stat_get_xact_tuples_fetched(r))::bigint AS x
                FROM (SELECT 'job'::regclass::oid AS r UNION SELECT indexrelid FROM pg_index
                WHERE indrelid = 'job'::regclass) r";
            let tx = db.begin().await.expect("a transaction");
            tx.execute_unprepared("SET LOCAL plan_cache_mode = force_generic_plan")
                .await
                .expect("as a node does");
            tx.execute_unprepared("DISCARD PLANS").await.expect("planned by what is known now");
            let before = one_in(&tx, read).await;
            for _ in 0..3 {
                let values = [
                    ("$1", "'{}'::bigint[]"),
                    ("$2", "'{}'::text[]"),
                    ("$3", "'{}'::int[]"),
                    ("$4", "'{}'::bigint[]"),
                    ("$5", "1"),
                    ("$6", "1"),
                ];
                let sql = values
                    .iter()
                    .fold(jobs::claiming(), |sql, (number, value)| sql.replace(number, value));
                tx.execute_unprepared(&sql).await.expect("finds one");
            }
            let looked_at = one_in(&tx, read).await - before;
            assert!((3..100).contains(&looked_at), "{looked_at} rows for three claims, {known}");
        }
    });
}

#[test]
fn of_two_jobs_on_one_target_that_are_opened_at_once_one_begins() {
    let published = any();
    block(async {
        published.jobs(2).await;
        let db = &published.db;
        run(db, "UPDATE job SET target = 'vm/one'").await;
        let Claimed { jobs: first, .. } = find(db, "a", 1, &[]).await;
        // Another knows only of the second.
        run(db, "UPDATE job SET aside = true WHERE id = 1").await;
        let Claimed { jobs: second, .. } = find(db, "b", 1, &[]).await;
        assert_ne!(first[0].id, second[0].id);
        let goes_on = Record::default();
        begin(db, "a", &first, &[Some(&goes_on)], &[]).await.expect("begins");
        let lost = begin(db, "b", &second, &[Some(&goes_on)], &[]).await;
        assert!(matches!(lost, Err(StoreError::Behind)), "{lost:?}");
        assert!(find(db, "b", 1, &[]).await.jobs.is_empty(), "its target is held");
        let rows =
            one(db, "SELECT string_agg(state || ' ' || claims, ', ' ORDER BY id) AS x FROM job")
                .await;
        assert_eq!(rows, "running 1, queued 0");
        let told = one(
            db,
            "SELECT string_agg(concat_ws(' ', was, '>', state, CASE WHEN begins THEN 'begins' END), ' ' ORDER BY number) AS x FROM job_change WHERE job_id = 1",
        )
        .await;
        assert_eq!(told, "> queued queued > running begins");
    });
}

#[test]
fn jobs_that_are_opened_together_are_written_together_each_with_its_own() {
    let published = any();
    block(async {
        published.jobs(5).await;
        let db = &published.db;
        run(db, "DELETE FROM job_change; UPDATE job SET chain = '[\"above\"]' WHERE id = 2").await;
        let Claimed { jobs, .. } = find(db, "a", 4, &[]).await;
        assert_eq!(jobs.iter().map(|j| j.id.0).collect::<Vec<_>>(), [1, 2, 3, 4]);
        let began = |n: i32| AttemptStart {
            place: Place::new("look"),
            attempt: 1,
            give: json!(n),
            request: None,
        };
        let done = |output| AttemptEnd {
            place: Place::new("look"),
            attempt: 1,
            state: StepState::Done,
            output: Some(output),
            error: None,
        };
        let emitted = Emitted {
            place: Place::new("say"),
            id: "said".into(),
            kind: "it.said".into(),
            severity: Severity::Minor,
            state: AlertState::Noted,
            resource: ResourcePath::parse("vm/r").expect("a path"),
            say: "so".into(),
            labels: [].into(),
            give: json!({}),
        };
        let goes_on = Record { began: vec![began(1)], posts: 0, ..Record::default() };
        let ends = Record {
            began: vec![began(2)],
            ended: vec![done(Value::Null)],
            emitted: vec![emitted],
            ..end(JobState::Succeeded)
        };
        let rests = Record { then: Transition::Rest, ..Record::default() };
        let records = [Some(&goes_on), Some(&ends), Some(&rests), None];
        assert_eq!(begin(db, "a", &jobs, &records, &[]).await.expect("all are kept"), [1, 2, 3, 4]);
        let stand = "SELECT string_agg(concat_ws(' ', id, state, claims, CASE WHEN begun
            THEN 'begun' END, node,
            CASE WHEN finished_at IS NOT NULL THEN 'over' END), ', ' ORDER BY id) AS x FROM job";
        assert_eq!(
            one(db, stand).await,
            "1 running 1 begun a, 2 succeeded 1 begun over, 3 paused 1 begun, 4 running 1 a, 5 \
            queued 0"
        );
        let tried = "SELECT string_agg(job_id || ' ' || state || ' ' || give || ' ' ||
            coalesce(output::text, '-'), ', ' ORDER BY job_id) AS x FROM attempt";
        assert_eq!(one(db, tried).await, "1 running 1 -, 2 done 2 null");
        let told = "SELECT string_agg(concat_ws(' ', job_id, was, '>', state, CASE WHEN begins THEN 'begins' END),
            ', ' ORDER BY job_id, number) AS x
            FROM job_change";
        assert_eq!(
            one(db, told).await,
            "1 queued > running begins, 2 queued > succeeded begins, 3 queued > paused begins, 4 queued > running"
        );
        let said = one(
            db,
            "SELECT (alert -> 'body' -> 'chain') || (alert -> 'labels' -> 'job') AS x FROM outbox
                WHERE kind = 'it.said'",
        )
        .await;
        assert_eq!(said, json!(["above", "2"]));
        let counted =
            one(db, "SELECT sum(jobs) || ' ' || sum(confirmed) AS x FROM job_count").await;
        assert_eq!(counted, "5 0");
    });
}

#[test]
fn jobs_of_steps_that_end_together_are_each_counted_where_they_are_waited_for() {
    let published = any();
    block(async {
        published.jobs(3).await;
        let db = &published.db;
        run(
            db,
            "UPDATE job SET state = 'waiting', begun = true, wake_at = now() + interval '1 hour'
                WHERE id = 3;
            UPDATE job SET parent = 3, parent_place = 'kid' || id WHERE id < 3",
        )
        .await;
        let Claimed { jobs, more, .. } = find(db, "a", 2, &[]).await;
        assert!(more, "as many were found as were looked for");
        let ends = end(JobState::Succeeded);
        begin(db, "a", &jobs, &[Some(&ends), Some(&ends)], &[]).await.expect("begins");
        assert_eq!(one(db, "SELECT posts AS x FROM job WHERE id = 3").await, 2);
        let Claimed { jobs, more, .. } = find(db, "a", 2, &[]).await;
        assert_eq!(jobs.iter().map(|job| job.id.0).collect::<Vec<_>>(), [3], "it is woken");
        assert!(more, "what nobody has begun was not looked for");
        assert!(!find(db, "a", 2, &[]).await.more);
    });
}

#[test]
fn where_fewer_are_found_than_are_looked_for_no_more_are_due() {
    let published = any();
    block(async {
        published.jobs(3).await;
        let Claimed { jobs, more, .. } = find(&published.db, "a", 8, &[]).await;
        assert_eq!((jobs.len(), more), (3, false));
    });
}

#[test]
fn of_several_the_first_on_each_target_is_opened_and_no_more_of_a_runbook_than_may_be() {
    let published = any();
    block(async {
        published.jobs(6).await;
        let db = &published.db;
        run(db, "UPDATE job SET target = 'vm/same' WHERE id IN (1, 3, 4)").await;
        let ids = |claimed: &Claimed| {
            let mut ids: Vec<i64> = claimed.jobs.iter().map(|j| j.id.0).collect();
            ids.sort_unstable();
            ids
        };
        let limits = [("note".to_owned(), 3)];
        let first = find(db, "a", 6, &limits).await;
        assert_eq!(ids(&first), [1, 2, 5]);
        // Another that began meanwhile is counted, under the lock.
        run(db, "UPDATE job SET state = 'paused', begun = true WHERE id = 6").await;
        let goes_on = Some(&Record::default());
        let begun = begin(db, "a", &first.jobs, &[goes_on; 3], &limits).await.expect("begins");
        assert_eq!(begun.len(), 2, "the third is one too many: {begun:?}");
        by_hand(db, "UPDATE job SET state = 'queued', begun = false WHERE state = 'running'").await;
        let first = find(db, "a", 2, &[]).await;
        begin(db, "a", &first.jobs, &[goes_on; 2], &[]).await.expect("begins");
        run(
            db,
            "UPDATE job SET state = 'running' WHERE id = 6;
            UPDATE job SET state = 'succeeded', finished_at = now() WHERE id = 6",
        )
        .await;
        assert_eq!(
            ids(&find(db, "a", 6, &limits).await),
            [5],
            "two of three have begun, and one target is held"
        );
    });
}

#[test]
fn of_several_one_that_cannot_be_kept_leaves_the_others_as_they_were() {
    let published = any();
    block(async {
        published.jobs(3).await;
        let db = &published.db;
        let Claimed { jobs, .. } = find(db, "a", 3, &[]).await;
        // Meanwhile another begins on the target of the second.
        run(
            db,
            "INSERT INTO job (id, runbook, runbook_version, inputs, target, urgency, state,
                progress, created_at)
            SELECT 90, runbook, 1, '{}', target, 1, 'unsure', '{}', now() FROM job WHERE id = 2",
        )
        .await;
        let goes_on = Record::default();
        let kept = begin(db, "a", &jobs, &[Some(&goes_on); 3], &[]).await;
        assert!(matches!(kept, Err(StoreError::Behind)), "{kept:?}");
        assert_eq!(
            one(
                db,
                "SELECT string_agg(state || claims, ' ' ORDER BY id) AS x FROM job WHERE id < 9"
            )
            .await,
            "queued0 queued0 queued0"
        );
        // One by one the others begin.
        let (mut begun, mut asked) = (Vec::new(), 0);
        while let (Some(job), true) = (take(db, "a", &[]).await, asked < 9) {
            begun.push(job.id.0);
            asked += 1;
        }
        assert_eq!(begun, [1, 3]);
    });
}

#[test]
fn what_stands_behind_others_is_set_aside_and_comes_back_one_for_each_that_ends() {
    let published = any();
    block(async {
        published.jobs(8).await;
        let db = &published.db;
        run(db, "UPDATE job SET target = CASE WHEN id < 7 THEN 'vm/same' ELSE 'vm/' || id END")
            .await;
        let first = take(db, "a", &[]).await.expect("a job");
        assert_eq!(first.id.0, 1);
        assert_eq!(jobs::set_aside(db, &[]).await.expect("sets aside"), 5);
        let aside =
            "SELECT coalesce(string_agg(id::text, ' ' ORDER BY id), '') AS x FROM job WHERE aside";
        assert_eq!(one(db, aside).await, "2 3 4 5 6");
        assert_eq!(jobs::let_back(db, &[], "").await.expect("lets back"), None);
        assert_eq!(one(db, aside).await, "2 3 4 5 6", "it still stands in their way");
        assert_eq!(take(db, "a", &[]).await.expect("another").id.0, 7);
        record(db, &first, &end(JobState::Succeeded)).await.expect("ends");
        assert_eq!(one(db, aside).await, "3 4 5 6", "one for the one that has ended");
        let second = take(db, "a", &[]).await.expect("the next on that target");
        assert_eq!(second.id.0, 2);
        // What is gone without an end that told it is found all the same.
        run(db, "DELETE FROM job WHERE id = 2").await;
        jobs::let_back(db, &[], "").await.expect("lets back");
        assert_eq!(one(db, aside).await, "4 5 6");
        // And what a runbook's limit holds back.
        let limits = [("note".to_owned(), 1)];
        run(db, "UPDATE job SET target = 'vm/' || id, aside = false").await;
        assert_eq!(jobs::set_aside(db, &limits).await.expect("sets aside"), 5);
        jobs::let_back(db, &limits, "").await.expect("lets back");
        assert_eq!(one(db, "SELECT count(*) AS x FROM job WHERE aside").await, 5);
        jobs::let_back(db, &[], "").await.expect("lets back");
        assert_eq!(
            one(db, "SELECT count(*) AS x FROM job WHERE aside").await,
            0,
            "the limit is lifted"
        );
    });
}

#[test]
fn what_is_too_late_is_neither_set_aside_nor_let_back() {
    let published = any();
    block(async {
        published.jobs(6).await;
        let db = &published.db;
        run(db, "UPDATE job SET target = 'vm/same', deadline = now() + interval '1 hour'").await;
        let first = take(db, "a", &[]).await.expect("a job");
        let late = "UPDATE job SET deadline = now() - interval '1 second' WHERE id =";
        run(db, &format!("{late} 2")).await;
        assert_eq!(jobs::set_aside(db, &[]).await.expect("sets aside"), 4, "3 to 6");
        run(db, &format!("{late} 3")).await;
        record(db, &first, &end(JobState::Succeeded)).await.expect("ends");
        let aside = "SELECT string_agg(id::text, ' ' ORDER BY id) AS x FROM job WHERE aside";
        assert_eq!(one(db, aside).await, "3 5 6", "the one behind the late one came back");
        run(db, &format!("{late} 5")).await;
        run(db, "UPDATE job SET aside = true WHERE id = 4").await;
        jobs::let_back(db, &[], "").await.expect("lets back");
        assert_eq!(one(db, aside).await, "3 5 6");
        let ended = jobs::expire(db).await.expect("ends late ones");
        assert_eq!(ended.len(), 3, "set aside or not");
    });
}

#[test]
fn a_job_that_is_handed_over_in_order_is_not_left_behind_however_often() {
    let published = any();
    block(async {
        published.jobs(1).await;
        let db = &published.db;
        let job = take(db, "a", &[]).await.expect("a job");
        record(db, &job, &Record::default()).await.expect("begins");
        let mut claim = job.claim;
        for node in ["b", "c", "d", "e", "f", "g", "h"] {
            jobs::hand_over(db, claim).await.expect("hands over");
            claim = take(db, node, &[]).await.expect("taken up at once").claim;
        }
        assert_eq!(one(db, "SELECT lapses AS x FROM job").await, 0);
        assert!(jobs::give_up(db).await.expect("asks").is_empty());
    });
}

#[test]
fn a_hold_is_taken_back_before_it_was_heard_and_while_a_call_is_out() {
    let published = any();
    block(async {
        published.jobs(1).await;
        let db = &published.db;
        let job = take(db, "a", &[]).await.expect("a job");
        record(db, &job, &Record::default()).await.expect("begins");
        let said =
            async |word: &JobCommand| jobs::command(db, job.id, word, None).await.expect("says");
        let hold = JobCommand::Pause { words: "held by pat".into() };
        assert!(!said(&JobCommand::Resume).await, "nobody holds it");
        assert!(said(&hold).await);
        assert!(said(&JobCommand::Resume).await, "it has not been heard yet");
        assert_eq!(one(db, "SELECT word AS x FROM job").await, "resume");
        // It was heard, and a call is still out.
        run(
            db,
            "UPDATE job SET word = NULL, progress = progress ||
            '{\"paused\": {\"since\": \"2026-11-27T00:00:00Z\", \"words\": \"held\"}}'",
        )
        .await;
        assert!(said(&JobCommand::Resume).await, "and it goes on behind that");
        assert!(!said(&hold).await, "one word at a time");
    });
}

#[test]
fn what_is_found_can_be_claimed_alone_and_what_is_decided_about_is_not_found() {
    let published = any();
    block(async {
        published.jobs(3).await;
        let db = &published.db;
        let found = find(db, "a", 1, &[]).await;
        assert_eq!(found.jobs[0].id.0, 1);
        let decided_about = [JobId(1)];
        let search =
            Search { node: "a", deciding: &decided_about, several: 1, ..Search::default() };
        assert_eq!(
            jobs::claim(db, search).await.expect("finds").jobs[0].id.0,
            2,
            "the first is in hand"
        );
        let one_at_once = [("note".to_owned(), 1)];
        let none = jobs::claim(
            db,
            Search { limited: Limited { at_once: &one_at_once, ..Limited::default() }, ..search },
        )
        .await
        .expect("finds");
        assert!(none.jobs.is_empty() && !none.more, "what is decided about counts: {none:?}");
        let alone = take(db, "a", &[]).await.expect("the first");
        let stands = "SELECT state || ' ' || claims || ' ' || begun AS x FROM job WHERE id = 1";
        assert_eq!(one(db, stands).await, "running 1 false");
        let begun =
            begin(db, "b", &found.jobs, &[Some(&Record::default())], &[]).await.expect("asks");
        assert!(begun.is_empty(), "it is another's by now");
        record(db, &alone, &Record::default()).await.expect("its first record");
        assert_eq!(one(db, stands).await, "running 1 true");
    });
}

#[test]
fn what_is_not_as_it_was_found_does_not_begin() {
    let published = any();
    block(async {
        published.jobs(5).await;
        let db = &published.db;
        run(
            db,
            "UPDATE job SET parent = 5, parent_place = 'kid' WHERE id = 3; UPDATE job
            SET state = 'running' WHERE id = 5",
        )
        .await;
        let found = find(db, "a", 8, &[]).await;
        assert_eq!(found.jobs.len(), 4);
        run(
            db,
            "UPDATE job SET state = 'cancelled', finished_at = now() WHERE id = 1;
            UPDATE job SET state = 'paused' WHERE id = 5",
        )
        .await;
        let goes_on = Some(&Record::default());
        let begun = begin(db, "a", &found.jobs, &[goes_on, goes_on, goes_on, None], &[])
            .await
            .expect("begins");
        assert_eq!(begun, [2, 4], "the first was stopped, and what the third is a step of is held");
        // Nor anything while all is halted, however it begins.
        by_hand(
            db,
            "UPDATE job SET state = 'queued', begun = false, claim = NULL WHERE state = 'running'",
        )
        .await;
        let found = find(db, "a", 8, &[]).await;
        run(db, "INSERT INTO halt (by, reason) VALUES ('token/pat', 'testing')").await;
        let mut records = vec![goes_on; found.jobs.len()];
        records[0] = None;
        assert_eq!(begin(db, "a", &found.jobs, &records, &[]).await.expect("asks"), [] as [i64; 0]);
    });
}

#[test]
fn nodes_look_at_different_jobs_first_and_leave_none() {
    let published = any();
    block(async {
        published.jobs(24).await;
        let db = &published.db;
        let look = async |rank| {
            let share = Share { rank, of: 3 };
            let search = Search { node: "n", several: 4, share, ..Search::default() };
            let found = jobs::claim(db, search).await.expect("finds");
            assert!(found.more, "others are left");
            found.jobs.iter().map(|job| job.id).collect::<BTreeSet<_>>()
        };
        let [a, b, c] = [look(0).await, look(1).await, look(2).await];
        assert_eq!((a.len(), b.len(), c.len()), (4, 4, 4));
        let common =
            a.intersection(&b).count() + b.intersection(&c).count() + a.intersection(&c).count();
        assert!(common <= 4, "{a:?} {b:?} {c:?}");
        // Alone among nodes that have no room, one takes all.
        let (mut begun, goes_on) = (0, Record::default());
        loop {
            let search = Search {
                node: "n",
                several: 4,
                share: Share { rank: 1, of: 3 },
                ..Search::default()
            };
            let found = jobs::claim(db, search).await.expect("finds").jobs;
            let records = vec![Some(&goes_on); found.len()];
            match begin(db, "n", &found, &records, &[]).await.expect("begins").len() {
                0 => break,
                n => begun += n,
            }
        }
        assert_eq!(begun, 24);
    });
}

#[test]
fn of_two_nodes_with_jobs_on_the_same_targets_one_waits_for_the_other_and_never_both() {
    let published = any();
    block(async {
        published.jobs(16).await;
        let db = &published.db;
        // The first eight on a to h, the others on the same the other way round.
        run(db, "UPDATE job SET target = 'vm/' || CASE WHEN id <= 8 THEN id ELSE 17 - id END")
            .await;
        let goes_on = Record::default();
        let found = async |node: &str| {
            let Claimed { jobs, .. } = find(db, node, 8, &[]).await;
            let targets: Vec<&str> = jobs.iter().map(|job| job.target.as_str()).collect();
            assert!(targets.is_sorted(), "{targets:?}");
            jobs
        };
        let first = found("a").await;
        run(db, "UPDATE job SET aside = true WHERE id <= 8").await;
        let second = found("b").await;
        let goes_on = [Some(&goes_on); 8];
        let (a, b) = tokio::join!(
            begin(db, "a", &first, &goes_on, &[]),
            begin(db, "b", &second, &goes_on, &[])
        );
        assert!(a.is_ok() != b.is_ok(), "one of them begins: {a:?} {b:?}");
        assert_eq!(one(db, "SELECT count(*) AS x FROM job WHERE state = 'running'").await, 8);
    });
}

#[test]
fn several_that_wait_are_taken_up_at_once_and_several_that_were_left_behind() {
    let published = any();
    block(async {
        published.jobs(6).await;
        let db = &published.db;
        let mut taken = Vec::new();
        for _ in 0..6 {
            taken.push(take(db, "a", &[]).await.expect("a job"));
        }
        let waits = Record {
            then: Transition::Wait { until: now() - seconds(1), alarm: false },
            ..Record::default()
        };
        for job in &taken[..3] {
            record(db, job, &waits).await.expect("waits");
        }
        let woken = find(db, "a", 8, &[]).await;
        assert!(!woken.unbegun, "they had begun");
        assert_eq!(woken.jobs.len(), 3);
        let claims: BTreeSet<_> = woken.jobs.iter().map(|job| job.claim).collect();
        assert_eq!(claims.len(), 3, "each has a claim of its own");
        assert_eq!(
            renewed(db, &woken.jobs.iter().map(|j| j.claim).collect::<Vec<_>>()).await.len(),
            3
        );
        lapse(db).await;
        let alive: Vec<Claim> = woken.jobs.iter().map(|j| j.claim).collect();
        let search = Search { node: "b", alive: &alive, several: 8, ..Search::default() };
        let found = jobs::claim(db, search).await.expect("claims").jobs;
        assert_eq!(found.len(), 3, "what is alive here is not taken up again");
        assert_eq!(
            one(db, "SELECT string_agg(lapses::text, '' ORDER BY id) AS x FROM job").await,
            "000111"
        );
    });
}

#[test]
fn what_a_try_is_answered_is_kept_whether_it_ends_with_it_or_goes_on() {
    let published = any();
    block(async {
        published.jobs(1).await;
        let db = &published.db;
        let job = take(db, "a", &[]).await.expect("a job");
        let place = || Place::new("look");
        let began = AttemptStart { place: place(), attempt: 1, give: json!({}), request: None };
        record(db, &job, &Record { began: vec![began], ..Record::default() })
            .await
            .expect("records");
        let answered = |answer| Answered { place: place(), attempt: 1, answer };
        let later =
            Record { answered: vec![answered(json!({ "status": 202 }))], ..Record::default() };
        record(db, &job, &later).await.expect("records");
        let stands = "SELECT jsonb_build_array(state, answer, output, error,
            finished_at IS NULL) AS x FROM attempt";
        assert_eq!(one(db, stands).await, json!(["running", { "status": 202 }, null, null, true]));
        let ended = AttemptEnd {
            place: place(),
            attempt: 1,
            state: StepState::Failed,
            output: None,
            error: Some("busy".into()),
        };
        let fails = Record {
            ended: vec![ended],
            answered: vec![answered(json!({ "status": 503, "body": "b\0sy" }))],
            ..Record::default()
        };
        record(db, &job, &fails).await.expect("records");
        let answer = json!({ "status": 503, "body": "b\u{fffd}sy" });
        assert_eq!(one(db, stands).await, json!(["failed", answer, null, "busy", false]));
    });
}

#[test]
fn the_tries_of_a_job_go_with_it_and_what_it_would_have_told() {
    let published = any();
    block(async {
        published.jobs(2).await;
        let db = &published.db;
        for _ in 0..2 {
            let job = take(db, "a", &[]).await.expect("a job");
            let began = AttemptStart {
                place: Place::new("look"),
                attempt: 1,
                give: json!({}),
                request: None,
            };
            record(db, &job, &Record { began: vec![began], ..Record::default() })
                .await
                .expect("records");
        }
        run(db, "DELETE FROM job WHERE id = 1").await;
        assert_eq!(one(db, "SELECT string_agg(job_id::text, ' ') AS x FROM attempt").await, "2");
        assert_eq!(
            one(db, "SELECT string_agg(DISTINCT job_id::text, ' ') AS x FROM job_change").await,
            "2"
        );
    });
}

async fn one_in(tx: &sea_orm::DatabaseTransaction, sql: &str) -> i64 {
    let statement = sea_orm::Statement::from_string(sea_orm::DbBackend::Postgres, sql);
    tx.query_one_raw(statement)
        .await
        .expect(sql)
        .expect("a row")
        .try_get("", "x")
        .expect("a number")
}

#[test]
fn what_helped_is_counted_however_many_end_in_one_statement() {
    let published = any();
    block(async {
        published.jobs(4).await;
        let db = &published.db;
        run(
            db,
            "UPDATE job SET state = 'succeeded', effect = CASE WHEN id < 4 THEN 'confirmed'
                ELSE 'unconfirmed' END",
        )
        .await;
        let counted = "SELECT sum(jobs) || ' ' || sum(confirmed) AS x FROM job_count";
        assert_eq!(one(db, counted).await, "4 3");
        run(db, "UPDATE job SET effect = 'unconfirmed' WHERE id = 1").await;
        assert_eq!(one(db, counted).await, "4 2");
        run(db, "UPDATE job SET doing = 'nothing'").await;
        assert_eq!(
            one(db, "SELECT count(*) AS x FROM job_change WHERE state = 'succeeded'").await,
            4
        );
    });
}

#[test]
fn a_node_knows_which_of_those_that_are_alive_it_is() {
    let published = any();
    block(async {
        let db = &published.db;
        assert_eq!(
            nodes::share(db, "b").await.expect("asks"),
            Share::default(),
            "it has not beaten"
        );
        let node = |name: &str, seen: &str| {
            format!(
                "INSERT INTO node (name, host, address, build, since, seen, generation, clock_offset,
                    intake_bytes, oldest_seconds, commit_seconds)
                VALUES ('{name}', 'h', '{name}', '1', now(), now() - interval '{seen}', 0, 0, 0, 0, 0)"
            )
        };
        for (name, seen) in [("a", "1 second"), ("b", "0 seconds"), ("c", "20 seconds")] {
            run(db, &node(name, seen)).await;
        }
        let share = async |name: &str| nodes::share(db, name).await.expect("asks");
        assert_eq!(share("a").await, Share { rank: 0, of: 2 });
        assert_eq!(share("b").await, Share { rank: 1, of: 2 });
        assert_eq!(share("c").await, Share { rank: 2, of: 3 }, "whoever asks is alive");
    });
}

/// An execution that heard of a halt may record its pause behind the lifting.
#[test]
fn what_a_halt_paused_goes_on_though_it_was_paused_behind_the_lifting() {
    let published = Published::with(&[rule("any", "")]);
    block(async {
        published.jobs(3).await;
        let (db, pat) = (&published.db, Principal::token("pat"));
        let paused = |by: &str| {
            format!(
                "UPDATE job SET state = 'paused', progress = jsonb_build_object('paused',
                jsonb_build_object('since', now(), 'words', 'w'{by}))"
            )
        };
        by_hand(db, &format!("{} WHERE id < 3", paused(", 'by_halt', true"))).await;
        by_hand(db, &format!("{} WHERE id = 3", paused(""))).await;
        jobs::set_halt(db, &pat, "testing", true).await.expect("halts");
        assert_eq!(jobs::let_go_on(db).await.expect("looks"), 0, "it stands");
        assert!(jobs::lift_halt(db, &pat).await.expect("lifts"));
        let told = "SELECT array_agg(id ORDER BY id) AS x FROM job WHERE word = '\"resume\"'";
        assert_eq!(one(db, told).await, serde_json::json!([1, 2]), "not what a person paused");
        by_hand(db, "UPDATE job SET word = NULL WHERE id = 2").await;
        assert_eq!(jobs::let_go_on(db).await.expect("looks"), 1);
    });
}
