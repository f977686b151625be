//! Settling: by the case files under `cases/settle`, against a slow oracle, and by its promises
//! over random histories.

mod cases;
mod machine;
mod oracle;
mod promises;

use crate::{
    AlertId, Catalog, NewAlert, Period,
    alert::Received,
    definition::Defined,
    document::parse_file,
    mute::{Mute, Muted},
    rehearse::{Rehearsal, Report},
    rule::Rule,
};
use chrono::{DateTime, Utc};
use serde_json::{Value, json};

/// A rule that listens to every state asked for and settles as written.
fn rule(settle: &str, states: &str, dispatch: &str) -> Rule {
    let text = format!(
        "rule: r\nstance: act\nlisten: {{ states: {states} }}\nsettle: {settle}\ndispatch: \
        {dispatch}\n"
    );
    Rule::check(&parse_file("r.yaml", &text).expect("reads")[0]).expect("checks")
}

fn at(period: &str) -> DateTime<Utc> {
    DateTime::UNIX_EPOCH + Period::parse(period).expect("a period").delta()
}

/// An alert of a case: `at`, and what differs from a raised major alert on `vm/<on>`.
fn alert(given: &Value, number: usize) -> crate::Alert {
    let received = at(given["at"].as_str().expect("at"));
    let late =
        given["late"].as_str().map_or(chrono::TimeDelta::zero(), |l| at(l) - DateTime::UNIX_EPOCH);
    let new: NewAlert = serde_json::from_value(json!({
        "kind": given["kind"].as_str().unwrap_or("disk.usage"),
        "resource": format!("vm/{}", given["on"].as_str().unwrap_or("a")),
        "severity": given["severity"].as_str().unwrap_or("major"),
        "state": given["state"].as_str().unwrap_or("raised"),
        "time": received - late,
        "labels": given.get("labels").cloned().unwrap_or(json!({})),
    }))
    .expect("an alert");
    let id = number.to_string();
    new.complete(Received { source: "yard-hypervisor", received, fallback_id: &id })
        .expect("the normal form")
}

/// A mute of a case: `from`, `until`, and the lines that it covers.
fn mute((i, given): (usize, &Value)) -> Mute {
    let time = |key: &str| at(given[key].as_str().expect("a time"));
    let mut lines = given.as_object().expect("a mute").clone();
    lines.retain(|line, _| !["from", "until"].contains(&line.as_str()));
    let lines = serde_json::from_value(Value::Object(lines)).expect("lines");
    Mute {
        id: i64::try_from(i).expect("a number"),
        muted: Muted::check(&lines).expect("checks"),
        by: crate::Principal::token("pat"),
        reason: "the pier is being rewired".into(),
        from: time("from"),
        until: time("until"),
    }
}

/// Plays alerts in virtual time, while mutes stand.
fn play(
    rule: &Rule,
    alerts: impl IntoIterator<Item = crate::Alert>,
    mutes: Vec<Mute>,
    until: DateTime<Utc>,
) -> Report {
    let unknown = Catalog::default();
    let mut rehearsal = Rehearsal::new(rule, &unknown).muted_by(mutes);
    for (i, alert) in alerts.into_iter().enumerate() {
        rehearsal.feed(AlertId(i as i64 + 1), alert).expect("within bounds");
    }
    rehearsal.finish(until)
}
