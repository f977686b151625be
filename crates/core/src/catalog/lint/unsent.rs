//! What a rule asks for and its senders never sent: a kind, a severity, a field; and fields of
//! another type than they are compared with. By the shapes of what came; of what little came of,
//! nothing is said.

use super::{Lint, Observed};
use crate::{
    Severity,
    expr::{Expr, FieldUse, Path, Type},
    glob::Glob,
    shape::{FieldShape, FieldType, Shape},
    text::hint,
};
use std::collections::BTreeSet;

/// Of so many alerts it can be said what is never sent.
const ENOUGH: u64 = 10;
/// Most names that a warning lists.
const LISTED: usize = 5;

/// What came of one kind of a source.
type Sent<'s> = (&'s (String, String), &'s Shape);

impl Lint<'_> {
    pub(super) fn unsent(&mut self, seen: &Observed) {
        let of_sources: Vec<Sent<'_>> = seen
            .shapes
            .iter()
            .filter(|((source, _), _)| self.may_be(&Path::Source, source))
            .collect();
        if of_sources.is_empty() || !self.knows_all_sources(&of_sources) {
            return;
        }
        let listened: Vec<Sent<'_>> = of_sources
            .iter()
            .copied()
            .filter(|((_, kind), _)| self.may_be(&Path::Kind, kind))
            .collect();
        self.kinds(&of_sources, listened.is_empty());
        if listened.iter().map(|(_, shape)| shape.count).sum::<u64>() < ENOUGH {
            return;
        }
        self.severity(&listened);
        let rule = self.rule;
        let fold = rule.settle.fold.iter().flatten().enumerate();
        let fold = fold.map(|(i, e)| (format!("/settle/fold/{i}"), e));
        for (pointer, expr) in self.entry.definition.expressions().into_iter().chain(fold) {
            for used in expr.field_uses("alert") {
                self.field((&pointer, expr), &used, &listened);
            }
        }
    }

    /// Whether a name fits to what is demanded of it.
    fn may_be(&self, path: &Path, name: &str) -> bool {
        let lists = self.demands.texts.get(path);
        lists.into_iter().flatten().all(|list| list.iter().any(|glob| glob.matches(name)))
    }

    /// Whether enough came of each source that the rule names.
    fn knows_all_sources(&self, known: &[Sent<'_>]) -> bool {
        let named = self.rule.listen.sources.iter().flatten().filter_map(Glob::exact);
        let enough = |name: &str| {
            let of_source = known.iter().filter(|((source, _), _)| source == name);
            of_source.map(|(_, shape)| shape.count).sum::<u64>() >= ENOUGH
        };
        named.into_iter().all(enough)
    }

    fn kinds(&mut self, of_sources: &[Sent<'_>], none: bool) {
        // A rule that listens to whatever source may well be ahead of its senders.
        if self.rule.listen.sources.is_none() {
            return;
        }
        let known: BTreeSet<&str> = of_sources.iter().map(|((_, kind), _)| kind.as_str()).collect();
        let sources: BTreeSet<&str> =
            of_sources.iter().map(|((source, _), _)| source.as_str()).collect();
        let mut told = false;
        for (i, glob) in self.rule.listen.kinds.iter().flatten().enumerate() {
            if known.iter().any(|kind| glob.matches(kind)) {
                continue;
            }
            let near =
                glob.exact().map_or_else(String::new, |name| hint(name, known.iter().copied()));
            let message = format!(
                "{} never sent `{}`, but {}{near}",
                listed(&sources),
                glob.as_str(),
                listed(&known)
            );
            self.warn("unsent-kind", &self.place("/listen/kinds", i), message);
            told = true;
        }
        if none && !told {
            let message = format!(
                "{} never sent a kind that this asks for, but {}",
                listed(&sources),
                listed(&known)
            );
            self.warn("unsent-kind", "/listen/where", message);
        }
    }

    fn severity(&mut self, listened: &[Sent<'_>]) {
        let Some(ranges) = &self.rule.listen.severity else { return };
        let seen: BTreeSet<Severity> =
            listened.iter().flat_map(|(_, shape)| shape.severities.keys().copied()).collect();
        if seen.is_empty() || seen.iter().any(|s| ranges.iter().any(|range| range.contains(*s))) {
            return;
        }
        let seen: BTreeSet<&str> = seen.into_iter().map(Severity::as_str).collect();
        let message = format!(
            "none of {} alerts of {} had such a severity: all are {}",
            listened.iter().map(|(_, shape)| shape.count).sum::<u64>(),
            kinds_of(listened),
            listed(&seen)
        );
        self.warn("unsent-severity", "/listen/severity", message);
    }

    fn field(&mut self, (pointer, expr): (&str, &Expr), used: &FieldUse, listened: &[Sent<'_>]) {
        let path = used.path.as_str();
        if !(path == "value" || path.starts_with("body.") || path.starts_with("labels.")) {
            return;
        }
        let (with, without): (Vec<Sent<'_>>, Vec<Sent<'_>>) =
            listened.iter().copied().partition(|(_, shape)| shape.fields.contains_key(path));
        let lacking: Vec<Sent<'_>> =
            without.into_iter().filter(|(_, shape)| lacks(shape, path)).collect();
        if !lacking.is_empty() && !used.is_asked_for {
            let message = self.unsent_field(path, &with, &lacking);
            self.warn_within("unsent-field", pointer, (expr, used), message);
            return;
        }
        if let Some(message) = other_type(path, used.compared.as_ref(), &with) {
            self.warn_within("other-type", pointer, (expr, used), message);
        } else if pointer != "/listen/where"
            && !used.is_asked_for
            && let Some(message) = seldom(path, &with)
        {
            self.warn_within("unsent-field", pointer, (expr, used), message);
        }
    }

    fn unsent_field(&self, path: &str, with: &[Sent<'_>], lacking: &[Sent<'_>]) -> String {
        let count: u64 = lacking.iter().map(|(_, shape)| shape.profiled).sum();
        let of = kinds_of(lacking);
        if with.is_empty() {
            let known = lacking.iter().flat_map(|(_, shape)| shape.fields.keys());
            let known: BTreeSet<&str> = known.map(String::as_str).collect();
            let near = hint(path, known).replace("did you mean `", "did you mean `alert.");
            return format!("no alert of {of} ever had `alert.{path}`, out of {count}{near}");
        }
        format!(
            "`alert.{path}` comes with {}, but never with {of}, out of {count} alerts: of these \
            this is missing",
            kinds_of(with)
        )
    }

    fn warn_within(
        &mut self,
        name: &'static str,
        pointer: &str,
        (expr, used): (&Expr, &FieldUse),
        message: String,
    ) {
        let document = &self.entry.document;
        let written = document.value.pointer(pointer).and_then(serde_json::Value::as_str);
        let before = written.and_then(|text| Some(text[..text.find(expr.text())?].chars().count()));
        let before = u32::try_from(before.unwrap_or(0)).unwrap_or(0);
        let span = used.span.map(|(from, to)| (from + before, to + before));
        let mut problem = document.inner_problem(pointer, span, message);
        problem.warning = Some(name.to_owned());
        let same = |known: &crate::Problem| {
            known.warning == problem.warning && known.message == problem.message
        };
        if !self.rule.knowingly.contains_key(name) && !self.found.iter().any(same) {
            self.found.push(problem);
        }
    }
}

/// Whether a field is missing for certain: enough came, all fields of it are known, and none of
/// those above it has names that differ each time.
fn lacks(shape: &Shape, path: &str) -> bool {
    let is_open = |(at, _): (usize, &str)| shape.fields.contains_key(&format!("{}.*", &path[..at]));
    shape.profiled >= ENOUGH && !shape.has_more && !path.match_indices('.').any(is_open)
}

/// That a field never has the type of what it is compared with.
fn other_type(path: &str, compared: Option<&Type>, with: &[Sent<'_>]) -> Option<String> {
    let (wanted, word) = match compared? {
        Type::Text => (FieldType::Text, "text"),
        Type::Number => (FieldType::Number, "a number"),
        Type::Bool => (FieldType::Bool, "true or false"),
        _ => return None,
    };
    let fields: Vec<&FieldShape> =
        with.iter().filter_map(|(_, shape)| shape.fields.get(path)).collect();
    let mut types: BTreeSet<FieldType> =
        fields.iter().flat_map(|field| field.types.keys().copied()).collect();
    types.remove(&FieldType::Null);
    let count: u64 = fields.iter().map(|field| field.present).sum();
    if count < ENOUGH || types.is_empty() || types.contains(&wanted) {
        return None;
    }
    let types: BTreeSet<&str> = types.into_iter().map(FieldType::as_str).collect();
    let example = fields.iter().find_map(|field| field.examples.first());
    let example = example.map_or_else(String::new, |text| format!(", such as `{text}`"));
    Some(format!(
        "`alert.{path}` is {} in all of {count}{example}, and is compared with {word}",
        listed(&types)
    ))
}

/// That some alerts lack a field without which the rule cannot decide.
fn seldom(path: &str, with: &[Sent<'_>]) -> Option<String> {
    let (sent, field) = with.iter().find_map(|sent| {
        let field = sent.1.fields.get(path)?;
        (sent.1.profiled >= ENOUGH && field.present < sent.1.profiled).then_some((sent, field))
    })?;
    Some(format!(
        "{} of {} alerts of {} lack `alert.{path}`: the rule is broken over these; ask \
        has(alert.{path}) first",
        sent.1.profiled - field.present,
        sent.1.profiled,
        kinds_of(&[*sent])
    ))
}

fn kinds_of(sent: &[Sent<'_>]) -> String {
    let names: BTreeSet<String> =
        sent.iter().map(|((source, kind), _)| format!("{source} {kind}")).collect();
    listed(&names.iter().map(String::as_str).collect())
}

/// Names as they stand in a sentence.
fn listed(names: &BTreeSet<&str>) -> String {
    let mut shown: Vec<&str> = names.iter().copied().take(LISTED).collect();
    let more = format!("{} more", names.len().saturating_sub(LISTED));
    if names.len() > LISTED {
        shown.push(&more);
    }
    match shown.split_last() {
        Some((last, [])) => (*last).to_owned(),
        Some((last, others)) => format!("{} and {last}", others.join(", ")),
        None => "nothing".to_owned(),
    }
}
