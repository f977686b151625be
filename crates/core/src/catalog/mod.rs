//! The published set: every definition, compiled, and checked against each other.
//!
//! A [`Catalog`] never changes: publishing makes a new one and nodes swap it in whole.

pub mod lint;
mod references;
mod shared_steps;

pub use lint::Observed;

use crate::{
    calendar::{NamedCalendar, TimedEvent},
    connector::{self, Connection, Connector, Operation},
    contact::Contact,
    definition::{AnyDefinition, Defined, Definition, Kind, Missing, Others, as_kind},
    document::{Document, Parts, Problem, parse_file},
    group::Group,
    guard::{AHEAD, AtTimes, Guard, Guards, StandingGuard},
    job,
    matcher::Matcher,
    plan::{self, Plan},
    rehearse,
    rule::Rule,
    runbook::{Runbook, SharedStep},
    source::Source,
    subscriber::Subscriber,
    text::nearest,
};
use chrono::{DateTime, Utc};
use serde_json::Value;
use std::{
    any::Any,
    collections::{BTreeMap, HashSet},
    sync::Arc,
};

/// How documents of one kind are checked and described.
struct KindOf {
    kind: Kind,
    check: fn(&Document) -> Result<AnyDefinition, Vec<Problem>>,
    schema: fn() -> Value,
}

impl KindOf {
    const fn of<T: Defined>() -> Self {
        Self {
            kind: T::KIND,
            check: |document| {
                T::check(document).map(|definition| Arc::new(definition) as AnyDefinition)
            },
            schema: || schemars::schema_for!(T::Doc).to_value(),
        }
    }
}

/// All kinds of definitions.
const KINDS: [KindOf; 12] = [
    KindOf::of::<Source>(),
    KindOf::of::<Rule>(),
    KindOf::of::<Runbook>(),
    KindOf::of::<SharedStep>(),
    KindOf::of::<Connector>(),
    KindOf::of::<Connection>(),
    KindOf::of::<Subscriber>(),
    KindOf::of::<Contact>(),
    KindOf::of::<NamedCalendar>(),
    KindOf::of::<Group>(),
    KindOf::of::<Guard>(),
    KindOf::of::<Plan>(),
];

/// The JSON Schema (draft 2020-12) of one kind of document, made from the types that read it.
pub fn schema(kind: Kind) -> Value {
    KINDS.iter().find(|k| k.kind == kind).map_or(Value::Null, |k| (k.schema)())
}

/// Checks one document by itself.
///
/// # Errors
/// All diagnostics about it.
pub fn check_document(document: &Document) -> Result<(Kind, AnyDefinition), Vec<Problem>> {
    if let Some(known) = KINDS.iter().find(|k| k.kind.as_str() == document.kind) {
        return (known.check)(document).map(|definition| (known.kind, definition));
    }
    let known = Kind::ALL.map(Kind::as_str);
    let hint = match nearest(&document.kind, known) {
        Some(n) => format!("did you mean `{n}:`?"),
        None => {
            format!("a definition begins with one of {}", known.map(|k| format!("{k}:")).join(", "))
        }
    };
    let wrong = format!("`{}:` defines nothing; {hint}", document.kind);
    Err(vec![document.key_problem(&format!("/{}", document.kind), wrong)])
}

/// A definition with its text and version.
#[derive(Clone, Debug)]
pub struct Entry {
    /// Its name, unique within its kind.
    pub name: String,
    /// Counts from one with every change.
    pub version: i32,
    /// Kept for places of diagnostics, and for showing.
    pub document: Arc<Document>,
    /// What it is.
    pub kind: Kind,
    /// Compiled.
    pub definition: AnyDefinition,
}

impl Entry {
    /// The definition as one of this kind; none if it is of another.
    pub fn as_kind<T: Defined>(&self) -> Option<&T> {
        as_kind(&*self.definition)
    }
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
        let entries = entries.into_iter().map(|e| ((e.kind, e.name.clone()), e)).collect();
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

    /// All of one kind with their versions, by name.
    pub fn all<T: Defined>(&self) -> impl Iterator<Item = (&T, i32)> {
        self.entries(T::KIND).filter_map(|e| Some((e.as_kind()?, e.version)))
    }

    /// One definition with its version.
    pub fn get<T: Defined>(&self, name: &str) -> Option<(&T, i32)> {
        let entry = self.entry(T::KIND, name)?;
        Some((entry.as_kind()?, entry.version))
    }

