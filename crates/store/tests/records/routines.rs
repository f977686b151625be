//! The functions of the database, each called by itself; and the list of which test is whose.

use crate::kit::{Published, block, migrated, one, rows, rule, run};
use arvok_core::{
    Principal, PrincipalKind,
    job::{JobState, StateChange},
    rule::event_kinds,
};
use arvok_store::{DatabaseConnection, outside::outbox, trials};
use serde_json::{Value, json};
use std::collections::BTreeSet;

/// Each function with a test of it: here, or where it is one of what works with it.
const TESTS: [(&str, &str); 32] = [
    ("alert_floor", "a_floor_is_below_all_that_came_since_and_not_far"),
    ("principal_shown", "who_did_something_is_shown_as_the_core_shows_it"),
    ("alerts_decided", "what_is_decided_anew_is_counted_anew"),
    ("alerts_decided_anew", "what_is_decided_anew_is_counted_anew"),
    ("alerts_heard", "an_alert_is_noted_once_where_somebody_may_wait_for_it"),
    ("call_over", "turns_of_calls_come_by_urgency_and_whoever_does_not_come_is_passed_over"),
    ("call_turn", "turns_of_calls_come_by_urgency_and_whoever_does_not_come_is_passed_over"),
    ("call_waiting", "turns_of_calls_come_by_urgency_and_whoever_does_not_come_is_passed_over"),
    ("catalog_changed", "whatever_is_published_counts_the_generation_up"),
    ("decision_told", "a_question_is_told_when_it_is_asked_and_when_it_is_over"),
    ("guards_closed", "over_three_nodes_and_deaths_there_is_never_one_target_too_many"),
    (
        "guards_known",
        "what_began_before_a_guard_was_published_is_counted_with_it_and_a_step_passes_the_job_above",
    ),
    ("guards_locked", "over_three_nodes_and_deaths_there_is_never_one_target_too_many"),
    ("halt_concerns", "a_halt_of_some_concerns_what_its_lines_say_and_nothing_else"),
    ("how_far", "each_verdict_takes_an_alert_so_far"),
    ("job_change_is_told", "what_is_told_of_a_change_is_what_the_core_tells"),
    ("job_halted", "a_halt_of_some_concerns_what_its_lines_say_and_nothing_else"),
    ("job_is_over", "what_is_told_of_a_change_is_what_the_core_tells"),
    (
        "job_may_become",
        "the_database_takes_the_changes_of_a_state_that_the_core_knows_and_no_other",
    ),
    ("job_paused_by_halt", "a_halt_of_some_concerns_what_its_lines_say_and_nothing_else"),
    ("job_trace", "a_job_is_a_span_of_the_trace_of_its_cause_or_of_its_own"),
    ("jobs_changed", "of_two_jobs_on_one_target_that_are_opened_at_once_one_begins"),
    ("jobs_due", "who_claims_looks_at_what_is_due_alone_however_many_jobs_there_are"),
    ("jobs_gone", "the_tries_of_a_job_go_with_it_and_what_it_would_have_told"),
    (
        "jobs_let_back",
        "what_stands_behind_others_is_set_aside_and_comes_back_one_for_each_that_ends",
    ),
    ("jobs_made", "what_helped_is_counted_however_many_end_in_one_statement"),
    ("jobs_recorded", "jobs_that_are_opened_together_are_written_together_each_with_its_own"),
    ("proposal_told", "a_proposal_is_told_when_it_is_made_and_when_it_is_decided"),
    ("tell", "what_is_told_is_an_event_of_bounded_length_under_an_id_of_its_own"),
    ("touches_known", "a_guard_counts_what_is_touched_and_keeps_jobs_away_from_it"),
    ("verdicts_changed", "what_is_decided_anew_is_counted_anew"),
    ("verdicts_given", "what_is_decided_anew_is_counted_anew"),
];

#[test]
fn each_function_has_a_test() {
    let db = migrated();
    let made = block(async {
        rows(&db, "SELECT proname AS name FROM pg_proc WHERE pronamespace = 'public'::regnamespace")
            .await
    });
    let made: BTreeSet<&str> = made.iter().filter_map(|row| row["name"].as_str()).collect();
    let listed: BTreeSet<&str> = TESTS.iter().map(|(function, _)| *function).collect();
    assert_eq!(made, listed);
    let folder = concat!(env!("CARGO_MANIFEST_DIR"), "/tests/records");
    let files = std::fs::read_dir(folder).expect("a folder").map(|file| file.expect("one").path());
    let all: String = files.map(|file| std::fs::read_to_string(file).expect("a source")).collect();
    for (function, test) in TESTS {
        assert!(all.contains(&format!("fn {test}()")), "{function}: where is {test}?");
    }
}

