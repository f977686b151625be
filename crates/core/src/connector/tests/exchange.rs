//! Calls of more than one request, executed by hand: pages, looks, calls back.

use super::{check, give, http, sent};
use crate::{
    Period,
    connector::{
        Answer, CallEnd, CallbackAt, Connector, Exchange, Failure, Hiding, Next, Operation,
    },
};
use serde_json::{Map, Value, json};

fn connector(operation: &str) -> Connector {
    let lines: Vec<String> = operation.lines().map(|line| format!("    {line}")).collect();
    check(&format!("connector: c\noperations:\n  op:\n{}\n", lines.join("\n"))).expect("checks")
}

fn answer(body: Value) -> Answer {
    Answer { status: 200, headers: Map::new(), body }
}

fn linked(link: &str, body: Value) -> Answer {
    Answer { headers: Map::from_iter([("link".to_owned(), link.into())]), ..answer(body) }
}

fn begin<'o>(operation: &'o Operation, given: Value) -> Exchange<'o> {
    let callback = CallbackAt { address: "https://here/callback/x".into(), key: "whsec_k".into() };
    http(operation.begin(&give(given), "key", Some(&callback)).expect("begins"))
}

/// What is asked for, one after the other, and what comes of it at last.
fn play(
    operation: &Operation,
    given: Value,
    answers: Vec<(u64, Result<Answer, Failure>)>,
) -> Vec<String> {
    let mut exchange = begin(operation, given);
    let mut told = vec![exchange.request().target.clone()];
    for (seconds, answer) in answers {
        let passed = Period::from_secs(seconds);
        let next = match answer {
            Ok(answer) => exchange.answered(answer, passed),
            Err(failure) => exchange.broke(failure, passed),
        };
        told.push(match next {
            Next::Send(request, after) => format!("{} after {after}", request.target),
            Next::Output(output) => format!("gives {output}"),
            Next::CalledBack(within) => format!("calls back within {within}"),
            Next::Failed(Failure { end, message, lasting, .. }) => {
                format!("{}{}: {message}", end.as_str(), if lasting { ", for good" } else { "" })
            }
        });
    }
    told
}

fn all(answers: impl IntoIterator<Item = Answer>) -> Vec<(u64, Result<Answer, Failure>)> {
    answers.into_iter().map(|answer| (0, Ok(answer))).collect()
}

const BY_CURSOR: &str = "takes: { site: { type: string, default: null } }
request: { method: GET, path: /kiosks, query: { site: '${give.site}', after: first } }
pages: { list: response.body.kiosks, next: { cursor: response.body.next, query: after }, at_most: 3 }";

