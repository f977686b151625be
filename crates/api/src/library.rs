//! The library: ready-made runbooks, and copies of them.

use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;
use utoipa::ToSchema;

/// A ready-made runbook.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct LibraryRunbook {
    /// The name.
    pub name: String,
    /// One line for people.
    pub summary: Option<String>,
    /// The connections that it calls.
    pub connections: Vec<String>,
    /// The runbooks that it has done as jobs.
    pub runbooks: Vec<String>,
    /// How many examples are played when it is checked.
    pub examples: usize,
}

/// A ready-made runbook as it stands to what is published here.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct LibraryItem {
    /// What it is.
    pub runbook: LibraryRunbook,
    /// Of its connections and runbooks, those that are not published here.
    pub missing: Vec<String>,
    /// The published runbooks that were copied from it.
    pub copies: Vec<LibraryCopy>,
}

/// A published runbook that was copied from a ready-made one, or has its name.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct LibraryCopy {
    /// Its name.
    pub name: String,
    /// Its version.
    pub version: i32,
    /// Whether its text is that of the library.
    pub same: bool,
}

/// A ready-made runbook with its text.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct LibraryDetail {
    /// In short.
    pub item: LibraryItem,
    /// Its document.
    pub text: String,
}

/// How a ready-made runbook is copied.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct CopyRequest {
    /// The name of the copy. Left out: the same.
    #[serde(default)]
    pub name: Option<String>,
    /// Connections of the runbook, and those of the copy instead.
    #[serde(default)]
    pub via: BTreeMap<String, String>,
    /// Also whatever it needs of the library that is not published here.
    #[serde(default)]
    pub with_needs: bool,
}

/// A copy that is not published yet.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Copied {
    /// Its document; with what it needs, all of them.
    pub text: String,
}
