//! What is written of a call to an agent, and what it is with everything filled in.

use super::object::ObjectId;
use crate::{
    connector::protocols::{RequestError, shared::CallScope},
    document::Checker,
    expr::{Names, Template},
    text::cut,
};
use core::net::Ipv4Addr;
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use serde_json::{Map, Value};

/// Most objects that are asked for, or set, at once.
const MAX_OBJECTS: usize = 60;
/// Most rows of a table that are read.
const MAX_ROWS: u32 = 10_000;
const USUAL_ROWS: u32 = 1000;
/// Longest text that is set, in bytes.
const MAX_TEXT: usize = 1024;
/// Stands for what cannot be a part of an object's name.
const IMPOSSIBLE: char = '\0';

/// What is asked of an agent over SNMP. It has one of `get`, `table` and `set`.
#[derive(Clone, Debug, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct SnmpDoc {
    /// Objects that are read, each by its number (`1.3.6.1.2.1.1.5.0`), by names of yours. What is
    /// filled in are numbers with dots.
    #[serde(default)]
    pub get: Option<Map<String, Value>>,
    /// Columns of a table that are read to their end, each by its number (`1.3.6.1.2.1.2.2.1.8`),
    /// by names of yours.
    #[serde(default)]
    pub table: Option<Map<String, Value>>,
    /// Most rows that are read of a table. Left out: 1000.
    #[serde(default)]
    pub at_most: Option<u32>,
    /// Objects that are set, all of them or none.
    #[serde(default)]
    pub set: Option<Vec<ObjectSetDoc>>,
}

/// An object that is set. Beside its number it has one value, by its type.
#[derive(Clone, Debug, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct ObjectSetDoc {
    /// Its number. What is filled in are numbers with dots.
    pub object: String,
    /// A number with a sign (INTEGER).
    #[serde(default)]
    pub integer: Option<Value>,
    /// A number without a sign (Unsigned32, Gauge32).
    #[serde(default)]
    pub unsigned: Option<Value>,
    /// A text (OCTET STRING).
    #[serde(default)]
    pub text: Option<Value>,
    /// An address (IpAddress).
    #[serde(default)]
    pub address: Option<Value>,
    /// The number of another object (OBJECT IDENTIFIER).
    #[serde(default)]
    pub reference: Option<Value>,
}

/// A type of what is set.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum SetType {
    Integer,
    Unsigned,
    Text,
    Address,
    Reference,
}

/// A checked act.
#[derive(Clone, Debug)]
pub(super) enum SnmpActTemplate {
    Get(Vec<(String, Template)>),
    Table { columns: Vec<(String, Template)>, at_most: u32 },
    Set(Vec<(Template, SetType, Template)>),
}

/// What is asked of an agent, with everything filled in.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum SnmpAct {
    /// Objects are read, by names.
    Get(Vec<(String, ObjectId)>),
    /// Columns of a table are read to their end, by names.
    Table {
        /// The columns.
        columns: Vec<(String, ObjectId)>,
        /// Most rows.
        at_most: u32,
    },
    /// Objects are set.
    Set(Vec<(ObjectId, SnmpValue)>),
}

/// A value that an object has, or is set to.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum SnmpValue {
    /// A number with a sign.
    Integer(i64),
    /// A number without a sign, a gauge, a counter, or hundredths of a second.
    Unsigned(u64),
    /// Bytes.
    Bytes(Vec<u8>),
    /// An address.
    Address(Ipv4Addr),
    /// The number of an object.
    Reference(ObjectId),
    /// There is none.
    None,
}

impl SnmpDoc {
    /// What it asks for, as written.
    pub(super) fn line(&self) -> String {
        let named = |objects: &Map<String, Value>| {
            let names: Vec<&str> = objects.keys().map(String::as_str).collect();
            names.join(", ")
        };
        match (&self.get, &self.table, &self.set) {
            (Some(get), ..) => format!("SNMP get {}", named(get)),
            (_, Some(table), _) => format!("SNMP table {}", named(table)),
            (.., Some(set)) => {
                let objects: Vec<&str> = set.iter().map(|one| one.object.as_str()).collect();
                format!("SNMP set {}", objects.join(", "))
            }
            _ => "SNMP".to_owned(),
        }
    }
}

