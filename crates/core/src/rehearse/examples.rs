//! Playing the examples of a rule, and writing one from what really happened.

use super::{Rehearsal, RehearsedDispatch, Report};
use crate::{
    Alert, AlertId, NewAlert, Period, Verdict,
    alert::{AlertError, Received},
    definition::Others,
    matcher::{explain, shortfall},
    rule::{ExampleDoc, ExpectDoc, GivenDoc, Rule},
};
use chrono::{DateTime, TimeDelta, Utc};
use serde_json::{Map, Value, json};

/// An example that does not hold.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct ExampleFailure {
    /// Where in the document: a JSON pointer.
    pub place: String,
    /// What was expected and what happened.
    pub message: String,
}

fn time(at: Period) -> DateTime<Utc> {
    DateTime::UNIX_EPOCH + at.delta()
}

fn offset(at: DateTime<Utc>) -> Period {
    Period::from_millis(u64::try_from((at - DateTime::UNIX_EPOCH).num_milliseconds()).unwrap_or(0))
}

/// Plays every example as if the rule acted.
pub fn play(rule: &Rule, others: &dyn Others) -> Vec<ExampleFailure> {
    rule.examples
        .iter()
        .enumerate()
        .flat_map(|(i, example)| play_one(rule, others, i, example))
        .collect()
}

fn play_one(
    rule: &Rule,
    others: &dyn Others,
    number: usize,
    example: &ExampleDoc,
) -> Vec<ExampleFailure> {
    let place = format!("/examples/{number}");
    let mut rehearsal = Rehearsal::new(rule, others);
    for (i, given) in example.given.iter().enumerate() {
        let alert = match alert(rule, example, given, i) {
            Ok(alert) => alert,
            Err(message) => {
                return vec![ExampleFailure { place: format!("{place}/given/{i}"), message }];
            }
        };
        if let Err(e) = rehearsal.feed(AlertId(i as i64 + 1), alert) {
            return vec![ExampleFailure { place, message: e.to_string() }];
        }
    }
    let ends = example.given.iter().map(|g| g.at).chain(example.expect.iter().map(|e| e.at));
    let report = rehearsal.finish(time(ends.max().unwrap_or(Period::from_secs(0))));
    compare(&place, rule, example, &report)
}

/// An alert of an example: what is left out is taken from `of`, and then from the rule's own
/// words, where these are one plain name.
fn alert(rule: &Rule, example: &ExampleDoc, given: &GivenDoc, i: usize) -> Result<Alert, String> {
    let mut fields: Map<String, Value> = example.of.clone();
    fields.extend(given.fields.clone());
    let plain = |globs: Option<&Vec<crate::glob::Glob>>| match globs.map(Vec::as_slice) {
        Some([glob]) => glob.exact().map(str::to_owned),
        _ => None,
    };
    let source = match fields.remove("source") {
        Some(Value::String(source)) => source,
        Some(other) => return Err(format!("source: {other} is not a name")),
        None => plain(rule.listen.sources.as_ref()).unwrap_or_else(|| "example".into()),
    };
    for (key, globs) in [("kind", &rule.listen.kinds), ("resource", &rule.listen.resource)] {
        if let (false, Some(name)) = (fields.contains_key(key), plain(globs.as_ref())) {
            fields.insert(key.into(), name.into());
        }
    }
    if fields.contains_key("time") || fields.contains_key("received") {
        return Err(
            "times are written as `at`, and `late` for what comes later than it was sent".into()
        );
    }
    let received = time(given.at);
    fields.insert(
        "time".into(),
        json!(received - given.late.map_or(TimeDelta::zero(), Period::delta) + TimeDelta::zero()),
    );
    if given.late.is_some_and(|late| late > given.at) {
        return Err("`late` is longer than `at`; let the example start later".into());
    }
    let new = NewAlert::from_value(&Value::Object(fields)).map_err(|e| e.to_string())?;
    let id = format!("{}", i + 1);
    new.complete(Received { source: &source, received, fallback_id: &id })
        .map_err(|e| e.to_string())
}

fn compare(place: &str, rule: &Rule, example: &ExampleDoc, report: &Report) -> Vec<ExampleFailure> {
    let mut failures = Vec::new();
    let mut named = vec![false; report.dispatched.len()];
    for (i, expect) in example.expect.iter().enumerate() {
        if let Err(message) = meet(expect, report, &mut named) {
            failures.push(ExampleFailure {
                place: format!("{place}/expect/{i}"),
                message: format!("{message}\n{}", story(rule, example, report)),
            });
        }
    }
    for dispatch in
        report.dispatched.iter().zip(&named).filter(|(_, named)| !**named).map(|(p, _)| p)
    {
        let message = format!(
            "{} was dispatched at {}, which is not expected: {}\n{}",
            dispatch.runbook,
            offset(dispatch.at),
            dispatch.reason,
            story(rule, example, report)
        );
        failures.push(ExampleFailure { place: format!("{place}/expect"), message });
    }
    failures
}

