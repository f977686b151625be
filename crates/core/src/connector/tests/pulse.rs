//! What is called while Arvok does its work: when it is kept back, and what it is given.

use crate::{
    Catalog,
    catalog::{Observed, check_files},
    connector::{Connection, OwnAlarm},
};
use serde_json::{Value, json};

const WATCH: &str = "
connector: night-watch
operations:
  beat:
    takes: { from: { type: string }, troubles: { type: array, default: null } }
    request: { method: POST, path: /beats }
---
connection: night-watch
connector: night-watch
base: http://127.0.0.1:7403
pulse: ";

fn checked(pulse: &str) -> Result<Connection, String> {
    let (text, none) = (format!("{WATCH}{pulse}\n"), Catalog::default());
    let checked = check_files([("watch.yaml", text.as_str())], &[], &none, &Observed::default());
    match checked.problems.first() {
        Some(problem) => Err(problem.to_string()),
        None => {
            let catalog = Catalog::new(checked.entries);
            let found = catalog.get::<Connection>("night-watch");
            Ok(found.expect("is there").0.clone())
        }
    }
}

fn own(kind: &str) -> OwnAlarm {
    OwnAlarm { kind: kind.into(), resource: "arvok/due".into(), summary: "it is late".into() }
}

#[test]
fn it_is_given_which_node_calls_and_what_stands_and_is_kept_back_by_the_kinds_it_names() {
    let text = "{ call: beat, every: 20s, unless: [due.*, node.intake], give: { from: '${node}', \
        troubles: '${alarms.map(a, a.kind)}' } }";
    let pulse = checked(text).expect("is good").pulse.expect("has one");
    assert_eq!(pulse.every.to_string(), "20s");
    let given = pulse.give("quill", &[own("jobs.halted")]).expect("is given");
    assert_eq!(Value::Object(given), json!({ "from": "quill", "troubles": ["jobs.halted"] }));
    assert!(pulse.held_by(&[own("jobs.halted"), own("node.intake.old")]).is_empty());
    let standing = [own("jobs.halted"), own("due.late")];
    assert_eq!(pulse.held_by(&standing), [&standing[1]]);

    let least = checked("{ call: beat, give: { from: x } }").expect("is good");
    let least = least.pulse.expect("has one");
    assert_eq!(least.every.to_string(), "1m");
    assert!(least.held_by(&standing).is_empty(), "nothing is named");
}

#[test]
fn what_is_wrong_with_it_is_said_with_its_place() {
    for (pulse, wrong) in [
        ("{ call: rings }", "there is no operation `rings`"),
        ("{ call: beat }", "`from` is missing"),
        ("{ call: beat, give: { from: x, until: y } }", "`until`"),
        ("{ call: beat, give: { from: '${alert.id}' } }", "alert"),
        ("{ call: beat, give: { from: x }, every: 10ms }", "is from 1s to 1d, not 10ms"),
        ("{ call: beat, give: { from: x }, unless: [''] }", "kinds"),
    ] {
        let said = checked(pulse).expect_err(pulse);
        assert!(said.contains(wrong), "{pulse}: {said}");
    }
}
