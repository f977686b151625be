//! The part of a record that is about what a job waits for outside of it, and what it tells:
//! written in the same statement. What has come of it is read in [`crate::outside`].

use super::{
    parts::Parts,
    record::{ClaimedRecord, Looked, Next, Record},
};
use arvok_core::{
    JobId,
    job::{Emitted, EventWait, Place, Question},
};
use chrono::{DateTime, Utc};
use serde_json::json;

/// Adds to the statement of records what their jobs ask, wait for and tell.
pub(super) fn write(standing: &[&ClaimedRecord<'_>], now: DateTime<Utc>, parts: &mut Parts) {
    let all = |standing: &[&ClaimedRecord<'_>],
               rows: &dyn Fn(&Record) -> Vec<serde_json::Value>| {
        let of = |s: &&ClaimedRecord<'_>| {
            rows(s.record).into_iter().zip(std::iter::repeat(s.id)).collect::<Vec<_>>()
        };
        let rows = standing.iter().flat_map(of).enumerate();
        rows.map(|(n, (row, job))| placed(row, n, job)).collect::<Vec<serde_json::Value>>()
    };
    parts.add(TOUCHED, all(standing, &|record| touched(record, now)));
    let remembered = all(standing, &|record| remembered(record, now));
    parts.add(OUTGROWN, remembered.clone());
    parts.add(REMEMBERED, remembered);
    parts.add(EMITTED, all(standing, &|record| emitted(record, now)));
    // What a job that has ended asked and waited for went with its end (`jobs_changed`).
    let open: Vec<&ClaimedRecord<'_>> =
        standing.iter().copied().filter(|s| !s.record.then.is_over()).collect();
    parts.add(ASKED, all(&open, &|record| question_rows(record, now)));
    parts.add(LISTENS, all(&open, &listens));
    let withdrawn = all(&open, &|record| {
        record.withdrawn.iter().map(|place| json!({ "place": place })).collect()
    });
    for part in WITHDRAWN {
        parts.add(part, withdrawn.clone());
    }
    parts.add(LOOKED, all(&open, &looked));
    parts.add(
        PASSED,
        all(&open, &|record| record.passed_over.iter().map(|id| json!({ "id": id })).collect()),
    );
}

/// A row with its job, and its number, by which they are written in order.
fn placed(mut row: serde_json::Value, n: usize, job: JobId) -> serde_json::Value {
    (row["n"], row["job"]) = (json!(n), json!(job));
    row
}

const TOUCHED: (&str, &str) = (
    "touched",
    "INSERT INTO touch (resource, job_id, place, at)
        SELECT DISTINCT ON (t.resource, held.id, t.place) t.resource, held.id, t.place, t.at
        FROM held JOIN jsonb_to_recordset({rows}) AS t (job bigint, place text, resource text,
            at timestamptz) ON t.job = held.id
        ON CONFLICT (job_id, resource, place) DO UPDATE SET at = excluded.at",
);

fn touched(record: &Record, now: DateTime<Utc>) -> Vec<serde_json::Value> {
    let row = |(place, resource): &(Place, String)| json!({ "place": place, "resource": resource, "at": now });
    record.touched.iter().map(row).collect()
}

const REMEMBERED: (&str, &str) = (
    "remembered",
    "INSERT INTO memory (runbook, target, job_id, place, remembered, at)
        SELECT held.runbook, held.target, held.id, t.place, t.remembered, t.at
        FROM held JOIN jsonb_to_recordset({rows}) AS t (n int, job bigint, place text,
            remembered jsonb, at timestamptz) ON t.job = held.id
        ORDER BY t.n ON CONFLICT (job_id, place) DO NOTHING",
);

/// Of each target the last fifty times are kept.
const OUTGROWN: (&str, &str) = (
    "outgrown",
    "DELETE FROM memory m USING held JOIN jsonb_to_recordset({rows}) AS t (job bigint)
            ON t.job = held.id
        WHERE m.runbook = held.runbook AND m.target = held.target
            AND m.number <= (SELECT b.number FROM memory b WHERE b.runbook = held.runbook
                AND b.target = held.target ORDER BY b.number DESC OFFSET 49 LIMIT 1)",
);

fn remembered(record: &Record, now: DateTime<Utc>) -> Vec<serde_json::Value> {
    let row = |(place, memory): &(Place, serde_json::Value)| json!({ "place": place, "remembered": memory, "at": now });
    record.remembered.iter().map(row).collect()
}

const WITHDRAWN: [(&str, &str); 3] = [
    (
        "closed",
        "UPDATE decision d SET state = 'withdrawn', decided_at = now()
            FROM held JOIN jsonb_to_recordset({rows}) AS t (job bigint,
            place text) ON t.job = held.id
            WHERE d.job_id = held.id AND d.place = t.place AND d.state = 'open'",
    ),
    (
        "gone",
        "DELETE FROM wait w USING held JOIN jsonb_to_recordset({rows}) AS t (job bigint,
            place text) ON t.job = held.id
            WHERE w.job_id = held.id AND w.place = t.place",
    ),
    (
        "forgotten",
        "DELETE FROM heard h USING held JOIN jsonb_to_recordset({rows}) AS t (job bigint,
            place text) ON t.job = held.id
            WHERE h.job_id = held.id AND h.place = t.place",
    ),
];

