//! The published set: every definition, compiled, and checked against each other.
//!
//! A [`Catalog`] never changes: publishing makes a new one and nodes swap it in whole.

mod across;
pub mod lint;
mod schema;

pub use lint::Seen;
pub use schema::schema;

use crate::{
    connector::{Connection, Connector, Operation},
    document::{Document, Problem, parse_file},
    expr::Template,
    matcher::Matcher,
    read::Source,
    rehearse,
    rule::Rule,
    runbook::Runbook,
    text::nearest,
};
use serde::{Deserialize, Serialize};
use std::{
    collections::{BTreeMap, HashSet},
    fmt,
    sync::Arc,
};

/// The kinds of definitions; each document's first key.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Kind {
    /// A place that alerts come from.
    Source,
    /// Which alerts lead to which job.
    Rule,
    /// The steps of a job.
    Runbook,
    /// A driver for a kind of outside system.
    Connector,
    /// One configured use of a connector.
    Connection,
}

impl Kind {
    /// All of them.
    pub const ALL: [Self; 5] = [Self::Source, Self::Rule, Self::Runbook, Self::Connector, Self::Connection];

    /// The first key of its documents.
    pub const fn as_str(self) -> &'static str {
        match self {
            Self::Source => "source",
            Self::Rule => "rule",
            Self::Runbook => "runbook",
            Self::Connector => "connector",
            Self::Connection => "connection",
        }
    }

    /// The kind named by a word.
    pub fn parse(text: &str) -> Option<Self> {
        Self::ALL.into_iter().find(|k| k.as_str() == text)
    }
}

impl fmt::Display for Kind {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(self.as_str())
    }
}

/// A compiled definition.
#[derive(Clone, Debug)]
pub enum Definition {
    /// A source.
    Source(Box<Source>),
    /// A rule.
    Rule(Arc<Rule>),
    /// A runbook.
    Runbook(Runbook),
    /// A connector.
    Connector(Connector),
    /// A connection.
    Connection(Connection),
}

impl Definition {
    /// Checks one document by itself.
    pub fn check(document: &Document) -> Result<Self, Vec<Problem>> {
        match Kind::parse(&document.kind) {
            Some(Kind::Source) => Source::check(document).map(|s| Self::Source(Box::new(s))),
            Some(Kind::Rule) => Rule::check(document).map(|r| Self::Rule(Arc::new(r))),
            Some(Kind::Runbook) => Runbook::check(document).map(Self::Runbook),
            Some(Kind::Connector) => Connector::check(document).map(Self::Connector),
            Some(Kind::Connection) => Connection::check(document).map(Self::Connection),
            None => {
                let known = Kind::ALL.map(Kind::as_str);
                let hint = match nearest(&document.kind, known) {
                    Some(n) => format!("did you mean `{n}:`?"),
                    None => format!("a definition begins with one of {}", known.map(|k| format!("{k}:")).join(", ")),
                };
                Err(vec![document.key_problem(
                    &format!("/{}", document.kind),
                    format!("`{}:` defines nothing; {hint}", document.kind),
                )])
            }
        }
    }

    /// Its kind.
    pub fn kind(&self) -> Kind {
        match self {
            Self::Source(_) => Kind::Source,
            Self::Rule(_) => Kind::Rule,
            Self::Runbook(_) => Kind::Runbook,
            Self::Connector(_) => Kind::Connector,
            Self::Connection(_) => Kind::Connection,
        }
    }

    /// The template of its credential, and where it stands.
    pub fn credential(&self) -> Option<(&'static str, &Template)> {
        match self {
            Self::Source(source) => Some(("/intake/webhook/credential/bearer", &source.bearer)),
            Self::Connection(connection) => connection.bearer.as_ref().map(|b| ("/credential/bearer", b)),
            Self::Rule(_) | Self::Runbook(_) | Self::Connector(_) => None,
        }
    }

    /// Its line for people.
    pub fn summary(&self) -> Option<&str> {
        match self {
            Self::Source(d) => d.summary.as_deref(),
            Self::Rule(d) => d.summary.as_deref(),
            Self::Runbook(d) => d.summary.as_deref(),
            Self::Connector(d) => d.summary.as_deref(),
            Self::Connection(d) => d.summary.as_deref(),
        }
    }
}

/// A definition with its text and version.
#[derive(Clone, Debug)]
pub struct Entry {
    /// Its name.
    pub name: String,
    /// Counts from one with every change.
    pub version: i32,
    /// Kept for places of complaints, and for showing.
    pub document: Document,
    /// Compiled.
    pub definition: Definition,
}

