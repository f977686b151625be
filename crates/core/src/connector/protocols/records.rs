//! Arvok's own records: what is known of a resource. A call to them leaves nothing anywhere, and is
//! made by the node itself.

use super::{
    RequestError,
    shared::{CallScope, GivenValues, OneAnswer, ShownRequest},
};
use crate::{
    ResourcePath,
    connector::failure::{Failure, Hiding},
    document::Checker,
    expr::{Names, Template, Type},
};
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use serde_json::{Value, json};
use std::sync::Arc;

/// What is asked of Arvok's own records.
#[derive(Clone, Debug, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct RecordsDoc {
    /// The resource of which it is told what alarms stand, which jobs are under way on it, and who
    /// has touched it: usually `${give.resource}`. Its parts belong to it.
    pub resource: String,
}

/// A checked question.
#[derive(Clone, Debug)]
pub struct RecordsCall {
    line: String,
    resource: Template,
}

impl RecordsCall {
    /// Checks a question; what is given has the type `give`. With it comes what `output` may use,
    /// and the types of that.
    pub(in crate::connector) fn check(
        check: &mut Checker<'_>,
        at: &str,
        doc: RecordsDoc,
        give: &Type,
    ) -> (Option<Self>, Vec<(&'static str, Type)>) {
        let given = [("give", give.clone())];
        let names = Names { roots: &["give"], functions: &[], types: &given };
        let line = format!("ARVOK {}", doc.resource);
        let resource = check.template(&format!("{at}/arvok/resource"), &doc.resource.into(), names);
        let made = resource.map(|resource| Self { line, resource });
        (made, vec![("give", give.clone()), ("response", response())])
    }

    /// What it asks, as written.
    pub fn line(&self) -> &str {
        &self.line
    }

    pub(super) fn begin<'o>(
        &self,
        gives: GivenValues<'o>,
        give: Value,
    ) -> Result<RecordsPlan<'o>, RequestError> {
        let text = self.resource.fill_text(&CallScope { give: &give, response: None })?;
        let resource =
            ResourcePath::parse(&text).map_err(|e| RequestError::Part(format!("resource: {e}")))?;
        Ok(RecordsPlan { resource, answer: OneAnswer::new(gives, give) })
    }
}

/// What a `response` holds.
fn response() -> Type {
    let record = |fields: &[(&str, Type)]| {
        let fields = fields.iter().map(|(name, t)| ((*name).to_owned(), t.clone()));
        Type::Record(Arc::new(fields.collect()))
    };
    let list = |fields: &[(&str, Type)]| Type::List(Arc::new(record(fields)));
    let maybe = |t: Type| Type::Maybe(Arc::new(t));
    record(&[
        (
            "alarms",
            list(&[
                ("resource", Type::Text),
                ("kind", Type::Text),
                ("source", Type::Text),
                ("severity", Type::Text),
                ("summary", Type::Text),
                ("since", Type::Text),
            ]),
        ),
        (
            "jobs",
            list(&[
                ("job", Type::Number),
                ("runbook", Type::Text),
                ("target", Type::Text),
                ("state", Type::Text),
            ]),
        ),
        (
            "touched",
            list(&[
                ("job", Type::Number),
                ("resource", Type::Text),
                ("ended", maybe(Type::Text)),
                ("seconds_ago", Type::Number),
            ]),
        ),
    ])
}

/// A question that is to be asked.
#[derive(Debug)]
pub struct RecordsPlan<'o> {
    resource: ResourcePath,
    answer: OneAnswer<'o>,
}

impl<'o> RecordsPlan<'o> {
    /// What its failures say of answers is hidden by this; its outputs are not touched.
    #[must_use]
    pub fn hiding(self, hiding: Hiding<'o>) -> Self {
        Self { answer: self.answer.hiding(hiding), ..self }
    }

    /// The resource that is asked about.
    pub const fn resource(&self) -> &ResourcePath {
        &self.resource
    }

    /// What is asked, as people see it.
    pub(super) fn shown(&self) -> ShownRequest {
        let body = Some(json!({ "resource": self.resource.as_str() }));
        ShownRequest { method: "ARVOK".into(), target: self.resource.to_string(), body }
    }

    /// The output that is made of what the records know.
    ///
    /// # Errors
    /// That none can be made of it.
    pub fn output(&self, known: Value) -> Result<Value, Failure> {
        self.answer.output(known, 0)
    }
}
