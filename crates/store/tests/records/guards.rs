//! Guards over several nodes: what they let begin, hold, refuse and let back.

use crate::kit::{
    Published, begin_within, block, find, now, one, record, rows, rule, run, seconds,
};
use arvok_core::{
    JobId, Principal,
    guard::Guards,
    job::{JobEffect, JobState, Transition},
};
use arvok_store::{
    DatabaseConnection,
    jobs::{
        self, ClaimedJob, Limited, Record, Search,
        guards::{self, LetBack},
    },
};
use sea_orm::{ConnectionTrait, TransactionTrait};
use serde_json::{Value, json};
use std::sync::atomic::{AtomicBool, Ordering};

fn guarded(guard: &str) -> (Published, Guards) {
    let acts = rule("acts", "listen: { kinds: disk.usage }");
    let published = Published::with(&[acts, guard.to_owned()]);
    let guards = published.guards.clone();
    (published, guards)
}

fn ended(state: JobState, effect: JobEffect) -> Record {
    let failure = (state == JobState::Failed).then(|| "it broke".to_owned());
    let then = Transition::End { state, effect, failure, outputs: Value::Null };
    Record { then, ..Record::default() }
}

fn limited(guards: &Guards) -> Limited<'_> {
    Limited { guards, ..Limited::default() }
}

/// Begins as many as are due and may; each is under way then.
async fn begin_all(db: &DatabaseConnection, guards: &Guards) -> Vec<ClaimedJob> {
    let mut begun = Vec::new();
    loop {
        let found = find(db, "a", 16, &[]).await;
        if found.jobs.is_empty() {
            return begun;
        }
        let first = Record::default();
        let records = vec![Some(&first); found.jobs.len()];
        let kept = begin_within(db, "a", &found.jobs, &records, limited(guards)).await;
        let kept = kept.expect("begins");
        begun.extend(found.jobs.into_iter().filter(|job| kept.contains(&job.id.0)));
    }
}

async fn held(db: &DatabaseConnection) -> Vec<Value> {
    rows(
        db,
        "SELECT id, held ->> 'guard' AS guard, held ->> 'why' AS why FROM job
        WHERE state = 'queued' AND held IS NOT NULL AND aside ORDER BY id",
    )
    .await
}

/// Numbers that look drawn, the same for the same seed.
struct Drawn(u64);

impl Drawn {
    fn next(&mut self, below: u64) -> u64 {
        self.0 =
            self.0.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1_442_695_040_888_963_407);
        (self.0 >> 33) % below
    }
}

#[test]
fn over_three_nodes_and_deaths_there_is_never_one_target_too_many() {
    for seed in 1..=3 {
        let (published, guards) = guarded(
            "guard: two\nat_once: 2\n---\nguard: pair\nredundant: [[vm/t0, vm/t1]]\n---\n\
            guard: rate\nper: { jobs: 9, within: 1h }\n",
        );
        block(async {
            published.jobs(8).await;
            for _ in 0..2 {
                published.jobs(8).await;
            }
            let db = &published.db;
            let over = AtomicBool::new(false);
            let nodes = (0..3u64).map(|n| {
                let guards = &guards;
                async move {
                    let (node, mut drawn) = (format!("node-{n}"), Drawn(seed * 100 + n));
                    let mut own: Vec<ClaimedJob> = Vec::new();
                    for _ in 0..40 {
                        match drawn.next(7) {
                            // It begins what it finds.
                            0..=2 => own.extend(step(db, &node, guards, drawn.next(2) == 0).await),
                            // One of its jobs ends, as it may.
                            3 | 4 if !own.is_empty() => {
                                let which = drawn.next(own.len() as u64) as usize;
                                let job = own.swap_remove(which);
                                let states = [JobState::Succeeded, JobState::Failed];
                                let state = states[drawn.next(2) as usize];
                                let _ =
                                    record(db, &job, &ended(state, JobEffect::NotChecked)).await;
                            }
                            // It dies: all that it was at is left behind, and taken up anew.
                            5 => {
                                own.clear();
                                run(
                                    db,
                                    &format!(
                                        "UPDATE job SET lease_until = now() - interval '1 second'
                                        WHERE state = 'running' AND node = '{node}'"
                                    ),
                                )
                                .await;
                            }
                            _ => {
                                guards::let_back_held(db, guards, LetBack::All)
                                    .await
                                    .expect("lets back");
                            }
                        }
                    }
                }
            });
            let nodes = async {
                futures_util::future::join_all(nodes).await;
                over.store(true, Ordering::Relaxed);
            };
            let watches = async {
                let mut looks = 0;
                while !over.load(Ordering::Relaxed) {
                    looks += 1;
                    let stands = &rows(
                        db,
                        "SELECT count(DISTINCT target) FILTER (WHERE state IN ('running', 'waiting')) AS n,
                            count(DISTINCT target) FILTER (WHERE state IN ('running', 'waiting')
                                AND target IN ('vm/t0', 'vm/t1')) AS pair,
                            count(*) FILTER (WHERE started_at IS NOT NULL) AS begun FROM job",
                    )
                    .await[0];
                    assert!(stands["n"].as_i64() <= Some(2), "too many at once: {stands}");
                    assert!(stands["pair"].as_i64() <= Some(1), "two of a pair: {stands}");
                    assert!(
                        stands["begun"].as_i64() <= Some(9),
                        "too many within the hour: {stands}"
                    );
                }
                looks
            };
            let ((), looks) = futures_util::future::join(nodes, watches).await;
            assert!(looks > 10, "it was looked at {looks} times");
            let began = "SELECT count(*) AS x FROM job j WHERE started_at IS NOT NULL
                AND NOT EXISTS (SELECT 1 FROM guard_use u
                    WHERE u.counted_as = 'rate@1.0' AND u.job_id = j.id)";
            assert_eq!(one(db, began).await, 0, "each that began is counted");
            let under_way = "SELECT count(*) AS x FROM job WHERE state IN ('running', 'waiting')
                AND NOT coalesce('two@1.0' = ANY(guards), false)";
            assert_eq!(one(db, under_way).await, 0, "and each that is under way");
        });
    }
}

