//! Definitions: what is published, and publishing. Secrets, by name only.

use crate::{DeliveryAnswer, FileProblem, ListenerItem};
use arvok_core::{Principal, Verdict, rule::Stance};
use chrono::{DateTime, Utc};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// A file of definitions.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct FileText {
    /// Its name, for problems.
    pub file: String,
    /// YAML 1.2.
    pub text: String,
}

/// Files to be published.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct PublishRequest {
    /// All of them together.
    #[serde(default)]
    pub files: Vec<FileText>,
    /// What is withdrawn at the same time.
    #[serde(default)]
    pub withdraw: Vec<DefinitionName>,
    /// Only say what would change.
    #[serde(default)]
    pub dry_run: bool,
    /// The versions that come of it, as a plan told them: where another has published one of them
    /// meanwhile, nothing is published.
    #[serde(default)]
    pub expects: Vec<ExpectedVersion>,
}

/// The version that a definition is to have afterwards.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct ExpectedVersion {
    /// `source`, `rule`, `runbook`, `connector`, `connection`, `subscriber`,
    /// `contact`.
    pub kind: String,
    /// Its name.
    pub name: String,
    /// The version.
    pub version: i32,
}

/// A definition by its name.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct DefinitionName {
    /// `source`, `rule`, `runbook`, `connector`, `connection`, `subscriber`,
    /// `contact`.
    pub kind: String,
    /// Its name, as in `kind/name`.
    pub name: String,
}

/// What publishing changes, or would change.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct PublishResult {
    /// Whether it was done.
    pub published: bool,
    /// One for each document.
    pub changes: Vec<PlannedChange>,
    /// Problems; if there are any, nothing is published.
    pub problems: Vec<FileProblem>,
    /// What is allowed and most likely not meant.
    #[serde(default)]
    pub warnings: Vec<FileProblem>,
    /// What acts by itself after it, and did not before or otherwise.
    #[serde(default)]
    pub acts: Vec<ActsByItself>,
}

/// A rule of stance `act` or a plan that has times, of which publishing changes what it does.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct ActsByItself {
    /// `rule` or `plan`.
    pub kind: String,
    /// Its name.
    pub name: String,
    /// The connections that its jobs may call through; `scripts` for scripts on a node.
    pub connections: Vec<String>,
    /// What of it changes, such as `rule/disk-fills`, `runbook/grow-disk`.
    pub changed: Vec<String>,
    /// What is lacking to let it act; absent if whoever asks may. Then nothing is published.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub lacking: Option<String>,
}

/// What becomes of one document.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct PlannedChange {
    /// `source`, `rule`, `runbook`, `step`, `connector`, `connection`, `subscriber`, `contact`,
    /// `calendar`, `group`, `guard`, `plan`.
    pub kind: String,
    /// Its name, as in `kind/name`.
    pub name: String,
    /// What happens.
    pub change: ChangeKind,
    /// The version it then has.
    pub version: i32,
    /// The published text, where it changes.
    pub before: Option<String>,
    /// The new text, where it changes.
    pub after: Option<String>,
    /// Of a runbook: the shared steps that it uses and that are others than those that it is
    /// published with. It gets a new version by them even where its text stays.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub steps: Vec<String>,
}

impl PlannedChange {
    /// Whether only the shared steps change that it uses.
    pub fn is_by_steps(&self) -> bool {
        !self.steps.is_empty() && self.before == self.after
    }
}

/// What happens to a document.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "lowercase")]
pub enum ChangeKind {
    /// Not published before.
    New,
    /// A new version.
    Changed,
    /// The same text.
    Same,
    /// It ends.
    Withdrawn,
}

/// A published definition, in short.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct DefinitionItem {
    /// Its name, as in `kind/name`.
    pub name: String,
    /// One line for people.
    pub summary: Option<String>,
    /// Its version.
    pub version: i32,
    /// The file from which it was published.
    #[serde(default)]
    pub file: String,
    /// When that was published.
    pub published_at: DateTime<Utc>,
    /// By whom.
    #[schema(schema_with = crate::words::principal)]
    pub published_by: Principal,
    /// For rules: `watch`, `propose` or `act`.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[schema(schema_with = crate::words::one_or_none::<Stance>)]
    pub stance: Option<Stance>,
    /// For rules: what is dispatched.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub runbook: Option<String>,
    /// How it has fared.
    pub used: Use,
}

/// How a definition has fared, over all that is kept.
#[derive(Clone, Debug, Default, Serialize, Deserialize, ToSchema)]
pub struct Use {
    /// Alerts: of a source, or matched by a rule.
    pub alerts: i64,
    /// Jobs: of a rule, or of a runbook.
    pub jobs: i64,
    /// Of these jobs, those whose effect was confirmed.
    pub confirmed: i64,
    /// Payloads of a source that could not be read, and are kept until they can.
    pub unreadable: i64,
    /// Of a source: payloads that are kept since it does not say yet how they are read.
    #[serde(default)]
    pub caught: i64,
    /// Alerts of a source whose id came before with other content: they were not taken.
    #[serde(default)]
    pub conflicts: i64,
    /// Deliveries to a source that were refused within a day, since their sender did not say who it
    /// is.
    #[serde(default)]
    pub refused: i64,
    /// Deliveries to a source that were refused or had to wait within a day, since more came than
    /// its limit.
    #[serde(default)]
    pub over_limit: i64,
    /// When it was last needed.
    pub last_at: Option<DateTime<Utc>>,
}

