//! Questions: lists, single things, the overview. One file for each part of the API.
//!
//! Lists run newest first and are cut into pages by the handle of their last item.

mod alarms;
mod alerts;
mod bound;
mod jobs;
mod outcome;
mod proposals;
mod replay;
mod resource;
mod timeline;
mod usage;
mod verdicts;
mod watch;

pub use alarms::{alarm, alarms};
pub(crate) use alerts::labels_of_alerts;
pub use alerts::{
    alert, alerts, alerts_around, alerts_without_payload, forget_unreadable, gathered, late_ids,
    newest_unreadable, one_unreadable, payload_bytes, unreadable, unreadable_from, whole_alert,
    whole_alerts,
};
pub use jobs::{JobRow, job, jobs};
pub use proposals::{proposal, proposals};
pub use replay::{Replay, count_for_replay, replay};
pub use resource::known_of;
pub use timeline::{job_timeline, timeline};
pub use usage::{last_heard, observed, rule_use, runbook_use, source_use, verdict_counts};
pub use verdicts::{tally_story, verdicts};
pub use watch::{Overview, open_alarms, overview};

use arvok_api::Page;
use sea_orm::Value;

/// Conditions and their values, put together as they are given.
#[derive(Default)]
struct Conditions {
    texts: Vec<String>,
    values: Vec<Value>,
}

impl Conditions {
    /// Adds a condition with `?` for its value.
    fn add(&mut self, text: &str, value: impl Into<Value>) {
        self.values.push(value.into());
        self.texts.push(text.replace('?', &format!("${}", self.values.len())));
    }

    fn maybe(&mut self, text: &str, value: Option<impl Into<Value>>) {
        if let Some(value) = value {
            self.add(text, value);
        }
    }

    /// Adds a value; how a condition names it.
    fn value(&mut self, value: impl Into<Value>) -> String {
        self.values.push(value.into());
        format!("${}", self.values.len())
    }

    /// Adds a condition without a value.
    fn plain(&mut self, text: &str) {
        self.texts.push(text.to_owned());
    }

    fn clause(&self) -> String {
        if self.texts.is_empty() {
            String::new()
        } else {
            format!("WHERE {}", self.texts.join(" AND "))
        }
    }
}

/// A page of rows of which one more than asked for was read.
fn page<T>(mut items: Vec<T>, limit: u64, handle: impl Fn(&T) -> i64) -> Page<T> {
    let limit = usize::try_from(limit).unwrap_or(usize::MAX);
    let more = items.len() > limit;
    items.truncate(limit);
    let next = if more { items.last().map(|i| handle(i).to_string()) } else { None };
    Page { items, next, bounded: false }
}

/// The text of a search as a pattern of LIKE.
fn like(text: &str) -> String {
    format!("%{}%", text.replace('\\', "\\\\").replace('%', "\\%").replace('_', "\\_"))
}
