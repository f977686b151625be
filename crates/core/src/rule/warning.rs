//! The names of the warnings that a rule can say it knows of. What raises them is the catalog's
//! business.

use crate::{document::Checker, text::nearest};
use std::collections::BTreeMap;

/// The names of all warnings, and what each says.
pub const WARNINGS: [(&str, &str); 15] = [
    ("never-matches", "no alert can match the rule"),
    ("short-rest", "`rest` is shorter than the time after which the sender repeats"),
    ("unknown-resource", "a resource or glob fits nothing that is known"),
    ("no-glob", "a text has signs of other patterns, which mean themselves here"),
    ("no-class", "a resource has no class before its name"),
    ("other-case", "a text was only ever seen with other capital letters"),
    ("same-runbook", "another rule dispatches the same runbook for the same alert"),
    ("over-cap", "`cap` lets fewer jobs through than the rule dispatches at once"),
    ("cut-off", "two integers that are written out are divided, and the rest is cut off"),
    ("follows-nobody", "events are chosen by the name or the owner of a rule that there is not"),
    ("not-awaited", "`missing` cannot wait for a resource that was never heard of"),
    ("unsent-kind", "a kind that the source never sent"),
    ("unsent-severity", "a severity that no alert of the kind ever had"),
    ("unsent-field", "a field that no alert of a kind ever had, or that some lack"),
    ("other-type", "a field is compared with something of another type than it has"),
];

/// Checks the names under `knowingly`.
pub(super) fn check_known(check: &mut Checker<'_>, known: &BTreeMap<String, String>) {
    let names = || WARNINGS.iter().map(|(name, _)| *name);
    for (name, reason) in known {
        let at = format!("/knowingly/{name}");
        if !names().any(|n| n == name) {
            let hint = match nearest(name, names()) {
                Some(n) => format!("did you mean `{n}`?"),
                None => format!("the warnings are {}", names().collect::<Vec<_>>().join(", ")),
            };
            check.fail(&at, format!("there is no warning `{name}`; {hint}"));
        } else if reason.trim().is_empty() {
            check.fail(&at, "says no reason; write down why it is so on purpose");
        }
    }
}