/// Finds what is due and begins it, alone or several at once; what it holds then.
async fn step(
    db: &DatabaseConnection,
    node: &str,
    guards: &Guards,
    alone: bool,
) -> Vec<ClaimedJob> {
    let several = if alone { 1 } else { 4 };
    let search = Search { node, limited: limited(guards), several, alone, ..Search::default() };
    let found = jobs::claim(db, search).await.expect("finds");
    if !found.unbegun {
        return found.jobs;
    }
    let first = Record::default();
    let records = vec![Some(&first); found.jobs.len()];
    match begin_within(db, node, &found.jobs, &records, limited(guards)).await {
        Ok(kept) => found.jobs.into_iter().filter(|job| kept.contains(&job.id.0)).collect(),
        Err(_) => Vec::new(),
    }
}

#[test]
fn what_is_held_waits_with_the_reason_and_comes_back_in_its_order() {
    let (published, guards) = guarded("guard: two\nat_once: 2\n");
    block(async {
        let db = &published.db;
        let all = published.jobs(5).await;
        let begun = begin_all(db, &guards).await;
        assert_eq!(begun.iter().map(|job| job.id).collect::<Vec<_>>(), all[..2]);
        let waits = held(db).await;
        assert_eq!(waits.len(), 3);
        assert_eq!(
            waits[0]["why"],
            "2 of 2 targets at once under way: vm/t0 (job 1), vm/t1 (job 2)"
        );
        assert!(find(db, "a", 16, &[]).await.jobs.is_empty(), "nobody looks at them meanwhile");
        assert_eq!(
            guards::let_back_held(db, &guards, LetBack::InOrder).await.expect("looks").let_back,
            0,
            "no room"
        );
        // A newcomer waits behind those that came before it, even where there is room.
        record(db, &begun[0], &ended(JobState::Succeeded, JobEffect::NotChecked))
            .await
            .expect("ends");
        published.send(json!({ "resource": "vm/t9" })).await;
        assert!(begin_all(db, &guards).await.is_empty());
        assert_eq!(held(db).await[3]["why"], "job 3 waits for the same before it");
        assert_eq!(
            guards::let_back_held(db, &guards, LetBack::InOrder).await.expect("looks").let_back,
            1
        );
        assert_eq!(
            guards::let_back_held(db, &guards, LetBack::InOrder).await.expect("looks").let_back,
            0,
            "it is on its way"
        );
        let next = begin_all(db, &guards).await;
        assert_eq!(next.iter().map(|job| job.id).collect::<Vec<_>>(), [all[2]]);
        // What nobody lets back is looked at anew after a time.
        run(db, "UPDATE job SET held_look = now() - interval '1 second' WHERE id = 4").await;
        jobs::let_back(db, &[], "").await.expect("looks");
        assert_eq!(find(db, "a", 16, &[]).await.jobs[0].id, all[3]);
        assert!(begin_all(db, &guards).await.is_empty());
        let since = "SELECT count(DISTINCT held ->> 'since') AS x FROM job WHERE id = 4";
        assert_eq!(one(db, since).await, 1);
    });
}