fn meet(expect: &ExpectDoc, report: &Report, named: &mut [bool]) -> Result<(), String> {
    let at = time(expect.at);
    let there: Vec<_> = report.decided.iter().filter(|r| r.at == at).collect();
    if !expect.verdict.fires() {
        if there.iter().any(|r| r.verdict == expect.verdict) {
            return Ok(());
        }
        let said: Vec<_> = there.iter().map(|r| r.verdict.as_str()).collect();
        let said = if said.is_empty() {
            "nothing was decided".to_owned()
        } else {
            format!("it was {}", said.join(", "))
        };
        return Err(format!(
            "expected `{}` at {}, but {said} then",
            expect.verdict.as_str(),
            expect.at
        ));
    }
    let mut closest = None;
    for (i, dispatch) in report.dispatched.iter().enumerate().filter(|(_, p)| p.at == at) {
        if named[i] || expect.runbook.as_ref().is_some_and(|r| *r != dispatch.runbook) {
            continue;
        }
        let wrong =
            expect.inputs.iter().flatten().find(|(name, value)| {
                !dispatch.inputs.get(*name).is_some_and(|got| alike(got, value))
            });
        match (wrong, &dispatch.error) {
            (None, None) => {
                named[i] = true;
                return Ok(());
            }
            (None, Some(why)) => {
                named[i] = true;
                closest = Some(format!(
                    "the job of {} at {} would be refused: {why}",
                    dispatch.runbook, expect.at
                ));
                break;
            }
            (Some((name, value)), _) => {
                named[i] = true;
                let got =
                    dispatch.inputs.get(name).map_or_else(|| "nothing".into(), ToString::to_string);
                closest =
                    Some(format!("at {} the input `{name}` is {got}, expected {value}", expect.at));
                break;
            }
        }
    }
    let said: Vec<_> = there.iter().map(|r| r.verdict.as_str()).collect();
    let said = if said.is_empty() {
        "nothing was decided".to_owned()
    } else {
        format!("it was {}", said.join(", "))
    };
    Err(closest.unwrap_or_else(|| format!("expected a dispatch at {}, but {said} then", expect.at)))
}

/// Equality that does not ask whether a number was written with a decimal point.
fn alike(a: &Value, b: &Value) -> bool {
    match (a, b) {
        (Value::Number(a), Value::Number(b)) => a.as_f64() == b.as_f64(),
        (Value::Array(a), Value::Array(b)) => {
            a.len() == b.len() && a.iter().zip(b).all(|(a, b)| alike(a, b))
        }
        (Value::Object(a), Value::Object(b)) => {
            a.len() == b.len()
                && a.iter().all(|(key, value)| b.get(key).is_some_and(|other| alike(value, other)))
        }
        _ => a == b,
    }
}

/// What happened, line by line.
fn story(rule: &Rule, example: &ExampleDoc, report: &Report) -> String {
    let lines = report.decided.iter().take(30).map(|r| {
        let again =
            if r.at == r.came { String::new() } else { format!(" (came at {})", offset(r.came)) };
        format!("  {:>6}  {:10} {}{again}", offset(r.at).to_string(), r.verdict.as_str(), r.reason)
    });
    let lines: Vec<String> = lines.collect();
    if lines.is_empty() { unmatched(rule, example) } else { lines.join("\n") }
}

/// Why none of the alerts matches: the lines that do not hold for the one that comes nearest.
fn unmatched(rule: &Rule, example: &ExampleDoc) -> String {
    let alerts = example
        .given
        .iter()
        .enumerate()
        .filter_map(|(i, given)| alert(rule, example, given, i).ok());
    let nearest =
        alerts.map(|alert| explain(rule, &alert)).min_by_key(|clauses| shortfall(clauses));
    let mut lines = vec!["  no alert of the example matches the rule".to_owned()];
    for clause in nearest.into_iter().flatten().filter(|c| c.holds != Some(true)) {
        let saw = clause
            .saw
            .iter()
            .map(|(field, value)| format!("{field} is {}", value.as_deref().unwrap_or("missing")));
        let saw = saw.collect::<Vec<_>>().join(", ");
        lines.push(format!(
            "  `{}: {}` does not hold: {}",
            clause.line,
            clause.text,
            clause.error.unwrap_or(saw)
        ));
    }
    lines.join("\n")
}