#[test]
fn each_verdict_takes_an_alert_so_far() {
    let db = migrated();
    block(async {
        let far = "SELECT string_agg(how_far(v)::text, ' ') AS x
            FROM unnest(array['dispatched', 'proposed', 'watched', 'folded', 'idle', 'waiting']) v";
        assert_eq!(one(&db, far).await, "1 2 3 4 4 5");
    });
}

#[test]
fn who_did_something_is_shown_as_the_core_shows_it() {
    let db = migrated();
    block(async {
        for kind in PrincipalKind::ALL {
            let who: Principal = format!("{kind}/pat/of a yard").parse().expect("a principal");
            let shown = format!("SELECT principal_shown('{who}') AS x");
            assert_eq!(one(&db, &shown).await, who.shown());
        }
    });
}

#[test]
fn a_floor_is_below_all_that_came_since_and_not_far() {
    let published = Published::with(&[]);
    block(async {
        let db = &published.db;
        assert_eq!(one(db, "SELECT alert_floor(now()) AS x").await, 0, "over nothing");
        // With gaps, as numbers that were drawn for what was not recorded leave them.
        run(
            db,
            "INSERT INTO alerts (seq, source, id, kind, severity, state, resource, time, received,
                summary, labels, body)
            SELECT n * 3, 's', n::text, 'k', 1, 'noted', 'vm/a', now(),
                now() - interval '1 hour' + n * interval '1 second', '', '{}', '{}'
            FROM generate_series(1, 3000) n",
        )
        .await;
        let wrong = "SELECT count(*) AS x FROM generate_series(0, 3000, 37) s CROSS JOIN LATERAL
                (SELECT now() - interval '1 hour' + s * interval '1 second' AS since) t
            CROSS JOIN LATERAL (SELECT alert_floor(since) AS floor,
                (SELECT min(seq) FROM alerts WHERE received >= since) AS first) f
            WHERE floor > first OR floor < first - 70";
        assert_eq!(one(db, wrong).await, 0);
    });
}

#[test]
fn an_alert_is_noted_once_where_somebody_may_wait_for_it() {
    let published = Published::with(&[]);
    block(async {
        let db = &published.db;
        let noted = "SELECT count(*) AS x FROM unheard";
        published.send(json!({ "kind": "disk.usage", "resource": "vm/a" })).await;
        assert_eq!(one(db, noted).await, 0, "nobody waits");
        run(
            db,
            "INSERT INTO wait (job_id, place, key, chosen, since, settled)
            VALUES (1, 'a', 'kdisk.usage', '{}', now(), true),
                (2, 'a', 'rvm/a', '{}', now(), true), (3, 'a', 'sother', '{}', now(), true)",
        )
        .await;
        published.send(json!({ "kind": "disk.usage", "resource": "vm/a" })).await;
        assert_eq!(one(db, noted).await, 1, "however many wait for it");
        published.send(json!({ "kind": "load.high", "resource": "vm/b" })).await;
        assert_eq!(one(db, noted).await, 1, "nobody waits for this one");
        run(
            db,
            "INSERT INTO wait (job_id, place, key, chosen, since, settled)
            VALUES (4, 'a', '*', '{}', now(), true)",
        )
        .await;
        published.send(json!({ "kind": "load.high", "resource": "vm/b" })).await;
        assert_eq!(one(db, noted).await, 2);
    });
}

#[test]
fn what_is_decided_anew_is_counted_anew() {
    let published = Published::with(&[rule("any", "")]);
    block(async {
        let db = &published.db;
        for kind in ["a.a", "b.b"] {
            published.send(json!({ "kind": kind, "resource": "vm/a" })).await;
        }
        let counted = "SELECT string_agg(verdict || ' ' || n, ', ' ORDER BY verdict) AS x FROM
            (SELECT verdict, sum(count) AS n FROM verdict_count GROUP BY 1 HAVING sum(count) <> 0) c";
        let held = "SELECT string_agg(verdict || ' ' || n, ', ' ORDER BY verdict) AS x FROM
            (SELECT verdict, count(*) AS n FROM verdicts GROUP BY 1) v";
        let far = "SELECT string_agg(how || ' ' || n, ', ' ORDER BY how) AS x FROM
            (SELECT how, sum(count) AS n FROM alert_count GROUP BY 1 HAVING sum(count) <> 0) c";
        assert_eq!(one(db, counted).await, one(db, held).await);
        let before = one(db, far).await;
        run(
            db,
            "UPDATE verdicts SET verdict = 'resting' WHERE alert_seq =
            (SELECT min(alert_seq) FROM verdicts)",
        )
        .await;
        assert_eq!(one(db, counted).await, one(db, held).await);
        assert_ne!(one(db, far).await, before, "how far it came is counted anew as well");
    });
}

