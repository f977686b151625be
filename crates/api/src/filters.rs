//! What lists can be asked for: the parameters of the API, which the command sends and the records
//! answer.

use crate::{Outcome, ProposalState};
use arvok_core::{
    AlertState, Verdict,
    alert::SeverityRange,
    job::{JobEffect, JobState},
    text::cut,
    words::Words,
};
use chrono::{DateTime, Utc};
use serde::{Deserialize, Deserializer, Serialize, Serializer, de::Error};
use std::{
    fmt::{self, Display, Formatter},
    str::FromStr,
};
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
    #[param(value_type = Option<String>)]
    #[serde(deserialize_with = "severities", serialize_with = "shown")]
    pub severity: Option<SeverityRange>,
    /// `raised`, `cleared` or `noted`.
    #[param(value_type = Option<String>)]
    #[serde(deserialize_with = "word")]
    pub state: Option<AlertState>,
    /// About this resource.
    pub resource: Option<String>,
    /// Matched by this rule.
    pub rule: Option<String>,
    /// With this verdict of the rule, or else of any rule; `matched` for any, `held` for what is
    /// held back, `unmatched` for none.
    #[param(value_type = Option<String>)]
    #[serde(deserialize_with = "asked_verdict", serialize_with = "shown")]
    pub verdict: Option<AskedVerdict>,
    /// How far any rule took it, as the overview counts it: each alert of a sender has one of
    /// `unmatched`, `watched`, `folded`, `held`, `proposed`, `dispatched`; what was dispatched one
    /// of `under-way`, `unproved`, `failed`, `cancelled`, `confirmed`; `matched` has all but the
    /// unmatched, `distinct` all.
    #[param(value_type = Option<String>)]
    #[serde(deserialize_with = "word")]
    pub outcome: Option<Outcome>,
    /// With this text in summary, resource or kind.
    pub text: Option<String>,
    /// Received since (RFC 3339).
    #[serde(deserialize_with = "time")]
    pub since: Option<DateTime<Utc>>,
    /// Received before (RFC 3339).
    #[serde(deserialize_with = "time")]
    pub until: Option<DateTime<Utc>>,
    /// Those of trials alone (`true`), or none of them (`false`).
    #[serde(deserialize_with = "flag")]
    pub trial: Option<bool>,
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
    #[param(value_type = Option<String>)]
    #[serde(deserialize_with = "word")]
    pub state: Option<AlertState>,
    /// As in rules: a severity, or a range such as `major..`.
    #[param(value_type = Option<String>)]
    #[serde(deserialize_with = "severities", serialize_with = "shown")]
    pub severity: Option<SeverityRange>,
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
    /// Those of trials alone (`true`), or none of them (`false`).
    #[serde(deserialize_with = "flag")]
    pub trial: Option<bool>,
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
    #[param(value_type = Option<String>)]
    #[serde(deserialize_with = "word")]
    pub verdict: Option<Verdict>,
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
    #[param(value_type = Option<String>)]
    #[serde(deserialize_with = "words", serialize_with = "joined")]
    pub state: Vec<JobState>,
    /// `confirmed`, `unconfirmed` or `not checked`.
    #[param(value_type = Option<String>)]
    #[serde(deserialize_with = "word")]
    pub effect: Option<JobEffect>,
    /// Of this runbook.
    pub runbook: Option<String>,
    /// Dispatched by this rule.
    pub rule: Option<String>,
    /// On this target.
    pub target: Option<String>,
    /// Launched by whom: `token/pat`, or an id of any kind.
    pub by: Option<String>,
    /// For this alarm.
    #[serde(deserialize_with = "number")]
    pub alarm: Option<i64>,
    /// Held by this guard.
    pub held_by: Option<String>,
    /// Dispatched since (RFC 3339).
    #[serde(deserialize_with = "time")]
    pub since: Option<DateTime<Utc>>,
    /// Dispatched before (RFC 3339).
    #[serde(deserialize_with = "time")]
    pub until: Option<DateTime<Utc>>,
    /// Those of trials alone (`true`), or none of them (`false`).
    #[serde(deserialize_with = "flag")]
    pub trial: Option<bool>,
    /// The `next` of the page before.
    #[serde(deserialize_with = "number")]
    pub after: Option<i64>,
    /// At most 500.
    #[param(minimum = 1, maximum = 500)]
    #[serde(deserialize_with = "number")]
    pub limit: Option<u64>,
}

/// Which proposals.
#[derive(Clone, Debug, Default, Serialize, Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
#[serde(default, deny_unknown_fields)]
pub struct ProposalFilter {
    /// `open`, `launched`, `dismissed`, `withdrawn` or `faulty`; all when left out.
    #[param(value_type = Option<String>)]
    #[serde(deserialize_with = "word")]
    pub state: Option<ProposalState>,
    /// Of this rule.
    pub rule: Option<String>,
    /// Of this runbook.
    pub runbook: Option<String>,
    /// On this target.
    pub target: Option<String>,
    /// Those of trials alone (`true`), or none of them (`false`).
    #[serde(deserialize_with = "flag")]
    pub trial: Option<bool>,
    /// The `next` of the page before.
    #[serde(deserialize_with = "number")]
    pub after: Option<i64>,
    /// At most 500.
    #[param(minimum = 1, maximum = 500)]
    #[serde(deserialize_with = "number")]
    pub limit: Option<u64>,
}

