//! Checks between definitions: what is named must exist and fit.

use super::{Catalog, Entry, Observed};
use crate::{
    definition::{Fault, Mismatch, Missing},
    document::Problem,
};

/// Diagnostics about one entry within the whole set. What is missing only because its own
/// document is `faulty` is not complained about twice.
pub(super) fn check(entry: &Entry, whole: &Catalog, faulty: bool, seen: &Observed) -> Vec<Problem> {
    let mut misfits = entry.definition.misfits(whole);
    misfits.extend(secrets(entry, seen));
    // A name that is nearly another is a mistake of its own; any other may be that of what is
    // faulty.
    let follows = |m: &Mismatch| matches!(&m.fault, Fault::Missing(Missing { near: None, .. }));
    let told = misfits.iter().filter(|m| !(faulty && follows(m)));
    told.map(|m| entry.document.problem(&m.pointer, m.fault.to_string())).collect()
}

/// Secrets go only where an admin said that they may.
fn secrets(entry: &Entry, seen: &Observed) -> Vec<Mismatch> {
    let Some(secrets) = &seen.secrets else { return Vec::new() };
    let user = format!("{}/{}", entry.kind, entry.name);
    let mut found = Vec::new();
    for (pointer, template) in entry.definition.credentials() {
        let named = template.calls("secret").into_iter().flatten();
        for name in named.filter(|name| !entry.definition.is_opened_elsewhere(name)) {
            let to_do = format!("an admin sets it with `arvok secret set {name} --for {user}`");
            let wrong = match secrets.get(&name) {
                None => format!(
                    "{}; {to_do}",
                    Missing::new("secret", &name, secrets.keys().map(String::as_str))
                ),
                Some(users) if !users.contains(&user) => {
                    format!("secret `{name}` may not be used here; {to_do}")
                }
                Some(_) => continue,
            };
            found.push(Mismatch::at(pointer, Fault::Unfit(wrong)));
        }
    }
    found
}
