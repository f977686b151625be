//! Rules at work: why they match or not, verdicts, proposals, rehearsals, versions.

use crate::{FileText, ProposalState};
use arvok_core::{
    AlertState, JobId, Principal, Severity, Trial, Verdict,
    rehearse::{self, Report},
    rule::{Stance, Urgency},
};
use chrono::{DateTime, Utc};
use serde::{Deserialize, Serialize};
use serde_json::{Map, Value};
use std::collections::BTreeMap;
use utoipa::ToSchema;

/// A version of a document.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct VersionItem {
    /// Counted from one.
    pub version: i32,
    /// When it was published.
    pub published_at: DateTime<Utc>,
    /// By whom.
    #[schema(schema_with = crate::words::principal)]
    pub published_by: Principal,
    /// The document.
    pub text: String,
    /// Whether this version withdraws the definition.
    #[serde(default)]
    pub withdrawn: bool,
    /// Of a runbook: the versions of the shared steps that it was published with, by name.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub steps: BTreeMap<String, i32>,
}

/// A verdict with its alert in short.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct VerdictLine {
    /// The alert's handle.
    pub alert: i64,
    /// The rule's name.
    pub rule: String,
    /// Its version at the time.
    pub rule_version: i32,
    /// The verdict.
    #[schema(schema_with = crate::words::one::<Verdict>)]
    pub verdict: Verdict,
    /// Why, in words with the numbers.
    pub reason: String,
    /// The job or proposal that was set off or joined.
    pub job: Option<i64>,
    /// The tally: a JSON list of the fold's values.
    pub tally: String,
    /// When the alert was received.
    pub at: DateTime<Utc>,
    /// When the verdict was replaced by this one, if it was.
    pub decided_at: Option<DateTime<Utc>>,
    /// Of the alert.
    pub source: String,
    /// Of the alert.
    pub kind: String,
    /// Of the alert.
    #[schema(schema_with = crate::words::one::<Severity>)]
    pub severity: Severity,
    /// Of the alert.
    #[schema(schema_with = crate::words::one::<AlertState>)]
    pub state: AlertState,
    /// Of the alert.
    pub resource: String,
    /// Of the alert.
    pub summary: String,
    /// Of the alert.
    pub value: Option<f64>,
    /// Whether the alert was made up: `dry`, and nothing leaves for it, or `acting`.
    #[serde(default)]
    #[schema(schema_with = crate::words::one_or_none::<Trial>)]
    pub trial: Option<Trial>,
}

/// A proposed job.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct ProposalItem {
    /// The number, which is the job's number once it is launched.
    pub id: i64,
    /// The rule that proposes it.
    pub rule: String,
    /// Its version at the time.
    pub rule_version: i32,
    /// The runbook's name.
    pub runbook: String,
    /// Its version at the time.
    pub runbook_version: i32,
    /// The inputs, defaults filled in.
    #[schema(value_type = Value)]
    pub inputs: Value,
    /// What it would act on.
    pub target: String,
    /// `low`, `normal`, `high`, `urgent`.
    #[schema(schema_with = crate::words::one::<Urgency>)]
    pub urgency: Urgency,
    /// The alert that set it off.
    pub alert: Option<i64>,
    /// The alarm of that alert.
    pub alarm: Option<i64>,
    /// Why it is proposed.
    pub reason: String,
    /// `open`, `launched`, `dismissed`, `withdrawn`, or `faulty` when its inputs were refused.
    pub state: ProposalState,
    /// When it was made.
    pub created_at: DateTime<Utc>,
    /// When it was decided.
    pub decided_at: Option<DateTime<Utc>>,
    /// By whom; absent when it was withdrawn.
    #[schema(schema_with = crate::words::principal_or_none)]
    pub decided_by: Option<Principal>,
    /// The reason given, or what is wrong with the inputs.
    pub note: Option<String>,
    /// Whether it is that of a trial: `dry`, and nothing leaves for it, or `acting`.
    #[serde(default)]
    #[schema(schema_with = crate::words::one_or_none::<Trial>)]
    pub trial: Option<Trial>,
}