impl ObjectSetDoc {
    /// Its only value, by its key and its type.
    fn value(&self) -> Option<(&'static str, SetType, &Value)> {
        let mut all = [
            ("integer", SetType::Integer, &self.integer),
            ("unsigned", SetType::Unsigned, &self.unsigned),
            ("text", SetType::Text, &self.text),
            ("address", SetType::Address, &self.address),
            ("reference", SetType::Reference, &self.reference),
        ]
        .into_iter()
        .filter_map(|(key, kind, value)| Some((key, kind, value.as_ref()?)));
        match (all.next(), all.next()) {
            (only, None) => only,
            _ => None,
        }
    }
}

impl SnmpActTemplate {
    pub(super) fn check(
        check: &mut Checker<'_>,
        at: &str,
        doc: SnmpDoc,
        names: Names<'_>,
    ) -> Option<Self> {
        let written = [doc.get.is_some(), doc.table.is_some(), doc.set.is_some()];
        if written.iter().filter(|is_there| **is_there).count() != 1 {
            check.fail(at, "has one of `get`, `table` and `set`");
            return None;
        }
        if doc.at_most.is_some() && doc.table.is_none() {
            check.fail(&format!("{at}/at_most"), "belongs to a `table`");
        }
        if doc.at_most.is_some_and(|most| !(1..=MAX_ROWS).contains(&most)) {
            check.fail(&format!("{at}/at_most"), format!("is from 1 to {MAX_ROWS}"));
        }
        let mut few = |part: &str, count: usize| {
            if count == 0 || count > MAX_OBJECTS {
                check.fail(&format!("{at}/{part}"), format!("has from 1 to {MAX_OBJECTS} objects"));
            }
        };
        few(
            if doc.get.is_some() {
                "get"
            } else if doc.table.is_some() {
                "table"
            } else {
                "set"
            },
            doc.get
                .as_ref()
                .or(doc.table.as_ref())
                .map_or_else(|| doc.set.as_ref().map_or(0, Vec::len), Map::len),
        );
        let mut objects = |part: &str, map: Map<String, Value>| {
            let each: Vec<Option<(String, Template)>> = map
                .into_iter()
                .map(|(name, number)| {
                    let at = format!("{at}/{part}/{}", name.replace('~', "~0").replace('/', "~1"));
                    let made = object(check, &at, &number, names);
                    made.map(|made| (name, made))
                })
                .collect();
            each.into_iter().collect::<Option<Vec<_>>>()
        };
        if let Some(get) = doc.get {
            return objects("get", get).map(Self::Get);
        }
        if let Some(table) = doc.table {
            let at_most = doc.at_most.unwrap_or(USUAL_ROWS);
            return objects("table", table).map(|columns| Self::Table { columns, at_most });
        }
        let each = doc.set.unwrap_or_default().into_iter().enumerate().map(|(n, one)| {
            let at = format!("{at}/set/{n}");
            let number = object(check, &format!("{at}/object"), &one.object.clone().into(), names);
            let Some((key, kind, value)) = one.value() else {
                let wrong = "has one of `integer`, `unsigned`, `text`, `address` and `reference`";
                check.fail(&at, wrong);
                return None;
            };
            let value = check.template(&format!("{at}/{key}"), value, names);
            Some((number?, kind, value?))
        });
        let all: Vec<Option<_>> = each.collect();
        all.into_iter().collect::<Option<Vec<_>>>().map(Self::Set)
    }

    /// Whether it changes nothing.
    pub(super) const fn looks(&self) -> bool {
        !matches!(self, Self::Set(_))
    }

