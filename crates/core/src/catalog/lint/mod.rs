//! Warnings: what is allowed, and yet most likely not meant.
//!
//! Each has a name, by which a rule can say `knowingly` that it is so on purpose. Some need to
//! know what has been seen so far; where nothing is known they keep silent.

mod unsent;

use super::{Catalog, Entry};
use crate::{
    Period,
    document::Problem,
    expr::Path,
    glob::Glob,
    rule::{Demands, OWNER_LABEL, RULE_LABEL, Rule},
    shape::Shape,
    source::OWN,
    text::hint,
};
use std::collections::{BTreeMap, BTreeSet};

/// Most rules of one runbook that are compared with each other.
const COMPARED: usize = 200;

/// What has been seen so far; empty where nothing is known.
#[derive(Clone, Debug, Default)]
pub struct Observed {
    /// Sources that sent something.
    pub sources: BTreeSet<String>,
    /// Kinds.
    pub kinds: BTreeSet<String>,
    /// Resources.
    pub resources: BTreeSet<String>,
    /// Labels and their values.
    pub labels: BTreeMap<String, BTreeSet<String>>,
    /// Where each secret may go: sources and connections as `kind/name`. Absent where the secrets
    /// are not known.
    pub secrets: Option<BTreeMap<String, BTreeSet<String>>>,
    /// Source, kind, and the usual time between two alerts of the same raised alarm.
    pub repeats: Vec<(String, String, Period)>,
    /// What came, by source and kind.
    pub shapes: BTreeMap<(String, String), Shape>,
}

/// All rules, and which of them dispatch each runbook.
pub(super) struct Rivals<'a> {
    rules: Vec<&'a Rule>,
    by_runbook: BTreeMap<&'a str, Vec<&'a Rule>>,
}

impl<'a> Rivals<'a> {
    pub fn among(whole: &'a Catalog) -> Self {
        let mut by_runbook: BTreeMap<&str, Vec<&Rule>> = BTreeMap::new();
        let rules: Vec<&Rule> = whole.all::<Rule>().map(|(rule, _)| rule).collect();
        for rule in &rules {
            for dispatch in &rule.dispatch {
                by_runbook.entry(&dispatch.runbook).or_default().push(rule);
            }
        }
        Self { rules, by_runbook }
    }
}

/// The warnings about one rule within the whole set, less those it knows of.
pub(super) fn warnings(
    entry: &Entry,
    rule: &Rule,
    rivals: &Rivals<'_>,
    seen: &Observed,
) -> Vec<Problem> {
    let mut found = Lint { entry, rule, demands: Demands::collect(rule), found: Vec::new() };
    found.never();
    if found.found.is_empty() {
        found.forms();
        found.rest(seen);
        found.resources(seen);
        found.case(seen);
        found.others(rivals, seen);
        found.followed(rivals);
        found.awaited();
        found.cap();
        found.unsent(seen);
    }
    found.found
}

/// Divisions of which something is cut off.
pub(super) fn cut_off(entry: &Entry) -> Vec<Problem> {
    let known = entry.as_kind::<Rule>().is_some_and(|rule| rule.knowingly.contains_key("cut-off"));
    let all = if known { Vec::new() } else { entry.definition.expressions() };
    let of = |(pointer, e): (String, &crate::expr::Expr)| {
        let string = entry
            .document
            .value
            .pointer(&pointer)
            .and_then(serde_json::Value::as_str)
            .unwrap_or_default();
        let before = string.find(e.text()).map_or(0, |at| string[..at].chars().count());
        let before = u32::try_from(before).unwrap_or(0);
        let problem = |(message, span): (String, Option<(u32, u32)>)| {
            let span = span.map(|(from, to)| (from + before, to + before));
            let mut problem = entry.document.inner_problem(&pointer, span, message);
            problem.warning = Some("cut-off".to_owned());
            problem
        };
        e.cut_off().into_iter().map(problem).collect::<Vec<_>>()
    };
    all.into_iter().flat_map(of).collect()
}