/// Everything published.
#[derive(Clone, Debug, Default)]
pub struct Catalog {
    entries: BTreeMap<(Kind, String), Arc<Entry>>,
    /// The newest versions of what stands otherwise or not at all: it was withdrawn, or cannot be
    /// compiled here. A new text counts on from there.
    passed: BTreeMap<(Kind, String), i32>,
}

impl Catalog {
    /// Puts compiled entries together; a later one of the same kind and name replaces an
    /// earlier one.
    pub fn new(entries: impl IntoIterator<Item = Arc<Entry>>) -> Self {
        let entries = entries.into_iter().map(|e| ((e.definition.kind(), e.name.clone()), e)).collect();
        Self { entries, passed: BTreeMap::new() }
    }

    /// The same set, with the newest versions of what stands otherwise or not at all.
    #[must_use]
    pub fn after(mut self, passed: impl IntoIterator<Item = ((Kind, String), i32)>) -> Self {
        self.passed = passed.into_iter().collect();
        self
    }

    /// This set without some of its entries.
    #[must_use]
    pub fn without(mut self, gone: &[(Kind, String)]) -> Self {
        self.entries.retain(|key, _| !gone.contains(key));
        self
    }

    /// The version that a new text of this name would get.
    pub fn next_version(&self, kind: Kind, name: &str) -> i32 {
        let standing = self.entry(kind, name).map(|e| e.version);
        let passed = self.passed.get(&(kind, name.to_owned())).copied();
        standing.max(passed).unwrap_or(0) + 1
    }

    /// This set with other entries put in or replaced.
    pub fn with(&self, entries: impl IntoIterator<Item = Arc<Entry>>) -> Self {
        Self::new(self.entries.values().cloned().chain(entries)).after(self.passed.clone())
    }

    /// One definition with its text.
    pub fn entry(&self, kind: Kind, name: &str) -> Option<&Arc<Entry>> {
        self.entries.get(&(kind, name.to_owned()))
    }

    /// All of one kind, by name.
    pub fn entries(&self, kind: Kind) -> impl Iterator<Item = &Arc<Entry>> {
        self.entries.iter().filter(move |((k, _), _)| *k == kind).map(|(_, e)| e)
    }

    /// The rules with their versions.
    pub fn rules(&self) -> impl Iterator<Item = (&Arc<Rule>, i32)> {
        self.entries(Kind::Rule).filter_map(|e| match &e.definition {
            Definition::Rule(r) => Some((r, e.version)),
            _ => None,
        })
    }

    /// A rule with its version.
    pub fn rule(&self, name: &str) -> Option<(&Arc<Rule>, i32)> {
        let entry = self.entry(Kind::Rule, name)?;
        match &entry.definition {
            Definition::Rule(r) => Some((r, entry.version)),
            _ => None,
        }
    }

    /// The matcher over all rules.
    pub fn matcher(&self) -> Matcher {
        Matcher::new(self.rules().map(|(rule, version)| (Arc::clone(rule), version)).collect())
    }

    /// A source.
    pub fn source(&self, name: &str) -> Option<&Source> {
        match &self.entry(Kind::Source, name)?.definition {
            Definition::Source(s) => Some(s),
            _ => None,
        }
    }

    /// A runbook with its version.
    pub fn runbook(&self, name: &str) -> Option<(&Runbook, i32)> {
        let entry = self.entry(Kind::Runbook, name)?;
        match &entry.definition {
            Definition::Runbook(r) => Some((r, entry.version)),
            _ => None,
        }
    }

    /// A connection with one operation of its connector.
    pub fn operation(&self, connection: &str, operation: &str) -> Result<(&Connection, &Operation), String> {
        let known = self.entries(Kind::Connection).map(|e| e.name.as_str());
        let Some(Definition::Connection(c)) = self.entry(Kind::Connection, connection).map(|e| &e.definition) else {
            return Err(missing("connection", connection, known));
        };
        let known = self.entries(Kind::Connector).map(|e| e.name.as_str());
        let Some(Definition::Connector(driver)) = self.entry(Kind::Connector, &c.connector).map(|e| &e.definition)
        else {
            return Err(missing("connector", &c.connector, known));
        };
        match driver.operations.get(operation) {
            Some(op) => Ok((c, op)),
            None => {
                let known = driver.operations.keys().map(String::as_str);
                Err(format!("{} of connector `{}`", missing("operation", operation, known), driver.name))
            }
        }
    }
}

fn missing<'a>(what: &str, name: &str, known: impl Iterator<Item = &'a str>) -> String {
    match nearest(name, known) {
        Some(n) => format!("there is no {what} `{name}` (did you mean `{n}`?)"),
        None => format!("there is no {what} `{name}`"),
    }
}