/// Which verdict of rules alerts are asked for.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum AskedVerdict {
    /// Any at all.
    Matched,
    /// One of those that hold an alert back.
    Held,
    /// None: no rule concerns it.
    Unmatched,
    /// This one.
    Is(Verdict),
}

impl AskedVerdict {
    const MATCHED: &str = "matched";
    const HELD: &str = "held";
    const UNMATCHED: &str = "unmatched";
}

impl Display for AskedVerdict {
    fn fmt(&self, f: &mut Formatter<'_>) -> fmt::Result {
        f.write_str(match self {
            Self::Matched => Self::MATCHED,
            Self::Held => Self::HELD,
            Self::Unmatched => Self::UNMATCHED,
            Self::Is(verdict) => verdict.as_str(),
        })
    }
}

impl FromStr for AskedVerdict {
    type Err = String;

    fn from_str(text: &str) -> Result<Self, String> {
        match text {
            Self::MATCHED => return Ok(Self::Matched),
            Self::HELD => return Ok(Self::Held),
            Self::UNMATCHED => return Ok(Self::Unmatched),
            _ => {}
        }
        let known = Verdict::ALL.map(Verdict::as_str).into_iter();
        Verdict::parse(text).map(Self::Is).ok_or_else(|| {
            unknown(text, "verdict", known.chain([Self::MATCHED, Self::HELD, Self::UNMATCHED]))
        })
    }
}

/// What is said of a word that is none of those that are known: nothing would ever be found by it.
fn unknown<'k>(word: &str, what: &str, known: impl IntoIterator<Item = &'k str>) -> String {
    let known: Vec<&str> = known.into_iter().collect();
    format!("`{}` is no {what}: it is one of {}", cut(word, 80), known.join(", "))
}

/// The word of an enum.
///
/// # Errors
/// Which words there are.
pub fn parse_word<T: Words>(text: &str) -> Result<T, String> {
    T::parse(text).ok_or_else(|| unknown(text, T::WHAT, T::ALL.iter().map(|word| word.as_str())))
}

/// Several words of an enum, separated by commas.
///
/// # Errors
/// Which words there are.
pub fn parse_words<T: Words>(text: &str) -> Result<Vec<T>, String> {
    text.split(',').map(|word| parse_word(word.trim())).collect()
}

/// A text of a query; one that is left empty says nothing.
fn non_empty<'de, D: Deserializer<'de>>(given: D) -> Result<Option<String>, D::Error> {
    Ok(Some(String::deserialize(given)?).filter(|text| !text.trim().is_empty()))
}

/// A word of a query.
///
/// # Errors
/// Which words there are.
pub fn word<'de, T: Words, D: Deserializer<'de>>(given: D) -> Result<Option<T>, D::Error> {
    non_empty(given)?.map(|text| parse_word(text.trim())).transpose().map_err(D::Error::custom)
}

fn words<'de, T: Words, D: Deserializer<'de>>(given: D) -> Result<Vec<T>, D::Error> {
    let text = non_empty(given)?;
    text.map_or_else(|| Ok(Vec::new()), |text| parse_words(&text)).map_err(D::Error::custom)
}

fn asked_verdict<'de, D: Deserializer<'de>>(given: D) -> Result<Option<AskedVerdict>, D::Error> {
    non_empty(given)?.map(|text| text.trim().parse()).transpose().map_err(D::Error::custom)
}

fn severities<'de, D: Deserializer<'de>>(given: D) -> Result<Option<SeverityRange>, D::Error> {
    let parsed = non_empty(given)?.map(|text| SeverityRange::parse(&text)).transpose();
    parsed.map_err(|e| D::Error::custom(format!("severity: {e}")))
}

fn shown<T: Display, S: Serializer>(value: &Option<T>, to: S) -> Result<S::Ok, S::Error> {
    match value {
        Some(value) => to.collect_str(value),
        None => to.serialize_none(),
    }
}

fn joined<T: Words, S: Serializer>(words: &[T], to: S) -> Result<S::Ok, S::Error> {
    let words: Vec<&str> = words.iter().map(|word| word.as_str()).collect();
    if words.is_empty() { to.serialize_none() } else { to.serialize_str(&words.join(",")) }
}

/// A whole number of a query.
///
/// # Errors
/// In words that name what came and what was expected.
pub fn number<'de, T: FromStr, D: Deserializer<'de>>(given: D) -> Result<Option<T>, D::Error> {
    parsed(given, "a whole number")
}

/// Yes or no in a query.
fn flag<'de, D: Deserializer<'de>>(given: D) -> Result<Option<bool>, D::Error> {
    parsed(given, "true or false")
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
    let refused = |_| D::Error::custom(format!("`{}` is not {expected}", cut(&text, 80)));
    text.parse().map(Some).map_err(refused)
}
