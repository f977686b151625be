//! `examples`: what a rule is expected to do, written beside it. How they are played is
//! [`crate::rehearse`].

use crate::{
    Period, Verdict,
    document::{Checker, flow},
};
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use serde_json::{Map, Value};

/// Alerts and the verdicts that are expected of them.
#[derive(Clone, Debug, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct ExampleDoc {
    /// One line for people.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub summary: Option<String>,
    /// The alerts, in the normal form, each with the time at which it comes.
    pub given: Vec<GivenDoc>,
    /// What all alerts have in common: fields of the normal form.
    #[serde(default, skip_serializing_if = "Map::is_empty")]
    pub of: Map<String, Value>,
    /// What must happen. A dispatch that is not named here must not happen.
    pub expect: Vec<ExpectDoc>,
}

/// One alert.
#[derive(Clone, Debug, Serialize, Deserialize, JsonSchema)]
pub struct GivenDoc {
    /// When, from the start.
    pub at: Period,
    /// How much earlier it was sent, for a delivery that comes late.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub late: Option<Period>,
    /// Fields of the normal form that differ from `of`.
    #[serde(flatten)]
    pub fields: Map<String, Value>,
}

/// One verdict.
#[derive(Clone, Debug, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct ExpectDoc {
    /// When it is given, from the start.
    pub at: Period,
    /// The verdict; a rule is played as if it acted, whatever its stance.
    pub verdict: Verdict,
    /// Inputs of the dispatch; those that are not named may be anything.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub inputs: Option<Map<String, Value>>,
    /// The runbook, where there are several.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub runbook: Option<String>,
}

impl ExampleDoc {
    /// As it is written in the file of a rule.
    pub fn as_yaml(&self, rule: &str) -> String {
        let line = |value: serde_json::Result<Value>| flow(&value.unwrap_or_default());
        let mut lines =
            vec![format!("# For rule {rule}, played as if it acted."), "examples:".to_owned()];
        lines.push("  - given:".into());
        lines.extend(
            self.given.iter().map(|g| format!("      - {}", line(serde_json::to_value(g)))),
        );
        if !self.of.is_empty() {
            lines.push(format!("    of: {}", flow(&Value::Object(self.of.clone()))));
        }
        if self.expect.is_empty() {
            lines.push("    expect: []".into());
        } else {
            lines.push("    expect:".into());
            lines.extend(
                self.expect.iter().map(|e| format!("      - {}", line(serde_json::to_value(e)))),
            );
        }
        lines.join("\n") + "\n"
    }
}

/// Most examples of a rule, and most alerts of one.
const MOST: (usize, usize) = (100, 1000);

pub(super) fn check(check: &mut Checker<'_>, examples: &[ExampleDoc]) {
    if examples.len() > MOST.0 {
        check.fail("/examples", format!("are {}; {} are allowed", examples.len(), MOST.0));
    }
    for (i, example) in examples.iter().enumerate() {
        let at = format!("/examples/{i}");
        if example.given.is_empty() || example.given.len() > MOST.1 {
            check.fail(
                &format!("{at}/given"),
                format!("has {} alerts; 1 to {} are allowed", example.given.len(), MOST.1),
            );
        }
        for (j, pair) in example.given.windows(2).enumerate() {
            if pair[0].at > pair[1].at {
                check.fail(
                    &format!("{at}/given/{}/at", j + 1),
                    "comes before the alert above it; write them in order",
                );
            }
        }
    }
}