/// A published definition with its text.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct DefinitionDetail {
    /// In short.
    pub item: DefinitionItem,
    /// The document.
    pub text: String,
    /// For rules: how often each verdict was given.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub verdicts: Vec<VerdictCount>,
    /// The definitions that name it.
    #[serde(default)]
    pub used_by: Vec<DefinitionName>,
    /// For rules: the rules and subscribers that listen for events of its proposals and jobs.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub followed_by: Vec<DefinitionName>,
    /// The newest jobs, 20 at most.
    pub jobs: Vec<crate::JobItem>,
    /// For sources: how their listeners stand at each node.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub listeners: Vec<ListenerItem>,
    /// For sources with a schedule: their next time.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub next_due: Option<DateTime<Utc>>,
    /// For sources whose messages are fetched: how, and how far.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub poll: Option<PollState>,
    /// For sources: what their senders need, to type or to install.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub sender_lines: Vec<SenderLineItem>,
    /// For sources of heartbeats: their senders, those that are missing first, 200 at most.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub heartbeats: Vec<HeartbeatItem>,
    /// For calendars: what they hold, and from where.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub calendar: Option<CalendarState>,
    /// For sources of an open format without lines of their own: the lines by which they are read.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub read_by_default: Option<String>,
}

/// How the messages of a source are fetched.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct PollState {
    /// The operation and the connection by which they are.
    pub operation: String,
    /// How often, as a period such as `1m`.
    pub every: String,
    /// The last look that gave something, or nothing new; absent if there was none yet.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub looked_at: Option<DateTime<Utc>>,
    /// What is remembered of it, as JSON and without secrets; of more than 400 bytes the beginning.
    /// Absent if that is nothing.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub cursor: Option<String>,
    /// Why the last look failed, if it did.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub failure: Option<String>,
}

/// What a sender needs, to type or to install.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct SenderLineItem {
    /// What it is.
    pub title: String,
    /// The text. `{address}` in it stands for the address of the service, `KEY` for the secret.
    pub text: String,
}

/// A sender of heartbeats.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct HeartbeatItem {
    /// Its name; that of the source if it is the only one.
    pub name: String,
    /// When it was heard of at last.
    pub last_at: DateTime<Utc>,
    /// Whether it is missing.
    pub missing: bool,
}

/// What a sender of a heartbeat is answered.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct HeartbeatAnswer {
    /// The source.
    pub heartbeat: String,
    /// The sender.
    pub name: String,
    /// Whether it was noted; that of a trial is not.
    pub noted: bool,
    /// Whether it was missing until now.
    pub was_missing: bool,
}

/// What a sender is answered.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
#[serde(untagged)]
pub enum PostedAnswer {
    /// Of alerts.
    Alerts(DeliveryAnswer),
    /// Of a heartbeat.
    Heartbeat(HeartbeatAnswer),
}

/// How a calendar stands.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct CalendarState {
    /// The operation and the connection by which it is read; absent if its events stand in the
    /// document.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub reading: Option<String>,
    /// Whether its events are known: not before it was read once.
    pub known: bool,
    /// Since when what is read there stands so.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub read_at: Option<DateTime<Utc>>,
    /// When it was read at last.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub seen_at: Option<DateTime<Utc>>,
    /// Why it could not be read at last, if it could not.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub failure: Option<String>,
    /// The events that are on or begin within two weeks, the first first, 20 at most.
    pub events: Vec<CalendarEventItem>,
}

/// An event of a calendar.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct CalendarEventItem {
    /// What it is called.
    pub summary: String,
    /// When it begins.
    pub from: DateTime<Utc>,
    /// When it ends.
    pub until: DateTime<Utc>,
}

/// How often a verdict was given.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct VerdictCount {
    /// The verdict.
    #[schema(schema_with = crate::words::one::<Verdict>)]
    pub verdict: Verdict,
    /// How often.
    pub count: i64,
}

/// A secret's value, on its way in; it never comes out again.
#[derive(Clone, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct SecretValue {
    /// At most 64 KiB.
    pub value: String,
    /// Where it may go, as `connection/name`, `source/name`, `subscriber/name`, or `runbook/name`
    /// for its scripts. Left out:
    /// where it may go already.
    #[serde(default)]
    pub allowed: Option<Vec<String>>,
}

/// A secret, by name only.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct SecretItem {
    /// Its name, as in `secret('name')`.
    pub name: String,
    /// When it was set.
    pub changed_at: DateTime<Utc>,
    /// Where it may go.
    pub allowed: Vec<String>,
    /// Whether the node that was asked can open it: else it was sealed with another key, and is to
    /// be set again.
    #[serde(default = "yes")]
    pub opens: bool,
    /// Why it is not hidden where it is shown, if it is not: `short` or `common`.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub weak: Option<String>,
}

const fn yes() -> bool {
    true
}
