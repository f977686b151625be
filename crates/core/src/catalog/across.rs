//! Checks between definitions: what is named must exist and fit.

use super::{Catalog, Definition, Entry, Kind, Seen, missing};
use crate::{document::Problem, read::OWN, rule::Rule, runbook::Action};

/// Complaints about one entry within the whole set. What is missing only because its own
/// document is faulty is not complained about twice.
pub(super) fn check(entry: &Entry, whole: &Catalog, faulty: &[Problem], seen: &Seen) -> Vec<Problem> {
    let document = &entry.document;
    let mut found = Vec::new();
    let mut say = |pointer: String, message: String| found.push(document.problem(&pointer, message));
    match &entry.definition {
        Definition::Rule(rule) => check_rule(rule, whole, &mut say),
        Definition::Runbook(runbook) => {
            for (i, step) in runbook.steps.iter().enumerate() {
                let Action::Call { operation, via, given, .. } = &step.action else { continue };
                match whole.operation(via, operation) {
                    Ok((_, op)) => {
                        for wrong in op.takes.misfit(given) {
                            say(format!("/steps/{i}/give"), format!("operation `{operation}`: {wrong}"));
                        }
                    }
                    Err(wrong) => {
                        let key = if wrong.contains("connection `") { "via" } else { "call" };
                        say(format!("/steps/{i}/{key}"), wrong);
                    }
                }
            }
        }
        Definition::Connection(connection) => {
            if whole.entry(Kind::Connector, &connection.connector).is_none() {
                let known = whole.entries(Kind::Connector).map(|e| e.name.as_str());
                say("/connector".into(), missing("connector", &connection.connector, known));
            }
        }
        Definition::Source(_) | Definition::Connector(_) => {}
    }
    check_secrets(entry, seen, &mut say);
    if !faulty.is_empty() {
        found.retain(|p| {
            !p.message.contains("there is no ")
                || p.message.contains("did you mean")
                || p.message.contains("there is no input")
        });
    }
    found
}

/// Secrets go only where an admin said that they may.
fn check_secrets(entry: &Entry, seen: &Seen, say: &mut impl FnMut(String, String)) {
    let (Some(secrets), Some((pointer, template))) = (&seen.secrets, entry.definition.credential()) else { return };
    let user = format!("{}/{}", entry.definition.kind(), entry.name);
    for name in template.calls("secret").into_iter().flatten() {
        let to_do = format!("an admin sets it with `arvok secret set {name} --for {user}`");
        match secrets.get(&name) {
            None => {
                let known = missing("secret", &name, secrets.keys().map(String::as_str));
                say(pointer.to_owned(), format!("{known}; {to_do}"));
            }
            Some(users) if !users.contains(&user) => {
                say(pointer.to_owned(), format!("secret `{name}` may not be used here; {to_do}"));
            }
            Some(_) => {}
        }
    }
}

/// A rule's runbooks with their inputs, and its sources.
fn check_rule(rule: &Rule, whole: &Catalog, say: &mut impl FnMut(String, String)) {
    for dispatch in &rule.dispatch {
        match whole.runbook(&dispatch.runbook) {
            Some((runbook, _)) => {
                for wrong in runbook.inputs.misfit(&dispatch.given) {
                    let place = format!("{}/inputs", dispatch.place);
                    say(place, format!("runbook `{}`: {wrong}", runbook.name));
                }
            }
            None => {
                let known = whole.entries(Kind::Runbook).map(|e| e.name.as_str());
                let place = format!("{}/runbook", dispatch.place);
                say(place, missing("runbook", &dispatch.runbook, known));
            }
        }
    }
    for (i, glob) in rule.listen.sources.iter().flatten().enumerate() {
        if let Some(name) = glob.exact()
            && name != OWN
            && whole.source(name).is_none()
        {
            let known = whole.entries(Kind::Source).map(|e| e.name.as_str());
            say(format!("/listen/sources/{i}"), missing("source", name, known));
        }
    }
}
