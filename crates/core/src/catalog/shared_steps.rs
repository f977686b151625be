//! Shared steps in a publication: runbooks are made of those that stand afterwards, and whoever
//! uses one that changes is published anew with it.

use super::{Catalog, MAX_PUBLICATION, version_of};
use crate::{
    definition::{Definition, Kind},
    document::{Document, DocumentPart, Parts, Problem},
};
use std::{collections::BTreeMap, sync::Arc};

/// The shared steps that stand once documents are published and some definitions are gone.
pub(super) fn parts(documents: &[Document], gone: &[(Kind, String)], published: &Catalog) -> Parts {
    let is_gone = |name: &String| gone.iter().any(|(k, n)| *k == Kind::Step && n == name);
    let standing = published.entries(Kind::Step).filter(|entry| !is_gone(&entry.name));
    let standing = standing.map(|entry| {
        let part = DocumentPart { version: entry.version, document: Arc::clone(&entry.document) };
        (entry.name.clone(), part)
    });
    let is_step = |document: &&Document| document.kind == Kind::Step.as_str();
    let anew = documents.iter().filter(is_step).map(|document| {
        let version = version_of(document, Kind::Step, published);
        (document.name.clone(), DocumentPart { version, document: Arc::new(document.clone()) })
    });
    Arc::new(standing.chain(anew).collect())
}

/// The published runbooks of which a shared step changes, and which are not among the documents
/// themselves, made of what stands afterwards.
///
/// # Errors
/// If they are more than one publication may hold.
pub(super) fn users(
    documents: &[Document],
    parts: &Parts,
    gone: &[(Kind, String)],
    published: &Catalog,
) -> Result<Vec<Document>, Problem> {
    let steps = documents.iter().filter(|document| document.kind == Kind::Step.as_str());
    let changed: Vec<&Document> = steps
        .filter(|document| {
            let stands = published.entry(Kind::Step, &document.name);
            let version = parts.get(&document.name).map(|part| part.version);
            stands.is_some_and(|stands| Some(stands.version) != version)
        })
        .collect();
    let Some(first) = changed.first() else { return Ok(Vec::new()) };
    let is_here = |name: &str| {
        let among = documents.iter().any(|d| d.kind == Kind::Runbook.as_str() && d.name == name);
        among || gone.iter().any(|(kind, gone)| *kind == Kind::Runbook && gone == name)
    };
    let uses_changed =
        |document: &Document| changed.iter().any(|step| document.parts.contains_key(&step.name));
    let users = published.entries(Kind::Runbook).map(|entry| &*entry.document);
    let users = users.filter(|document| uses_changed(document) && !is_here(&document.name));
    let mut bytes = 0;
    let mut found = Vec::new();
    for document in users {
        let used = document.parts.keys().filter_map(|name| parts.get(name));
        bytes += document.text.len();
        bytes += used.map(|part| part.document.text.len()).sum::<usize>();
        if bytes > MAX_PUBLICATION {
            let most = MAX_PUBLICATION >> 20;
            let wrong = format!(
                "the runbooks that use what changes here make more than {most} MiB, and would all \
                be published anew"
            );
            return Err(first.problem("", wrong));
        }
        let mut document = document.clone();
        document.parts = Arc::clone(parts);
        found.push(document);
    }
    Ok(found)
}

/// Of these the ones that a definition uses.
pub(super) fn used(parts: &Parts, definition: &dyn Definition) -> Parts {
    if parts.is_empty() {
        return Arc::clone(parts);
    }
    let steps = definition.uses().into_iter().filter(|(kind, _)| *kind == Kind::Step);
    let used: BTreeMap<String, DocumentPart> =
        steps.filter_map(|(_, name)| Some((name.clone(), parts.get(&name)?.clone()))).collect();
    Arc::new(used)
}

/// Whether two documents say the same and are made of the same.
pub(super) fn is_same(one: &Document, other: &Document) -> bool {
    let versions = |document: &Document| {
        let parts = document.parts.iter();
        parts.map(|(name, part)| (name.clone(), part.version)).collect::<Vec<_>>()
    };
    one.text == other.text && versions(one) == versions(other)
}