    /// The rules with their versions, to be shared.
    pub fn rules(&self) -> impl Iterator<Item = (Arc<Rule>, i32)> {
        self.entries(Kind::Rule).filter_map(|e| Some((shared(e)?, e.version)))
    }

    /// One definition with its version, to be shared.
    pub fn shared<T: Defined + Send + Sync>(&self, name: &str) -> Option<(Arc<T>, i32)> {
        let entry = self.entry(T::KIND, name)?;
        Some((shared(entry)?, entry.version))
    }

    /// A runbook with its version, or what the runs of a plan are jobs of, with that of the plan.
    pub fn runbook(&self, name: &str) -> Option<(Arc<Runbook>, i32)> {
        match plan::of_job_name(name) {
            None => self.shared(name),
            Some(name) => {
                let (plan, version) = self.get::<Plan>(name)?;
                Some((Arc::clone(&plan.runbook), version))
            }
        }
    }

    /// The shared steps that stand, with those of documents in their place, as runbooks are made of
    /// them.
    pub fn parts(&self, documents: &[Document]) -> Parts {
        shared_steps::parts(documents, &[], self)
    }

    /// The definitions that name one of them, or list it.
    pub fn used_by(&self, kind: Kind, name: &str) -> Vec<(Kind, &str)> {
        let names_it = |e: &Entry| {
            e.definition.uses().iter().any(|(k, n)| *k == kind && n == name)
                || e.definition.may_use(kind, name)
        };
        self.entries.values().filter(|e| names_it(e)).map(|e| (e.kind, e.name.as_str())).collect()
    }

    /// The rules and subscribers that listen for events of a rule's proposals and jobs, as far as
    /// their sources, kinds and labels say.
    pub fn followers(&self, rule: &Rule) -> Vec<(Kind, &str)> {
        let rules = self.all::<Rule>().map(|(other, _)| other);
        let rules = rules.filter(|other| other.follows(rule));
        let subscribers = self.all::<Subscriber>().map(|(subscriber, _)| subscriber);
        let subscribers = subscribers.filter(|subscriber| subscriber.listen.follows(rule));
        let rules = rules.map(|other| (Kind::Rule, other.name.as_str()));
        rules.chain(subscribers.map(|s| (Kind::Subscriber, s.name.as_str()))).collect()
    }

    /// The matcher over all rules.
    pub fn matcher(&self) -> Matcher {
        Matcher::new(self.rules().collect())
    }

    /// This set with the events of calendars that were read from where they are kept: by name, the
    /// text and since when it stands so. Why some could not be read; these stay as they are.
    #[must_use]
    pub fn with_calendars(
        mut self,
        read: &BTreeMap<String, (String, DateTime<Utc>)>,
    ) -> (Self, Vec<String>) {
        let mut faulty = Vec::new();
        for (name, (text, at)) in read {
            let key = (Kind::Calendar, name.clone());
            let Some(entry) = self.entries.get(&key) else { continue };
            let Some(named) = entry.as_kind::<NamedCalendar>() else { continue };
            if named.reading.is_none() || named.read_at == Some(*at) {
                continue;
            }
            match named.with_events(text, *at) {
                Ok(named) => {
                    let entry = Entry { definition: Arc::new(named), ..Entry::clone(entry) };
                    self.entries.insert(key, Arc::new(entry));
                }
                Err(why) => faulty.push(format!("the events of calendar {name}: {why}")),
            }
        }
        (self, faulty)
    }

    /// All guards, each with the group that its targets belong to and the times of its calendars
    /// from a moment on.
    pub fn guards(&self, now: DateTime<Utc>) -> Guards {
        // Once for each calendar, however many guards ask for it.
        let mut known: BTreeMap<String, Vec<TimedEvent>> = BTreeMap::new();
        for guard in self.all::<Guard>().map(|(guard, _)| guard) {
            for at in guard.frozen.iter().chain(&guard.only) {
                // Of what was not read yet it is not known what is on.
                let named = self.get::<NamedCalendar>(&at.calendar);
                let named = named.filter(|(named, _)| named.is_known());
                if let (false, Some((named, _))) = (known.contains_key(&at.calendar), named) {
                    let events = named.calendar.within(now, now + AHEAD.delta());
                    known.insert(at.calendar.clone(), events);
                }
            }
        }
        let one = |entry: &Arc<Entry>| {
            let guard = shared::<Guard>(entry)?;
            let group = guard.concerns.group.as_ref();
            let group = group.and_then(|name| self.shared::<Group>(name));
            let of_group = group.as_ref().map_or(0, |(_, version)| *version);
            let times = |at: &Option<AtTimes>| {
                let at = at.as_ref()?;
                Some(at.times(known.get(&at.calendar).map(Vec::as_slice), now))
            };
            Some(StandingGuard {
                frozen: times(&guard.frozen),
                only: times(&guard.only),
                guard,
                group: group.map(|(group, _)| group),
                version: entry.version,
                group_version: of_group,
            })
        };
        Guards::new(self.entries(Kind::Guard).filter_map(one))
    }

