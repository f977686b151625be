//! Agents over SNMP (RFC 3416; versions 2c and 3): objects of old devices that are read and set.
//!
//! [`act`] has what is written, [`object`] the numbers of objects.

mod act;
mod object;

pub use act::{SnmpAct, SnmpDoc, SnmpValue};
pub use object::ObjectId;

use super::{
    RequestError,
    host::HostTemplate,
    shared::{CallScope, GivenValues, OneAnswer, ShownRequest},
};
use crate::{
    connector::failure::{CallEnd, Failure, Hiding},
    document::Checker,
    expr::{Names, Type},
};
use act::SnmpActTemplate;
use serde_json::{Map, Value, json};
use std::{collections::BTreeMap, sync::Arc};

/// A checked call.
#[derive(Clone, Debug)]
pub struct SnmpCall {
    line: String,
    /// The agent, where its connection is not that of one alone.
    host: HostTemplate,
    act: SnmpActTemplate,
}

impl SnmpCall {
    /// Checks a call; what is given has the type `give`. With it comes what `output` may use, and
    /// the types of that.
    pub(in crate::connector) fn check(
        check: &mut Checker<'_>,
        at: &str,
        doc: SnmpDoc,
        host: Option<String>,
        give: &Type,
    ) -> (Option<Self>, Vec<(&'static str, Type)>) {
        let given = [("give", give.clone())];
        let names = Names { roots: &["give"], functions: &[], types: &given };
        let host = HostTemplate::check(check, at, host, names);
        let line = doc.line();
        let act = SnmpActTemplate::check(check, &format!("{at}/snmp"), doc, names);
        let values = |objects: &[(String, _)]| {
            let each = objects.iter().map(|(name, _)| (name.clone(), Type::Any));
            Type::Record(Arc::new(each.collect()))
        };
        let (name, given) = match &act {
            Some(SnmpActTemplate::Get(objects)) => ("values", values(objects)),
            Some(SnmpActTemplate::Table { columns, .. }) => {
                let mut row: BTreeMap<String, Type> =
                    columns.iter().map(|(name, _)| (name.clone(), Type::Any)).collect();
                row.insert("index".to_owned(), Type::Text);
                ("rows", Type::List(Arc::new(Type::Record(Arc::new(row)))))
            }
            _ => ("count", Type::Number),
        };
        let mut fields = BTreeMap::from([(name.to_owned(), given)]);
        if name == "rows" {
            fields.insert("left_out".to_owned(), Type::Bool);
        }
        let response = Type::Record(Arc::new(fields));
        let made = host.zip(act).map(|(host, act)| Self { line, host, act });
        (made, vec![("give", give.clone()), ("response", response)])
    }

    /// What it does, as written.
    pub fn line(&self) -> &str {
        &self.line
    }

    /// Whether the call says on which agent: then its connection must have `hosts`.
    pub const fn names_host(&self) -> bool {
        self.host.is_named()
    }

    /// Whether it changes nothing.
    pub const fn is_safe(&self) -> bool {
        self.act.looks()
    }

    pub(super) fn begin<'o>(
        &self,
        gives: GivenValues<'o>,
        give: Value,
    ) -> Result<SnmpPlan<'o>, RequestError> {
        let view = CallScope { give: &give, response: None };
        let host = self.host.fill(&view)?;
        let act = self.act.fill(&view)?;
        Ok(SnmpPlan { host, act, answer: OneAnswer::new(gives, give) })
    }
}

/// A call that is to be made.
#[derive(Debug)]
pub struct SnmpPlan<'o> {
    host: Option<String>,
    act: SnmpAct,
    answer: OneAnswer<'o>,
}

impl<'o> SnmpPlan<'o> {
    /// What its failures say of answers is hidden by this; its outputs are not touched.
    #[must_use]
    pub fn hiding(self, hiding: Hiding<'o>) -> Self {
        Self { answer: self.answer.hiding(hiding), ..self }
    }

    /// On which agent, where its connection is not that of one alone.
    pub fn host(&self) -> Option<&str> {
        self.host.as_deref()
    }

    /// What is asked for.
    pub const fn act(&self) -> &SnmpAct {
        &self.act
    }

    /// What is asked for, as people see it.
    pub(super) fn shown(&self) -> ShownRequest {
        let named = |objects: &[(String, ObjectId)]| {
            objects.iter().map(|(name, number)| (name.clone(), json!(number))).collect()
        };
        let (what, body): (&str, Map<String, Value>) = match &self.act {
            SnmpAct::Get(objects) => ("get", named(objects)),
            SnmpAct::Table { columns, .. } => ("table", named(columns)),
            SnmpAct::Set(objects) => {
                let each = objects.iter();
                ("set", each.map(|(number, value)| (number.to_string(), value.json())).collect())
            }
        };
        let target = match &self.host {
            None => what.to_owned(),
            Some(host) => format!("{host}: {what}"),
        };
        ShownRequest { method: "SNMP".into(), target, body: Some(Value::Object(body)) }
    }

