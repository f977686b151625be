//! Ready-made runbooks, and the connections that they call: the files of `library/` in the
//! repository, inside the binary.
//!
//! A runbook is looked at, copied under a name of one's own and over one's own connections, and is
//! an ordinary file from then on. How one is copied is [`arvok_core::runbook::copy`]'s.

use arvok_api::LibraryRunbook;
use arvok_core::{
    Kind,
    definition::{Defined, Missing},
    document::{Document, parse_file},
    runbook::{self, CopyError, Reference, Runbook},
};
use rust_embed::RustEmbed;
use std::{
    collections::{BTreeMap, BTreeSet},
    sync::LazyLock,
};

#[derive(RustEmbed)]
#[folder = "../../library/runbooks"]
struct Runbooks;

#[derive(RustEmbed)]
#[folder = "../../library/connections"]
struct Connections;

static LIBRARY: LazyLock<Vec<ReadyMade>> =
    LazyLock::new(|| texts::<Runbooks>().map(ReadyMade::read).collect());

/// The files of a folder, by name.
fn texts<F: RustEmbed>() -> impl Iterator<Item = (String, String)> {
    let mut names: Vec<_> = F::iter().collect();
    names.sort();
    let text =
        |name: &str| F::get(name).and_then(|file| String::from_utf8(file.data.into_owned()).ok());
    names
        .into_iter()
        .filter_map(move |name| Some((name.trim_end_matches(".yaml").to_owned(), text(&name)?)))
}

/// A runbook of the library.
#[derive(Debug)]
pub struct ReadyMade {
    document: Document,
    /// What it is.
    pub runbook: Runbook,
}

/// Why there is no copy.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
pub enum LibraryError {
    /// There is no such runbook in the library.
    #[error("{0} in the library")]
    Missing(Missing),
    /// It cannot be copied so.
    #[error(transparent)]
    Copy(#[from] CopyError),
}

/// All runbooks, by name.
pub fn all() -> &'static [ReadyMade] {
    &LIBRARY
}

/// One of them.
///
/// # Errors
/// If there is none of this name.
pub fn get(name: &str) -> Result<&'static ReadyMade, LibraryError> {
    let found = all().iter().find(|one| one.runbook.name == name);
    let names = all().iter().map(|one| one.runbook.name.as_str());
    found.ok_or_else(|| LibraryError::Missing(Missing::new(Kind::Runbook.as_str(), name, names)))
}

/// The connections that runbooks of the library call: each a name, and the file with it and its
/// connector.
pub fn connections() -> BTreeMap<String, String> {
    texts::<Connections>().collect()
}

/// All files: the connections, then the runbooks, each a name and a text.
pub fn files() -> Vec<(String, String)> {
    connections().into_iter().chain(texts::<Runbooks>()).collect()
}

impl From<&ReadyMade> for LibraryRunbook {
    fn from(ready: &ReadyMade) -> Self {
        let owned = |names: BTreeSet<&str>| names.into_iter().map(str::to_owned).collect();
        Self {
            name: ready.runbook.name.clone(),
            summary: ready.runbook.summary.clone(),
            connections: owned(ready.calls()),
            runbooks: owned(ready.children().into_iter().collect()),
            examples: ready.runbook.examples.len(),
        }
    }
}

impl ReadyMade {
    fn read((file, text): (String, String)) -> Self {
        let document = parse_file(&file, &text).ok().and_then(|all| all.into_iter().next());
        let document = document.expect("a ready-made runbook is a document; a test reads them all");
        let runbook =
            Runbook::check(&document).expect("a ready-made runbook is good; a test reads them all");
        Self { document, runbook }
    }

    /// Its text.
    pub fn text(&self) -> &str {
        &self.document.text
    }

    /// Whether a text under a name is this one, but for the name and for what it says it was copied
    /// from.
    pub fn is_same(&self, name: &str, text: &str) -> bool {
        let same = |own: &str| own.trim_end() == text.trim_end();
        same(self.text())
            || runbook::copy(&self.document, name, &BTreeMap::new()).is_ok_and(|copy| same(&copy))
    }

    /// Its document, for the places of its steps.
    pub fn document(&self) -> &Document {
        &self.document
    }

    /// The connections that it calls.
    pub fn calls(&self) -> BTreeSet<&str> {
        self.runbook.calls().into_iter().flat_map(|(via, _)| via.written_out()).collect()
    }

    /// The runbooks that its steps have done as jobs.
    pub fn children(&self) -> Vec<&str> {
        self.runbook.children().into_iter().flat_map(Reference::written_out).collect()
    }

    /// The text of a copy under a name, with other connections where there are any; and behind it
    /// whatever it needs of the library that `wants` it.
    ///
    /// # Errors
    /// If a name is none, or a connection is not called.
    pub fn copied(
        &self,
        name: &str,
        instead: &BTreeMap<String, String>,
        wants: impl Fn(Kind, &str) -> bool,
    ) -> Result<String, LibraryError> {
        let mut texts = vec![runbook::copy(&self.document, name, instead)?];
        let mut needed: BTreeSet<&str> =
            self.calls().into_iter().filter(|via| !instead.contains_key(*via)).collect();
        let mut below: BTreeSet<&str> = BTreeSet::new();
        let mut open = self.children();
        while let Some(child) = open.pop() {
            if below.insert(child) && wants(Kind::Runbook, child) {
                let child = get(child)?;
                texts.push(child.text().to_owned());
                needed.extend(child.calls());
                open.extend(child.children());
            }
        }
        let wanted = connections().into_iter().filter(|(name, _)| needed.contains(name.as_str()));
        texts
            .extend(wanted.filter(|(name, _)| wants(Kind::Connection, name)).map(|(_, text)| text));
        Ok(texts
            .iter()
            .map(|text| text.trim_end().to_owned() + "\n")
            .collect::<Vec<_>>()
            .join("---\n"))
    }
}

#[cfg(test)]
mod tests;
