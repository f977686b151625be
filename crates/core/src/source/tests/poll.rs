//! Messages that are fetched: what an operation is given at each look, and what is remembered.

use super::*;
use crate::catalog::{Catalog, Observed, check_files};

const LOG: &str = "connector: log
operations:
  alerts.list:
    takes: { after: { type: integer, default: null }, since: { type: string, default: null } }
    request: { method: GET, path: /alerts, query: { after: '${give.after}' } }
    repeat: safe
  alerts.clear: { request: { method: POST, path: /clear } }
---
connection: log
connector: log
base: http://127.0.0.1:1
---
";

fn poll(lines: &str) -> Result<Poll, String> {
    let source = of_format(&format!("{{ poll: {{ call: alerts.list, via: log, {lines} }} }}"))?;
    Ok(source.intake.poll().expect("fetched").clone())
}

fn at(seconds: i64) -> DateTime<chrono::Utc> {
    DateTime::from_timestamp(seconds, 0).expect("a moment")
}

/// What is wrong with a source among others.
fn wrong(lines: &str) -> String {
    let text = format!("{LOG}source: pier\nintake:\n  poll:\n{lines}");
    let seen = Observed::default();
    let checked = check_files([("all.yaml", text.as_str())], &[], &Catalog::default(), &seen);
    checked.problems.iter().map(|p| format!("{p}\n")).collect()
}

#[test]
fn each_look_goes_on_from_the_one_before() {
    let poll = poll(
        "give: { after: '${cursor}', since: '${looked_at}' }, cursor: result.last, \
        more: result.last < result.all",
    )
    .expect("checks");
    let first = PollLook::new(Value::Null, at(0));
    let given = poll.give(&first).expect("gives");
    assert_eq!(Value::Object(given), json!({ "since": "1970-01-01T00:00:00.000Z" }));
    let looked = poll.looked(&first, &json!({ "last": 7, "all": 9 })).expect("goes on");
    assert_eq!(looked, PollLooked { cursor: json!(7), more: true });

    // A field of what is not remembered yet is left out as well, and a wrong one is told later.
    let field = self::poll("give: { after: '${cursor.last}' }, cursor: result").expect("checks");
    assert_eq!(field.give(&first).expect("gives"), Map::new());
    let later = PollLook::new(json!({ "at": 7 }), at(60));
    assert_eq!(
        field.give(&later).expect_err("told").to_string(),
        "${cursor.last}: there is no field `last`"
    );

    let second = PollLook::new(looked.cursor, at(60));
    assert_eq!(poll.give(&second).expect("gives")["after"], 7);
    let looked = poll.looked(&second, &json!({ "last": 9, "all": 9 })).expect("goes on");
    assert_eq!(looked, PollLooked { cursor: json!(9), more: false });
}

#[test]
fn what_cannot_be_gone_on_from_is_told() {
    let of = |lines: &str, result: Value| {
        let look = PollLook::new(json!(7), at(0));
        poll(lines).expect("checks").looked(&look, &result).expect_err(lines)
    };
    insta::assert_snapshot!(
        [
            of("cursor: result.last, more: result.more", json!({ "last": 7, "more": true })),
            of("cursor: result.last", json!([])),
            of("cursor: result", json!("x".repeat(5_000))),
            of("cursor: result.last, more: result.more", json!({ "last": 8, "more": "so" })),
        ]
        .join("\n"),
        @r"
        there is more, as `more` says, and `cursor` stays as it was: the next look would give the same
        `cursor`, which is result.last: there is no field `last` in a list
        `cursor` is larger than 4096 bytes, or too deep
        `more`, which is result.more: is a string, not true or false
        "
    );
}

#[test]
fn what_is_fetched_is_read_as_what_is_posted() {
    let source = source_of(
        "read: { each: body.alerts, id: item.id, kind: item.kind, severity: '\"minor\"', \
        resource: item.resource }",
    );
    let body = json!({ "alerts": [{ "id": "1", "kind": "disk.usage", "resource": "vm/a" }] });
    let outcome = read(&source, &body).expect("reads");
    assert_eq!((outcome.alerts[0].id.as_str(), outcome.alerts.len()), ("1", 1));
    // Without lines it is the normal form.
    let normal = json!([{ "kind": "disk.usage", "resource": "vm/a", "severity": "minor" }]);
    assert_eq!(read(&source_of(""), &normal).expect("reads").alerts.len(), 1);
}

fn source_of(read: &str) -> Source {
    let text = format!("source: pier\nintake: {{ poll: {{ call: a.b, via: log }} }}\n{read}");
    let documents = parse_file("pier.yaml", &text).expect("is YAML");
    Source::check(&documents[0]).expect("checks")
}

#[test]
fn an_operation_that_is_not_there_or_changes_something_is_refused_with_its_place() {
    assert_eq!(wrong("    call: alerts.list\n    via: log\n    every: 5s\n"), "");
    insta::assert_snapshot!(
        [
            "    call: alerts.clear\n    via: log\n",
            "    call: alerts.list\n    via: logs\n",
            "    call: alerts.list\n    via: log\n    give: { before: 1 }\n",
            "    call: alerts.list\n    via: log\n    give: { after: \"${result}\" }\n",
            "    call: alerts.list\n    via: log\n    cursor: reslt.last\n    every: 1s\n",
            "    call: alerts.list\n    via: log\n    more: result.more\n",
            "    call: alerts.list\n    via: log\n    cursor: looked_at\n    more: '1'\n",
        ]
        .map(wrong)
        .join("\n"),
        @r#"
        all.yaml:16:11: it is called again and again; call an operation that is `repeat: safe`
           16 |     call: alerts.clear
              |           ^^^^^^^^^^^^

        all.yaml:17:10: there is no connection `logs` (did you mean `log`?)
           17 |     via: logs
              |          ^^^^

        all.yaml:18:11: operation `alerts.list`: there is no input `before`
           18 |     give: { before: 1 }
              |           ^^

        all.yaml:18:23: `result` is not known here; known here: cursor, looked_at
           18 |     give: { after: "${result}" }
              |                       ^^^^^^

        all.yaml:18:13: `reslt` is not known here; did you mean `result`?
           18 |     cursor: reslt.last
              |             ^^^^^
        all.yaml:19:12: is from 5s to 1d, not 1s
           19 |     every: 1s
              |            ^^

        all.yaml:18:11: without `cursor` the next look gives the same again; write what is remembered, or leave this out
           18 |     more: result.more
              |           ^^^^^^^^^^^

        all.yaml:19:11: is a number, not true or false
           19 |     more: '1'
              |           ^^^
        "#
    );
}