/// What a person says to a proposal.
#[derive(Clone, Debug, Default, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct ProposalDecision {
    /// Why; needed for dismissing.
    #[serde(default)]
    pub note: Option<String>,
    /// For launching: inputs that are to have another value than is proposed. What it acts on
    /// stays.
    #[serde(default, skip_serializing_if = "Map::is_empty")]
    #[schema(value_type = std::collections::BTreeMap<String, Value>)]
    pub inputs: Map<String, Value>,
}

/// What to explain: a published rule, or a document that was not published; over an alert that
/// came, or one that never happened.
#[derive(Clone, Debug, Default, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct WhyRequest {
    /// A published rule.
    #[serde(default)]
    pub rule: Option<String>,
    /// The document of a rule.
    #[serde(default)]
    pub text: Option<String>,
    /// The handle of an alert.
    #[serde(default)]
    pub alert: Option<i64>,
    /// An alert in the normal form, with `source`.
    #[serde(default)]
    #[schema(value_type = Value)]
    pub given: Option<Value>,
}

/// Why a rule matches an alert or not, and what it decided.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Why {
    /// The rule's name.
    pub rule: String,
    /// Its version; absent for a document that was not published.
    pub version: Option<i32>,
    /// Its stance.
    #[schema(schema_with = crate::words::one::<Stance>)]
    pub stance: Stance,
    /// Whether all clauses hold.
    pub matches: bool,
    /// How many clauses do not hold.
    pub short: usize,
    /// Every clause.
    pub clauses: Vec<ClauseItem>,
    /// The tally the alert belongs to, when it matches.
    pub tally: Option<String>,
    /// The verdict that was given, or the one that would be given at this moment.
    pub verdict: Option<VerdictGuess>,
    /// The verdicts of the tally up to this alert, oldest first.
    pub story: Vec<VerdictLine>,
    /// What would be dispatched.
    pub dispatches: Vec<DispatchGuess>,
    /// What has to be known besides, in words.
    pub notes: Vec<String>,
}

/// A clause with its truth.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct ClauseItem {
    /// `sources`, `kinds`, `severity`, `resource`, `states`, `labels`, `where`.
    pub line: String,
    /// As written.
    pub text: String,
    /// Whether it holds; absent when that cannot be said.
    pub holds: Option<bool>,
    /// What went wrong, if something did.
    pub error: Option<String>,
    /// The fields it looked at, and what they held.
    pub saw: Vec<SawItem>,
}

/// A field and what it held.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct SawItem {
    /// The field.
    pub field: String,
    /// What it held; absent where it is missing.
    pub value: Option<String>,
}

/// A verdict, given or foreseen.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct VerdictGuess {
    /// Whether it was really given.
    pub given: bool,
    /// The verdict.
    #[schema(schema_with = crate::words::one::<Verdict>)]
    pub verdict: Verdict,
    /// What of the rule led to the verdict, in a sentence.
    pub reason: String,
    /// The job or proposal.
    pub job: Option<i64>,
}

/// A dispatch that would be made.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct DispatchGuess {
    /// The runbook's name.
    pub runbook: String,
    /// Whether its `when` holds.
    pub applies: bool,
    /// The inputs, defaults filled in.
    #[schema(value_type = Value)]
    pub inputs: Option<Value>,
    /// What it would act on.
    pub target: Option<String>,
    /// What is wrong with the inputs.
    pub error: Option<String>,
}

/// Every rule's answer to one alert.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct AlertWhy {
    /// Rules that match, with what they decided.
    pub matching: Vec<Why>,
    /// Rules that are one clause short, the closest first; 20 at most.
    pub near: Vec<Why>,
    /// How many rules were asked.
    pub asked: usize,
}

/// What to rehearse.
#[derive(Clone, Debug, Default, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct RehearsalRequest {
    /// The file with the rule; the published rule named by `rule` if left out.
    #[serde(default)]
    pub file: Option<FileText>,
    /// A published rule, or which rule of the file.
    #[serde(default)]
    pub rule: Option<String>,
    /// How far back, such as `7d`; at most `90d`. Left out: `1d`.
    #[serde(default)]
    pub since: Option<String>,
    /// Whether the published version is rehearsed too, and the difference told.
    #[serde(default)]
    pub against_published: bool,
    /// Alerts to go through instead of the stored ones: in the normal form, with `source` and
    /// `received`.
    #[serde(default)]
    #[schema(value_type = Option<Vec<Object>>)]
    pub alerts: Option<Vec<Value>>,
}

