//! `dispatch`: which runbook, with which inputs, how urgently, until when.

use super::{ALERT, ALERT_AND_TALLY, AlertScope};
use crate::{
    Alert, Period,
    definition::{Mismatch, Missing, Others},
    document::Checker,
    expr::{Expr, ExprError, Length, LengthDoc, Scope, Template, Val},
    runbook::{PrepareError, Prepared, Runbook},
};
use chrono::{DateTime, Utc};
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use serde_json::{Map, Value};
use std::rc::Rc;

crate::words! {
    /// How urgent a job is; the more urgent starts first.
    #[derive(Default, JsonSchema)]
    pub enum Urgency("urgency") {
        /// When there is room.
        Low = "low",
        /// In turn.
        #[default]
        Normal = "normal",
        /// Before normal work.
        High = "high",
        /// Before all other work.
        Urgent = "urgent",
    }
}

impl Urgency {
    /// 0 for low to 3 for urgent: the stored number.
    pub const fn rank(self) -> i16 {
        self as i16
    }

    /// The urgency of a stored number; numbers outside 0..=3 fall to the nearer end.
    pub fn from_rank(rank: i16) -> Self {
        Self::ALL[usize::try_from(rank.clamp(0, 3)).unwrap_or(1)]
    }
}

/// What is done.
#[derive(Clone, Debug, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct DispatchDoc {
    /// The runbook's name.
    pub runbook: String,
    /// A condition over `alert`; without it the entry always applies.
    #[serde(default)]
    pub when: Option<String>,
    /// Its inputs; `${ ... }` sees `alert` and `tally`.
    #[serde(default)]
    pub inputs: Map<String, Value>,
    /// Left out: `normal`.
    #[serde(default)]
    pub urgency: Urgency,
    /// A job not started within this time is not started: it expires.
    #[serde(default)]
    pub deadline: Option<LengthDoc>,
}

/// The two forms of [`Dispatches`], for the schema.
#[derive(JsonSchema)]
#[serde(untagged)]
#[expect(dead_code, reason = "only its schema is used")]
enum OneOrMany {
    One(DispatchDoc),
    Many(Vec<DispatchDoc>),
}

/// One entry or a list of them, as written. The entries are decoded one by one, so that a
/// problem keeps its place.
#[derive(Clone, Debug, Serialize, Deserialize, JsonSchema)]
#[schemars(with = "OneOrMany")]
#[serde(transparent)]
pub struct Dispatches(Value);

/// Most entries of `dispatch`.
const MAX_ENTRIES: usize = 20;

/// A checked dispatch.
#[derive(Clone, Debug)]
pub struct Dispatch {
    /// The runbook's name.
    pub runbook: String,
    /// When it applies; absent: always.
    pub when: Option<Expr>,
    inputs: Template,
    /// Whether its inputs are made of the alert alone.
    of_alert: bool,
    /// The names of the inputs that are given.
    pub given: Vec<String>,
    /// How urgent.
    pub urgency: Urgency,
    /// Until when a job may be started.
    deadline: Option<Length>,
    /// Where it stands in the document: a JSON pointer.
    pub place: String,
}

/// What inputs know of the tally that fires.
#[derive(Clone, Debug)]
pub struct TallyView<'a> {
    /// Alerts of the episode.
    pub alerts: u64,
    /// When it began.
    pub since: DateTime<Utc>,
    /// Dispatches of the episode before this one.
    pub jobs: u32,
    /// The alert of each tally that was gathered; of one tally, its own.
    pub gathered: Vec<&'a Alert>,
}

/// An alert and a tally as the names `alert` and `tally`.
struct DispatchScope<'a> {
    alert: &'a Alert,
    tally: Val<'a>,
}

impl<'a> DispatchScope<'a> {
    fn new(alert: &'a Alert, tally: &'a TallyView<'a>) -> Self {
        let gathered = tally.gathered.iter().map(|a| Val::Alert(a)).collect();
        let fields = vec![
            (Val::str("alerts"), Val::Int(i64::try_from(tally.alerts).unwrap_or(i64::MAX))),
            (Val::str("since"), Val::Time(tally.since)),
            (Val::str("jobs"), Val::Int(i64::from(tally.jobs))),
            (Val::str("gathered"), Val::List(Rc::new(gathered))),
        ];
        Self { alert, tally: Val::Map(Rc::new(fields)) }
    }
}

impl<'a> Scope<'a> for DispatchScope<'a> {
    fn name(&'a self, name: &str) -> Option<Val<'a>> {
        match name {
            "alert" => Some(Val::Alert(self.alert)),
            "tally" => Some(self.tally.clone()),
            _ => None,
        }
    }
}

impl Dispatch {
    /// Checks all entries.
    pub(super) fn check(check: &mut Checker<'_>, doc: Dispatches) -> Option<Vec<Self>> {
        let entries = match doc.0 {
            Value::Array(items) => {
                items.into_iter().enumerate().map(|(i, v)| (format!("/dispatch/{i}"), v)).collect()
            }
            one => vec![("/dispatch".to_owned(), one)],
        };
        if entries.is_empty() || entries.len() > MAX_ENTRIES {
            check.fail(
                "/dispatch",
                format!("has {} entries; 1 to {MAX_ENTRIES} are allowed", entries.len()),
            );
            return None;
        }
        let made: Vec<_> =
            entries.into_iter().map(|(place, value)| Self::one(check, place, value)).collect();
        made.into_iter().collect()
    }