struct Lint<'a> {
    entry: &'a Entry,
    rule: &'a Rule,
    demands: Demands,
    found: Vec<Problem>,
}

impl Lint<'_> {
    fn warn(&mut self, name: &'static str, pointer: &str, message: String) {
        if !self.rule.knowingly.contains_key(name) {
            let mut problem = self.entry.document.problem(pointer, message);
            problem.warning = Some(name.to_owned());
            self.found.push(problem);
        }
    }

    /// The place of one of several texts, or of the only one.
    fn place(&self, line: &str, i: usize) -> String {
        let list = self.entry.document.value.pointer(line).is_some_and(serde_json::Value::is_array);
        if list { format!("{line}/{i}") } else { line.to_owned() }
    }

    fn never(&mut self) {
        if let Some(why) = self.demands.contradiction() {
            let place =
                if self.rule.listen.condition.is_some() { "/listen/where" } else { "/listen" };
            self.warn("never-matches", place, format!("the rule can never match: {why}"));
        }
    }

    fn rest(&mut self, seen: &Observed) {
        let Some(rest) = self.rule.settle.rest else { return };
        let listen = &self.rule.listen;
        let fits = |globs: &Option<Vec<Glob>>, text: &str| {
            globs.as_ref().is_none_or(|g| g.iter().any(|g| g.matches(text)))
        };
        let longer = seen.repeats.iter().find(|(source, kind, repeat)| {
            fits(&listen.sources, source) && fits(&listen.kinds, kind) && *repeat > rest
        });
        if let Some((source, kind, repeat)) = longer {
            let message = format!(
                "{source} repeats {kind} every {repeat}; a rest of {rest} is over before the next \
                alert comes"
            );
            self.warn("short-rest", "/settle/rest", message);
        }
    }

    /// What looks like a pattern and is a plain text here, and resources without a class.
    fn forms(&mut self) {
        for (i, glob) in self.rule.listen.resource.iter().flatten().enumerate() {
            let (text, place) = (glob.as_str().to_owned(), self.place("/listen/resource", i));
            if text.contains(['[', ']', '{', '}', '^', '$', '|', '(', ')', '+', '\\']) {
                let message = format!(
                    "`{text}` has signs that mean themselves here: only `*`, `**` and `?` are \
                    wildcards; write a list of globs, or `matches` in `where`"
                );
                self.warn("no-glob", &place, message);
            } else if !text.contains('/') && !text.contains("**") {
                let message = format!(
                    "`{text}` can match no resource: these are class/name, such as vm/{text} or \
                    */{text}"
                );
                self.warn("no-class", &place, message);
            }
        }
    }

    fn resources(&mut self, seen: &Observed) {
        if seen.resources.is_empty() {
            return;
        }
        for (i, glob) in self.rule.listen.resource.iter().flatten().enumerate() {
            if !seen.resources.iter().any(|r| glob.matches(r)) {
                let known = || seen.resources.iter().map(String::as_str);
                let hint = glob.exact().map_or_else(String::new, |name| hint(name, known()));
                let message = format!(
                    "`{}` fits none of the {} resources known so far{hint}",
                    glob.as_str(),
                    seen.resources.len()
                );
                self.warn("unknown-resource", &self.place("/listen/resource", i), message);
            }
        }
    }

    fn case(&mut self, seen: &Observed) {
        let empty = BTreeSet::new();
        for (path, lists) in &self.demands.texts.clone() {
            let (known, line) = match path {
                Path::Source => (&seen.sources, "/listen/sources".to_owned()),
                Path::Kind => (&seen.kinds, "/listen/kinds".to_owned()),
                Path::Resource => (&seen.resources, "/listen/resource".to_owned()),
                Path::Label(name) => {
                    (seen.labels.get(name).unwrap_or(&empty), format!("/listen/labels/{name}"))
                }
                _ => continue,
            };
            for glob in lists.iter().flatten() {
                let Ok(lower) = Glob::parse(&glob.as_str().to_lowercase()) else { continue };
                let same = known.iter().any(|k| glob.matches(k));
                let other = known.iter().find(|k| lower.matches(&k.to_lowercase()));
                let Some(other) = other.filter(|_| !same) else { continue };
                let written = self.entry.document.value.pointer(&line).is_some();
                let place = if written { line.clone() } else { "/listen/where".to_owned() };
                let message = format!(
                    "`{}` was never seen, but `{other}` was: capital letters count",
                    glob.as_str()
                );
                self.warn("other-case", &place, message);
            }
        }
    }

    fn others(&mut self, rivals: &Rivals<'_>, seen: &Observed) {
        for dispatch in &self.rule.dispatch {
            let rivals =
                rivals.by_runbook.get(dispatch.runbook.as_str()).map_or(&[][..], Vec::as_slice);
            let others = rivals.iter().filter(|other| other.name != self.rule.name).take(COMPARED);
            let known = |path: &Path| match path {
                Path::Resource => seen.resources.iter().cloned().collect(),
                _ => Vec::new(),
            };
            let rival = others
                .into_iter()
                .find(|o| self.demands.likely_meets(&Demands::collect(o), &known));
            if let Some(rival) = rival {
                let message = format!(
                    "rule `{}` dispatches `{}` too, and an alert may match both; both would act on \
                    it",
                    rival.name, dispatch.runbook
                );
                self.warn("same-runbook", &format!("{}/runbook", dispatch.place), message);
            }
        }
    }

    /// Events of rules that there are not.
    fn followed(&mut self, rivals: &Rivals<'_>) {
        let listen = &self.rule.listen;
        let is_own = |glob: &Glob| glob.exact() == Some(OWN);
        if !listen.sources.as_ref().is_some_and(|sources| sources.iter().all(is_own)) {
            return;
        }
        let rules = rivals.rules.iter().filter(|other| other.name != self.rule.name);
        let values = |label: &str| -> Vec<&str> {
            match label {
                RULE_LABEL => rules.clone().map(|rule| rule.name.as_str()).collect(),
                _ => rules.clone().filter_map(|rule| rule.owner.as_deref()).collect(),
            }
        };
        for (label, what) in [(RULE_LABEL, "is called"), (OWNER_LABEL, "is owned by")] {
            let globs = listen.labels.iter().filter(|(name, _)| name == label);
            for (i, glob) in globs.flat_map(|(_, globs)| globs.iter().enumerate()) {
                let known = values(label);
                if known.iter().any(|value| glob.matches(value)) {
                    continue;
                }
                let near = glob.exact().map_or_else(String::new, |name| hint(name, known));
                let message = format!(
                    "no other rule {what} `{}`: there are no events of its jobs{near}",
                    glob.as_str()
                );
                let place = self.place(&format!("/listen/labels/{label}"), i);
                self.warn("follows-nobody", &place, message);
            }
        }
    }

    fn cap(&mut self) {
        let always = self.rule.dispatch.iter().filter(|d| d.when.is_none()).count();
        if let Some(cap) = self.rule.settle.cap.as_ref().filter(|cap| always > cap.jobs as usize) {
            let message = format!(
                "the cap lets {} jobs through at once, and the rule dispatches {always}: every \
                alert would be `broken`",
                cap.jobs
            );
            self.warn("over-cap", "/settle/cap/jobs", message);
        }
    }

    fn awaited(&mut self) {
        let named = self.rule.listen.resource.iter().flatten().any(|g| g.exact().is_some());
        if self.rule.settle.missing.is_some() && named && self.rule.awaited().is_empty() {
            let message = "a resource that was never heard of is waited for only where the rule \
                names exactly one source and one kind";
            self.warn("not-awaited", "/settle/missing", message.into());
        }
    }
}
