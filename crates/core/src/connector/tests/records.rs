//! Questions to Arvok's own records, and what operations say that they change.

use super::{check, give};
use crate::{
    connector::{Connection, Connector, Planned, Repeat},
    definition::Defined,
    document::parse_file,
};
use insta::assert_snapshot;
use serde_json::{Value, json};

const KNOWN: &str = "connector: records\noperations:\n  known:\n    \
    takes: { resource: { type: string, format: resource } }\n    \
    arvok: { resource: \"${give.resource}\" }\n    \
    output: response.alarms.map(a, a.kind)\n";

fn connector(text: &str) -> Connector {
    check(text).expect("checks")
}

#[test]
fn a_question_about_a_resource_only_looks_and_gives_what_is_made_of_the_answer() {
    let connector = connector(KNOWN);
    let known = &connector.operations["known"];
    assert!(known.only_looks());
    assert_eq!((known.repeat, known.line()), (Repeat::Safe, "ARVOK ${give.resource}"));
    let asked = give(json!({ "resource": "host/quill-hv-1" }));
    let shown = known.request(&asked, "key").expect("plans");
    assert_eq!((shown.method.as_str(), shown.target.as_str()), ("ARVOK", "host/quill-hv-1"));
    let Ok(Planned::Records(plan)) = known.begin(&asked, "key", None) else {
        panic!("it asks the records")
    };
    let answer = json!({ "alarms": [{ "kind": "host.disk" }], "jobs": [], "touched": [] });
    assert_eq!(plan.output(answer).expect("an output"), json!(["host.disk"]));
    let wrong = known.begin(&give(json!({ "resource": "quill" })), "key", None);
    assert_snapshot!(wrong.expect_err("no resource"), @r#"the input `resource` is wrong: "quill" is not a "resource""#);
}

#[test]
fn what_an_operation_changes_is_named_by_what_it_is_given() {
    let connector = connector(
        "connector: yard\noperations:\n  move:\n    \
        takes: { vm: { type: string }, to: { type: string, default: null } }\n    \
        request: { method: POST, path: /move }\n    \
        touches: [\"vm/${give.vm}\", \"${give.to}\"]\n",
    );
    let touches = |value: Value| connector.operations["move"].touches(&give(value));
    let both = touches(json!({ "vm": "a", "to": "host/b" })).expect("resources");
    assert_eq!(both, ["vm/a", "host/b"]);
    assert_eq!(
        touches(json!({ "vm": "a" })).expect("resources"),
        ["vm/a"],
        "what is not given is none"
    );
    assert_snapshot!(touches(json!({ "vm": "a b" })).expect_err("no resource"), @"touches: `vm/a b` is not a resource path; write class/name or class/name/part, for example vm/quill-booking-db-1");
    // And so it is not sent either.
    let sent = connector.operations["move"].request(&give(json!({ "vm": "*" })), "key");
    assert_snapshot!(sent.expect_err("no resource"), @"touches: `vm/*` is not a resource path; write class/name or class/name/part, for example vm/quill-booking-db-1");
}

#[test]
fn what_means_nothing_there_is_said() {
    let connector = "connector: yard\noperations:\n  look:\n    \
        request: { method: GET, path: /look }\n    touches: [vm/a]\n  ask:\n    \
        arvok: { resource: vm/a }\n    repeat: keyed\n";
    assert_snapshot!(check(connector).expect_err("is wrong"), @r#"
    yard.yaml:5:14: belongs to what changes something; this only looks
        5 |     touches: [vm/a]
          |              ^
    yard.yaml:8:13: is `keyed`, and no record knows a question by its key; write `never`, or `safe` where a second one does no harm
        8 |     repeat: keyed
          |             ^^^^^
    "#);
    let connection = "connection: here\nconnector: records\nbase: arvok://there\n\
        credential: { bearer: \"${secret('x')}\" }\nthrough: { site: quill }\n";
    let documents = parse_file("here.yaml", connection).expect("parses");
    let problems = Connection::check(&documents[0]).expect_err("is wrong");
    let problems: Vec<String> = problems.iter().map(ToString::to_string).collect();
    assert_snapshot!(problems.join("\n"), @r#"
    here.yaml:3:7: is not `arvok://here`; only this installation's own can be asked
        3 | base: arvok://there
          |       ^^^^^^^^^^^^^
    here.yaml:4:13: the node's own records ask for none; leave it out
        4 | credential: { bearer: "${secret('x')}" }
          |             ^^
    here.yaml:5:10: belongs to what runners reach; no runner has Arvok's records
        5 | through: { site: quill }
          |          ^^
    "#);
}