#[test]
fn pages_are_read_to_their_end() {
    let by_cursor = connector(BY_CURSOR);
    let page = |names: &[&str], next: Value| answer(json!({ "kiosks": names, "next": next }));
    let pages =
        all([page(&["a", "b"], json!("x&y")), page(&[], json!(7)), page(&["c"], json!(null))]);
    insta::assert_snapshot!(play(&by_cursor.operations["op"], json!({}), pages).join("\n"), @r#"
    /kiosks?after=first
    /kiosks?after=x%26y after 0s
    /kiosks?after=7 after 0s
    gives ["a","b","c"]
    "#);
    let by_link = connector(
        "request: { method: GET, path: /kiosks }\npages: { list: response.body, next: { link: next \
        } }\noutput: '{\"names\": list, \"status\": response.status}'",
    );
    let pages = all([
        linked(
            r#"</kiosks?p=0>; rel="prev", </kiosks?p=2>; title="a, b"; rel="last next""#,
            json!(["a"]),
        ),
        linked("</kiosks?p=1>; rel=prev", json!(["b"])),
    ]);
    insta::assert_snapshot!(play(&by_link.operations["op"], json!({}), pages).join("\n"), @r#"
    /kiosks
    /kiosks?p=2 after 0s
    gives {"names":["a","b"],"status":200}
    "#);
    let by_number = connector(
        "request: { method: GET, path: /k }\npages: { list: response.body, next: { number: page, \
        first: 0 } }",
    );
    let pages = all([answer(json!([1])), answer(json!([2])), answer(json!([]))]);
    insta::assert_snapshot!(play(&by_number.operations["op"], json!({}), pages).join("\n"), @r"
    /k?page=0
    /k?page=1 after 0s
    /k?page=2 after 0s
    gives [1,2]
    ");
    let by_more = connector(
        "request: { method: GET, path: /k }\npages: { list: response.body.all, next: { number: p, \
        more: response.body.more } }",
    );
    let pages = all([
        answer(json!({ "all": [1], "more": true })),
        answer(json!({ "all": [2], "more": false })),
    ]);
    insta::assert_snapshot!(play(&by_more.operations["op"], json!({}), pages).join("\n"), @r"
    /k?p=1
    /k?p=2 after 0s
    gives [1,2]
    ");
}

#[test]
fn a_list_that_is_not_whole_is_a_failure_and_no_shorter_list() {
    let by_cursor = connector(BY_CURSOR);
    let op = &by_cursor.operations["op"];
    let page = |next: &str| answer(json!({ "kiosks": ["k"], "next": next }));
    let last = |answers| play(op, json!({}), answers).pop().expect("an end");
    insta::assert_snapshot!(last(all([page("a"), page("b"), page("c")])), @"useless, for good: page 3: there are more; `at_most` allows 3, and a shorter list would be wrong");
    insta::assert_snapshot!(last(all([page("a"), page("a")])), @"useless, for good: page 2: the next page is /kiosks?after=a, which was there before");
    insta::assert_snapshot!(last(all([answer(json!({ "kiosks": 7 }))])), @"useless, for good: page 1: `response.body.kiosks` is not a list");
    insta::assert_snapshot!(last(all([answer(json!("no json"))])), @r#"
    useless, for good: page 1: there is no list in it: there is no field `kiosks` in a string
    "#);
    let flood = answer(json!({ "kiosks": ["x".repeat(300_000)], "next": "more" }));
    insta::assert_snapshot!(last(all([flood])), @"useless, for good: page 1: all pages so far have 300003 bytes; 262144 are allowed");
    let busy = Answer { status: 503, ..answer(json!(null)) };
    insta::assert_snapshot!(last(all([page("a"), busy])), @"unknown: answered 503");
    let broken = Failure::new(CallEnd::Unknown, "the connection broke");
    insta::assert_snapshot!(last(vec![(0, Ok(page("a"))), (0, Err(broken))]), @"unknown: the connection broke");
}

const UNTIL: &str = "takes: { name: { type: string } }
request: { method: POST, path: /instances, body: { name: '${give.name}' } }
until:
  look: { method: GET, path: '/operations/${first.body.operation}' }
  done: response.body.state == 'done'
  failed: response.body.state == 'failed'
  because: response.body.error
  every: 2s
  within: 10s
output: '{\"name\": give.name, \"at\": response.body.at}'";

#[test]
fn an_operation_that_answers_before_it_is_done_is_looked_at() {
    let until = connector(UNTIL);
    let op = &until.operations["op"];
    let begun = || (0, Ok(answer(json!({ "operation": "op/1" }))));
    let state = |seconds, state: &str| {
        (seconds, Ok(answer(json!({ "state": state, "at": "now", "error": "no room" }))))
    };
    let given = || json!({ "name": "worker-7" });
    let broken = || Failure::new(CallEnd::NotSent, "cannot connect");
    let looks = vec![begun(), state(2, "begun"), (4, Err(broken())), state(6, "done")];
    insta::assert_snapshot!(play(op, given(), looks).join("\n"), @r#"
    /instances
    /operations/op%2F1 after 2s
    /operations/op%2F1 after 2s
    /operations/op%2F1 after 2s
    gives {"name":"worker-7","at":"now"}
    "#);
    let last = |answers| play(op, given(), answers).pop().expect("an end");
    insta::assert_snapshot!(last(vec![begun(), state(2, "failed")]), @"refused: no room");
    insta::assert_snapshot!(last(vec![begun(), state(9, "begun")]), @"unknown, for good: it was begun, but was not done within 10s");
    insta::assert_snapshot!(last(vec![begun(), (9, Err(broken()))]), @"unknown, for good: it was begun, but was not done within 10s, and the last look: cannot connect");
    insta::assert_snapshot!(last(vec![begun(), (9, Ok(answer(json!({}))))]), @"unknown, for good: it was begun, but was not done within 10s, and the last look: `response.body.state == 'done'`: there is no field `state`");
    let gone = Answer { status: 404, ..answer(json!({ "detail": "no such operation" })) };
    insta::assert_snapshot!(last(vec![begun(), (2, Ok(gone))]), @"unknown, for good: it was begun, and a look at it answered 404: no such operation");
    let refused = Answer { status: 409, ..answer(json!({})) };
    insta::assert_snapshot!(last(vec![(0, Ok(refused))]), @"refused, for good: answered 409");
    insta::assert_snapshot!(last(vec![(0, Ok(answer(json!({}))))]), @"unknown, for good: it was begun, and cannot be looked at: ${first.body.operation}: there is no field `operation`");
    assert_eq!(op.longest(Period::from_secs(5)), Period::from_secs(20));

    let follow = connector(
        "request: { method: DELETE, path: /instances/7 }\nuntil: { follow: first.headers.location, \
        done: response.status == 200, within: 1m }",
    );
    let located = Answer {
        headers: Map::from_iter([("location".to_owned(), "/o/1".into())]),
        ..answer(json!(null))
    };
    insta::assert_snapshot!(play(&follow.operations["op"], json!({}), all([located, answer(json!(7))])).join("\n"), @r"
    /instances/7
    /o/1 after 2s
    gives 7
    ");
}

#[test]
fn an_operation_that_calls_back_hands_over_an_address_and_reads_what_comes() {
    let back = connector(
        "takes: { question: { type: string } }
request: { method: POST, path: /asks, form: { text: '${give.question}', reply_to: '${callback}' } }
callback: { within: 10m, failed: called.body.ok == false, because: called.body.why, output: '{\"answer\": called.body.answer}' }",
    );
    let op = &back.operations["op"];
    let mut exchange = begin(op, json!({ "question": "all well?" }));
    insta::assert_json_snapshot!(exchange.request(), @r#"
    {
      "method": "POST",
      "target": "/asks",
      "headers": [],
      "body": {
        "kind": "application/x-www-form-urlencoded",
        "text": "reply_to=https%3A%2F%2Fhere%2Fcallback%2Fx&text=all%20well%3F"
      }
    }
    "#);
    assert_eq!(
        exchange.answered(answer(json!(null)), Period::from_secs(0)),
        Next::CalledBack(Period::from_secs(600))
    );
    let called = |body: Value| {
        op.callback().expect("one").output(&json!({ "headers": {}, "body": body }), Hiding::NOTHING)
    };
    assert_eq!(called(json!({ "ok": true, "answer": "yes" })), Ok(json!({ "answer": "yes" })));
    assert_eq!(
        called(json!({ "ok": false, "why": "nobody is there" })),
        Err("nobody is there".into())
    );
    assert_eq!(called(json!({ "ok": false })), Err("it says that it failed".into()));
    assert!(
        called(json!("text"))
            .expect_err("none")
            .starts_with("it called back, but no output can be made of that")
    );
    // What is shown of it before has no address in it.
    let shown = op.request(&give(json!({ "question": "x" })), "key").expect("plans");
    assert!(shown.body.expect("one").to_string().contains("%5Bcallback%5D"));
}

#[test]
fn what_is_not_given_is_left_out_and_a_list_comes_one_by_one() {
    let c = connector(
        "takes: { a: { default: null }, b: { type: array, default: null }, c: { type: string, \
        default: null } }
request:
  method: POST
  path: /x
  query: { a: '${give.a}', b: '${give.b}' }
  headers: { X-C: '${give.c}', X-Always: yes }
  body: { a: '${give.a}', deep: { c: '${give.c}', d: 1 }, list: ['${give.a}', 2], text: 'a=${give.a}' }",
    );
    let op = &c.operations["op"];
    let whole = sent(op, &give(json!({ "a": 1, "b": ["x", 2], "c": "see" })), "k").expect("plans");
    insta::assert_snapshot!(serde_json::to_string(&whole).expect("is JSON"), @r#"{"method":"POST","target":"/x?a=1&b=x&b=2","headers":[["X-Always","yes"],["X-C","see"]],"body":{"a":1,"deep":{"c":"see","d":1},"list":[1,2],"text":"a=1"}}"#);
    let none = op
        .request(&give(json!({})), "k")
        .expect_err("a text has room for nothing that is not given");
    assert_eq!(none.to_string(), "${give.a}: there is no field `a`");
    let some = sent(op, &give(json!({ "a": null })), "k").expect("plans");
    insta::assert_snapshot!(serde_json::to_string(&some).expect("is JSON"), @r#"{"method":"POST","target":"/x","headers":[["X-Always","yes"]],"body":{"a":null,"deep":{"d":1},"list":[null,2],"text":"a=null"}}"#);
}

#[test]
fn what_does_not_fit_together_is_a_diagnostic_with_its_place() {
    let diagnostics = |operation: &str| {
        let lines: Vec<String> = operation.lines().map(|line| format!("    {line}")).collect();
        check(&format!("connector: c\noperations:\n  op:\n{}\n", lines.join("\n")))
            .expect_err("refused")
    };
    let wrong = [
        "request: { method: POST, path: /x, body: {}, form: {} }",
        "request: { method: POST, path: /x }\npages: { list: response.body, next: { link: next } }",
        "request: { method: GET, path: /x }\npages: { list: response.body, next: { cursor: \
        response.body.n } }",
        "request: { method: GET, path: /x }\npages: { list: response.body, next: { link: next, \
        number: p }, at_most: 0 }",
        "request: { method: GET, path: /x }\nuntil: { done: 'true', within: 2h }",
        "request: { method: GET, path: /x }\nuntil: { look: { method: PUT, path: /y }, done: \
        response.body.x, every: 1ms, within: 2s }",
        "request: { method: POST, path: /x }\ncallback: { within: 10m, because: called.body \
        }\noutput: response.body",
        "request: { method: GET, path: /x }\npages: { list: response.body, next: { link: next } \
        }\ngives: { n: {} }",
        "request: { method: POST, path: '/${callback}' }",
        "request: { method: POST, path: '/${callback}' }\ncallback: { within: 10m, signed: { \
        hmac_sha256: 'x y' } }",
        "request: { method: POST, path: '/${callback_key}' }\ncallback: { within: 10m }",
        "request: { method: POST, path: /x }\nrepeat: keyed\nprobe: { call: op, done: 'true' }",
        "request: { method: POST, path: /x }\nprobe: { call: oq, give: { a: 1 }, done: result.x == \
        give.y }",
    ];
    insta::assert_snapshot!(wrong.map(diagnostics).join("\n\n"));
}

#[test]
fn who_asks_under_a_condition_hears_that_nothing_has_changed() {
    let with = |header: &str| {
        connector(&format!(
            "takes: {{ etag: {{ type: string }} }}
request: {{ method: GET, path: /alerts, headers: {{ {header}: '${{give.etag}}' }} }}
output: \"response.status == 304 ? {{'etag': give.etag, 'alerts': []}}
  : {{'etag': response.headers.etag, 'alerts': response.body}}\"
repeat: safe"
        ))
    };
    let unchanged = || Answer { status: 304, ..answer(Value::Null) };
    for header in ["If-None-Match", "if-modified-since"] {
        let given = json!({ "etag": "v1" });
        let told = play(&with(header).operations["op"], given, all([unchanged()]));
        assert_eq!(told[1], r#"gives {"etag":"v1","alerts":[]}"#);
    }
    // Nobody has asked for that.
    let told = play(&with("x-etag").operations["op"], json!({ "etag": "v1" }), all([unchanged()]));
    assert_eq!(told[1], "refused, for good: answered 304");
}

#[test]
fn a_list_that_has_not_changed_has_no_pages() {
    let listed = connector(
        "takes: { etag: { type: string } }
request: { method: GET, path: /alerts, headers: { if-none-match: '${give.etag}' } }
pages: { list: response.body.alerts, next: { cursor: response.body.next, query: after } }
repeat: safe",
    );
    let unchanged = Answer { status: 304, ..answer(Value::Null) };
    let told = play(&listed.operations["op"], json!({ "etag": "v1" }), all([unchanged]));
    assert_eq!(told[1..], ["gives []"]);
}
