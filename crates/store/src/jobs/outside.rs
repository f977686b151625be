//! The part of a record that is about what a job waits for outside of it, and what it tells: written in the same
//! statement. What has come of it is read in [`crate::outside`].

use super::Record;
use arvok_core::{
    job::{Emitted, Listening, Place, Question},
    text::clean_json,
};
use chrono::{DateTime, Utc};
use sea_orm::Value;
use serde_json::json;

/// Adds to a record's statement what it asks, waits for and tells.
pub(super) fn write(record: &Record, now: DateTime<Utc>, sql: &mut String, values: &mut Vec<Value>) {
    let mut part = |(name, text): (&str, &str), rows: Vec<serde_json::Value>| {
        if !rows.is_empty() {
            values.push(clean_json(rows.into()).into());
            let rows = format!("${}::jsonb", values.len());
            sql.push_str(&format!(", {name} AS ({})", text.replace("{rows}", &rows)));
        }
    };
    part(ASKED, asked(record, now));
    part(LISTENS, listens(record));
    part(EMITTED, emitted(record, now));
    if !record.withdrawn.is_empty() {
        values.push(record.withdrawn.clone().into());
        let places = format!("${}", values.len());
        sql.push_str(&format!(
            ", closed AS (UPDATE decision d SET state = 'withdrawn', decided_at = now() FROM held
                WHERE d.job_id = held.id AND d.place = ANY({places}) AND d.state = 'open'),
            gone AS (DELETE FROM wait w USING held WHERE w.job_id = held.id AND w.place = ANY({places})),
            forgotten AS (DELETE FROM heard h USING held WHERE h.job_id = held.id AND h.place = ANY({places}))"
        ));
    }
    if !record.passed_over.is_empty() {
        values.push(record.passed_over.clone().into());
        sql.push_str(&format!(", passed AS (DELETE FROM heard h USING held WHERE h.id = ANY(${}))", values.len()));
    }
}

/// Whether a step does not wait any more: what is asked and withdrawn at once was never asked.
fn is_withdrawn(record: &Record, place: &Place) -> bool {
    record.withdrawn.iter().any(|w| w == place.as_str())
}

const ASKED: (&str, &str) = (
    "asked",
    "INSERT INTO decision (job_id, place, decider, text, choices, silence, asked_at, until)
        SELECT held.id, t.place, t.decider, t.text, t.choices, t.silence, t.asked_at, t.until
        FROM held, jsonb_to_recordset({rows}) AS t (place text, decider jsonb, text text, choices jsonb, silence text,
            asked_at timestamptz, until timestamptz) ON CONFLICT (job_id, place) DO NOTHING",
);

fn asked(record: &Record, now: DateTime<Utc>) -> Vec<serde_json::Value> {
    let asked = record.asked.iter().filter(|q| !is_withdrawn(record, &q.place));
    let row = |q: &Question| {
        let choices: Vec<_> = q.choices.iter().map(|(name, words)| json!([name, words])).collect();
        json!({ "place": q.place, "decider": q.to, "text": q.text, "choices": choices, "silence": q.silence,
            "asked_at": now, "until": q.until })
    };
    asked.map(row).collect()
}

const LISTENS: (&str, &str) = (
    "listens",
    "INSERT INTO wait (job_id, place, key, chosen, since) SELECT held.id, t.place, t.key, t.chosen, t.since
        FROM held, jsonb_to_recordset({rows}) AS t (place text, key text, chosen jsonb, since timestamptz)
        ON CONFLICT (job_id, place, key) DO NOTHING",
);

fn listens(record: &Record) -> Vec<serde_json::Value> {
    let listens = record.listens.iter().filter(|l| !is_withdrawn(record, &l.place));
    let rows = |l: &Listening| {
        let row = |key| json!({ "place": l.place, "key": key, "chosen": l.chosen, "since": l.since });
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
        FROM held, jsonb_to_recordset({rows}) AS t (id text, kind text, at timestamptz, alert jsonb)",
);

fn emitted(record: &Record, now: DateTime<Utc>) -> Vec<serde_json::Value> {
    let row = |e: &Emitted| {
        json!({ "id": e.id, "kind": e.kind, "at": now, "alert": {
            "kind": e.kind, "severity": e.severity, "state": e.state, "resource": e.resource, "summary": e.say,
            "labels": e.labels, "body": { "given": e.give } } })
    };
    record.emitted.iter().map(row).collect()
}