    /// One operation of a connection's connector, with the connection by which it goes.
    ///
    /// # Errors
    /// If there is no such connection, connector or operation.
    pub fn operation(
        &self,
        connection: &str,
        operation: &str,
    ) -> Result<(&Connection, &Operation), Missing> {
        connector::operation(self, connection, operation)
    }
}

impl Others for Catalog {
    fn definition(&self, kind: Kind, name: &str) -> Option<&dyn Definition> {
        self.entry(kind, name).map(|e| &*e.definition)
    }

    fn names(&self, kind: Kind) -> Vec<&str> {
        self.entries(kind).map(|e| e.name.as_str()).collect()
    }
}

fn shared<T: Defined + Send + Sync>(entry: &Entry) -> Option<Arc<T>> {
    let any: Arc<dyn Any + Send + Sync> = Arc::clone(&entry.definition) as _;
    any.downcast().ok()
}

/// Files of definitions, checked.
#[derive(Clone, Debug, Default)]
pub struct Checked {
    /// What is good by itself.
    pub entries: Vec<Arc<Entry>>,
    /// All diagnostics: first of files that cannot be read, then in the order of the documents.
    pub problems: Vec<Problem>,
    /// What is allowed and most likely not meant.
    pub warnings: Vec<Problem>,
}

/// Most bytes that all files of a check may hold once their aliases are written out.
const MAX_PUBLICATION: usize = 16 << 20;

/// Most diagnostics about what stands and does not fit any more.
const MAX_CONTRADICTED: usize = 100;

/// What stands, is not published anew, and would not fit any more.
fn contradicted(whole: &Catalog, published: &Catalog, anew: &[Arc<Entry>]) -> Vec<Problem> {
    let changed = anew.iter().any(|e| published.entry(e.kind, &e.name).is_some());
    let left = published.entries.keys().any(|key| !whole.entries.contains_key(key));
    // What is new is named by nothing that stands, but a glob may match it.
    let matched = |e: &Arc<Entry>| {
        published.entries.values().any(|other| other.definition.may_use(e.kind, &e.name))
    };
    if !changed && !left && !anew.iter().any(matched) {
        return Vec::new();
    }
    let unknown = Observed::default();
    let new: HashSet<*const Entry> = anew.iter().map(Arc::as_ptr).collect();
    let standing = whole.entries.values().filter(|e| !new.contains(&Arc::as_ptr(e)));
    let wrong = standing.flat_map(|entry| {
        let now = references::check(entry, whole, false, &unknown);
        let known = if now.is_empty() {
            now.clone()
        } else {
            references::check(entry, published, false, &unknown)
        };
        let new = now.into_iter().filter(|p| !known.contains(p)).collect();
        stands_so(new, &entry.document)
    });
    wrong.take(MAX_CONTRADICTED).collect()
}

