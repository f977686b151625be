//! What people and programs may do.

use schemars::{Schema, json_schema};

crate::words! {
    /// What a token allows; each role includes those before it.
    pub enum Role("role") {
        /// Read everything but secrets.
        Viewer = "viewer",
        /// Launch, hold, stop and resolve jobs, decide proposals, try alerts.
        Responder = "responder",
        /// Publish definitions, send alerts for any source that are no trials.
        Author = "author",
        /// Tokens and secrets.
        Admin = "admin",
    }
}

impl Role {
    /// Whether it may launch and decide at all: a viewer only reads.
    pub fn acts(self) -> bool {
        self > Self::Viewer
    }

    /// What is said where a role is asked to act that does not.
    pub(crate) fn only_reads() -> String {
        let acting = Self::ALL.into_iter().filter(|r| r.acts()).map(Self::as_str);
        format!("a viewer only reads; one of: {}", acting.collect::<Vec<_>>().join(", "))
    }

    /// The schema of those that act.
    pub(crate) fn acting_schema(_: &mut schemars::SchemaGenerator) -> Schema {
        let acting: Vec<&str> =
            Self::ALL.into_iter().filter(|r| r.acts()).map(Self::as_str).collect();
        json_schema!({ "type": "string", "enum": acting })
    }
}
