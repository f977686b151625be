//! Generated pages must say what the code says; `make reference` writes them anew.

use crate::kit::arvok;
use arvok_core::job::JobChange;

const REFERENCE: &str = concat!(env!("CARGO_MANIFEST_DIR"), "/../../docs/reference");

#[test]
fn the_pages_are_true() {
    let pages = [
        "api",
        "source",
        "rule",
        "runbook",
        "step",
        "connector",
        "connection",
        "subscriber",
        "contact",
        "calendar",
        "group",
        "guard",
        "plan",
    ];
    for page in pages {
        let file =
            if page == "api" { "openapi.json".to_owned() } else { format!("{page}.schema.json") };
        let kept = std::fs::read_to_string(format!("{REFERENCE}/{file}")).unwrap_or_default();
        let said = arvok(&["schema", page], &[], "").out;
        assert!(kept == said, "docs/reference/{file} is out of date; run `make reference`");
    }
    let kept = std::fs::read_to_string(format!("{REFERENCE}/settings.md")).unwrap_or_default();
    assert!(
        kept == arvok(&["config", "list", "--page"], &[], "").out,
        "settings.md is out of date; run `make reference`"
    );
}

#[test]
fn every_operation_of_the_api_has_a_name_of_its_own() {
    let api: serde_json::Value =
        serde_json::from_str(&arvok(&["schema", "api"], &[], "").out).expect("JSON");
    let paths = api["paths"].as_object().expect("paths");
    let mut names: Vec<&str> = paths
        .values()
        .flat_map(|p| p.as_object().into_iter().flatten())
        .filter_map(|(_, o)| o["operationId"].as_str())
        .collect();
    let all = names.len();
    names.sort_unstable();
    names.dedup();
    assert_eq!(names.len(), all);
    assert!(api["openapi"].as_str().is_some_and(|v| v.starts_with("3.1")));
}

/// Every block of the page about rules is a rule whose examples hold.
#[test]
fn the_examples_of_the_rule_language_hold() {
    let page = include_str!("../../../../docs/reference/rules.md");
    let note = "runbook: note\ninputs: { what: { default: nothing } }\ntarget: group/all\nsteps: \
        [{ id: fine, require: 'true' }]\n";
    let source = |name: &str| {
        format!(
            "source: {name}\nintake: {{ webhook: {{ credential: {{ bearer: \"${{secret('x')}}\" }} \
            }} }}\n"
        )
    };
    let blocks: Vec<&str> =
        page.split("```yaml\n").skip(1).filter_map(|b| b.split("```").next()).collect();
    assert!(blocks.len() >= 13, "the page lost its examples");
    let text = blocks.join("---\n");
    let file = crate::kit::folder("rules-page").join("rules.yaml");
    let whole = format!(
        "{}---\n{}---\n{note}---\n{text}",
        source("yard-hypervisor"),
        source("pier-probes")
    );
    std::fs::write(&file, whole).expect("a file");
    let said = crate::kit::arvok(&["check", &file.display().to_string()], &[], "");
    assert_eq!(said.code, 0, "{}", said.all());
    let played = text.matches("  - given:").count();
    assert!(said.out.contains(&format!("; {played} examples hold")), "{}", said.out);
    assert!(!said.err.contains("never-matches"), "silenced with a reason: {}", said.err);
}

/// Every block of the page about runbooks is a runbook that fits the demo's connections, and one of
/// its runbooks.
#[test]
fn the_examples_of_runbooks_are_accepted() {
    let page = include_str!("../../../../docs/reference/runbooks.md");
    let blocks: Vec<&str> =
        page.split("```yaml\n").skip(1).filter_map(|b| b.split("```").next()).collect();
    assert!(blocks.len() >= 8, "the page lost its examples");
    let file = crate::kit::folder("runbooks-page").join("runbooks.yaml");
    std::fs::write(&file, blocks.join("---\n")).expect("a file");
    let ready = [
        "connections",
        "runbooks/grow-disk.yaml",
        "runbooks/restart-kiosk.yaml",
        "runbooks/add-cpu.yaml",
    ];
    let ready = ready.map(|part| format!("{}/{part}", crate::kit::LIBRARY));
    let file = file.display().to_string();
    let all: Vec<&str> =
        ["check", &file].into_iter().chain(ready.iter().map(String::as_str)).collect();
    let said = arvok(&all, &[], "");
    assert_eq!(said.code, 0, "{}", said.all());
}

/// The contacts of the page about documents fit the demo's connections.
#[test]
fn the_example_of_contacts_is_accepted() {
    let page = include_str!("../../../../docs/reference/documents.md");
    let section = page.split("\n## contact\n").nth(1).expect("a section");
    let block = section.split("```yaml\n").nth(1).and_then(|b| b.split("```").next());
    let file = crate::kit::folder("contacts-page").join("contacts.yaml");
    std::fs::write(&file, block.expect("a block")).expect("a file");
    let connections = format!("{}/connections", crate::kit::LIBRARY);
    let said = arvok(&["check", &file.display().to_string(), &connections], &[], "");
    assert_eq!(said.code, 0, "{}", said.all());
}

/// The groups, guards and plans of the page about documents are such, and fit the library.
#[test]
fn the_examples_of_guards_and_plans_are_accepted() {
    let page = include_str!("../../../../docs/reference/documents.md");
    let section = page.split("\n## calendar\n").nth(1).expect("a section");
    let blocks = section.split("```yaml\n").skip(1).filter_map(|b| b.split("```").next());
    let file = crate::kit::folder("guards-page").join("guards.yaml");
    std::fs::write(&file, blocks.collect::<Vec<_>>().join("---\n")).expect("a file");
    let said = arvok(&["check", &file.display().to_string(), crate::kit::LIBRARY], &[], "");
    assert_eq!(said.code, 0, "{}", said.all());
}

/// The subscriber of the page about events is one; the event that it shows has the fields of those
/// that leave.
#[test]
fn the_examples_of_events_are_accepted() {
    let page = include_str!("../../../../docs/reference/events.md");
    let block = |kind: &str| {
        page.split(&format!("```{kind}\n")).nth(1).and_then(|b| b.split("```").next()).expect(kind)
    };
    let file = crate::kit::folder("events-page").join("subscriber.yaml");
    std::fs::write(&file, block("yaml")).expect("a file");
    let said = arvok(&["check", &file.display().to_string()], &[], "");
    assert_eq!(said.code, 0, "{}", said.all());
    let event: serde_json::Value = serde_json::from_str(block("json")).expect("JSON");
    let fields: Vec<&str> =
        event.as_object().expect("an object").keys().map(String::as_str).collect();
    assert_eq!(
        fields,
        [
            "specversion",
            "id",
            "source",
            "type",
            "subject",
            "time",
            "datacontenttype",
            "traceparent",
            "data"
        ]
    );
    for change in JobChange::ALL {
        assert!(page.contains(&format!("`job.{change}`")), "{change}");
    }
    // Each command that the page shows is one.
    for line in
        page.split("```sh\n").skip(1).filter_map(|b| b.split("```").next()).flat_map(str::lines)
    {
        let words: Vec<&str> = line.split_whitespace().skip(1).chain(["--help"]).collect();
        assert_eq!(arvok(&words, &[], "").code, 0, "{line}");
    }
}