    fn one(check: &mut Checker<'_>, place: String, value: Value) -> Option<Self> {
        let doc: DispatchDoc = check.decode(&place, &value)?;
        let given = doc.inputs.keys().cloned().collect();
        let when = match &doc.when {
            None => None,
            Some(text) => Some(check.condition(&format!("{place}/when"), text, ALERT)?),
        };
        let inputs = check.template(
            &format!("{place}/inputs"),
            &Value::Object(doc.inputs),
            ALERT_AND_TALLY,
        )?;
        let of_alert = !inputs.reads("tally");
        let deadline = match doc.deadline {
            None => None,
            Some(deadline) => {
                Some(check.length(&format!("{place}/deadline"), deadline, ALERT_AND_TALLY)?)
            }
        };
        Some(Self {
            runbook: doc.runbook,
            when,
            inputs,
            of_alert,
            given,
            urgency: doc.urgency,
            deadline,
            place,
        })
    }

    /// Its expressions, each with the JSON pointer of its string.
    pub(super) fn expressions(&self) -> Vec<(String, &Expr)> {
        let when = self.when.iter().map(|e| (format!("{}/when", self.place), e));
        let inputs = self.inputs.expressions().into_iter();
        let inputs = inputs.map(|(below, e)| (format!("{}/inputs{below}", self.place), e));
        let deadline = self.deadline.iter().flat_map(Length::expressions);
        let deadline = deadline.map(|(_, e)| (format!("{}/deadline", self.place), e));
        when.chain(inputs).chain(deadline).collect()
    }

    /// Whether it applies to an alert.
    ///
    /// # Errors
    /// If its `when` cannot be said of this alert.
    pub fn applies(&self, alert: &Alert) -> Result<bool, ExprError> {
        self.when.as_ref().map_or(Ok(true), |when| when.holds(&AlertScope(alert)))
    }

    /// What does not fit with its runbook.
    pub(super) fn misfits(&self, others: &dyn Others) -> Vec<Mismatch> {
        let runbook: &Runbook = match others.get(&self.runbook) {
            Ok(runbook) => runbook,
            Err(missing) => return vec![Mismatch::at(format!("{}/runbook", self.place), missing)],
        };
        let inputs = format!("{}/inputs", self.place);
        runbook.inputs.misfits(
            &inputs,
            &format!("runbook `{}`", runbook.name),
            &self.given,
            &self.inputs,
        )
    }

    /// Whether its inputs look at payloads.
    pub fn reads_body(&self) -> bool {
        let deadline = self.deadline.as_ref().and_then(Length::template);
        self.inputs.reads_body()
            || deadline.is_some_and(Template::reads_body)
            || self.when.as_ref().is_some_and(Expr::reads_body)
    }

    /// Whether its inputs may look at the payloads of gathered alerts.
    pub fn reads_gathered_bodies(&self) -> bool {
        let deadline = self.deadline.as_ref().and_then(Length::template);
        self.inputs.reads_gathered_bodies() || deadline.is_some_and(Template::reads_gathered_bodies)
    }

    /// What goes wrong with its inputs over an alert, as far as they are made of the alert alone.
    pub(super) fn fault(&self, alert: &Alert) -> Option<ExprError> {
        let made = self.of_alert.then(|| self.inputs.fill(&AlertScope(alert)))?;
        made.err()
    }

    /// The job as it would be made: the runbook's own checks of the inputs, and its target.
    ///
    /// # Errors
    /// Why the job would be refused.
    pub fn prepared(
        &self,
        others: &dyn Others,
        alert: &Alert,
        tally: &TallyView<'_>,
    ) -> Result<Prepared, DispatchError> {
        let runbook: &Runbook = others.get(&self.runbook)?;
        let inputs = self.inputs(alert, tally).map_err(DispatchError::Inputs)?;
        self.deadline(alert, tally)?;
        Ok(runbook.prepare(inputs, others)?)
    }

    /// The inputs for an alert and its tally, before the runbook's own checks.
    ///
    /// # Errors
    /// If an expression goes wrong.
    pub fn inputs(
        &self,
        alert: &Alert,
        tally: &TallyView<'_>,
    ) -> Result<Map<String, Value>, ExprError> {
        match self.inputs.fill(&DispatchScope::new(alert, tally)) {
            Ok(Value::Object(map)) => Ok(map),
            Ok(_) => Ok(Map::new()),
            Err(e) => Err(e),
        }
    }

    /// Within which time a job for an alert and its tally must be started; none: whenever it comes
    /// to it.
    ///
    /// # Errors
    /// If an expression goes wrong, or makes no length of time.
    pub fn deadline(
        &self,
        alert: &Alert,
        tally: &TallyView<'_>,
    ) -> Result<Option<Period>, DispatchError> {
        let made =
            self.deadline.as_ref().map(|deadline| deadline.at(&DispatchScope::new(alert, tally)));
        made.transpose().map_err(DispatchError::Deadline)
    }
}

/// Why a dispatch would be refused.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
pub enum DispatchError {
    /// Its runbook is not there.
    #[error(transparent)]
    Runbook(#[from] Missing),
    /// The inputs cannot be worked out.
    #[error("inputs: {0}")]
    Inputs(ExprError),
    /// The deadline cannot be worked out.
    #[error("deadline: {0}")]
    Deadline(ExprError),
    /// The runbook does not take them.
    #[error(transparent)]
    Refused(#[from] PrepareError),
}
