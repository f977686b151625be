//! What sources send: its shapes, the mapping that is suggested, and one that is tried.

use crate::FileProblem;
use arvok_core::{
    Severity,
    shape::{FieldShape, FieldType, Shape},
    source::Suggestion,
};
use chrono::{DateTime, Utc};
use serde::{Deserialize, Serialize};
use serde_json::{Map, Value};
use std::collections::BTreeMap;
use utoipa::{IntoParams, ToSchema};

/// What a source sends, by kind.
#[derive(Clone, Debug, Default, Serialize, Deserialize, ToSchema)]
pub struct SourceShapes {
    /// One for each kind, by name; that of what is caught comes first.
    pub kinds: Vec<KindShape>,
}

/// What came of one kind of a source.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct KindShape {
    /// The kind; absent for what was caught, of which no alerts were made.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub kind: Option<String>,
    /// How many came.
    pub count: u64,
    /// How many of them were looked at: all of the first, and then some of many.
    pub profiled: u64,
    /// When the first came.
    pub first: DateTime<Utc>,
    /// When the last came.
    pub last: DateTime<Utc>,
    /// The mean time between two, in seconds; absent where there was one.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub every_seconds: Option<f64>,
    /// How many came of each severity.
    #[schema(value_type = BTreeMap<String, u64>)]
    pub severities: BTreeMap<Severity, u64>,
    /// The fields by path.
    pub fields: Vec<ShapeField>,
    /// Whether there are more fields than are kept.
    pub has_more: bool,
}

/// What is known of one field.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct ShapeField {
    /// Its path as an expression over an alert has it, such as `body.disk.name`; `[]` stands for
    /// any element of a list, `.*` for all further names of a map that has many.
    pub path: String,
    /// In what share of what was looked at it is there, from 0 to 1.
    pub share: f64,
    /// How many values are of each type: `bool`, `number`, `text`, `list`, `map`, `null`.
    #[schema(value_type = BTreeMap<String, u64>)]
    pub types: BTreeMap<FieldType, u64>,
    /// How many different values it had, estimated.
    pub distinct: u64,
    /// Some that it had of late, the latest first; cut at 60 bytes.
    pub examples: Vec<String>,
    /// The smallest number.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub least: Option<f64>,
    /// The largest number.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub most: Option<f64>,
    /// When it was first seen.
    pub first: DateTime<Utc>,
    /// When it was last seen.
    pub last: DateTime<Utc>,
    /// Whether its values are kept nowhere here.
    pub masked: bool,
}

impl KindShape {
    /// That of a kind; an empty one is of what was caught.
    pub fn new(kind: String, shape: Shape) -> Self {
        let field = |(path, field): (&String, &FieldShape)| ShapeField {
            path: path.clone(),
            share: shape.share(field),
            types: field.types.clone(),
            distinct: field.distinct(),
            examples: field.examples.clone(),
            least: field.least,
            most: field.most,
            first: field.first,
            last: field.last,
            masked: field.masked,
        };
        Self {
            kind: Some(kind).filter(|kind| !kind.is_empty()),
            count: shape.count,
            profiled: shape.profiled,
            first: shape.first,
            last: shape.last,
            every_seconds: shape.every_seconds(),
            fields: shape.fields.iter().map(field).collect(),
            has_more: shape.has_more,
            severities: shape.severities,
        }
    }
}

/// Which shapes of a source are meant.
#[derive(Clone, Debug, Default, Serialize, Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
#[serde(deny_unknown_fields)]
pub struct ShapeFilter {
    /// Of this kind; empty for what was caught. Left out: of all.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub kind: Option<String>,
}

/// Shapes that were forgotten.
#[derive(Clone, Copy, Debug, Serialize, Deserialize, ToSchema)]
pub struct ForgottenShapes {
    /// How many.
    pub forgotten: u64,
}

/// How a source might be read, by what it sent.
#[derive(Clone, Debug, Default, Serialize, Deserialize, ToSchema)]
pub struct SuggestedRead {
    /// The lines, each with the reason, in the order in which they are written.
    pub lines: Vec<SuggestedReadLine>,
    /// `read` with these lines as YAML; empty if nothing can be said.
    pub read: String,
    /// How many payloads were looked at.
    pub payloads: usize,
    /// How many of them can be read by these lines.
    pub readable: usize,
}

/// One suggested line.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct SuggestedReadLine {
    /// The line of `read`; `intake` for what belongs there.
    pub line: String,
    /// What is written there, as YAML.
    pub text: String,
    /// Why.
    pub why: String,
}

impl From<Suggestion> for SuggestedRead {
    fn from(of: Suggestion) -> Self {
        let Suggestion { lines, read, payloads, readable } = of;
        let lines = lines.into_iter().map(|line| SuggestedReadLine {
            line: line.line.to_owned(),
            text: line.text,
            why: line.why,
        });
        Self { lines: lines.collect(), read, payloads, readable }
    }
}

/// The document of a source that is tried before it is published.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct TestSource {
    /// The document as YAML.
    pub text: String,
    /// The name of the file that holds it, as it stands in what is said of it.
    #[serde(default)]
    pub file: Option<String>,
    /// A payload as it would come. Left out: the newest 20 that are kept of the source.
    #[serde(default)]
    pub payload: Option<String>,
    /// What comes beside it, by the names of the intake, such as `headers`.
    #[serde(default)]
    #[schema(value_type = Object)]
    pub beside: Map<String, Value>,
}

/// What a document of a source makes of payloads. Nothing is recorded.
#[derive(Clone, Debug, Default, Serialize, Deserialize, ToSchema)]
pub struct TestedSource {
    /// What is wrong with the document; then nothing was read.
    pub problems: Vec<FileProblem>,
    /// One for each payload, the newest first.
    pub payloads: Vec<TestedPayload>,
}

/// What a document makes of one payload.
#[derive(Clone, Debug, Default, Serialize, Deserialize, ToSchema)]
pub struct TestedPayload {
    /// The handle under which it is kept; absent for one that was given.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub id: Option<i64>,
    /// Its alerts in the normal form.
    #[schema(value_type = Vec<Object>)]
    pub alerts: Vec<Value>,
    /// Items that `keep` left out.
    pub left_out: usize,
    /// Optional lines that gave nothing, and how often.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub absent: BTreeMap<String, u64>,
    /// What cannot be read, and why.
    pub unreadable: Vec<String>,
}
