//! Launching a runbook by hand: its form, what it would do, and the launch.

use arvok_core::{Role, rule::Urgency};
use serde::{Deserialize, Serialize};
use serde_json::{Map, Value};
use utoipa::ToSchema;

/// What a form for a runbook is made from.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct RunbookForm {
    /// The runbook's name.
    pub runbook: String,
    /// Its version.
    pub version: i32,
    /// One line for people.
    pub summary: Option<String>,
    /// JSON Schema (draft 2020-12) properties; one without a `default` must be given.
    #[schema(value_type = std::collections::BTreeMap<String, Value>)]
    pub inputs: Map<String, Value>,
    /// The least role that may launch it.
    #[schema(schema_with = crate::words::one::<Role>)]
    pub role: Role,
    /// How its effect is proved.
    pub confirm: Option<String>,
}

/// A job that is to be launched, or tried without doing anything.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct Launch {
    /// The runbook's name.
    pub runbook: String,
    /// Its inputs; defaults are filled in.
    #[serde(default)]
    #[schema(value_type = std::collections::BTreeMap<String, Value>)]
    pub inputs: Map<String, Value>,
    /// The handle of the alert that it is about: its alarm proves the effect.
    #[serde(default)]
    pub alert: Option<i64>,
    /// `low`, `normal`, `high`, `urgent`; left out: normal.
    #[serde(default)]
    #[schema(schema_with = crate::words::one_or_none::<Urgency>)]
    pub urgency: Option<Urgency>,
    /// It expires if it was not started within this time, such as `10m`.
    #[serde(default)]
    pub deadline: Option<String>,
    /// Why, for those who read it later.
    #[serde(default)]
    pub why: Option<String>,
}

/// A job that was launched.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Launched {
    /// Its handle.
    pub job: i64,
    /// Whether the same was launched before, by the `Idempotency-Key`.
    pub known: bool,
}

/// What a job would do.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct DryRun {
    /// Its runbook.
    pub runbook: String,
    /// The version.
    pub version: i32,
    /// Inputs with the defaults filled in.
    #[schema(value_type = std::collections::BTreeMap<String, Value>)]
    pub inputs: Map<String, Value>,
    /// What it would act on.
    pub target: String,
    /// Its steps.
    pub steps: Vec<DryStep>,
    /// What else it may do: `confirm`, `otherwise`, `recover`, `always`.
    pub further: Vec<DryPart>,
}

/// A value, as far as it can be known beforehand: one of the three is there.
#[derive(Clone, Debug, Default, Serialize, Deserialize, ToSchema)]
pub struct Preview {
    /// It is this.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[schema(value_type = Option<Value>)]
    pub value: Option<Value>,
    /// It depends on what these will be, such as `steps.look`.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub unknown: Option<Vec<String>>,
    /// It cannot be worked out, and why.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub wrong: Option<String>,
}

/// What a step would be given.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct PreviewedInput {
    /// Under which name.
    pub name: String,
    /// What.
    pub preview: Preview,
}

/// What a step would do.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct DryStep {
    /// Where it stands.
    pub place: String,
    /// Its `id` in the runbook.
    pub id: String,
    /// The word for its kind.
    pub kind: String,
    /// One line for people.
    pub summary: Option<String>,
    /// What it does, in a line.
    pub does: String,
    /// Whether it is run at all.
    pub when: Option<Preview>,
    /// What it is given.
    pub given: Vec<PreviewedInput>,
    /// The request that would be sent, if all of it is known.
    pub request: Option<CallRequest>,
    /// What stands within it.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    #[schema(no_recursion)]
    pub parts: Vec<DryPart>,
    /// Of a long list, how many items are not among its parts.
    #[serde(default, skip_serializing_if = "crate::is_none")]
    pub left_out: usize,
}

/// A request that is or would be sent, without its address and its credential, which are its
/// connection's.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct CallRequest {
    /// The method of HTTP, or `MAIL`, `SSH`, `NETCONF`, `MQTT`, `AMQP`, `ARVOK` or `SCRIPT`.
    pub method: String,
    /// The path with the query, whom a message is for, the command, or what a device is asked.
    pub target: String,
    /// The body, the parts of a message, what a command reads, or XML.
    #[schema(value_type = Option<Value>)]
    pub body: Option<Value>,
    /// The connection through which it is sent; absent of a script.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub via: Option<String>,
    /// It would be sent, and is not: the job is a dry trial.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub unsent: bool,
}

/// An answer as it came.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct CallAnswer {
    /// The status code (RFC 9110, section 15), or that of a mail server (RFC 5321, section 4.2);
    /// the exit status of a command or a script, 65535 if it was ended by force; 0 of a network
    /// device, which has none.
    pub status: u16,
    /// The headers, with names in lower case; none that sets a cookie.
    #[schema(value_type = Value)]
    pub headers: serde_json::Map<String, Value>,
    /// JSON, or the text of a body that is none; of one longer than 16 KiB the beginning, as text.
    #[schema(value_type = Value)]
    pub body: Value,
}

/// Steps within a step.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct DryPart {
    /// A condition, an item, a name.
    pub label: String,
    /// Whether it is gone; null if that is not known.
    pub taken: Option<bool>,
    /// Its steps.
    pub steps: Vec<DryStep>,
}
