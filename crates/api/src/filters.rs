//! What lists can be asked for: the parameters of the API, which the command sends and the records
//! answer.

use chrono::{DateTime, Utc};
use serde::{Deserialize, Deserializer, Serialize, de::Error};
use std::str::FromStr;
use utoipa::IntoParams;

/// Items of a page, where nothing is said.
pub const PAGE: u64 = 100;
/// Most items of a page.
pub const MAX_PAGE: u64 = 500;

/// Which alerts.
#[derive(Clone, Debug, Default, Serialize, Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
#[serde(default, deny_unknown_fields)]
pub struct AlertFilter {
    /// Of this source. Events of jobs and decisions are listed only for the source `arvok`, a kind
    /// or a rule.
    pub source: Option<String>,
    /// Of this kind.
    pub kind: Option<String>,
    /// As in rules: a severity, or a range such as `major..`.
    #[serde(deserialize_with = "non_empty_text")]
    pub severity: Option<String>,
    /// `raised`, `cleared` or `noted`.
    #[serde(deserialize_with = "non_empty_text")]
    pub state: Option<String>,
    /// About this resource.
    pub resource: Option<String>,
    /// Matched by this rule.
    pub rule: Option<String>,
    /// With this verdict of the rule, or else of any rule; `matched` for any, `held` for what is
    /// held back, `unmatched` for none.
    #[serde(deserialize_with = "non_empty_text")]
    pub verdict: Option<String>,
    /// How far any rule took it, as the overview counts it: each alert of a sender has one of
    /// `unmatched`, `watched`, `folded`, `held`, `proposed`, `dispatched`; what was dispatched one
    /// of `under-way`, `unproved`, `failed`, `cancelled`, `confirmed`; `matched` has all but the
    /// unmatched, `distinct` all.
    #[serde(deserialize_with = "non_empty_text")]
    pub outcome: Option<String>,
    /// With this text in summary, resource or kind.
    pub text: Option<String>,
    /// Received since (RFC 3339).
    #[serde(deserialize_with = "time")]
    pub since: Option<DateTime<Utc>>,
    /// Received before (RFC 3339).
    #[serde(deserialize_with = "time")]
    pub until: Option<DateTime<Utc>>,
    /// The `next` of the page before.
    #[serde(deserialize_with = "number")]
    pub after: Option<i64>,
    /// At most 500.
    #[param(minimum = 1, maximum = 500)]
    #[serde(deserialize_with = "number")]
    pub limit: Option<u64>,
}

/// Which alarms.
#[derive(Clone, Debug, Default, Serialize, Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
#[serde(default, deny_unknown_fields)]
pub struct AlarmFilter {
    /// `raised` or `cleared`; both when left out.
    #[serde(deserialize_with = "non_empty_text")]
    pub state: Option<String>,
    /// As in rules: a severity, or a range such as `major..`.
    #[serde(deserialize_with = "non_empty_text")]
    pub severity: Option<String>,
    /// Changed since (RFC 3339).
    #[serde(deserialize_with = "time")]
    pub since: Option<DateTime<Utc>>,
    /// Changed before (RFC 3339).
    #[serde(deserialize_with = "time")]
    pub until: Option<DateTime<Utc>>,
    /// Of this source.
    pub source: Option<String>,
    /// Of this kind.
    pub kind: Option<String>,
    /// About this resource.
    pub resource: Option<String>,
    /// With this text in summary, resource or kind.
    pub text: Option<String>,
    /// The `next` of the page before.
    #[serde(deserialize_with = "number")]
    pub after: Option<i64>,
    /// At most 500.
    #[param(minimum = 1, maximum = 500)]
    #[serde(deserialize_with = "number")]
    pub limit: Option<u64>,
}

