//! `dispatch`: which runbook, with which inputs, how urgently, until when.

use super::{ALERT, AlertScope};
use crate::{Alert, Period, document::Checker, expr::Template};
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use serde_json::{Map, Value};

/// How urgent a job is; the more urgent starts first.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "lowercase")]
pub enum Urgency {
    /// When there is room.
    Low,
    /// In turn.
    #[default]
    Normal,
    /// Before normal work.
    High,
    /// Before all other work.
    Urgent,
}

impl Urgency {
    const ALL: [Self; 4] = [Self::Low, Self::Normal, Self::High, Self::Urgent];

    /// The word used in every format.
    pub const fn as_str(self) -> &'static str {
        match self {
            Self::Low => "low",
            Self::Normal => "normal",
            Self::High => "high",
            Self::Urgent => "urgent",
        }
    }

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
    /// Its inputs; `${ ... }` sees `alert`.
    #[serde(default)]
    pub inputs: Map<String, Value>,
    /// Left out: `normal`.
    #[serde(default)]
    pub urgency: Urgency,
    /// A job not started within this time is not started: it expires.
    #[serde(default)]
    pub deadline: Option<Period>,
}

/// A checked dispatch.
#[derive(Clone, Debug)]
pub struct Dispatch {
    /// The runbook's name.
    pub runbook: String,
    inputs: Template,
    /// The names of the inputs that are given.
    pub given: Vec<String>,
    /// How urgent.
    pub urgency: Urgency,
    /// Until when a job may be started.
    pub deadline: Option<Period>,
}

impl Dispatch {
    pub(super) fn check(check: &mut Checker<'_>, doc: DispatchDoc) -> Option<Self> {
        let given = doc.inputs.keys().cloned().collect();
        let inputs = check.template("/dispatch/inputs", &Value::Object(doc.inputs), ALERT)?;
        Some(Self { runbook: doc.runbook, inputs, given, urgency: doc.urgency, deadline: doc.deadline })
    }

    /// The inputs for one alert, before the runbook's own checks.
    pub fn inputs(&self, alert: &Alert) -> Result<Map<String, Value>, String> {
        match self.inputs.fill(&AlertScope(alert)) {
            Ok(Value::Object(map)) => Ok(map),
            Ok(_) => Ok(Map::new()),
            Err(e) => Err(e.to_string()),
        }
    }
}