/// Checks files by themselves and against a published set, from which some definitions are
/// withdrawn at the same time; versions count on from there. What would stand afterwards is checked
/// whole.
///
/// The examples of rules are played, and warnings are given with an eye on what has been seen.
pub fn check_files<'a>(
    files: impl IntoIterator<Item = (&'a str, &'a str)>,
    gone: &[(Kind, String)],
    published: &Catalog,
    seen: &Observed,
) -> Checked {
    let mut checked = Checked::default();
    let (documents, problems) = parsed(files);
    checked.problems = problems;
    let parts = shared_steps::parts(&documents, gone, published);
    let anew = shared_steps::users(&documents, &parts, gone, published);
    let mut placed: BTreeMap<(Kind, String), String> = BTreeMap::new();
    for mut document in documents {
        document.parts = Arc::clone(&parts);
        match check_document(&document) {
            Ok((kind, definition)) => {
                let key = (kind, document.name.clone());
                if let Some(other) = placed.insert(key, document.file.clone()) {
                    let wrong = format!(
                        "{} `{}` is defined a second time; the first stands in {other}",
                        document.kind, document.name
                    );
                    checked.problems.push(document.problem(&format!("/{}", document.kind), wrong));
                }
                checked.entries.push(versioned(document, kind, definition, published));
            }
            Err(problems) => checked.problems.extend(problems),
        }
    }
    match anew {
        Ok(runbooks) => {
            for document in runbooks {
                match check_document(&document) {
                    Ok((kind, definition)) => {
                        checked.entries.push(versioned(document, kind, definition, published));
                    }
                    Err(problems) => checked.problems.extend(stands_so(problems, &document)),
                }
            }
        }
        Err(problem) => checked.problems.push(problem),
    }
    let whole = published.clone().without(gone).with(checked.entries.iter().cloned());
    let faulty = !checked.problems.is_empty();
    let dangling: Vec<Problem> =
        checked.entries.iter().flat_map(|e| references::check(e, &whole, faulty, seen)).collect();
    checked.problems.extend(dangling);
    checked.problems.extend(contradicted(&whole, published, &checked.entries));
    let rivals = lint::Rivals::among(&whole);
    for entry in &checked.entries {
        checked.warnings.extend(lint::cut_off(entry));
        if let Some(rule) = entry.as_kind::<Rule>() {
            checked.warnings.extend(lint::warnings(entry, rule, &rivals, seen));
            checked.problems.extend(failed_examples(entry, rule, &whole));
        }
        if let (Some(runbook), false) = (entry.as_kind::<Runbook>(), faulty) {
            checked.problems.extend(unheld_examples(entry, runbook, &whole));
        }
    }
    checked
}

/// Examples that do not hold, where they stand.
fn failed_examples(entry: &Entry, rule: &Rule, whole: &Catalog) -> Vec<Problem> {
    let failures = rehearse::play(rule, whole);
    failures
        .into_iter()
        .map(|f| entry.document.problem(&f.place, format!("example: {}", f.message)))
        .collect()
}

/// The same of a runbook.
fn unheld_examples(entry: &Entry, runbook: &Runbook, whole: &Catalog) -> Vec<Problem> {
    let unheld = job::play(runbook, whole);
    unheld
        .into_iter()
        .map(|u| entry.document.problem(&u.pointer, format!("example: {}", u.message)))
        .collect()
}

/// The documents of files, and the diagnostics of those that are none.
fn parsed<'a>(
    files: impl IntoIterator<Item = (&'a str, &'a str)>,
) -> (Vec<Document>, Vec<Problem>) {
    let (mut documents, mut problems) = (Vec::new(), Vec::new());
    let mut expanded = 0;
    for (file, text) in files {
        let parsed = match parse_file(file, text) {
            Ok(parsed) => parsed,
            Err(problem) => {
                problems.push(problem);
                continue;
            }
        };
        expanded += parsed.last().map_or(0, |d| d.bytes);
        if expanded > MAX_PUBLICATION {
            let most = MAX_PUBLICATION >> 20;
            let wrong = format!(
                "the files together make more than {most} MiB with their aliases written out"
            );
            problems.extend(parsed.first().map(|d| d.problem("", wrong)));
            break;
        }
        documents.extend(parsed);
    }
    (documents, problems)
}

/// Diagnostics about what stands and is not among the files.
fn stands_so(problems: Vec<Problem>, document: &Document) -> impl Iterator<Item = Problem> {
    let stands = format!("{} `{}` stands so in what is published", document.kind, document.name);
    problems.into_iter().map(move |mut p| {
        p.message = format!("{}; {stands}", p.message);
        p
    })
}

/// The version of a document that is published: a new one unless it is what stands.
fn version_of(document: &Document, kind: Kind, published: &Catalog) -> i32 {
    let next = published.next_version(kind, &document.name);
    match published.entry(kind, &document.name) {
        Some(b) if shared_steps::is_same(&b.document, document) && b.version == next - 1 => {
            b.version
        }
        _ => next,
    }
}

fn versioned(
    mut document: Document,
    kind: Kind,
    definition: AnyDefinition,
    published: &Catalog,
) -> Arc<Entry> {
    document.parts = shared_steps::used(&document.parts, &*definition);
    let version = version_of(&document, kind, published);
    let name = document.name.clone();
    Arc::new(Entry { name, version, document: Arc::new(document), kind, definition })
}

#[cfg(test)]
mod tests;