    pub(super) fn fill(&self, view: &CallScope<'_>) -> Result<SnmpAct, RequestError> {
        let named = |objects: &[(String, Template)]| {
            let each = objects.iter().map(|(name, template)| {
                Ok::<_, RequestError>((name.clone(), filled(name, template, view)?))
            });
            each.collect::<Result<Vec<_>, _>>()
        };
        Ok(match self {
            Self::Get(objects) => SnmpAct::Get(named(objects)?),
            Self::Table { columns, at_most } => {
                SnmpAct::Table { columns: named(columns)?, at_most: *at_most }
            }
            Self::Set(objects) => {
                let each = objects.iter().map(|(number, kind, value)| {
                    let number = filled("set: object", number, view)?;
                    let value = kind
                        .read(&value.fill(view)?)
                        .map_err(|wrong| RequestError::Part(format!("set: {number}: {wrong}")))?;
                    Ok::<_, RequestError>((number, value))
                });
                SnmpAct::Set(each.collect::<Result<_, _>>()?)
            }
        })
    }
}

/// The number of an object, as a template; complains of one that is written out and is none.
fn object(check: &mut Checker<'_>, at: &str, number: &Value, names: Names<'_>) -> Option<Template> {
    let Value::String(text) = number else {
        check.fail(at, "is the number of an object, as text: \"1.3.6.1.2.1.1.5.0\"");
        return None;
    };
    if !text.contains("${") && ObjectId::parse(text).is_none() {
        check.fail(at, "is not the number of an object, such as 1.3.6.1.2.1.1.5.0");
        return None;
    }
    check.template(at, number, names)
}

fn filled(name: &str, template: &Template, view: &CallScope<'_>) -> Result<ObjectId, RequestError> {
    let digits = |text: &str| {
        let is_part = |c: char| c.is_ascii_digit() || c == '.';
        text.chars().map(|c| if is_part(c) { c } else { IMPOSSIBLE }).collect()
    };
    let text = template.fill_encoded(view, digits)?;
    ObjectId::parse(&text).ok_or_else(|| {
        let shown = text.replace(IMPOSSIBLE, "?");
        let shown = cut(&shown, 100);
        RequestError::Part(format!("{name}: `{shown}` is not the number of an object"))
    })
}

impl SetType {
    fn read(self, value: &Value) -> Result<SnmpValue, String> {
        let shown = || {
            let text = value.to_string();
            cut(&text, 80).to_owned()
        };
        let whole = || match value {
            Value::Number(number) => number
                .as_i64()
                .or_else(|| number.as_f64().filter(|n| n.fract() == 0.0).map(|n| n as i64)),
            Value::String(text) => text.parse().ok(),
            _ => None,
        };
        match self {
            Self::Integer => whole()
                .and_then(|n| i32::try_from(n).ok())
                .map(|n| SnmpValue::Integer(n.into()))
                .ok_or_else(|| format!("is a whole number of 32 bits, and not {}", shown())),
            Self::Unsigned => whole()
                .and_then(|n| u32::try_from(n).ok())
                .map(|n| SnmpValue::Unsigned(n.into()))
                .ok_or_else(|| {
                    format!("is a whole number of 32 bits without a sign, and not {}", shown())
                }),
            Self::Text => match value {
                Value::String(text) if text.len() <= MAX_TEXT => {
                    Ok(SnmpValue::Bytes(text.clone().into_bytes()))
                }
                Value::Number(_) | Value::Bool(_) => {
                    Ok(SnmpValue::Bytes(value.to_string().into_bytes()))
                }
                _ => Err(format!("is a text of at most {MAX_TEXT} bytes, and not {}", shown())),
            },
            Self::Address => value
                .as_str()
                .and_then(|text| text.parse().ok())
                .map(SnmpValue::Address)
                .ok_or_else(|| format!("is an address such as 10.7.0.12, and not {}", shown())),
            Self::Reference => value
                .as_str()
                .and_then(ObjectId::parse)
                .map(SnmpValue::Reference)
                .ok_or_else(|| format!("is the number of an object, and not {}", shown())),
        }
    }
}