    /// The output of objects that were read: in the order in which they were asked for.
    ///
    /// # Errors
    /// That none can be made of it.
    pub fn read(&self, values: &[SnmpValue]) -> Result<Value, Failure> {
        let names: Vec<&str> = match &self.act {
            SnmpAct::Get(objects) => objects.iter().map(|(name, _)| name.as_str()).collect(),
            SnmpAct::Table { .. } | SnmpAct::Set(_) => Vec::new(),
        };
        let values: Map<String, Value> = names
            .into_iter()
            .zip(values)
            .map(|(name, value)| (name.to_owned(), value.json()))
            .collect();
        self.answer.output(json!({ "values": values }), 0)
    }

    /// The output of columns that were read, each object with its value, by column.
    ///
    /// # Errors
    /// That none can be made of it.
    pub fn rows(
        &self,
        came: &[Vec<(ObjectId, SnmpValue)>],
        left_out: bool,
    ) -> Result<Value, Failure> {
        let SnmpAct::Table { columns, .. } = &self.act else { return self.is_set() };
        // By the parts of their index, as a device has them in order.
        let mut rows: BTreeMap<Vec<u32>, Map<String, Value>> = BTreeMap::new();
        for ((name, column), cells) in columns.iter().zip(came) {
            for (number, value) in cells {
                let Some(index) = number.parts().strip_prefix(column.parts()) else { continue };
                let row = rows.entry(index.to_vec()).or_insert_with(|| {
                    let index = number.below(column).unwrap_or_default();
                    Map::from_iter([("index".to_owned(), Value::String(index))])
                });
                row.insert(name.clone(), value.json());
            }
        }
        // A device may have no value in a column of a row.
        for row in rows.values_mut() {
            for (name, _) in columns {
                row.entry(name.clone()).or_insert(Value::Null);
            }
        }
        let rows: Vec<Value> = rows.into_values().map(Value::Object).collect();
        self.answer.output(json!({ "rows": rows, "left_out": left_out }), 0)
    }

    /// The output of objects that were set.
    ///
    /// # Errors
    /// That none can be made of it.
    pub fn is_set(&self) -> Result<Value, Failure> {
        let count = match &self.act {
            SnmpAct::Set(objects) => objects.len(),
            SnmpAct::Get(_) | SnmpAct::Table { .. } => 0,
        };
        self.answer.output(json!({ "count": count }), 0)
    }

    /// What an error of an agent means (RFC 3416, section 4.2.5), for the object of which it is.
    pub fn refused(&self, status: u32, object: Option<&ObjectId>) -> Failure {
        let words = match status {
            1 => "the answer is too big",
            2 => "there is no such object",
            3 => "the value is none that it takes",
            4 => "it is to read only",
            5 => "it does not say why",
            6 => "it may not be touched",
            7 => "the type is another one",
            8 => "the length is another one",
            9 => "it cannot be written as it was",
            10 => "the value is never one of it",
            11 => "it cannot be made",
            12 => "the value does not fit the others now",
            13 => "it has no room for it",
            14 => "it could not be done",
            15 => "a part was done, and could not be taken back",
            16 => "the user may not do this",
            17 => "it cannot be written",
            18 => "there is no such object now",
            _ => "an error",
        };
        let of = object.map(|object| format!("{object}: ")).unwrap_or_default();
        let message = format!("{of}answered {status}: {words}");
        match status {
            15 => Failure::new(CallEnd::Unknown, message),
            1 | 5 | 12..=14 => Failure::new(CallEnd::Refused, message),
            _ => Failure::lasting(CallEnd::Refused, message),
        }
    }
}

impl SnmpValue {
    /// As a value of expressions. Bytes are text if they are text that one can read, else
    /// hexadecimal digits after `0x`.
    pub fn json(&self) -> Value {
        match self {
            Self::Integer(number) => json!(number),
            Self::Unsigned(number) => json!(number),
            Self::Bytes(bytes) => match std::str::from_utf8(bytes) {
                Ok(text) if !text.contains(|c: char| c.is_control() && !"\r\n\t".contains(c)) => {
                    json!(text)
                }
                _ => {
                    let digits: Vec<String> = bytes.iter().map(|b| format!("{b:02x}")).collect();
                    json!(format!("0x{}", digits.concat()))
                }
            },
            Self::Address(address) => json!(address.to_string()),
            Self::Reference(number) => json!(number),
            Self::None => Value::Null,
        }
    }
}