/// Files of definitions, checked.
#[derive(Clone, Debug, Default)]
pub struct Checked {
    /// What is good by itself.
    pub entries: Vec<Arc<Entry>>,
    /// All complaints, in the order of the files.
    pub problems: Vec<Problem>,
    /// What is allowed and most likely not meant.
    pub warnings: Vec<Problem>,
}

/// Most bytes that all files of a check may hold once their aliases are written out.
const MAX_PUBLICATION: usize = 16 << 20;

/// Most complaints about what stands and does not fit any more.
const MAX_CONTRADICTED: usize = 100;

/// What stands, is not published anew, and would not fit any more.
fn contradicted(whole: &Catalog, published: &Catalog, anew: &[Arc<Entry>]) -> Vec<Problem> {
    let changed = anew.iter().any(|e| published.entry(e.definition.kind(), &e.name).is_some());
    let left = published.entries.keys().any(|key| !whole.entries.contains_key(key));
    if !changed && !left {
        return Vec::new();
    }
    let unknown = Seen::default();
    let new: HashSet<*const Entry> = anew.iter().map(Arc::as_ptr).collect();
    let standing = whole.entries.values().filter(|e| !new.contains(&Arc::as_ptr(e)));
    let wrong = standing.flat_map(|entry| {
        let now = across::check(entry, whole, &[], &unknown);
        let known = if now.is_empty() { now.clone() } else { across::check(entry, published, &[], &unknown) };
        let stands = format!("{} `{}` stands so in what is published", entry.definition.kind(), entry.name);
        now.into_iter().filter(move |p| !known.contains(p)).map(move |mut p| {
            p.message = format!("{}; {stands}", p.message);
            p
        })
    });
    wrong.take(MAX_CONTRADICTED).collect()
}

/// Checks files by themselves and against a published set, from which some definitions are withdrawn at
/// the same time; versions count on from there. What would stand afterwards is checked whole.
///
/// The examples of rules are played, and warnings are given with an eye on what has been seen.
pub fn check_files<'a>(
    files: impl IntoIterator<Item = (&'a str, &'a str)>,
    gone: &[(Kind, String)],
    published: &Catalog,
    seen: &Seen,
) -> Checked {
    let mut checked = Checked::default();
    let mut placed: BTreeMap<(Kind, String), String> = BTreeMap::new();
    let mut expanded = 0;
    for (file, text) in files {
        let documents = match parse_file(file, text) {
            Ok(documents) => documents,
            Err(problem) => {
                checked.problems.push(problem);
                continue;
            }
        };
        expanded += documents.last().map_or(0, |d| d.bytes);
        if expanded > MAX_PUBLICATION {
            let most = MAX_PUBLICATION >> 20;
            let wrong = format!("the files together make more than {most} MiB with their aliases written out");
            checked.problems.extend(documents.first().map(|d| d.problem("", wrong)));
            break;
        }
        for document in documents {
            match Definition::check(&document) {
                Ok(definition) => {
                    let key = (definition.kind(), document.name.clone());
                    if let Some(other) = placed.insert(key, document.file.clone()) {
                        let wrong = format!(
                            "{} `{}` is defined a second time; the first stands in {other}",
                            document.kind, document.name
                        );
                        checked.problems.push(document.problem(&format!("/{}", document.kind), wrong));
                    }
                    checked.entries.push(versioned(document, definition, published));
                }
                Err(problems) => checked.problems.extend(problems),
            }
        }
    }
    let whole = published.clone().without(gone).with(checked.entries.iter().cloned());
    let across: Vec<Problem> =
        checked.entries.iter().flat_map(|e| across::check(e, &whole, &checked.problems, seen)).collect();
    checked.problems.extend(across);
    checked.problems.extend(contradicted(&whole, published, &checked.entries));
    let rivals = lint::Rivals::of(&whole);
    for entry in &checked.entries {
        if let Definition::Rule(rule) = &entry.definition {
            checked.warnings.extend(lint::warnings(entry, rule, &rivals, seen));
            checked.problems.extend(failed_examples(entry, rule));
        }
    }
    checked
}

/// Examples that do not hold, where they stand.
fn failed_examples(entry: &Entry, rule: &Rule) -> Vec<Problem> {
    let failures = rehearse::play(rule);
    failures.into_iter().map(|f| entry.document.problem(&f.place, format!("example: {}", f.message))).collect()
}

fn versioned(document: Document, definition: Definition, published: &Catalog) -> Arc<Entry> {
    let next = published.next_version(definition.kind(), &document.name);
    let version = match published.entry(definition.kind(), &document.name) {
        Some(b) if b.document.text == document.text && b.version == next - 1 => b.version,
        _ => next,
    };
    Arc::new(Entry { name: document.name.clone(), version, document, definition })
}

#[cfg(test)]
mod tests;
