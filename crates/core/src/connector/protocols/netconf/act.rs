//! What is written of a call over NETCONF, and what it is with everything filled in.

use super::element::Elements;
use crate::{
    Period,
    connector::protocols::{RequestError, shared::CallScope},
    document::Checker,
    expr::{Names, Template},
};
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use serde_json::{Map, Value};

/// Longest request, in bytes.
const MAX_REQUEST: usize = 256 << 10;
/// Longest time for which a device keeps a commit that nobody confirms, in seconds.
const MAX_CONFIRM: u64 = 3600;

/// A call over NETCONF (RFC 6241). It has one of `get`, `get_config`, `edit_config`, `commit`,
/// `cancel_commit` and `rpc`.
#[derive(Clone, Debug, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct NetconfDoc {
    /// Reads configuration and state.
    #[serde(default)]
    pub get: Option<GetDoc>,
    /// Reads configuration.
    #[serde(default)]
    pub get_config: Option<GetConfigDoc>,
    /// Changes configuration: all of it or none.
    #[serde(default)]
    pub edit_config: Option<EditDoc>,
    /// Confirms what an edit has committed with `confirm_within`.
    #[serde(default)]
    pub commit: Option<PersistedDoc>,
    /// Takes back what an edit has committed with `confirm_within`, before its time is over.
    #[serde(default)]
    pub cancel_commit: Option<PersistedDoc>,
    /// Any other request: a map with its one element. Keys are names of elements, `"@name"` is an
    /// attribute and `"@xmlns"` the namespace; a list is as many elements. What is filled in is
    /// text, whatever it holds.
    #[serde(default)]
    pub rpc: Option<Map<String, Value>>,
    /// Whether an `rpc` only looks, and changes nothing. Left out: no.
    #[serde(default)]
    pub looks: bool,
    /// Names of elements that are lists in the answer, however many of them come.
    #[serde(default)]
    pub lists: Vec<String>,
}

/// What is read: configuration and state.
#[derive(Clone, Debug, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct GetDoc {
    /// A subtree filter (RFC 6241, section 6), as elements. Left out: all that there is.
    #[serde(default)]
    pub filter: Option<Map<String, Value>>,
}

/// What is read: configuration.
#[derive(Clone, Debug, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct GetConfigDoc {
    /// Of which datastore. Left out: `running`.
    #[serde(default)]
    pub from: Datastore,
    /// A subtree filter (RFC 6241, section 6), as elements. Left out: all that there is.
    #[serde(default)]
    pub filter: Option<Map<String, Value>>,
}

/// What is changed.
#[derive(Clone, Debug, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct EditDoc {
    /// Into which datastore. Left out: `candidate` where the device has one, which is committed
    /// as a whole; else `running`.
    #[serde(default)]
    pub into: Option<Datastore>,
    /// What happens to what is there already. Left out: `merge`.
    #[serde(default)]
    pub default_operation: EditOperation,
    /// The configuration, as elements; keys of lists first. What is filled in is text, whatever it
    /// holds. `"@nc:operation": delete` on an element deletes it.
    pub config: Map<String, Value>,
    /// Whether the candidate is validated as a whole by a request of its own before it is
    /// committed. Left out: no, since a commit of what is not valid is refused.
    #[serde(default)]
    pub validate: bool,
    /// Within which time the commit must be confirmed (`commit`), or the device takes it back by
    /// itself: from 1s to 1h. Left out: it stays.
    #[serde(default)]
    pub confirm_within: Option<Period>,
}

/// A commit that waits to be confirmed.
#[derive(Clone, Debug, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct PersistedDoc {
    /// The `persist_id` that the edit gave.
    pub persist_id: String,
}

crate::words! {
    /// A set of configuration that a device keeps (RFC 6241, section 5.1).
    #[derive(Default, JsonSchema)]
    pub enum Datastore("datastore") {
        /// What it works with.
        #[default]
        Running = "running",
        /// What is prepared beside that and committed as a whole.
        Candidate = "candidate",
        /// What it begins with.
        Startup = "startup",
    }
}

