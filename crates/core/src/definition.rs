//! What all kinds of definitions have in common: a kind of document, its check, and how it fits
//! with the others. Each kind stands in a folder of its own; [`crate::catalog`] holds the one list
//! of them.

use crate::{
    document::{Document, Problem},
    expr::{Expr, Template},
    text::nearest,
};
use schemars::JsonSchema;
use std::{any::Any, fmt, sync::Arc};

crate::words! {
    /// The kinds of definitions; each document's first key.
    pub enum Kind("kind of definition") {
        /// A place that alerts come from.
        Source = "source",
        /// Which alerts lead to which job.
        Rule = "rule",
        /// The steps of a job.
        Runbook = "runbook",
        /// One step that runbooks share.
        Step = "step",
        /// A driver for a kind of outside system.
        Connector = "connector",
        /// One configured use of a connector.
        Connection = "connection",
        /// Where events of jobs and decisions go.
        Subscriber = "subscriber",
        /// A person or a team, and how messages reach them.
        Contact = "contact",
        /// Times under a name.
        Calendar = "calendar",
        /// Resources under one name.
        Group = "group",
        /// Limits that hold for all jobs of a selection.
        Guard = "guard",
        /// A runbook that runs by itself, at times.
        Plan = "plan",
    }
}

/// A checked definition of any kind.
pub trait Definition: Any + fmt::Debug + Send + Sync {
    /// Its line for people.
    fn summary(&self) -> Option<&str>;

    /// The templates of what it shows others of secrets, and where each stands.
    fn credentials(&self) -> Vec<(&str, &Template)> {
        Vec::new()
    }

    /// Whether a secret of its templates is opened by others than nodes.
    fn is_opened_elsewhere(&self, _secret: &str) -> bool {
        false
    }

    /// The expressions that its author calculates with: the JSON pointer of the string in which
    /// each stands.
    fn expressions(&self) -> Vec<(String, &Expr)> {
        Vec::new()
    }

    /// The other definitions that it names.
    fn uses(&self) -> Vec<(Kind, String)> {
        Vec::new()
    }

    /// Whether it may use another definition that it does not name, since a glob of its matches it.
    fn may_use(&self, _kind: Kind, _name: &str) -> bool {
        false
    }

    /// What does not fit with the others.
    fn misfits(&self, others: &dyn Others) -> Vec<Mismatch> {
        let _ = others;
        Vec::new()
    }
}

/// A kind of definition.
pub trait Defined: Definition + Sized {
    /// The kind.
    const KIND: Kind;
    /// The document as written.
    type Doc: JsonSchema;

    /// Checks a document by itself.
    ///
    /// # Errors
    /// All diagnostics about it.
    fn check(document: &Document) -> Result<Self, Vec<Problem>>;
}

/// A definition whose kind is not known beforehand.
pub type AnyDefinition = Arc<dyn Definition>;

/// A definition as what it is; none if it is of another kind.
pub fn as_kind<T: Defined>(definition: &dyn Definition) -> Option<&T> {
    let any: &dyn Any = definition;
    any.downcast_ref()
}

/// The definitions among which one stands.
pub trait Others: fmt::Debug + Send + Sync {
    /// One of them.
    fn definition(&self, kind: Kind, name: &str) -> Option<&dyn Definition>;

    /// The names of one kind.
    fn names(&self, kind: Kind) -> Vec<&str>;
}

impl dyn Others + '_ {
    /// One of them by its type.
    ///
    /// # Errors
    /// If there is none of this name.
    pub fn get<T: Defined>(&self, name: &str) -> Result<&T, Missing> {
        let found = self.definition(T::KIND, name).and_then(as_kind);
        found.ok_or_else(|| Missing::new(T::KIND.as_str(), name, self.names(T::KIND)))
    }

    /// That there is one of this name.
    ///
    /// # Errors
    /// If there is none.
    pub fn must_have(&self, kind: Kind, name: &str) -> Result<(), Missing> {
        match self.definition(kind, name) {
            Some(_) => Ok(()),
            None => Err(Missing::new(kind.as_str(), name, self.names(kind))),
        }
    }
}

/// Something is named that is not there.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Missing {
    /// What it would be.
    pub what: &'static str,
    /// The name that was asked for.
    pub name: String,
    /// One that is there and has nearly this name.
    pub near: Option<String>,
    /// What it is missing from.
    pub of: Option<String>,
}

impl Missing {
    /// One that is not among those that are known.
    pub fn new<'a>(
        what: &'static str,
        name: &str,
        known: impl IntoIterator<Item = &'a str>,
    ) -> Self {
        Self {
            what,
            name: name.to_owned(),
            near: nearest(name, known).map(str::to_owned),
            of: None,
        }
    }

    /// Says what it is missing from.
    #[must_use]
    pub fn of(self, what: impl Into<String>) -> Self {
        Self { of: Some(what.into()), ..self }
    }
}

impl fmt::Display for Missing {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "there is no {} `{}`", self.what, self.name)?;
        if let Some(near) = &self.near {
            write!(f, " (did you mean `{near}`?)")?;
        }
        self.of.as_ref().map_or(Ok(()), |of| write!(f, " of {of}"))
    }
}

impl std::error::Error for Missing {}

/// What does not fit with the other definitions, and where it stands.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Mismatch {
    /// A JSON pointer.
    pub pointer: String,
    /// What it is.
    pub fault: Fault,
}

/// Why a definition does not fit.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
pub enum Fault {
    /// What it names is not there.
    #[error(transparent)]
    Missing(#[from] Missing),
    /// What it gives does not fit where it goes.
    #[error("{0}")]
    Unfit(String),
}

impl Mismatch {
    /// At a place.
    pub fn at(pointer: impl Into<String>, fault: impl Into<Fault>) -> Self {
        Self { pointer: pointer.into(), fault: fault.into() }
    }
}
