//! The steps of a runbook.

use super::Known;
use crate::{
    Period, connector,
    definition::{Kind, Misfit, Others},
    document::Checker,
    expr::{Expr, Template},
};
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use serde_json::{Map, Value};
use std::collections::BTreeSet;

/// A step as written: `call` or `require`, and what belongs to it.
#[derive(Clone, Debug, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct StepDoc {
    /// Its name; later steps see its output as `steps.<id>`.
    pub id: String,
    /// One line for people.
    #[serde(default)]
    pub summary: Option<String>,
    /// An operation of a connector.
    #[serde(default)]
    pub call: Option<String>,
    /// The connection through which it is called.
    #[serde(default)]
    pub via: Option<String>,
    /// What the operation is given.
    #[serde(default)]
    pub give: Option<Map<String, Value>>,
    /// Whether and how a failed call is tried again.
    #[serde(default)]
    pub retry: Option<Retry>,
    /// How long one try may take. Left out: as long as the connection allows.
    #[serde(default)]
    pub timeout: Option<Period>,
    /// A condition; the job stops unless it holds.
    #[serde(default)]
    pub require: Option<String>,
    /// What is said when it does not.
    #[serde(default, rename = "else")]
    pub otherwise: Option<String>,
}

/// Trying again.
#[derive(Clone, Copy, Debug, PartialEq, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct Retry {
    /// How many times after the first, at most 20.
    pub times: u32,
    /// How long to wait before the first repetition. Left out: 1s.
    #[serde(default = "one_second")]
    pub wait: Period,
    /// By how much each wait is longer than the one before. Left out: 2.
    #[serde(default = "two")]
    pub factor: f64,
}

fn one_second() -> Period {
    Period::from_secs(1)
}

fn two() -> f64 {
    2.0
}

/// No wait between tries is longer.
const LONGEST_WAIT: Period = Period::from_secs(3600);

impl Retry {
    /// The wait after a failed try; none when there is no further one. Tries count from one.
    pub fn wait_after(&self, attempt: u32) -> Option<Period> {
        if attempt > self.times {
            return None;
        }
        let exponent = i32::try_from(attempt.saturating_sub(1)).unwrap_or(0);
        let ms = self.wait.millis() as f64 * self.factor.powi(exponent);
        Some(Period::from_millis(ms.min(LONGEST_WAIT.millis() as f64) as u64))
    }
}

/// A checked step.
#[derive(Clone, Debug)]
pub struct Step {
    /// Its name, unique within the runbook.
    pub id: String,
    /// One line for people.
    pub summary: Option<String>,
    /// What is done.
    pub action: Action,
}

/// What a step does.
#[derive(Clone, Debug)]
pub enum Action {
    /// Calls an operation.
    Call {
        /// The operation.
        operation: String,
        /// The connection.
        via: String,
        /// What it is given.
        give: Template,
        /// The names of what it is given.
        given: Vec<String>,
        /// Trying again.
        retry: Option<Retry>,
        /// How long one try may take.
        timeout: Option<Period>,
    },
    /// Stops the job unless a condition holds.
    Require {
        /// The condition.
        condition: Expr,
        /// What is said when it does not hold.
        otherwise: Option<Template>,
    },
}

impl Action {
    /// The word for the kind of step.
    pub const fn kind(&self) -> &'static str {
        match self {
            Self::Call { .. } => "call",
            Self::Require { .. } => "require",
        }
    }
}

impl Step {
    /// What does not fit with connections and their operations.
    pub(super) fn misfits(&self, at: &str, others: &dyn Others) -> Vec<Misfit> {
        let Action::Call { operation, via, give, given, .. } = &self.action else { return Vec::new() };
        match connector::operation(others, via, operation) {
            Ok((_, op)) => op.takes.misfits(&format!("{at}/give"), &format!("operation `{operation}`"), given, give),
            Err(missing) => {
                let key = if missing.what == Kind::Connection.as_str() { "via" } else { "call" };
                vec![Misfit::at(format!("{at}/{key}"), missing)]
            }
        }
    }
}

/// Each step sees the inputs and the steps before it.
pub(super) fn check_steps(check: &mut Checker<'_>, docs: Vec<StepDoc>, known: &mut Known) -> Option<Vec<Step>> {
    let mut seen = BTreeSet::new();
    let made: Vec<_> = docs
        .into_iter()
        .enumerate()
        .map(|(i, doc)| {
            let at = format!("/steps/{i}");
            let plain = |c: char| c.is_ascii_lowercase() || c.is_ascii_digit() || c == '_';
            let named = doc.id.starts_with(|c: char| c.is_ascii_lowercase()) && doc.id.chars().all(plain);
            if !named || doc.id.len() > 40 {
                check.fail(
                    &format!("{at}/id"),
                    format!(
                        "`{}` is not the name of a step; use lower case letters, digits and _, a letter first",
                        doc.id
                    ),
                );
                return None;
            }
            if !seen.insert(doc.id.clone()) {
                check.fail(&format!("{at}/id"), format!("a step before is named `{}` already", doc.id));
                return None;
            }
            let id = doc.id.clone();
            let step = check_step(check, &at, doc, known);
            known.step(id);
            step
        })
        .collect();
    made.into_iter().collect()
}

fn check_step(check: &mut Checker<'_>, at: &str, doc: StepDoc, known: &Known) -> Option<Step> {
    let action = match (doc.call, doc.require) {
        (Some(operation), None) => {
            if doc.otherwise.is_some() {
                check.fail(&format!("{at}/else"), "`else` belongs to `require`, not to `call`");
            }
            let Some(via) = doc.via else {
                check.fail(at, "the key `via` is missing here: through which connection is it called?");
                return None;
            };
            check_retry(check, at, doc.retry);
            let give = doc.give.unwrap_or_default();
            let given = give.keys().cloned().collect();
            let give = check.template(&format!("{at}/give"), &Value::Object(give), known.names())?;
            Action::Call { operation, via, give, given, retry: doc.retry, timeout: doc.timeout }
        }
        (None, Some(condition)) => {
            for (key, there) in
                [("via", doc.via.is_some()), ("give", doc.give.is_some()), ("retry", doc.retry.is_some())]
            {
                if there {
                    check.fail(&format!("{at}/{key}"), format!("`{key}` belongs to `call`, not to `require`"));
                }
            }
            let condition = check.condition(&format!("{at}/require"), &condition, known.names());
            let otherwise = match doc.otherwise {
                None => None,
                Some(text) => Some(check.template(&format!("{at}/else"), &Value::String(text), known.names())?),
            };
            Action::Require { condition: condition?, otherwise }
        }
        (Some(_), Some(_)) => {
            check.fail(at, "a step is either a `call` or a `require`, not both");
            return None;
        }
        (None, None) => {
            check.fail(at, "the step does nothing: give it a `call` or a `require`");
            return None;
        }
    };
    Some(Step { id: doc.id, summary: doc.summary, action })
}

fn check_retry(check: &mut Checker<'_>, at: &str, retry: Option<Retry>) {
    let Some(retry) = retry else { return };
    if retry.times > 20 {
        check.fail(&format!("{at}/retry/times"), "at most 20 repetitions are allowed");
    }
    if !(1.0..=10.0).contains(&retry.factor) {
        check.fail(&format!("{at}/retry/factor"), "the factor is between 1 and 10");
    }
}