crate::words! {
    /// What an edit does to what is there already (RFC 6241, section 7.2).
    #[derive(Default, JsonSchema)]
    pub enum EditOperation("edit operation") {
        /// Is added to it.
        #[default]
        Merge = "merge",
        /// Takes its place.
        Replace = "replace",
        /// Nothing, where no element says what.
        None = "none",
    }
}

/// A checked act.
#[derive(Clone, Debug)]
pub(super) enum Act {
    Get(Elements),
    GetConfig(Datastore, Elements),
    Edit {
        into: Option<Datastore>,
        operation: EditOperation,
        config: Elements,
        validate: bool,
        confirm_within: Option<u64>,
    },
    Commit(Template),
    CancelCommit(Template),
    Rpc {
        request: Elements,
        looks: bool,
    },
}

/// An act with everything filled in, as XML.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(super) enum FilledAct {
    /// One request, and what it is called.
    Request(&'static str, String),
    /// An edit: into which datastore, how, what, whether it is validated by a request of its own,
    /// and for how many seconds it waits to be confirmed.
    Edit {
        into: Option<Datastore>,
        operation: EditOperation,
        config: String,
        validate: bool,
        confirm_within: Option<u64>,
    },
    /// A commit that is confirmed or taken back, by its id.
    Commit { id: String, is_confirmed: bool },
}

impl NetconfDoc {
    /// What it sends, as written.
    pub(super) fn line(&self) -> String {
        let filtered = |name: &str, filter: Option<&Map<String, Value>>| {
            let what = filter.map(Elements::names).filter(|names| !names.is_empty());
            format!("{name} {}", what.as_deref().unwrap_or("everything"))
        };
        let acts = [
            self.get.as_ref().map(|doc| filtered("get", doc.filter.as_ref())),
            self.get_config.as_ref().map(|doc| filtered("get-config", doc.filter.as_ref())),
            self.edit_config.as_ref().map(|doc| filtered("edit-config", Some(&doc.config))),
            self.commit.as_ref().map(|_| "commit".to_owned()),
            self.cancel_commit.as_ref().map(|_| "cancel-commit".to_owned()),
            self.rpc.as_ref().map(Elements::names),
        ];
        format!("NETCONF {}", acts.into_iter().flatten().next().unwrap_or_default())
    }
}

impl Act {
    pub(super) fn check(
        check: &mut Checker<'_>,
        at: &str,
        doc: NetconfDoc,
        names: Names<'_>,
    ) -> Option<Self> {
        let written = [
            doc.get.is_some(),
            doc.get_config.is_some(),
            doc.edit_config.is_some(),
            doc.commit.is_some(),
            doc.cancel_commit.is_some(),
            doc.rpc.is_some(),
        ];
        if written.iter().filter(|is_there| **is_there).count() != 1 {
            let wrong = "has one of `get`, `get_config`, `edit_config`, `commit`, `cancel_commit` \
                         and `rpc`";
            check.fail(at, wrong);
            return None;
        }
        if doc.looks && doc.rpc.is_none() {
            check.fail(&format!("{at}/looks"), "belongs to an `rpc`");
        }
        let mut filter = |part: &str, filter: Option<Map<String, Value>>| match filter {
            None => Some(Elements::default()),
            Some(filter) => {
                Elements::check(check, &format!("{at}/{part}/filter"), &filter, names, true)
            }
        };
        if let Some(get) = doc.get {
            return filter("get", get.filter).map(Self::Get);
        }
        if let Some(get) = doc.get_config {
            return filter("get_config", get.filter).map(|made| Self::GetConfig(get.from, made));
        }
        if let Some(edit) = doc.edit_config {
            return Self::edit(check, &format!("{at}/edit_config"), edit, names);
        }
        for (part, commit) in [("commit", doc.commit), ("cancel_commit", doc.cancel_commit)] {
            let Some(commit) = commit else { continue };
            let at = format!("{at}/{part}/persist_id");
            let id = check.template(&at, &commit.persist_id.into(), names)?;
            let is_commit = part == "commit";
            return Some(if is_commit { Self::Commit(id) } else { Self::CancelCommit(id) });
        }
        let (at, rpc) = (format!("{at}/rpc"), doc.rpc.unwrap_or_default());
        if rpc.len() != 1 || rpc.values().any(Value::is_array) {
            check.fail(&at, "has one element, the request");
        }
        let request = Elements::check(check, &at, &rpc, names, false)?;
        Some(Self::Rpc { request, looks: doc.looks })
    }

