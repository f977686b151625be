//! The `rule:` document: which alerts concern us, when they count, what is done.
//!
//! Owns the document, its checks and what a dispatch makes of an alert. Finding the rules for
//! an alert is [`crate::matcher`]; deciding with the rule's memory is [`crate::settle`].

mod dispatch;
mod listen;

pub use dispatch::{Dispatch, DispatchDoc, Urgency};
pub use listen::{Listen, ListenDoc, Texts};

use crate::{
    Alert, Period,
    document::{Checker, Document, Problem},
    expr::{Expr, Names, Scope, Val},
};
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

/// The names that a rule's expressions know.
pub const ALERT: Names<'static> = Names { roots: &["alert"], functions: &[], types: &[] };

/// A rule as written.
#[derive(Clone, Debug, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct RuleDoc {
    /// The name.
    pub rule: String,
    /// One line for people.
    #[serde(default)]
    pub summary: Option<String>,
    /// Who answers for it.
    #[serde(default)]
    pub owner: Option<String>,
    /// How far it may go. Left out: `watch`.
    #[serde(default)]
    pub stance: Stance,
    /// Which alerts.
    #[serde(default)]
    pub listen: ListenDoc,
    /// When they count.
    #[serde(default)]
    pub settle: SettleDoc,
    /// What is done.
    pub dispatch: DispatchDoc,
}

/// How far a rule may go.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "lowercase")]
pub enum Stance {
    /// Record what it would have done.
    #[default]
    Watch,
    /// Dispatch.
    Act,
}

impl Stance {
    /// The word used in every format.
    pub const fn as_str(self) -> &'static str {
        match self {
            Self::Watch => "watch",
            Self::Act => "act",
        }
    }
}

/// When matching alerts count.
#[derive(Clone, Debug, Default, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct SettleDoc {
    /// Expressions; alerts with equal values share one tally. Left out: source, resource, kind.
    #[serde(default)]
    pub fold: Option<Vec<String>>,
    /// After a dispatch the same tally stays silent for this long.
    #[serde(default)]
    pub rest: Option<Period>,
}

/// A checked rule.
#[derive(Clone, Debug)]
pub struct Rule {
    /// The name.
    pub name: String,
    /// One line for people.
    pub summary: Option<String>,
    /// Who answers for it.
    pub owner: Option<String>,
    /// How far it may go.
    pub stance: Stance,
    /// Which alerts.
    pub listen: Listen,
    fold: Option<Vec<Expr>>,
    /// How long a tally stays silent after a dispatch.
    pub rest: Option<Period>,
    /// What is done.
    pub dispatch: Dispatch,
}

/// An alert as the name `alert` of expressions.
#[derive(Debug)]
pub struct AlertScope<'a>(pub &'a Alert);

impl<'a> Scope<'a> for AlertScope<'a> {
    fn name(&'a self, name: &str) -> Option<Val<'a>> {
        (name == "alert").then_some(Val::Alert(self.0))
    }
}

/// Longest fold key, in bytes; a longer one is an error of that rule for that alert.
const MAX_FOLD: usize = 1024;

impl Rule {
    /// Checks a document.
    pub fn check(document: &Document) -> Result<Self, Vec<Problem>> {
        let doc: RuleDoc = document.decode().map_err(|p| vec![p])?;
        let mut check = Checker::new(document);
        let listen = Listen::check(&mut check, doc.listen);
        let fold = doc.settle.fold.map(|texts| check_fold(&mut check, &texts));
        let dispatch = Dispatch::check(&mut check, doc.dispatch);
        let fold = match fold {
            Some(None) => return check.finish(None),
            Some(fold) => fold,
            None => None,
        };
        let made = listen.zip(dispatch).map(|(listen, dispatch)| Self {
            name: doc.rule,
            summary: doc.summary,
            owner: doc.owner,
            stance: doc.stance,
            listen,
            fold,
            rest: doc.settle.rest,
            dispatch,
        });
        check.finish(made)
    }

    /// The key of the tally that an alert belongs to: a JSON list of the fold's values.
    pub fn tally_key(&self, alert: &Alert) -> Result<String, String> {
        let scope = AlertScope(alert);
        let values: Vec<serde_json::Value> = match &self.fold {
            None => [alert.source.as_str(), alert.resource.as_str(), &alert.kind].into_iter().map(Into::into).collect(),
            Some(fold) => fold
                .iter()
                .map(|e| e.eval(&scope).map(|v| v.to_json()).map_err(|err| format!("fold {e}: {err}")))
                .collect::<Result<_, _>>()?,
        };
        let key = serde_json::Value::Array(values).to_string();
        if key.len() > MAX_FOLD {
            return Err(format!("the fold's values have {} bytes; {MAX_FOLD} are allowed", key.len()));
        }
        Ok(key)
    }
}

fn check_fold(check: &mut Checker<'_>, texts: &[String]) -> Option<Vec<Expr>> {
    let made: Vec<_> =
        texts.iter().enumerate().map(|(i, text)| check.expr(&format!("/settle/fold/{i}"), text, ALERT)).collect();
    made.into_iter().collect()
}

#[cfg(test)]
mod tests;