const LOOKED: (&str, &str) = (
    "looked",
    "UPDATE wait w SET looked = t.seq, settled = t.next = 'nothing',
            called = CASE WHEN t.next = 'over' THEN false ELSE w.called END,
            horizon = CASE WHEN t.next = 'over' THEN pg_snapshot_xmax(pg_current_snapshot())
            ELSE w.horizon END
        FROM held JOIN jsonb_to_recordset({rows}) AS t (job bigint, place text, key text,
        seq bigint, next text)
            ON t.job = held.id
        WHERE w.job_id = held.id AND w.place = t.place AND w.key = t.key",
);

fn looked(record: &Record) -> Vec<serde_json::Value> {
    // What is not waited for any more goes in the same statement.
    let looked = record.looked.iter().filter(|l| !record.withdrawn.contains(&l.place));
    let row = |l: &Looked| {
        let next = match l.next {
            Next::Further => "further",
            Next::WhenTheseAreOver => "over",
            Next::Nothing => "nothing",
        };
        json!({ "place": l.place, "key": l.key, "seq": l.seq, "next": next })
    };
    looked.map(row).collect()
}

const PASSED: (&str, &str) = (
    "passed",
    "DELETE FROM heard h USING held JOIN jsonb_to_recordset({rows}) AS t (job bigint,
        id bigint) ON t.job = held.id
        WHERE h.id = t.id",
);

/// Whether a step does not wait any more: what is asked and withdrawn at once was never asked.
fn is_withdrawn(record: &Record, place: &Place) -> bool {
    record.withdrawn.iter().any(|w| w == place.as_str())
}

const ASKED: (&str, &str) = (
    "asked",
    "INSERT INTO decision (job_id, place, decider, text, choices, silence, asked_at, until, by_link,
            by_mail)
        SELECT held.id, t.place, t.decider, t.text, t.choices, t.silence, t.asked_at, t.until,
        t.by_link, t.by_mail
        FROM held JOIN jsonb_to_recordset({rows}) AS t (n int, job bigint, place text,
        decider jsonb, text text, choices jsonb,
            silence text, asked_at timestamptz, until timestamptz, by_link boolean,
            by_mail jsonb) ON t.job = held.id
        ORDER BY t.n ON CONFLICT (job_id, place) DO NOTHING",
);

fn question_rows(record: &Record, now: DateTime<Utc>) -> Vec<serde_json::Value> {
    let asked = record.asked.iter().filter(|q| !is_withdrawn(record, &q.place));
    let row = |q: &Question| {
        let choices: Vec<_> = q.choices.iter().map(|(name, words)| json!([name, words])).collect();
        json!({ "place": q.place, "decider": q.to, "text": q.text, "choices": choices,
            "silence": q.unanswered,
            "asked_at": now, "until": q.until, "by_link": q.by_link,
            "by_mail": q.by_mail })
    };
    asked.map(row).collect()
}

const LISTENS: (&str, &str) = (
    "listens",
    "INSERT INTO wait (job_id, place, key, chosen, since) SELECT held.id, t.place, t.key, t.chosen,
        t.since
        FROM held JOIN jsonb_to_recordset({rows}) AS t (job bigint, place text, key text,
        chosen jsonb, since timestamptz)
            ON t.job = held.id
        ON CONFLICT (job_id, place, key) DO NOTHING",
);

fn listens(record: &Record) -> Vec<serde_json::Value> {
    let listens = record.listens.iter().filter(|l| !is_withdrawn(record, &l.place));
    let rows = |l: &EventWait| {
        let row =
            |key| json!({ "place": l.place, "key": key, "chosen": l.chosen, "since": l.since });
        l.chosen.keys().into_iter().map(row).collect::<Vec<_>>()
    };
    listens.flat_map(rows).collect()
}

const EMITTED: (&str, &str) = (
    "emitted",
    "INSERT INTO outbox (id, kind, at, job_id, alert)
        SELECT t.id, t.kind, t.at, held.id, t.alert || jsonb_build_object(
            'labels', jsonb_build_object('job', held.id::text, 'runbook', held.runbook) || (t.alert -> 'labels'),
            'body', (t.alert -> 'body') || jsonb_build_object('chain', coalesce(held.chain, '[]'), 'job', jsonb_build_object(
                'id', held.id, 'runbook', held.runbook, 'rule', held.rule, 'target', held.target)))
        FROM held JOIN jsonb_to_recordset({rows}) AS t (n int, job bigint, id text, kind text,
        at timestamptz, alert jsonb)
            ON t.job = held.id ORDER BY t.n",
);

fn emitted(record: &Record, now: DateTime<Utc>) -> Vec<serde_json::Value> {
    let row = |e: &Emitted| {
        json!({ "id": e.id, "kind": e.kind, "at": now, "alert": {
            "kind": e.kind, "severity": e.severity, "state": e.state, "resource": e.resource,
                "summary": e.say,
            "labels": e.labels, "body": { "given": e.give } } })
    };
    record.emitted.iter().map(row).collect()
}