#[test]
fn a_job_may_be_refused_overruled_or_freed_by_a_guard_that_goes() {
    let (published, guards) = guarded("guard: one\nat_once: 1\notherwise: refuse\n");
    block(async {
        let db = &published.db;
        published.jobs(2).await;
        assert_eq!(begin_all(db, &guards).await.len(), 1);
        let refused = &rows(db, "SELECT state, effect, failure FROM job WHERE id = 2").await[0];
        assert_eq!(refused["state"], "refused");
        assert_eq!(
            refused["failure"],
            "refused by guard one: 1 of 1 target at once under way: vm/t0 (job 1)"
        );
    });
    let (published, guards) =
        guarded("guard: one\nat_once: 1\n---\nguard: rate\nper: { jobs: 2, within: 1h }\n");
    block(async {
        let db = &published.db;
        let all = published.jobs(4).await;
        assert_eq!(begin_all(db, &guards).await.len(), 1);
        let pat = Principal::token("pat");
        let over = async |job: JobId, guard: &str| {
            guards::overrule(db, job, guard, &pat, "the pier is dark").await.expect("asks")
        };
        assert!(!over(all[1], "rate").await, "it is not that one that holds it");
        assert!(over(all[1], "one").await);
        assert!(!over(all[1], "one").await, "once is enough");
        assert_eq!(begin_all(db, &guards).await[0].id, all[1]);
        assert!(over(all[2], "one").await);
        assert!(begin_all(db, &guards).await.is_empty(), "the other guard stands");
        assert_eq!(held(db).await[0]["why"], "2 of 2 jobs began within 1h");
        let noted =
            "SELECT act || ' ' || what || ' ' || detail AS x FROM audit WHERE act LIKE 'guard.%'";
        assert_eq!(one(db, noted).await, "guard.overruled job 2 guard one: the pier is dark");
        // Both guards are withdrawn.
        let free =
            async |generation| guards::free(db, &Guards::NONE, generation).await.expect("frees");
        assert_eq!(free(published.generation - 1).await, 0, "it may be that one knows less");
        assert_eq!(free(published.generation).await, 2);
        assert_eq!(begin_all(db, &Guards::NONE).await.len(), 2);
    });
}

#[test]
fn a_circuit_opens_at_so_many_failures_and_closes_when_somebody_says_so() {
    let (published, guards) = guarded("guard: circuit\ncircuit: { failures: 2, within: 1h }\n");
    block(async {
        let db = &published.db;
        let all = published.jobs(4).await;
        let failed = ended(JobState::Failed, JobEffect::NotChecked);
        let unproved = ended(JobState::Succeeded, JobEffect::Unconfirmed);
        let first = Record::default();
        for (i, how) in [failed, unproved].iter().enumerate() {
            let found = find(db, "a", 1, &[]).await.jobs;
            begin_within(db, "a", &found, &[Some(&first)], limited(&guards)).await.expect("begins");
            assert!(!guards::look_at(db, &guards).await.expect("looks"), "{i} failed");
            record(db, &found[0], how).await.expect("ends");
        }
        let generation = one(db, "SELECT generation AS x FROM catalog").await;
        // Whoever is next finds it out, whether or not anybody has looked.
        assert!(begin_all(db, &guards).await.is_empty());
        let open = guards::circuits(db).await.expect("reads");
        assert_eq!((open[0].runbook.as_str(), open[0].failures), ("note", 2));
        assert_ne!(one(db, "SELECT generation AS x FROM catalog").await, generation);
        assert!(!guards::look_at(db, &guards).await.expect("looks"), "it is open");
        assert_eq!(held(db).await.len(), 2);
        // A person has decided about this one.
        run(db, "UPDATE job SET launched_by = 'token/pat', aside = false WHERE id = 3").await;
        assert_eq!(begin_all(db, &guards).await[0].id, all[2]);
        let pat = Principal::token("pat");
        let resume = async |runbook| {
            guards::resume(db, "circuit", runbook, &pat, "mended").await.expect("asks")
        };
        assert_eq!(
            (resume(Some("other")).await, resume(None).await, resume(None).await),
            (0, 1, 0)
        );
        assert_eq!(
            guards::let_back_held(db, &guards, LetBack::InOrder).await.expect("looks").let_back,
            0
        );
        assert_eq!(
            guards::let_back_held(db, &guards, LetBack::All).await.expect("lets back").let_back,
            1
        );
        assert_eq!(begin_all(db, &guards).await[0].id, all[3], "what failed before counts no more");
    });
}

