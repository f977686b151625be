//! Decisions: questions that jobs put to people.

use crate::{DecisionState, filters::number};
use arvok_core::Principal;
use chrono::{DateTime, Utc};
use serde::{Deserialize, Serialize};
use utoipa::{IntoParams, ToSchema};

/// Which decisions.
#[derive(Clone, Debug, Default, Serialize, Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
#[serde(default, deny_unknown_fields)]
pub struct DecisionFilter {
    /// `open`, the most pressing first, or `all`, the newest first. Left out: `open`.
    pub state: Option<String>,
    /// The `next` of the page before.
    #[serde(deserialize_with = "number")]
    pub after: Option<i64>,
    /// At most 500.
    #[param(minimum = 1, maximum = 500)]
    #[serde(deserialize_with = "number")]
    pub limit: Option<u64>,
}

/// One decision.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct DecisionItem {
    /// The handle.
    pub id: i64,
    /// The job that asks.
    pub job: i64,
    /// The runbook of that job.
    pub runbook: String,
    /// The target of that job.
    pub target: String,
    /// The rule that dispatched it.
    pub rule: Option<String>,
    /// The step that asks.
    pub step: String,
    /// Who may decide: `responder` or above, one person, or a contact.
    pub to: String,
    /// What is asked.
    pub text: String,
    /// What may be chosen.
    pub choices: Vec<Choice>,
    /// What nobody's decision means; absent: the step fails.
    pub unanswered: Option<String>,
    /// When it was asked.
    pub asked_at: DateTime<Utc>,
    /// Until when it stands.
    pub until: DateTime<Utc>,
    /// What became of it.
    pub state: DecisionState,
    /// What was chosen.
    pub choice: Option<String>,
    /// By whom; whoever had a link without signing in is a `link`, by the name that was typed.
    #[schema(schema_with = crate::words::principal_or_none)]
    pub by: Option<Principal>,
    /// By which way: `command`, `console`, `link`, `api`.
    pub how: Option<String>,
    /// A remark.
    pub remark: Option<String>,
    /// When it was decided.
    pub decided_at: Option<DateTime<Utc>>,
}

/// Something that may be chosen.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Choice {
    /// Its name.
    pub name: String,
    /// What it means.
    pub words: String,
}

/// What a person decides.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct Take {
    /// The name of a choice.
    pub choice: String,
    /// Anything that those who read it later should know.
    #[serde(default)]
    pub remark: Option<String>,
}

/// A link to a decision, as it stands in a message behind the `#`.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct ByLink {
    /// The text behind the `#`.
    pub link: String,
}

/// What whoever has a link decides.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct TakeByLink {
    /// The text behind the `#`.
    pub link: String,
    /// The name of a choice.
    pub choice: String,
    /// Who decides, as they say themselves; recorded as said by somebody who is not signed in.
    /// Whoever is signed in decides by the name of the token, and this is not looked at.
    #[serde(default)]
    pub name: String,
    /// Anything that those who read it later should know.
    #[serde(default)]
    pub remark: Option<String>,
}
