//! Planning requests and reading answers.

mod brokers;
mod credentials;
mod exchange;
mod libvirt;
mod mail;
mod netconf;
mod pulse;
mod records;
mod snmp;
mod ssh;
mod visit;

use super::*;
use crate::{Period, document::parse_file};
use serde_json::{Map, Value, json};

const YARD: &str = r#"
connector: yard
operations:
  vm.grow_disk:
    takes: { vm: { type: string, format: resource }, by_gib: { type: integer, minimum: 1 }, why: { default: "" } }
    request:
      method: POST
      path: /v1/vms/${give.vm.split('/')[1]}/grow
      query: { why: "${give.why}" }
      headers: { X-Crew: storage }
      body: { by_gib: "${give.by_gib}" }
    output: '{"size_gib": response.body.disk.size_gib}'
    repeat: keyed
"#;

/// The first request of a call over HTTP, whole.
pub(super) fn sent(
    operation: &Operation,
    give: &Map<String, Value>,
    key: &str,
) -> Result<Request, RequestError> {
    operation.begin(give, key, None).map(|planned| http(planned).request().clone())
}

/// A call that is made over HTTP.
fn http(planned: Planned<'_>) -> Exchange<'_> {
    match planned {
        Planned::Http(exchange) => *exchange,
        other => panic!("{other:?}"),
    }
}

fn check(text: &str) -> Result<Connector, String> {
    let docs = parse_file("yard.yaml", text).map_err(|p| p.to_string())?;
    Connector::check(&docs[0])
        .map_err(|ps| ps.iter().map(ToString::to_string).collect::<Vec<_>>().join("\n"))
}

fn give(value: Value) -> Map<String, Value> {
    value.as_object().expect("a map").clone()
}

#[test]
fn a_request_is_planned_and_what_is_filled_in_cannot_leave_its_place() {
    let yard = check(YARD).expect("checks");
    let op = &yard.operations["vm.grow_disk"];
    let request =
        sent(op, &give(json!({"vm": "vm/a%b", "by_gib": 4, "why": "x&y=z"})), "job-7-grow")
            .expect("plans");
    insta::assert_json_snapshot!(request, @r#"
    {
      "method": "POST",
      "target": "/v1/vms/a%25b/grow?why=x%26y%3Dz",
      "headers": [
        [
          "X-Crew",
          "storage"
        ],
        [
          "Idempotency-Key",
          "job-7-grow"
        ]
      ],
      "body": {
        "by_gib": 4
      }
    }
    "#);
    let wrong = [
        json!({"vm": "vm/a"}),
        json!({"vm": "a", "by_gib": 4}),
        json!({"vm": "vm/a", "by_gib": 0}),
        json!({"vm": "vm/a", "by_gb": 1, "by_gib": 1}),
    ];
    let said: Vec<_> = wrong
        .into_iter()
        .map(|w| op.request(&give(w), "k").expect_err("refused").to_string())
        .collect();
    insta::assert_snapshot!(said.join("\n"), @r#"
    the input `by_gib` is missing
    the input `vm` is wrong: "a" is not a "resource"
    the input `by_gib` is wrong: 0 is less than the minimum of 1
    there is no input `by_gb`; did you mean `by_gib`?
    "#);
}

#[test]
fn a_slash_at_the_end_of_a_path_is_one_that_is_written() {
    let target = |path: &str, x: &str| {
        let text = format!(
            "connector: c\noperations:\n  op:\n    takes: {{ x: {{ type: string }} }}\n    request: \
             {{ method: GET, path: '{path}' }}\n"
        );
        let connector = check(&text).expect("checks");
        let request = sent(&connector.operations["op"], &give(json!({ "x": x })), "k");
        request.map_or_else(|e| e.to_string(), |request| request.target)
    };
    let all = [
        target("/", "a"),
        target("/v1/${give.x}/", "a"),
        target("/v1/${give.x}/", ""),
        target("/v1/${give.x}/", ".."),
        target("/v1/${give.x}", ""),
        target("/${give.x}", ""),
        target("//x", "a"),
    ];
    insta::assert_snapshot!(all.join("\n"), @r"
    /
    /v1/a/
    `` cannot be a part of the path /v1//
    `..` cannot be a part of the path /v1/../
    `` cannot be a part of the path /v1/
    `` cannot be a part of the path /
    `` cannot be a part of the path //x
    ");
}

#[test]
fn answers_become_outputs_or_failures() {
    let yard = check(YARD).expect("checks");
    let op = &yard.operations["vm.grow_disk"];
    let given = give(json!({"vm": "vm/a", "by_gib": 4}));
    let answer = |status, body| {
        let mut exchange = http(op.begin(&given, "k", None).expect("plans"));
        match exchange
            .answered(Answer { status, headers: Map::new(), body }, Period::from_millis(0))
        {
            Next::Output(output) => Ok(output),
            Next::Failed(failure) => Err(failure),
            other => panic!("{other:?}"),
        }
    };
    assert_eq!(answer(200, json!({"disk": {"size_gib": 44}})), Ok(json!({"size_gib": 44})));
    assert_eq!(
        answer(503, json!("busy")),
        Err(Failure::new(CallEnd::Unknown, "answered 503: busy"))
    );
    assert_eq!(
        answer(409, json!({"detail": "full"})),
        Err(Failure::lasting(CallEnd::Refused, "answered 409: full"))
    );
    let done = answer(200, json!({})).expect_err("no disk");
    assert_eq!((done.end, done.lasting), (CallEnd::Done, true));
}

#[test]
fn bad_documents_are_refused() {
    let bad = [
        "connector: c\noperations: { a: { request: { method: FETCH, path: /x } } }\n",
        "connector: c\noperations: { a: { request: { method: GET, path: x } } }\n",
        "connector: c\noperations: { a: { request: { method: GET, path: '/x/${input.vm}' } } }\n",
        "connector: c\noperations: { a: { takes: { vm: { type: text } }, request: { method: GET, \
        path: /x } } }\n",
        "connector: c\noperations: { a: { takes: { n: { type: integer, default: x } }, request: { \
        method: GET, path: /x } } }\n",
    ];
    let said: Vec<String> = bad.iter().map(|b| check(b).expect_err("refused")).collect();
    insta::assert_snapshot!(said.join("\n"), @r#"
    yard.yaml:2:39: unknown value `FETCH`; known here: GET, POST, PUT, PATCH, DELETE
        2 | operations: { a: { request: { method: FETCH, path: /x } } }
          |                                       ^^^^^
    yard.yaml:2:50: a path begins with /
        2 | operations: { a: { request: { method: GET, path: x } } }
          |                                                  ^
    yard.yaml:2:56: `input` is not known here; known here: give
        2 | operations: { a: { request: { method: GET, path: '/x/${input.vm}' } } }
          |                                                        ^^^^^
    yard.yaml:2:27: is not a JSON Schema (draft 2020-12): "text" is not valid under any of the schemas listed in the 'anyOf' keyword
        2 | operations: { a: { takes: { vm: { type: text } }, request: { method: GET, path: /x } } }
          |                           ^^
    yard.yaml:2:58: the default of `n` does not fit its own schema: "x" is not of type "integer"
        2 | operations: { a: { takes: { n: { type: integer, default: x } }, request: { method: GET, path: /x } } }
          |                                                          ^
    "#);
}

#[test]
fn what_an_operation_does_not_take_cannot_be_filled_in() {
    let text = "connector: yard\noperations:\n  grow:\n    takes: { vm: { type: string }, by_gib: \
        { type: integer } }\n    \
        request: { method: POST, path: \"/vms/${give.vmm}\", body: { by: \"${give.by_gib + 'x'}\" \
        } }\n    output: response.bdy\n";
    let document = crate::document::parse_file("yard.yaml", text).expect("reads").remove(0);
    let problems = super::Connector::check(&document).expect_err("refused");
    let said: Vec<String> =
        problems.iter().map(|p| format!("{}:{} {}", p.line, p.column, p.message)).collect();
    insta::assert_snapshot!(said.join("\n"), @"
    5:44 there is no field `vmm`; did you mean `vm`?
    5:71 cannot add a number and a string; put string( ) around what is no string
    6:13 there is no field `bdy`; did you mean `body`?
    ");
}

#[test]
fn an_answer_that_is_not_what_was_promised_is_useless() {
    let text = "connector: c
operations:
  op: { request: { method: GET, path: /x }, gives: { n: { type: integer } } }
";
    let c = check(text).expect("checks");
    let given = |body: Value| {
        let mut exchange = http(c.operations["op"].begin(&Map::new(), "k", None).expect("plans"));
        exchange.answered(Answer { status: 200, headers: Map::new(), body }, Period::from_millis(0))
    };
    assert_eq!(given(json!({ "n": 1 })), Next::Output(json!({ "n": 1 })));
    let Next::Failed(failure) = given(json!("<html>")) else { panic!("no output") };
    assert_eq!(
        failure.message,
        "answered 200, but what it gives should have fields, and is \"<html>\""
    );
    assert_eq!(failure.end, CallEnd::Done);
}
