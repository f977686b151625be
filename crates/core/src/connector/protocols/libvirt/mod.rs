//! Hypervisors through libvirt, whose socket is reached over SSH: guests that are looked at,
//! started and stopped, resized, kept in snapshots, and moved.
//!
//! [`act`] has what is written, [`states`] reads what libvirt says of guests, and [`errors`] what
//! its errors mean.

mod act;
mod errors;
mod states;

pub use act::{ChangeTime, LibvirtAct, LibvirtDoc, LibvirtLook, Migration, Power, SnapshotAct};
pub use errors::{LibvirtError, LibvirtErrorKind};
pub use states::{DomainState, counted, progress};

use super::{
    RequestError,
    host::HostTemplate,
    shared::{CallScope, GivenValues, OneAnswer, ShownRequest},
};
use crate::{
    connector::failure::{CallEnd, Failure, Hiding},
    document::Checker,
    expr::{Names, Template, Type},
    xml::{self, XmlValues},
};
use act::CheckedAct;
use chrono::{DateTime, SecondsFormat};
use serde_json::{Map, Value, json};
use std::sync::Arc;

/// Names of elements that are lists in a description, however many of them there are.
const LISTS: [&str; 12] = [
    "disk",
    "interface",
    "controller",
    "hostdev",
    "graphics",
    "console",
    "serial",
    "channel",
    "input",
    "filesystem",
    "vcpupin",
    "cell",
];

/// A checked call.
#[derive(Clone, Debug)]
pub struct LibvirtCall {
    line: String,
    /// The host, where its connection is not that of one alone.
    host: HostTemplate,
    domain: Option<Template>,
    act: CheckedAct,
}

impl LibvirtCall {
    /// Checks a call; what is given has the type `give`. With it comes what `output` may use, and
    /// the types of that.
    pub(in crate::connector) fn check(
        check: &mut Checker<'_>,
        at: &str,
        doc: LibvirtDoc,
        host: Option<String>,
        give: &Type,
    ) -> (Option<Self>, Vec<(&'static str, Type)>) {
        let given = [("give", give.clone())];
        let names = Names { roots: &["give"], functions: &[], types: &given };
        let host = HostTemplate::check(check, at, host, names);
        let at = format!("{at}/libvirt");
        let line = doc.line();
        let domain = match doc.domain.clone() {
            None => Some(None),
            Some(text) => check.template(&format!("{at}/domain"), &text.into(), names).map(Some),
        };
        let act = CheckedAct::check(check, &at, doc, names);
        let response = act.as_ref().map_or(Type::Any, response_type);
        let made = host.zip(domain).zip(act);
        let made = made.map(|((host, domain), act)| Self { line, host, domain, act });
        (made, vec![("give", give.clone()), ("response", response)])
    }

    /// What it does, as written.
    pub fn line(&self) -> &str {
        &self.line
    }

    /// Whether the call says on which host: then its connection must have `hosts`.
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
    ) -> Result<LibvirtPlan<'o>, RequestError> {
        let view = CallScope { give: &give, response: None };
        let host = self.host.fill(&view)?;
        let domain = match &self.domain {
            None => None,
            Some(domain) => Some(act::domain(domain.fill_text(&view)?)?),
        };
        let act = self.act.fill(&view)?;
        Ok(LibvirtPlan { host, domain, act, answer: OneAnswer::new(gives, give) })
    }
}

/// What is known of an answer.
fn response_type(act: &CheckedAct) -> Type {
    let fields: &[(&str, Type)] = match act {
        CheckedAct::Look(LibvirtLook::Domains) => &[("domains", Type::Any)],
        CheckedAct::Look(LibvirtLook::Snapshots) => &[("snapshots", Type::Any)],
        CheckedAct::Look(LibvirtLook::Domain) | CheckedAct::Memory(..) | CheckedAct::Vcpus(..) => {
            &[
                ("name", Type::Text),
                ("uuid", Type::Text),
                ("state", Type::Text),
                ("reason", Type::Text),
                ("memory_mib", Type::Number),
                ("most_memory_mib", Type::Number),
                ("vcpus", Type::Number),
                ("cpu_seconds", Type::Number),
            ]
        }
        CheckedAct::Look(LibvirtLook::Host) => &[
            ("name", Type::Text),
            ("model", Type::Text),
            ("processors", Type::Number),
            ("memory_mib", Type::Number),
            ("free_memory_mib", Type::Number),
        ],
        CheckedAct::Look(LibvirtLook::Progress) => &[
            ("is_going_on", Type::Bool),
            ("elapsed_seconds", Type::Number),
            ("total_mib", Type::Number),
            ("remaining_mib", Type::Number),
            ("percent", Type::Number),
        ],
        CheckedAct::Look(LibvirtLook::Statistics | LibvirtLook::Definition) => return Type::Any,
        CheckedAct::Power(_) => {
            &[("changed", Type::Bool), ("state", Type::Text), ("reason", Type::Text)]
        }
        CheckedAct::Disk { .. } => {
            &[("changed", Type::Bool), ("gib", Type::Number), ("before_gib", Type::Number)]
        }
        CheckedAct::Snapshot { .. } => &[("changed", Type::Bool), ("name", Type::Text)],
        CheckedAct::Migrate(_) => &[("to", Type::Text), ("seconds", Type::Number)],
        CheckedAct::CancelMigration => &[("changed", Type::Bool)],
    };
    let fields = fields.iter().map(|(name, t)| ((*name).to_owned(), t.clone()));
    Type::Record(Arc::new(fields.collect()))
}

