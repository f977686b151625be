//! NETCONF (RFC 6241, over SSH by RFC 6242): network devices whose configuration is data.
//!
//! [`act`] has what is written, [`element`] makes XML of it, [`exchange`] leads a session with a
//! device, and [`reply`] reads what that says.

mod act;
mod element;
mod exchange;
mod reply;

pub use act::NetconfDoc;
pub use exchange::{NetconfExchange, NetconfNext};

use super::{
    RequestError,
    host::HostTemplate,
    shared::{CallScope, GivenValues, ShownRequest},
};
use crate::{
    connector::failure::{CallEnd, Failure, Hiding},
    document::Checker,
    expr::{ExprError, Names, Type},
    text::clean_json,
};
use act::{Act, FilledAct};
use serde_json::{Value, json};
use std::sync::Arc;

/// A checked call.
#[derive(Clone, Debug)]
pub struct NetconfCall {
    line: String,
    /// The device, where its connection is not that of one alone.
    host: HostTemplate,
    act: Act,
    lists: Vec<String>,
}

impl NetconfCall {
    /// Checks a call; what is given has the type `give`. With it comes what `output` may use, and
    /// the types of that.
    pub(in crate::connector) fn check(
        check: &mut Checker<'_>,
        at: &str,
        doc: NetconfDoc,
        host: Option<String>,
        give: &Type,
    ) -> (Option<Self>, Vec<(&'static str, Type)>) {
        let given = [("give", give.clone())];
        let names = Names { roots: &["give"], functions: &[], types: &given };
        let host = HostTemplate::check(check, at, host, names);
        let (line, lists) = (doc.line(), doc.lists.clone());
        let fields: &[(&str, Type)] = match doc.edit_config {
            Some(_) => &[("datastore", Type::Text), ("persist_id", Type::Any)],
            None => &[("data", Type::Any)],
        };
        let fields = fields.iter().map(|(name, t)| ((*name).to_owned(), t.clone()));
        let response = Type::Record(Arc::new(fields.collect()));
        let act = Act::check(check, &format!("{at}/netconf"), doc, names);
        let made = host.zip(act).map(|(host, act)| Self { line, host, act, lists });
        (made, vec![("give", give.clone()), ("response", response)])
    }

    /// What it does, as written.
    pub fn line(&self) -> &str {
        &self.line
    }

    /// Whether the call says on which device: then its connection must have `hosts`.
    pub const fn names_host(&self) -> bool {
        self.host.is_named()
    }

    /// Whether it changes nothing.
    pub const fn is_safe(&self) -> bool {
        self.act.looks()
    }

    pub(super) fn begin<'o>(
        &'o self,
        gives: GivenValues<'o>,
        give: Value,
        key: &str,
    ) -> Result<NetconfPlan<'o>, RequestError> {
        let view = CallScope { give: &give, response: None };
        let host = self.host.fill(&view)?;
        let act = self.act.fill(&view)?;
        let (output, key) = (gives, key.to_owned());
        Ok(NetconfPlan { call: self, output, give, host, act, key, hiding: Hiding::NOTHING })
    }
}

/// A call that is to be made.
#[derive(Debug)]
pub struct NetconfPlan<'o> {
    call: &'o NetconfCall,
    output: GivenValues<'o>,
    give: Value,
    host: Option<String>,
    act: FilledAct,
    key: String,
    hiding: Hiding<'o>,
}

impl<'o> NetconfPlan<'o> {
    /// What its failures say of answers is hidden by this; its outputs are not touched.
    #[must_use]
    pub fn hiding(self, hiding: Hiding<'o>) -> Self {
        Self { hiding, ..self }
    }

    /// On which device, where its connection is not that of one alone.
    pub fn host(&self) -> Option<&str> {
        self.host.as_deref()
    }

    pub(super) fn shown(&self) -> ShownRequest {
        let target = match &self.host {
            None => self.act.name().to_owned(),
            Some(host) => format!("{host}: {}", self.act.name()),
        };
        let body = Some(json!(self.act.body()));
        ShownRequest { method: "NETCONF".into(), target, body }
    }

    /// Begins with a device whose hello has come.
    ///
    /// # Errors
    /// That it is no hello, or that the device is not capable of what is asked.
    pub fn begin(self, hello: &[u8]) -> Result<NetconfExchange<'o>, Failure> {
        let announced = announced(hello, self.hiding)?;
        NetconfExchange::begin(self, &announced)
    }

    /// The id by which a commit is confirmed: the same for every try of the same step.
    fn persist_id(&self) -> String {
        format!("arvok {}", self.key)
    }

    /// The output, of what was said: as `output` makes it, or the data, or all.
    fn response(&self, said: Value, notes: &Value) -> Result<Value, Failure> {
        let useless = |why: &str| {
            let why = self.hiding.cut(why, 300);
            let message = format!("it was done, but what came cannot be used: {why}");
            Failure::lasting(CallEnd::Done, message)
        };
        let response = match notes {
            Value::Null => json!({ "data": data(said) }),
            notes => notes.clone(),
        };
        let output: Result<Value, ExprError> = match self.output.output {
            None => Ok(clean_json(response.get("data").unwrap_or(&response).clone())),
            Some(expr) => {
                let view = CallScope { give: &self.give, response: Some(&response) };
                expr.eval(&view).map(|value| clean_json(value.to_json()))
            }
        };
        let output = output.map_err(|e| useless(&format!("the output: {e}")))?;
        self.output.usable(output, self.hiding).map_err(|why| useless(&why))
    }
}

/// What is in a reply: in those of `get` and `get-config` that is in one element more.
fn data(said: Value) -> Value {
    match said {
        Value::Object(mut map) if map.len() == 1 && map.contains_key("data") => {
            match map.remove("data") {
                // Nothing that the filter lets through.
                Some(Value::String(_)) | None => json!({}),
                Some(data) => data,
            }
        }
        said => said,
    }
}

/// The capabilities that the hello of a device announces.
///
/// # Errors
/// That it is none.
pub fn announced(hello: &[u8], hiding: Hiding<'_>) -> Result<Vec<String>, Failure> {
    reply::capabilities(hello).map_err(|why| {
        Failure::new(CallEnd::NotSent, format!("the device {}", hiding.cut(&why, 300)))
    })
}