/// Which verdicts.
#[derive(Clone, Debug, Default, Serialize, Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
#[serde(default, deny_unknown_fields)]
pub struct VerdictFilter {
    /// Of this rule.
    pub rule: Option<String>,
    /// This verdict.
    #[serde(deserialize_with = "non_empty_text")]
    pub verdict: Option<String>,
    /// About this resource.
    pub resource: Option<String>,
    /// Of this tally.
    pub tally: Option<String>,
    /// About alerts received since (RFC 3339).
    #[serde(deserialize_with = "time")]
    pub since: Option<DateTime<Utc>>,
    /// The `next` of the page before.
    #[serde(deserialize_with = "number")]
    pub after: Option<i64>,
    /// At most 500.
    #[param(minimum = 1, maximum = 500)]
    #[serde(deserialize_with = "number")]
    pub limit: Option<u64>,
}

/// Which jobs.
#[derive(Clone, Debug, Default, Serialize, Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
#[serde(default, deny_unknown_fields)]
pub struct JobFilter {
    /// States, separated by commas.
    #[serde(deserialize_with = "non_empty_text")]
    pub state: Option<String>,
    /// `confirmed`, `unconfirmed` or `not checked`.
    #[serde(deserialize_with = "non_empty_text")]
    pub effect: Option<String>,
    /// Of this runbook.
    pub runbook: Option<String>,
    /// Dispatched by this rule.
    pub rule: Option<String>,
    /// On this target.
    pub target: Option<String>,
    /// Launched by this person or program, by the name of its token.
    pub by: Option<String>,
    /// For this alarm.
    #[serde(deserialize_with = "number")]
    pub alarm: Option<i64>,
    /// Dispatched since (RFC 3339).
    #[serde(deserialize_with = "time")]
    pub since: Option<DateTime<Utc>>,
    /// Dispatched before (RFC 3339).
    #[serde(deserialize_with = "time")]
    pub until: Option<DateTime<Utc>>,
    /// The `next` of the page before.
    #[serde(deserialize_with = "number")]
    pub after: Option<i64>,
    /// At most 500.
    #[param(minimum = 1, maximum = 500)]
    #[serde(deserialize_with = "number")]
    pub limit: Option<u64>,
}

impl JobFilter {
    /// The states; none where any will do.
    pub fn states(&self) -> Vec<&str> {
        self.state.iter().flat_map(|s| s.split(',')).map(str::trim).collect()
    }
}

/// Which proposals.
#[derive(Clone, Debug, Default, Serialize, Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
#[serde(default, deny_unknown_fields)]
pub struct ProposalFilter {
    /// `open`, `launched`, `dismissed`, `withdrawn` or `faulty`; all when left out.
    #[serde(deserialize_with = "non_empty_text")]
    pub state: Option<String>,
    /// Of this rule.
    pub rule: Option<String>,
    /// Of this runbook.
    pub runbook: Option<String>,
    /// On this target.
    pub target: Option<String>,
    /// The `next` of the page before.
    #[serde(deserialize_with = "number")]
    pub after: Option<i64>,
    /// At most 500.
    #[param(minimum = 1, maximum = 500)]
    #[serde(deserialize_with = "number")]
    pub limit: Option<u64>,
}

/// A word of a query; one that is left empty says nothing.
///
/// # Errors
/// If it is no text.
pub fn non_empty_text<'de, D: Deserializer<'de>>(given: D) -> Result<Option<String>, D::Error> {
    Ok(Some(String::deserialize(given)?).filter(|word| !word.trim().is_empty()))
}

/// A whole number of a query.
///
/// # Errors
/// In words that name what came and what was expected.
pub fn number<'de, T: FromStr, D: Deserializer<'de>>(given: D) -> Result<Option<T>, D::Error> {
    parsed(given, "a whole number")
}

/// A time of a query (RFC 3339).
///
/// # Errors
/// In words that name what came and what was expected.
pub fn time<'de, D: Deserializer<'de>>(given: D) -> Result<Option<DateTime<Utc>>, D::Error> {
    parsed(given, "a time such as 2026-11-25T14:03:21Z")
}

fn parsed<'de, T: FromStr, D: Deserializer<'de>>(
    given: D,
    expected: &str,
) -> Result<Option<T>, D::Error> {
    let text = String::deserialize(given)?;
    let refused =
        |_| D::Error::custom(format!("`{}` is not {expected}", arvok_core::text::cut(&text, 80)));
    text.parse().map(Some).map_err(refused)
}
