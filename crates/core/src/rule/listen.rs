//! `listen`: the conditions an alert must meet, all of them.

use super::ALERT;
use crate::{
    AlertState,
    alert::SeverityRange,
    document::{Checker, Texts},
    expr::Expr,
    glob::Glob,
};
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;

/// Which alerts; every line given must hold.
#[derive(Clone, Debug, Default, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct ListenDoc {
    /// Names of sources, globs allowed.
    #[serde(default)]
    pub sources: Option<Texts>,
    /// Kinds, globs allowed.
    #[serde(default)]
    pub kinds: Option<Texts>,
    /// A severity, a list, or a range such as `major..critical`.
    #[serde(default)]
    pub severity: Option<Texts>,
    /// Resources, globs allowed: `*` within a part, `**` across parts.
    #[serde(default)]
    pub resource: Option<Texts>,
    /// Alert states. Left out: `raised`.
    #[serde(default)]
    pub states: Option<Texts>,
    /// Labels and their values, globs allowed.
    #[serde(default)]
    pub labels: BTreeMap<String, Texts>,
    /// A condition over `alert`; a missing field means that it does not match.
    #[serde(default, rename = "where")]
    pub condition: Option<String>,
}

/// Checked conditions. An absent one holds for every alert.
#[derive(Clone, Debug, Default)]
pub struct Listen {
    /// Sources.
    pub sources: Option<Vec<Glob>>,
    /// Kinds.
    pub kinds: Option<Vec<Glob>>,
    /// Severities.
    pub severity: Option<Vec<SeverityRange>>,
    /// Resources.
    pub resource: Option<Vec<Glob>>,
    /// States.
    pub states: Vec<AlertState>,
    /// Labels.
    pub labels: Vec<(String, Vec<Glob>)>,
    /// `where`.
    pub condition: Option<Expr>,
}

impl Listen {
    /// Checks the lines under `/listen`.
    pub(crate) fn check(check: &mut Checker<'_>, doc: ListenDoc) -> Option<Self> {
        let mut bad = false;
        let mut each = |check: &mut Checker<'_>, key: &str, texts: Option<Texts>| {
            let globs = parsed(check, &format!("/listen/{key}"), texts?, Glob::parse);
            bad |= globs.is_none();
            globs
        };
        let sources = each(check, "sources", doc.sources);
        let kinds = each(check, "kinds", doc.kinds);
        let resource = each(check, "resource", doc.resource);
        let labels: Vec<_> = doc
            .labels
            .into_iter()
            .filter_map(|(name, texts)| {
                each(check, &format!("labels/{name}"), Some(texts)).map(|globs| (name, globs))
            })
            .collect();
        let severity = match doc.severity {
            None => None,
            Some(texts) => Some(parsed(check, "/listen/severity", texts, SeverityRange::parse)?),
        };
        let states = match doc.states {
            None => vec![AlertState::Raised],
            Some(texts) => parsed(check, "/listen/states", texts, |t| {
                AlertState::parse(t).ok_or_else(|| format!("`{t}` is not raised, cleared or noted"))
            })?,
        };
        let condition = match doc.condition {
            None => None,
            Some(text) => Some(check.condition("/listen/where", &text, ALERT)?),
        };
        (!bad).then_some(Self { sources, kinds, severity, resource, states, labels, condition })
    }
}

fn parsed<T, E: std::fmt::Display>(
    check: &mut Checker<'_>,
    pointer: &str,
    texts: Texts,
    parse: impl Fn(&str) -> Result<T, E>,
) -> Option<Vec<T>> {
    if texts.0.is_empty() {
        check.fail(
            pointer,
            "is an empty list: no alert could ever match; leave the line out to match all",
        );
        return None;
    }
    let one = check.document().value.pointer(pointer).is_some_and(serde_json::Value::is_string);
    let made: Vec<_> =
        texts.placed(pointer, one).map(|(at, text)| check.accept(&at, parse(text))).collect();
    made.into_iter().collect()
}
