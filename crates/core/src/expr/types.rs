//! What can be known of a value before any alert has come: its kind, and the fields of an alert and
//! a tally. Payloads may hold anything ([`Type::Any`]).

use std::{
    collections::BTreeMap,
    sync::{Arc, LazyLock},
};

/// What a value is known to be.
#[derive(Clone, Debug, PartialEq)]
pub enum Type {
    /// Anything.
    Any,
    /// true or false
    Bool,
    /// A number.
    Number,
    /// A string.
    Text,
    /// Bytes.
    Bytes,
    /// A severity.
    Severity,
    /// An instant.
    Time,
    /// A length of time.
    Span,
    /// A list.
    List(Arc<Type>),
    /// A map with any keys.
    Map(Arc<Type>),
    /// A map with these keys and no others.
    Record(Arc<BTreeMap<String, Type>>),
    /// A field that may not be there.
    Maybe(Arc<Type>),
}

/// The fields of an alert, in the order of the normal form.
pub const ALERT_FIELDS: [&str; 13] = [
    "id", "source", "kind", "severity", "state", "resource", "time", "received", "summary",
    "value", "labels", "body", "trial",
];

/// The type of the name `alert`.
pub(super) fn alert() -> Type {
    static ALERT: LazyLock<Type> = LazyLock::new(alert_record);
    ALERT.clone()
}

fn alert_record() -> Type {
    let field = |name: &str| match name {
        "severity" => Type::Severity,
        "time" | "received" => Type::Time,
        "value" => Type::Number,
        "labels" => Type::Map(Arc::new(Type::Text)),
        "body" => Type::Any,
        "trial" => Type::Bool,
        _ => Type::Text,
    };
    record(ALERT_FIELDS.map(|name| (name, field(name))))
}

/// The type of the name `tally`.
pub(super) fn tally() -> Type {
    record([
        ("alerts", Type::Number),
        ("since", Type::Time),
        ("jobs", Type::Number),
        ("gathered", Type::List(Arc::new(alert()))),
    ])
}

fn record<const N: usize>(fields: [(&str, Type); N]) -> Type {
    Type::Record(Arc::new(fields.map(|(name, t)| (name.to_owned(), t)).into()))
}

impl Type {
    /// A map with these keys and no others.
    pub fn record(fields: impl IntoIterator<Item = (String, Self)>) -> Self {
        Self::Record(Arc::new(fields.into_iter().collect()))
    }

    /// What it is, for messages.
    pub(super) fn kind(&self) -> &'static str {
        match self {
            Self::Any => "anything",
            Self::Bool => "true or false",
            Self::Number => "a number",
            Self::Text => "a string",
            Self::Bytes => "bytes",
            Self::Severity => "a severity",
            Self::Time => "a time",
            Self::Span => "a length of time",
            Self::List(_) => "a list",
            Self::Map(_) | Self::Record(_) => "a map",
            Self::Maybe(of) => of.kind(),
        }
    }

    /// As JSON, for editors: a record is an object of its fields, anything else a text that says
    /// what it is.
    pub fn as_fields(&self) -> serde_json::Value {
        match self {
            Self::Record(fields) => {
                fields.iter().map(|(name, of)| (name.clone(), of.as_fields())).collect()
            }
            Self::Maybe(of) => of.as_fields(),
            other => other.kind().into(),
        }
    }

    /// The type that a JSON Schema promises.
    pub fn of_schema(schema: &serde_json::Value) -> Self {
        match schema["type"].as_str() {
            Some("string") => Self::Text,
            Some("integer" | "number") => Self::Number,
            Some("boolean") => Self::Bool,
            Some("array") => Self::List(Arc::new(Self::of_schema(&schema["items"]))),
            Some("object") => match schema["properties"].as_object() {
                Some(properties) if !properties.is_empty() => {
                    Self::record(properties.iter().map(|(n, s)| (n.clone(), Self::of_schema(s))))
                }
                _ => Self::Any,
            },
            _ => Self::Any,
        }
    }

    /// What is surely either.
    #[must_use]
    pub fn join(self, other: Self) -> Self {
        if self == other { self } else { Self::Any }
    }

    pub(super) fn may_equal(&self, other: &Self) -> bool {
        use Type::{Any, Map, Record, Severity, Text};
        match (self, other) {
            (Any, _) | (_, Any) | (Severity, Text) | (Text, Severity) => true,
            (Type::List(a), Type::List(b)) | (Map(a), Map(b)) => a.may_equal(b),
            (Map(_), Record(_)) | (Record(_), Map(_)) => true,
            _ => self == other,
        }
    }
}