#[test]
fn what_began_before_a_guard_was_published_is_counted_with_it_and_a_step_passes_the_job_above() {
    let acts = rule("acts", "listen: { kinds: disk.usage }");
    let mut published = Published::with(&[acts]);
    block(async {
        let all = published.jobs(2).await;
        let db = &published.db.clone();
        assert_eq!(begin_all(db, &Guards::NONE).await.len(), 2);
        published.publish("guard: two\nat_once: 2\n").await;
        let guards = published.guards.clone();
        published.send(json!({ "resource": "vm/t9" })).await;
        assert!(begin_all(db, &guards).await.is_empty(), "two are under way");
        run(
            db,
            &format!(
                "UPDATE job SET parent = {0}, root = {0}, depth = 1, parent_place = 'x',
                    aside = false WHERE target = 'vm/t9'",
                all[1]
            ),
        )
        .await;
        assert_eq!(begin_all(db, &guards).await.len(), 1, "the job above waits for it");
        // The guard is changed, and all is counted anew.
        published.publish("guard: two\nconcerns: { targets: vm/t1 }\nat_once: 1\n").await;
        let (older, guards) = (guards, published.guards.clone());
        published.send(json!({ "resource": "vm/t8" })).await;
        assert_eq!(begin_all(db, &guards).await.len(), 1);
        published.send(json!({ "resource": "vm/t1" })).await;
        assert!(!guards::look_at(db, &guards).await.expect("looks"), "it has no circuit");
        let known = guards::known(db, &guards).await.expect("reads");
        assert_eq!(known["two"].0.under_way.len(), 1);
        // A node that knows the former version alone begins nothing, and holds nothing.
        published.send(json!({ "resource": "vm/t7" })).await;
        let found = find(db, "a", 1, &[]).await.jobs;
        let first = Record::default();
        let stale = begin_within(db, "a", &found, &[Some(&first)], limited(&older)).await;
        assert!(stale.expect_err("is stale").to_string().contains("have changed"));
    });
}

#[test]
fn what_fails_while_it_is_counted_anew_is_counted_once_by_the_guard_as_it_stands() {
    let circuit = "guard: circuit\ncircuit: { failures: 2, within: 1h }\n";
    let (mut published, guards) = guarded(circuit);
    block(async {
        published.jobs(3).await;
        let db = &published.db.clone();
        let begun = begin_all(db, &guards).await;
        assert_eq!(begun.len(), 3);
        let failed = ended(JobState::Failed, JobEffect::NotChecked);
        record(db, &begun[0], &failed).await.expect("ends");
        published.publish(&circuit.replace("1h", "2h")).await;
        let guards = published.guards.clone();
        // One ends at the moment at which all is counted anew, and is not seen by that.
        let ends = db.begin().await.expect("begins");
        let sql = format!(
            "UPDATE job SET state = 'failed', effect = 'not checked', failure = 'broke',
                finished_at = now(), node = NULL, claim = NULL, lease_until = NULL WHERE id = {}",
            begun[1].id
        );
        ends.execute_unprepared(&sql).await.expect("ends");
        let failures = async || {
            let known = guards::known(db, &guards).await.expect("reads");
            known["circuit"].0.failures.get("note").copied()
        };
        assert!(!guards::look_at(db, &guards).await.expect("counts anew"));
        assert_eq!(failures().await, Some(1));
        ends.commit().await.expect("ends");
        assert!(guards::look_at(db, &guards).await.expect("looks"), "two have failed");
        assert_eq!(failures().await, Some(2), "and each is counted once");
        let late = "SELECT count(*) AS x FROM guard_use WHERE counted_as = 'circuit@1.0'";
        assert_eq!(one(db, late).await, 1, "what it wrote for the former version is not asked for");
        // Of another that concerns none of them, nothing counts.
        published
            .publish(&circuit.replace("circuit:", "concerns: { runbooks: other }\ncircuit:"))
            .await;
        let guards = published.guards.clone();
        record(db, &begun[2], &failed).await.expect("ends");
        guards::look_at(db, &guards).await.expect("counts anew");
        let known = guards::known(db, &guards).await.expect("reads");
        assert!(known["circuit"].0.failures.is_empty());
    });
}