#[test]
fn whatever_is_published_counts_the_generation_up() {
    let published = Published::with(&[rule("any", "")]);
    block(async {
        let db = &published.db;
        let generation = "SELECT generation AS x FROM catalog";
        let number = async || one(db, generation).await.as_i64().expect("a number");
        let before = number().await;
        run(db, "UPDATE definition SET published_by = 'token/pat'").await;
        assert_eq!(number().await, before + 1, "once for a statement");
        run(db, "INSERT INTO secret (name, sealed, changed_at) VALUES ('a', '\\x00', now())").await;
        run(db, "DELETE FROM secret").await;
        assert_eq!(number().await, before + 3);
    });
}

#[test]
fn what_is_told_of_a_change_is_what_the_core_tells() {
    let db = migrated();
    block(async {
        for state in JobState::ALL {
            let over = one(&db, &format!("SELECT job_is_over('{state}') AS x")).await;
            assert_eq!(over, state.is_final(), "{state}");
        }
        for (from, to) in
            JobState::ALL.into_iter().flat_map(|from| JobState::ALL.map(|to| (from, to)))
        {
            if !from.may_become(to) {
                continue;
            }
            for resumed in [false, true] {
                let change = StateChange { from: Some(from), to, begins: false, resumed };
                let sql = format!("SELECT job_change_is_told('{from}', '{to}', {resumed}) AS x");
                let told = one(&db, &sql).await;
                assert_eq!(told, change.events().next().is_some(), "{change:?}");
            }
        }
    });
}

#[test]
fn a_job_is_a_span_of_the_trace_of_its_cause_or_of_its_own() {
    let db = migrated();
    block(async {
        let cause = "00-4bf92f3577b34da6a3ce929d0e0e4736-00f067aa0ba902b7-00";
        let sql = format!("SELECT job_trace('{cause}') AS trace FROM generate_series(1, 50)");
        let spans: BTreeSet<String> = rows(&db, &sql).await.iter().map(text).collect();
        assert_eq!(spans.len(), 50, "each a span of its own");
        for span in &spans {
            assert_eq!((&span[..36], &span[52..]), (&cause[..36], "-00"), "{span}");
        }
        let sql = "SELECT job_trace(NULL) AS trace FROM generate_series(1, 50)";
        let own: BTreeSet<String> = rows(&db, sql).await.iter().map(text).collect();
        let traces: BTreeSet<&str> = own.iter().map(|span| &span[3..35]).collect();
        assert_eq!(traces.len(), 50, "each a trace of its own");
        for span in spans.iter().chain(&own) {
            assert!(arvok_core::TraceContext::parse(span).is_some(), "{span}");
        }
    });
}

fn text(row: &Value) -> String {
    row["trace"].as_str().expect("a text").to_owned()
}

#[test]
fn what_is_told_is_an_event_of_bounded_length_under_an_id_of_its_own() {
    let published = Published::with(&[rule("any", "")]);
    block(async {
        published.jobs(1).await;
        let db = &published.db;
        run(db, "UPDATE job SET failure = repeat('f', 9000), chain = '[\"above\"]'").await;
        let tell = "SELECT tell('job.noticed', 'minor', repeat('w', 5000), j, '{\"more\": 1}')
            FROM job j";
        run(db, &format!("{tell}; {tell}")).await;
        let told = rows(db, "SELECT id, kind, job_id, alert FROM outbox ORDER BY number").await;
        let ids: BTreeSet<&str> = told.iter().filter_map(|row| row["id"].as_str()).collect();
        assert_eq!((told.len(), ids.len()), (2, 2));
        let alert = &told[0]["alert"];
        assert_eq!(alert["summary"].as_str().map(str::len), Some(1_000));
        let job = &alert["body"]["job"];
        assert_eq!(job["failure"].as_str().map(str::len), Some(4_000));
        assert_eq!(
            (&alert["body"]["chain"], &alert["body"]["more"]),
            (&json!(["above"]), &json!(1))
        );
        assert_eq!(alert["labels"]["job"], told[0]["job_id"].to_string());
    });
}

/// That these kinds of events are those by which rules and subscribers choose them.
async fn all_of_core_are_told(db: &DatabaseConnection, of: &str) {
    let told = rows(db, "SELECT DISTINCT kind AS x FROM outbox").await;
    let told: BTreeSet<&str> = told.iter().filter_map(|row| row["x"].as_str()).collect();
    let known: Vec<String> = event_kinds().filter(|kind| kind.starts_with(of)).collect();
    let told: BTreeSet<&str> = told.into_iter().filter(|kind| kind.starts_with(of)).collect();
    assert_eq!(told, known.iter().map(String::as_str).collect());
}

