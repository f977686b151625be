//! The library as a whole: everything in it is good, fits together, is copied well, and would
//! notice a step that is missing.

use super::*;
use arvok_core::{
    Catalog,
    catalog::{Checked, Observed, check_files},
};
use serde_json::Value;

/// All of it, checked; its examples played.
fn checked() -> Checked {
    let files = files();
    let files = files.iter().map(|(file, text)| (file.as_str(), text.as_str()));
    check_files(files, &[], &Catalog::default(), &Observed::default())
}

#[test]
fn everything_is_good_and_told_in_words() {
    let checked = checked();
    let said: Vec<String> = checked.problems.iter().map(ToString::to_string).collect();
    assert!(said.is_empty(), "{}", said.join("\n"));
    assert_eq!(checked.warnings, []);
    for ready in all() {
        let name = &ready.runbook.name;
        let summary = ready.runbook.summary.as_deref().unwrap_or_default();
        assert!((20..=78).contains(&summary.chars().count()), "{name}: its summary fits a line");
        assert!(ready.runbook.examples.len() >= 2, "{name}: its examples");
        assert!(ready.runbook.examples.iter().all(|e| e.summary.is_some()), "{name}: its examples");
        let known = connections();
        assert!(
            ready.calls().iter().all(|via| known.contains_key(*via)),
            "{name}: its connections"
        );
    }
}

/// Everything that is done, with where it stands: steps wherever they are, what takes them back,
/// and the proof.
fn parts(at: &str, value: &Value, found: &mut Vec<String>) {
    match value {
        Value::Object(fields) => {
            for (key, below) in fields
                .iter()
                .filter(|(key, _)| !matches!(key.as_str(), "examples" | "give" | "inputs"))
            {
                let at = format!("{at}/{key}");
                if matches!(key.as_str(), "undo" | "confirm") {
                    found.push(at.clone());
                }
                parts(&at, below, found);
            }
        }
        Value::Array(items) => {
            for (i, item) in items.iter().enumerate() {
                let at = format!("{at}/{i}");
                found.extend(item.get("id").map(|_| at.clone()));
                parts(&at, item, found);
            }
        }
        _ => {}
    }
}

/// A document without what stands at a place.
fn without(value: &Value, at: &str) -> Value {
    let mut value = value.clone();
    let (above, last) = at.rsplit_once('/').expect("a place");
    match value.pointer_mut(above).expect("is there") {
        Value::Array(items) => drop(items.remove(last.parse().expect("a number"))),
        Value::Object(fields) => drop(fields.remove(last)),
        _ => {}
    }
    value
}

#[test]
fn a_step_that_is_taken_out_is_noticed() {
    let library = Catalog::new(checked().entries);
    let mut unnoticed = Vec::new();
    let mut taken = 0;
    for ready in all() {
        let mut found = Vec::new();
        parts("", &ready.document().value, &mut found);
        for at in found {
            taken += 1;
            let text = without(&ready.document().value, &at).to_string();
            let files = [(ready.runbook.name.as_str(), text.as_str())];
            if check_files(files, &[], &library, &Observed::default()).problems.is_empty() {
                unnoticed.push(format!("{}{at}", ready.runbook.name));
            }
        }
    }
    assert!(taken > 100, "{taken} were taken out");
    assert_eq!(unnoticed, Vec::<String>::new());
}

#[test]
fn a_copy_has_names_of_its_own_and_is_otherwise_as_it_was_written() {
    let disk = get("grow-disk").expect("a runbook");
    let instead = BTreeMap::from([("yard-hypervisor".to_owned(), "our-cluster".to_owned())]);
    let copied = disk.copied("grow-our-disks", &instead, |_, _| false).expect("a copy");
    let changed = |text: &str| {
        text.lines().filter(|l| !disk.text().contains(l)).map(str::to_owned).collect::<Vec<_>>()
    };
    insta::assert_snapshot!(changed(&copied).join("\n"), @r#"
    runbook: grow-our-disks
    copied_from: grow-disk
        via: our-cluster
        via: our-cluster
    "#);
    assert_eq!(copied.lines().count(), disk.text().lines().count() + 1);

    // A name that YAML would take for something else is written as the text that it is.
    let odd = disk.copied("true", &BTreeMap::new(), |_, _| false).expect("a copy");
    assert!(odd.starts_with("runbook: \"true\"\ncopied_from: grow-disk\n"), "{odd}");

    let missing = get("grow-disks").expect_err("none of this name").to_string();
    assert_eq!(
        missing,
        "there is no runbook `grow-disks` (did you mean `grow-disk`?) in the library"
    );
    let wrong = |name: &str, instead: &[(&str, &str)]| {
        let instead = instead.iter().map(|(a, b)| ((*a).to_owned(), (*b).to_owned())).collect();
        disk.copied(name, &instead, |_, _| false).expect_err("no copy").to_string()
    };
    assert_eq!(wrong("grow", &[("yard", "ours")]), "it does not call `yard`");
    assert_eq!(
        wrong("grow", &[("crew-chats", "ours")]),
        "it does not call `crew-chats`; did you mean `crew-chat`?"
    );
    insta::assert_snapshot!(wrong("Grow it", &[]), @"`Grow it` is not a name; use lower case letters, digits, - and _, at most 64, a letter or digit first");
}

#[test]
fn every_copy_stands_by_itself_with_what_it_needs() {
    for ready in all() {
        let text = ready.copied("own", &BTreeMap::new(), |_, _| true).expect("a copy");
        let checked = check_files(
            [("own.yaml", text.as_str())],
            &[],
            &Catalog::default(),
            &Observed::default(),
        );
        let said: Vec<String> = checked.problems.iter().map(ToString::to_string).collect();
        assert!(said.is_empty(), "{}: {said:#?}", ready.runbook.name);
        let own = checked
            .entries
            .iter()
            .find_map(|e| e.as_kind::<Runbook>().filter(|r| r.name == "own"))
            .expect("the copy");
        assert_eq!(own.copied_from.as_ref(), Some(&ready.runbook.name));
    }
}