#[test]
fn what_no_guard_looks_back_at_goes() {
    let (published, guards) = guarded("guard: two\nat_once: 2\nafter_failure: 1h\n");
    block(async {
        let db = &published.db;
        published.jobs(2).await;
        let begun = begin_all(db, &guards).await;
        record(db, &begun[0], &ended(JobState::Failed, JobEffect::NotChecked)).await.expect("ends");
        let left = "SELECT count(*) AS x FROM guard_use";
        assert_eq!(one(db, left).await, 1, "what failed, and not what is under way");
        run(db, "UPDATE guard_use SET begun_at = now() - interval '33 days'").await;
        let limits = arvok_store::Limits::default();
        arvok_store::sweep(db, limits, now() + seconds(1)).await.expect("sweeps");
        assert_eq!(one(db, left).await, 0);
        let known = guards::known(db, &guards).await.expect("reads");
        assert_eq!(known["two"].0.under_way, [(begun[1].id, begun[1].target.clone())]);
    });
}

#[test]
fn a_job_that_was_lost_before_its_first_record_is_counted_once_and_not_in_its_own_way() {
    let (published, guards) = guarded(
        "guard: once\nper: { jobs: 1, within: 1h }\n---\n\
        guard: much\nceiling: { input: n, most: 1, within: 1h }\n",
    );
    block(async {
        let db = &published.db.clone();
        published.jobs(2).await;
        let search = Search {
            node: "a",
            limited: limited(&guards),
            several: 1,
            alone: true,
            ..Search::default()
        };
        let first = jobs::claim(db, search).await.expect("claims").jobs;
        assert_eq!(first.len(), 1);
        let dies =
            "UPDATE job SET lease_until = now() - interval '1 second' WHERE state = 'running'";
        run(db, dies).await;
        let again = jobs::claim(db, search).await.expect("claims").jobs;
        assert_eq!(again.iter().map(|job| job.id).collect::<Vec<_>>(), [first[0].id]);
        assert!(begin_all(db, &guards).await.is_empty());
        assert_eq!(held(db).await[0]["why"], "1 of 1 jobs began within 1h");
        assert_eq!(
            one(db, "SELECT count(*) AS x FROM guard_use WHERE counted_as = 'once@1.0'").await,
            1
        );
        // One that was put back without ever having been asked for is asked now, and waits.
        run(db, "UPDATE job SET aside = false, held = NULL, held_look = NULL WHERE id = 2").await;
        jobs::put_back(db, JobId(2), "it broke").await.expect("puts back");
        run(db, &format!("{dies} AND id = 2")).await;
        assert!(jobs::claim(db, search).await.expect("looks").jobs.is_empty());
        let waits = "SELECT state || ' ' || (lease_until > now()) AS x FROM job WHERE id = 2";
        assert_eq!(one(db, waits).await, "running true");
        // A guard that refuses ends it: left as it is it would stand before all others for ever.
        let mut published = published;
        let refuses = "guard: once\nper: { jobs: 1, within: 1h }\notherwise: refuse\n";
        published.publish(refuses).await;
        let db = &published.db;
        run(db, &format!("{dies} AND id = 2")).await;
        let limited = limited(&published.guards);
        let refused = jobs::claim(db, Search { limited, ..search }).await.expect("looks");
        assert!(refused.jobs.is_empty());
        let ended = "SELECT state || ': ' || failure AS x FROM job WHERE id = 2";
        let why = "failed: refused by guard once: 1 of 1 jobs began within 1h";
        assert_eq!(one(db, ended).await, why);
    });
}

/// A calendar with an event that is on from now on until so many seconds.
fn on_until(seconds: i64) -> String {
    let at = |seconds: i64| (now() + self::seconds(seconds)).format("%Y%m%dT%H%M%SZ").to_string();
    format!(
        "calendar: sailings\nevents: |\n  BEGIN:VCALENDAR\n  BEGIN:VEVENT\n  SUMMARY:Late sailing\n  \
        DTSTART:{}\n  DTEND:{}\n  END:VEVENT\n  END:VCALENDAR\n",
        at(-60),
        at(seconds)
    )
}