    fn edit(check: &mut Checker<'_>, at: &str, doc: EditDoc, names: Names<'_>) -> Option<Self> {
        if doc.config.is_empty() {
            check.fail(&format!("{at}/config"), "is empty");
        }
        let confirm_within = doc.confirm_within.map(|time| time.millis().div_ceil(1000));
        if confirm_within.is_some_and(|seconds| !(1..=MAX_CONFIRM).contains(&seconds)) {
            check.fail(&format!("{at}/confirm_within"), "is from 1s to 1h");
        }
        if confirm_within.is_some() && !matches!(doc.into, None | Some(Datastore::Candidate)) {
            let wrong = "belongs to the candidate, which is committed";
            check.fail(&format!("{at}/confirm_within"), wrong);
        }
        if doc.validate && !matches!(doc.into, None | Some(Datastore::Candidate)) {
            check.fail(&format!("{at}/validate"), "belongs to the candidate, which is committed");
        }
        let config = Elements::check(check, &format!("{at}/config"), &doc.config, names, true)?;
        let (into, operation, validate) = (doc.into, doc.default_operation, doc.validate);
        Some(Self::Edit { into, operation, config, validate, confirm_within })
    }

    /// Whether it changes nothing.
    pub(super) const fn looks(&self) -> bool {
        match self {
            Self::Get(_) | Self::GetConfig(..) => true,
            Self::Edit { .. } | Self::Commit(_) | Self::CancelCommit(_) => false,
            Self::Rpc { looks, .. } => *looks,
        }
    }

    pub(super) fn fill(&self, view: &CallScope<'_>) -> Result<FilledAct, RequestError> {
        let filtered = |filter: &Elements| match filter.fill(view)? {
            filter if filter.is_empty() => Ok(filter),
            filter => Ok::<_, RequestError>(format!("<filter type=\"subtree\">{filter}</filter>")),
        };
        let filled = match self {
            Self::Get(filter) => {
                FilledAct::Request("get", format!("<get>{}</get>", filtered(filter)?))
            }
            Self::GetConfig(from, filter) => FilledAct::Request(
                "get-config",
                format!("<get-config><source><{from}/></source>{}</get-config>", filtered(filter)?),
            ),
            Self::Edit { into, operation, config, validate, confirm_within } => FilledAct::Edit {
                into: *into,
                operation: *operation,
                config: config.fill(view)?,
                validate: *validate,
                confirm_within: *confirm_within,
            },
            Self::Commit(id) => FilledAct::Commit { id: id.fill_text(view)?, is_confirmed: true },
            Self::CancelCommit(id) => {
                FilledAct::Commit { id: id.fill_text(view)?, is_confirmed: false }
            }
            Self::Rpc { request, .. } => FilledAct::Request("rpc", request.fill(view)?),
        };
        let length = filled.body().len();
        if length > MAX_REQUEST {
            let wrong = format!("the request has {length} bytes; {MAX_REQUEST} are allowed");
            return Err(RequestError::Part(wrong));
        }
        Ok(filled)
    }
}

impl FilledAct {
    /// What it is called.
    pub(super) const fn name(&self) -> &'static str {
        match self {
            Self::Request(name, _) => name,
            Self::Edit { .. } => "edit-config",
            Self::Commit { is_confirmed: true, .. } => "commit",
            Self::Commit { is_confirmed: false, .. } => "cancel-commit",
        }
    }

    /// The XML that its author wrote, or the id of its commit.
    pub(super) fn body(&self) -> &str {
        match self {
            Self::Request(_, xml) | Self::Edit { config: xml, .. } => xml,
            Self::Commit { id, .. } => id,
        }
    }
}