/// An example made from alerts that really came, oldest first: what the rule makes of them.
pub fn example_of(rule: &Rule, alerts: &[Alert], others: &dyn Others) -> Option<ExampleDoc> {
    let first = alerts.first()?;
    let late =
        |a: &Alert| Some((a.received - a.happened()).num_seconds()).filter(|late| *late >= 60);
    // Early enough that also what came late first was sent in it.
    let sent = alerts.iter().filter_map(|a| Some(a.received - TimeDelta::seconds(late(a)?)));
    let start = sent.chain([first.received]).min()?;
    let since = |t: DateTime<Utc>| {
        Period::from_millis(
            u64::try_from((t - start).num_milliseconds()).unwrap_or(0) / 1000 * 1000,
        )
    };
    let whole = |a: &Alert| {
        let mut fields = Map::new();
        fields.insert("source".into(), a.source.clone().into());
        fields.insert("kind".into(), a.kind.clone().into());
        fields.insert("severity".into(), a.severity.as_str().into());
        fields.insert("resource".into(), a.resource.as_str().into());
        if !a.labels.is_empty() {
            fields.insert("labels".into(), json!(a.labels));
        }
        if rule.reads_body() && !a.body.is_null() {
            fields.insert("body".into(), a.body.clone());
        }
        fields
    };
    let mut of = whole(first);
    of.retain(|key, value| alerts.iter().all(|a| whole(a).get(key) == Some(value)));
    let given = alerts.iter().map(|a| {
        let mut fields: Map<String, Value> =
            whole(a).into_iter().filter(|(k, _)| !of.contains_key(k)).collect();
        if a.state != crate::AlertState::Raised {
            fields.insert("state".into(), a.state.as_str().into());
        }
        if let Some(value) = a.value {
            let whole = value.fract() == 0.0 && value.abs() < 1e15;
            fields.insert("value".into(), if whole { json!(value as i64) } else { json!(value) });
        }
        let late = late(a).and_then(|late| u64::try_from(late).ok()).map(Period::from_secs);
        GivenDoc { at: since(a.received), late, fields }
    });
    let mut example = ExampleDoc { summary: None, given: given.collect(), of, expect: Vec::new() };
    let mut rehearsal = Rehearsal::new(rule, others);
    for (i, given) in example.given.iter().enumerate() {
        rehearsal.feed(AlertId(i as i64 + 1), alert(rule, &example, given, i).ok()?).ok()?;
    }
    let end = example.given.last().map_or(Period::from_secs(0), |g| g.at);
    let report = rehearsal.finish(time(end));
    let held = report.decided.iter().filter(|r| !r.verdict.fires() && r.verdict != Verdict::Folded);
    let mut expect: Vec<ExpectDoc> = held
        .map(|r| ExpectDoc { at: offset(r.at), verdict: r.verdict, inputs: None, runbook: None })
        .chain(report.dispatched.iter().map(|p| ExpectDoc {
            at: offset(p.at),
            verdict: Verdict::Dispatched,
            inputs: Some(own_inputs(rule, p)),
            runbook: (rule.dispatch.len() > 1).then(|| p.runbook.clone()),
        }))
        .collect();
    expect.sort_by_key(|e| e.at);
    expect.dedup_by(|a, b| a.at == b.at && a.verdict == b.verdict && a.inputs == b.inputs);
    example.expect = expect;
    Some(example)
}

/// The inputs of a dispatch that the rule gives itself.
fn own_inputs(rule: &Rule, dispatch: &RehearsedDispatch) -> Map<String, Value> {
    let names =
        rule.dispatch.iter().filter(|d| d.runbook == dispatch.runbook).flat_map(|d| &d.given);
    names.filter_map(|name| Some((name.clone(), dispatch.inputs.get(name)?.clone()))).collect()
}

/// An alert written down with its source and times, as in a file of alerts or in what the list of
/// alerts gives: a line of JSON. What has no `received` came when it happened.
pub fn written_alert(value: &Value, number: usize) -> Result<Alert, WrittenAlertError> {
    let Value::Object(fields) = value else { return Err(WrittenAlertError::NoObject) };
    let mut fields = fields.clone();
    for known in ["seq", "verdicts"] {
        fields.remove(known);
    }
    let Some(Value::String(source)) = fields.remove("source") else {
        return Err(WrittenAlertError::NoSource);
    };
    let time = |value: Option<&Value>, field: &'static str| {
        let odd = |text: &str| WrittenAlertError::Time {
            field,
            text: crate::text::cut(text, 40).to_owned(),
        };
        match value {
            None | Some(Value::Null) => Ok(None),
            Some(Value::String(text)) => DateTime::parse_from_rfc3339(text)
                .map(|t| Some(t.with_timezone(&Utc)))
                .map_err(|_| odd(text)),
            Some(other) => Err(odd(&other.to_string())),
        }
    };
    let received = fields.remove("received");
    let received = match time(received.as_ref(), "received")? {
        Some(received) => received,
        None => time(fields.get("time"), "time")?.ok_or(WrittenAlertError::NoTime)?,
    };
    let new = NewAlert::from_value(&Value::Object(fields))?;
    let id = number.to_string();
    Ok(new.complete(Received { source: &source, received, fallback_id: &id })?)
}

/// Why something that is written down is no alert.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
pub enum WrittenAlertError {
    /// It has no fields.
    #[error("is not an object; an alert in the normal form was expected")]
    NoObject,
    /// Nobody sent it.
    #[error("has no `source`; write the name of the source")]
    NoSource,
    /// It never came.
    #[error("has neither `received` nor `time`")]
    NoTime,
    /// A time that is none.
    #[error("{field}: `{text}` is not an RFC 3339 time")]
    Time {
        /// Which time.
        field: &'static str,
        /// As written.
        text: String,
    },
    /// It is not in the normal form.
    #[error(transparent)]
    Alert(#[from] AlertError),
}