/// One line of a rehearsal's answer: progress, and at the end what it came to or what is wrong.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "lowercase")]
pub enum RehearsalLine {
    /// How far it is.
    Progress {
        /// Alerts gone through.
        alerts: u64,
        /// Alerts there are, if that is known.
        of: Option<u64>,
        /// Virtual time.
        at: Option<DateTime<Utc>>,
    },
    /// What it came to.
    Result(Box<RehearsalResult>),
    /// Why it ended early.
    Failed {
        /// In words.
        detail: String,
    },
}

/// What a rehearsal came to.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct RehearsalResult {
    /// The rule's name.
    pub rule: String,
    /// From when.
    pub from: DateTime<Utc>,
    /// Until when.
    pub to: DateTime<Utc>,
    /// The rule as given, as if it acted.
    pub now: RehearsalReport,
    /// The published version, if it was asked for and there is one.
    pub before: Option<RehearsalReport>,
    /// How the two differ.
    pub difference: Option<RehearsalDifference>,
}

/// What a rule would have done.
#[derive(Clone, Debug, Default, Serialize, Deserialize, ToSchema)]
pub struct RehearsalReport {
    /// Alerts that were gone through.
    pub alerts: u64,
    /// Of these, those that matched.
    pub matched: u64,
    /// How many alerts ended with each verdict.
    #[schema(value_type = BTreeMap<String, u64>)]
    pub verdicts: BTreeMap<Verdict, u64>,
    /// Dispatches.
    pub dispatches: u64,
    /// Tallies in the order in which they first appeared, 500 at most.
    pub tallies: Vec<RehearsalTally>,
    /// Verdicts in the order in which they were given, 20,000 at most; a later one replaces an
    /// earlier one of the same alert.
    pub decided: Vec<RehearsalVerdict>,
    /// Dispatches in order, 2,000 at most.
    pub dispatched: Vec<RehearsalDispatch>,
    /// Alerts over which the rule went wrong.
    pub broken: u64,
    /// How it went wrong the first time.
    pub broken_first: Option<String>,
    /// Whether more happened than is listed.
    pub cut: bool,
}

/// A tally of a rehearsal.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct RehearsalTally {
    /// The fold's values.
    pub key: String,
    /// Of its first alert.
    pub resource: String,
    /// Of its first alert.
    pub kind: String,
    /// Alerts in it.
    pub alerts: u64,
}

/// A verdict of a rehearsal.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct RehearsalVerdict {
    /// When it was given.
    pub at: DateTime<Utc>,
    /// When the alert came.
    pub came: DateTime<Utc>,
    /// The alert's number.
    pub alert: i64,
    /// The tally, counted from zero.
    pub tally: Option<u32>,
    /// The verdict.
    #[schema(schema_with = crate::words::one::<Verdict>)]
    pub verdict: Verdict,
    /// What of the rule led to the verdict, in a sentence.
    pub reason: String,
    /// The dispatch it set off or joined.
    pub job: Option<i64>,
}

/// A dispatch of a rehearsal.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct RehearsalDispatch {
    /// When it would have been dispatched, in the time of the alerts.
    pub at: DateTime<Utc>,
    /// Counted from one.
    pub job: i64,
    /// The tallies that fired.
    pub tallies: Vec<u32>,
    /// The alerts that set it off.
    pub alerts: Vec<i64>,
    /// The runbook's name.
    pub runbook: String,
    /// What it would be given.
    #[schema(value_type = Value)]
    pub inputs: Value,
    /// What is wrong with the inputs.
    pub error: Option<String>,
    /// What of the rule led to it, in a sentence.
    pub reason: String,
}

