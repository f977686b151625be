//! A clock as a sender: one message at each time of a cron expression, in a time zone.

use crate::{
    schedule::{Occurrence, Schedule},
    source::read::ReadDoc,
};
use serde_json::{Value, json};
use std::collections::BTreeMap;

/// What a message offers to expressions: the name of the source, the time that it is for and the
/// one after it in RFC 3339 and the source's zone, and how many before it had no message.
pub(super) const OFFERS: [&str; 4] = ["schedule", "due", "missed", "next"];

/// The message for an occurrence, as it is delivered.
pub fn schedule_message(schedule: &Schedule, source: &str, occurrence: &Occurrence) -> Value {
    json!({
        "schedule": source,
        "due": schedule.text(occurrence.due),
        "missed": occurrence.missed,
        "next": schedule.text(occurrence.next),
    })
}

/// An alert of the kind `due` about the schedule, which has no lasting state. Its id is the time,
/// so that however often it is delivered it is taken once.
pub(super) fn default_read() -> ReadDoc {
    ReadDoc {
        each: None,
        id: Some(r#"schedule + " " + due"#.into()),
        kind: r#""due""#.into(),
        severity: None,
        state: Some(r#""noted""#.into()),
        resource: r#""schedules/" + schedule"#.into(),
        time: Some("due".into()),
        summary: Some(
            r#"schedule + " is due" + (missed > 0 ? "; times missed: " + string(missed) : "")"#
                .into(),
        ),
        value: None,
        labels: BTreeMap::new(),
        labels_of: None,
        keep: None,
        trial: None,
    }
}
