//! Everything in Arvok that can be computed: no I/O, no clock, no async.
//!
//! The folders follow what happens to an alert: a [`source`] reads it from a payload into an
//! [`alert`], the [`matcher`] finds the rules that concern it, [`settle`] decides with the memory
//! of each rule, [`rehearse`] replays stored alerts through all of that, and [`job`] executes the
//! steps of a [`runbook`] that call a [`connector`] or run a [`script`]; a [`mute`] keeps rules
//! from acting for a time, and so does, where a rule says it, what jobs have just [`touch`]ed;
//! what jobs tell goes to whoever is a [`subscriber`], and what they ask people to the [`contact`]
//! that they name.
//! [`calendar`] says what is on at a moment, [`bounds`] how deep and large a value may be,
//! [`document`] turns YAML into typed definitions with exact places for every diagnostic, [`expr`]
//! evaluates expressions within a budget, [`definition`] says what all kinds of definitions have in
//! common, and [`catalog`] holds the published set together.
//!
//! Time, randomness and identifiers are always arguments.

pub mod alarm;
pub mod alert;
pub mod automation;
pub mod bounds;
pub mod calendar;
pub mod catalog;
pub mod connector;
pub mod contact;
pub mod definition;
mod diagnostic;
pub mod document;
pub mod expr;
pub mod glob;
pub mod group;
pub mod guard;
pub mod halt;
mod html_text;
mod ids;
pub mod inputs;
pub mod job;
mod job_state;
mod labels;
pub mod matcher;
pub mod mute;
pub mod period;
pub mod plan;
mod principal;
pub mod rehearse;
mod role;
pub mod rule;
pub mod runbook;
pub mod schedule;
pub mod script;
pub mod settle;
pub mod shape;
pub mod share;
pub mod source;
pub mod subscriber;
pub mod text;
pub mod touch;
mod trace;
mod trial;
mod verdict;
pub mod words;
mod xml;

pub use alert::{Alert, AlertState, NewAlert, ResourcePath, Severity};
pub use catalog::Catalog;
pub use definition::Kind;
pub use document::Problem;
pub use ids::{AlarmId, AlertId, JobId};
pub use labels::{LabelError, Labels, MAX_LABELS};
pub use period::Period;
pub use principal::{NoPrincipal, Principal, PrincipalKind};
pub use role::Role;
pub use trace::{TRACEPARENT, TraceContext};
pub use trial::Trial;
pub use verdict::Verdict;

#[cfg(test)]
mod tests {
    //! The core stays able to do nothing.

    use std::{fs, path::Path};

    #[test]
    fn it_depends_on_nothing_that_reaches_outside() {
        let manifest = include_str!("../Cargo.toml");
        let section = manifest
            .split("[dependencies]")
            .nth(1)
            .and_then(|s| s.split("\n[").next())
            .unwrap_or_default();
        let names: Vec<&str> = section
            .lines()
            .filter_map(|l| l.split(" = ").next())
            .filter(|n| !n.is_empty())
            .collect();
        let known = [
            "aho-corasick",
            "base64",
            "chrono",
            "chrono-tz",
            "croner",
            "ego-tree",
            "form_urlencoded",
            "html5ever",
            "icalendar",
            "pulldown-cmark",
            "quick-xml",
            "regex",
            "rrule",
            "rustc-hash",
            "jsonschema",
            "mail-parser",
            "percent-encoding",
            "saphyr-parser",
            "schemars",
            "scraper",
            "serde",
            "serde_json",
            "serde_path_to_error",
            "strsim",
            "syslog_loose",
            "thiserror",
        ];
        assert_eq!(names, known, "a new dependency of the core must be pure, and listed here");
    }

    fn sources(folder: &Path, found: &mut Vec<(String, String)>) {
        for entry in fs::read_dir(folder).expect("a folder").filter_map(Result::ok) {
            let path = entry.path();
            if path.is_dir() {
                sources(&path, found);
            } else if !path.ends_with("src/lib.rs") {
                found.push((
                    path.display().to_string(),
                    fs::read_to_string(&path).expect("a source"),
                ));
            }
        }
    }

    #[test]
    fn it_reads_no_clock_and_touches_no_file() {
        let mut found = Vec::new();
        sources(Path::new(concat!(env!("CARGO_MANIFEST_DIR"), "/src")), &mut found);
        for forbidden in [
            "Utc::now",
            "SystemTime",
            "Instant",
            "std::fs",
            "std::net",
            "std::process",
            "async fn",
            "println!",
        ] {
            let users: Vec<&str> = found
                .iter()
                .filter(|(_, t)| t.contains(forbidden))
                .map(|(p, _)| p.as_str())
                .collect();
            assert!(users.is_empty(), "{forbidden} in {users:?}");
        }
    }
}