#[test]
fn what_is_frozen_is_kept_and_acted_on_when_the_calendar_says_so_no_more() {
    let guard = "guard: late\nconcerns: { targets: 'vm/quill-*' }\nfrozen: { during: sailings }\n";
    let acts = rule("acts", "listen: { kinds: disk.usage }");
    let mut published = Published::with(&[acts, format!("{}---\n{guard}", on_until(3_600))]);
    block(async {
        let db = &published.db.clone();
        published.send(json!({ "resource": "vm/quill-1" })).await;
        published.send(json!({ "resource": "vm/brack-1" })).await;
        let verdicts = "SELECT verdict, reason FROM verdicts ORDER BY alert_seq";
        let given = rows(db, verdicts).await;
        assert_eq!(
            (&given[0]["verdict"], &given[1]["verdict"]),
            (&json!("frozen"), &json!("dispatched"))
        );
        let reason = given[0]["reason"].as_str().expect("words");
        assert!(
            reason.starts_with("frozen by Late sailing of calendar sailings until ")
                && reason.ends_with(", by guard late"),
            "{reason}"
        );
        // What is queued already does not begin either.
        run(db, "UPDATE job SET target = 'vm/quill-2'").await;
        assert!(begin_all(db, &published.guards).await.is_empty());
        assert_eq!(held(db).await[0]["why"], "frozen by Late sailing of calendar sailings");
        assert_eq!(
            guards::let_back_held(db, &published.guards, LetBack::InOrder)
                .await
                .expect("looks")
                .let_back,
            0
        );
        // The calendar is mended: what was frozen is looked at at once.
        published.publish(&on_until(-30)).await;
        let due = "SELECT due <= now() AS x FROM tally WHERE key LIKE '%quill-1%'";
        assert_eq!(one(db, due).await, true);
        assert_eq!(
            guards::let_back_held(db, &published.guards, LetBack::InOrder)
                .await
                .expect("looks")
                .let_back,
            1
        );
        assert_eq!(begin_all(db, &published.guards).await.len(), 1);
    });
}

#[test]
fn a_guard_that_asks_for_labels_holds_the_jobs_of_such_alerts_alone() {
    let guard = "guard: gold\nconcerns: { labels: { tier: gold } }\nat_once: 1\n";
    let (mut published, guards) = guarded(guard);
    block(async {
        let db = &published.db.clone();
        for (resource, tier) in
            [("vm/a", "gold"), ("vm/b", "gold"), ("vm/c", "silver"), ("vm/d", "none")]
        {
            let labels = if tier == "none" { json!({}) } else { json!({ "tier": tier }) };
            published.send(json!({ "resource": resource, "labels": labels })).await;
        }
        let targets = |jobs: Vec<ClaimedJob>| -> Vec<String> {
            jobs.into_iter().map(|job| job.target).collect()
        };
        assert_eq!(targets(begin_all(db, &guards).await), ["vm/a", "vm/c", "vm/d"]);
        let why = "SELECT held ->> 'why' AS x FROM job WHERE target = 'vm/b'";
        assert_eq!(one(db, why).await, "1 of 1 target at once under way: vm/a (job 1)");
        // Another version counts what began before it by the same labels.
        published.publish(&guard.replace("at_once: 1", "at_once: 2")).await;
        guards::look_at(db, &published.guards).await.expect("looks");
        let counted = "SELECT array_agg(target) AS x FROM guard_use WHERE open";
        assert_eq!(one(db, counted).await, json!(["vm/a"]));
        guards::let_back_held(db, &published.guards, LetBack::All).await.expect("lets back");
        assert_eq!(targets(begin_all(db, &published.guards).await), ["vm/b"]);
    });
}

#[test]
fn what_is_frozen_by_labels_is_frozen_for_such_alerts_alone() {
    let guard =
        "guard: late\nconcerns: { labels: { site: quill } }\nfrozen: { during: sailings }\n";
    let acts = rule("acts", "listen: { kinds: disk.usage }");
    let published = Published::with(&[acts, format!("{}---\n{guard}", on_until(3_600))]);
    block(async {
        for site in ["quill", "brack"] {
            let resource = format!("vm/{site}-1");
            published.send(json!({ "resource": resource, "labels": { "site": site } })).await;
        }
        let given = rows(&published.db, "SELECT verdict FROM verdicts ORDER BY alert_seq").await;
        assert_eq!(given, [json!({ "verdict": "frozen" }), json!({ "verdict": "dispatched" })]);
    });
}