/// A call that is to be made.
#[derive(Debug)]
pub struct LibvirtPlan<'o> {
    host: Option<String>,
    domain: Option<String>,
    act: LibvirtAct,
    answer: OneAnswer<'o>,
}

impl<'o> LibvirtPlan<'o> {
    /// What its failures say of answers is hidden by this; its outputs are not touched.
    #[must_use]
    pub fn hiding(self, hiding: Hiding<'o>) -> Self {
        Self { answer: self.answer.hiding(hiding), ..self }
    }

    /// On which host, where its connection is not that of one alone.
    pub fn host(&self) -> Option<&str> {
        self.host.as_deref()
    }

    /// Of which guest, by name or UUID; none: of all, or of the host.
    pub fn domain(&self) -> Option<&str> {
        self.domain.as_deref()
    }

    /// What is asked for.
    pub const fn act(&self) -> &LibvirtAct {
        &self.act
    }

    /// What is asked for, as people see it.
    pub(super) fn shown(&self) -> ShownRequest {
        let on = self.host.as_ref().map(|host| format!("{host}: ")).unwrap_or_default();
        let of = self.domain.as_ref().map(|domain| format!("{domain}: ")).unwrap_or_default();
        let (what, body) = match json!(self.act) {
            Value::Object(act) => match act.into_iter().next() {
                Some((name, Value::String(word))) => (format!("{name} {word}"), None),
                Some((name, body)) => (name, Some(body)),
                None => (String::new(), None),
            },
            act => (act.as_str().unwrap_or_default().to_owned(), None),
        };
        let target = format!("{on}{of}{}", what.replace('_', " "));
        ShownRequest { method: "LIBVIRT".into(), target, body }
    }

    /// The output that is made of what came.
    ///
    /// # Errors
    /// That none can be made of it.
    pub fn came(&self, response: Value) -> Result<Value, Failure> {
        self.answer.output(response, 0)
    }

    /// What an error of libvirt means for the call, which may have been asked for already.
    pub fn failed(&self, error: &LibvirtError, has_been_asked: bool) -> Failure {
        if let (LibvirtErrorKind::NoDomain, Some(domain)) = (error.kind(), &self.domain) {
            let message = format!("has no guest `{}`", self.answer.cut(domain));
            return Failure::lasting(CallEnd::Refused, message);
        }
        let said = self.answer.cut(&error.message);
        error.failure(&said, has_been_asked && !self.act.looks())
    }
}

impl LibvirtAct {
    /// Whether it changes nothing.
    pub const fn looks(&self) -> bool {
        matches!(self, Self::Look(_))
    }
}

/// The description of a guest, as a value.
///
/// # Errors
/// That it is none.
pub fn definition(xml: &[u8]) -> Result<Value, Failure> {
    described(xml).map_err(|why| {
        Failure::lasting(CallEnd::Refused, format!("the description cannot be read: {why}"))
    })
}

fn described(xml: &[u8]) -> Result<Value, String> {
    let lists: Vec<String> = LISTS.iter().map(|name| (*name).to_owned()).collect();
    Ok(xml::read(xml, "")?.into_value(XmlValues { lists: &lists, attributes: true }))
}

/// The most memory that a guest can have, in KiB, by its description.
pub fn most_kib(definition: &[u8]) -> Option<u64> {
    let described = described(definition).ok()?;
    let memory = described.get("memory")?;
    let text = memory.get("$").unwrap_or(memory).as_str()?;
    // libvirt writes it in KiB, whatever was written to it.
    text.trim().parse().ok()
}

/// What a snapshot is called, of what state, and when it was made.
pub fn snapshot(name: &str, xml: &[u8]) -> Value {
    let described = described(xml).unwrap_or(Value::Null);
    let text = |key: &str| described.get(key).and_then(Value::as_str);
    let seconds = text("creationTime").and_then(|time| time.parse::<i64>().ok());
    let created = seconds.and_then(|seconds| DateTime::from_timestamp(seconds, 0));
    let created = created.map(|time| time.to_rfc3339_opts(SecondsFormat::Secs, true));
    let parent = described.pointer("/parent/name").and_then(Value::as_str);
    let mut map = Map::new();
    map.insert("name".to_owned(), name.into());
    for (key, value) in [
        ("state", text("state").map(Value::from)),
        ("created", created.map(Value::from)),
        ("description", text("description").map(Value::from)),
        ("parent", parent.map(Value::from)),
    ] {
        map.extend(value.map(|value| (key.to_owned(), value)));
    }
    Value::Object(map)
}

/// The document of a snapshot that is to be made.
pub fn snapshot_document(name: &str, description: Option<&str>) -> String {
    let description = description
        .map(|text| format!("<description>{}</description>", xml::escaped(text)))
        .unwrap_or_default();
    let name = xml::escaped(name);
    format!("<domainsnapshot><name>{name}</name>{description}</domainsnapshot>")
}