#[test]
fn a_proposal_is_told_when_it_is_made_and_when_it_is_decided() {
    let db = migrated();
    block(async {
        run(
            &db,
            "INSERT INTO proposal (id, rule, rule_version, runbook, runbook_version, inputs, target,
                urgency, reason, state, note, created_at, chain, trial)
            SELECT n, 'disks', 1, 'grow-disk', 1, '{}', 'vm/a', 1, repeat('long', 400),
                CASE n WHEN 5 THEN 'faulty' ELSE 'open' END, CASE n WHEN 5 THEN 'no vm' END, now(),
                '[\"disks\"]', CASE n WHEN 1 THEN 'dry' END
            FROM generate_series(1, 5) n;
            UPDATE proposal SET state = 'launched', decided_by = 'token/pat' WHERE id = 1;
            UPDATE proposal SET state = 'dismissed', decided_by = 'token/pat', note = 'it is planned'
                WHERE id = 2;
            UPDATE proposal SET note = 'it is planned so' WHERE id = 2;
            UPDATE proposal SET state = 'withdrawn', note = 'it is cleared' WHERE id = 3",
        )
        .await;
        let told = "SELECT string_agg(kind || ' ' || (alert -> 'labels' ->> 'proposal'), ', '
                ORDER BY number) AS x FROM outbox";
        assert_eq!(
            one(&db, told).await,
            "proposal.made 1, proposal.made 2, proposal.made 3, proposal.made 4, proposal.faulty 5, \
            proposal.launched 1, proposal.dismissed 2, proposal.withdrawn 3"
        );
        all_of_core_are_told(&db, "proposal.").await;
        let words = "SELECT string_agg(alert ->> 'summary', '; ' ORDER BY number) AS x FROM outbox
            WHERE kind <> 'proposal.made'";
        assert_eq!(
            one(&db, words).await,
            "proposal 5 of rule disks: grow-disk on vm/a cannot be made: no vm; \
            proposal 1 of rule disks: grow-disk on vm/a is launched by pat; \
            proposal 2 of rule disks: grow-disk on vm/a is dismissed by pat: it is planned; \
            proposal 3 of rule disks: grow-disk on vm/a is withdrawn: it is cleared"
        );
        let longest = "SELECT max(length(alert ->> 'summary'))::text AS x FROM outbox";
        assert_eq!(one(&db, longest).await, "1000");
        let chains = "SELECT count(*)::text AS x FROM outbox
            WHERE alert -> 'body' -> 'chain' = '[\"disks\"]'";
        assert_eq!(one(&db, chains).await, "8");
        let trial = outbox::claim(&db, "node", 10).await.expect("events");
        let trial: Vec<bool> = trial.iter().map(|told| told.trial.is_some()).collect();
        assert_eq!(trial.iter().filter(|t| **t).count(), 2, "{trial:?}");
        let cleared = trials::clear(&db, &Principal::token("pat")).await.expect("cleared");
        assert_eq!(cleared.proposals, 1);
        let left = "SELECT count(*)::text AS x FROM outbox WHERE job_id = 1";
        assert_eq!(one(&db, left).await, "0", "what was made up is not told as if it were real");
    });
}

#[test]
fn a_question_is_told_when_it_is_asked_and_when_it_is_over() {
    let published = Published::with(&[rule("any", "")]);
    block(async {
        published.jobs(1).await;
        let db = &published.db;
        run(
            db,
            "INSERT INTO decision (job_id, place, decider, text, choices, asked_at, until)
            SELECT 1, p, '{}', 'Restart?', '[]', now(), now() + interval '1 hour'
            FROM unnest(array['a', 'b', 'c']) p;
            UPDATE decision SET state = 'taken', choice = 'yes', decided_by = 'token/pat'
                WHERE place = 'a';
            UPDATE decision SET remark = 'again' WHERE place = 'a';
            UPDATE decision SET state = 'silent' WHERE place = 'b';
            UPDATE decision SET state = 'withdrawn' WHERE place = 'c'",
        )
        .await;
        let told = "SELECT string_agg(kind || ' ' || (alert -> 'body' -> 'decision' ->> 'step'),
            ', ' ORDER BY number) AS x FROM outbox WHERE kind LIKE 'decision.%'";
        assert_eq!(
            one(db, told).await,
            "decision.asked a, decision.asked b, decision.asked c, decision.taken a, \
            decision.silent b, decision.withdrawn c"
        );
        all_of_core_are_told(db, "decision.").await;
        let words = "SELECT alert ->> 'summary' AS x FROM outbox WHERE kind = 'decision.taken'";
        assert_eq!(one(db, words).await, "Restart?: yes, by pat");
    });
}