/// How two versions differ.
#[derive(Clone, Debug, Default, Serialize, Deserialize, ToSchema)]
pub struct RehearsalDifference {
    /// Dispatches that only the given rule makes.
    pub only_now: Vec<i64>,
    /// Dispatches that only the published version makes.
    pub only_before: Vec<i64>,
    /// By how much the counts of verdicts change.
    #[schema(value_type = BTreeMap<String, i64>)]
    pub verdicts: BTreeMap<Verdict, i64>,
}

/// A text to copy into a file.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Draft {
    /// YAML.
    pub text: String,
    /// The rule that an example belongs to.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub rule: Option<String>,
}

/// A function of expressions.
#[derive(Clone, Debug, Default, Serialize, Deserialize, ToSchema)]
pub struct FunctionItem {
    /// Its name, as it is called.
    pub name: String,
    /// How it is written.
    pub form: String,
    /// What it does.
    pub says: String,
}

/// An operation of a connection.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct OperationItem {
    /// Its name.
    pub name: String,
    /// One line for people.
    pub summary: Option<String>,
    /// What it takes; what is wanted whatever happens comes first.
    pub takes: Vec<String>,
}

/// What has been seen and published, for completing words in an editor.
#[derive(Clone, Debug, Default, Serialize, Deserialize, ToSchema)]
pub struct Vocabulary {
    /// Sources, published or heard of.
    pub sources: Vec<String>,
    /// Kinds that came.
    pub kinds: Vec<String>,
    /// Resources that came, 2,000 at most.
    pub resources: Vec<String>,
    /// Labels that came, with values.
    pub labels: BTreeMap<String, Vec<String>>,
    /// Published runbooks with their inputs.
    pub runbooks: BTreeMap<String, Vec<String>>,
    /// Published connections with the operations of each.
    pub connections: BTreeMap<String, Vec<OperationItem>>,
    /// Functions of expressions.
    pub functions: Vec<FunctionItem>,
    /// Fields of an alert.
    pub fields: Vec<String>,
    /// Severities, from the least.
    pub severities: Vec<String>,
    /// Verdicts.
    pub verdicts: Vec<String>,
    /// Warnings that can be silenced, and what each says.
    pub warnings: BTreeMap<String, String>,
}

impl From<&Report> for RehearsalReport {
    fn from(r: &Report) -> Self {
        Self {
            alerts: r.alerts,
            matched: r.matched,
            verdicts: r.verdicts.clone(),
            dispatches: r.dispatches,
            tallies: r.tallies.iter().map(Into::into).collect(),
            decided: r.decided.iter().map(Into::into).collect(),
            dispatched: r.dispatched.iter().map(Into::into).collect(),
            broken: r.broken,
            broken_first: r.broken_first.clone(),
            cut: r.cut,
        }
    }
}

impl From<&rehearse::RehearsedTally> for RehearsalTally {
    fn from(l: &rehearse::RehearsedTally) -> Self {
        Self {
            key: l.key.clone(),
            resource: l.resource.clone(),
            kind: l.kind.clone(),
            alerts: l.alerts,
        }
    }
}

impl From<&rehearse::RehearsedVerdict> for RehearsalVerdict {
    fn from(r: &rehearse::RehearsedVerdict) -> Self {
        Self {
            at: r.at,
            came: r.came,
            alert: r.alert.0,
            tally: r.tally,
            verdict: r.verdict,
            reason: r.reason.clone(),
            job: r.job.map(|job| job.0),
        }
    }
}

impl From<&rehearse::RehearsedDispatch> for RehearsalDispatch {
    fn from(p: &rehearse::RehearsedDispatch) -> Self {
        Self {
            at: p.at,
            job: p.job.0,
            tallies: p.tallies.clone(),
            alerts: p.alerts.iter().map(|alert| alert.0).collect(),
            runbook: p.runbook.clone(),
            inputs: Value::Object(p.inputs.clone()),
            error: p.error.clone(),
            reason: p.reason.clone(),
        }
    }
}

impl From<&rehearse::Difference> for RehearsalDifference {
    fn from(d: &rehearse::Difference) -> Self {
        let numbers = |jobs: &[JobId]| jobs.iter().map(|job| job.0).collect();
        Self {
            only_now: numbers(&d.only_now),
            only_before: numbers(&d.only_before),
            verdicts: d.verdicts.clone(),
        }
    }
}
