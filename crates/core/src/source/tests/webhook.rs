//! Bodies of other forms than JSON, and how senders ask whether they may post.

use super::*;
use crate::source::{HandshakeRequest, Intake};

/// What came of a body, by a webhook with these lines of its own and these of `read`.
fn read_body(webhook: &str, read: &str, raw: &[u8]) -> Vec<String> {
    let source = with_webhook(webhook, read).expect("is a source");
    let properties = Map::new();
    let delivery = Delivery {
        raw,
        properties: &properties,
        received: DateTime::UNIX_EPOCH,
        fallback_id: "d1",
        normal: false,
    };
    lines(&source.read(&delivery))
}

fn with_webhook(webhook: &str, read: &str) -> Result<Source, String> {
    let text = format!(
        "source: pier\nintake:\n  webhook:\n    credential: {{ bearer: \"${{secret('pier')}}\" }}\n\
        {webhook}{read}"
    );
    let docs = parse_file("pier.yaml", &text).map_err(|p| p.to_string())?;
    Source::check(&docs[0])
        .map_err(|ps| ps.iter().map(ToString::to_string).collect::<Vec<_>>().join("\n"))
}

const BY_HOST: &str = r#"read:
  kind: '"pier.check"'
  resource: '"vm/" + body.host'
  severity: { of: body.level, as: { warn: warning, crit: critical } }
  summary: body.text
"#;

#[test]
fn a_form_is_its_fields_or_the_json_in_one_of_them() {
    let form = "    body: form\n";
    let posted = b"host=quill-1&level=warn&text=the+disk+is+90%25+full";
    insta::assert_debug_snapshot!(read_body(form, BY_HOST, posted), @r#"
    [
        "pier.check vm/quill-1 warning raised 1970-01-01T00:00:00Z | the disk is 90% full |",
    ]
    "#);
    let several = "read: { kind: '\"pier\"', resource: '\"vm/\" + body.host[1]' }\n";
    insta::assert_debug_snapshot!(read_body(form, several, b"host=a&host=b"), @r#"
    [
        "pier vm/b indeterminate raised 1970-01-01T00:00:00Z | pier on vm/b |",
    ]
    "#);
    let field = "    body: form\n    field: payload\n";
    let inside = b"payload=%7B%22host%22%3A%22quill-1%22%2C%22level%22%3A%22crit%22%2C%22text%22%3A%22gone%22%7D&v=2";
    insta::assert_debug_snapshot!(read_body(field, BY_HOST, inside), @r#"
    [
        "pier.check vm/quill-1 critical raised 1970-01-01T00:00:00Z | gone |",
    ]
    "#);
    insta::assert_debug_snapshot!(read_body(field, BY_HOST, b"v=2"), @r#"
    [
        "not read: is no form with a field `payload` | all of it",
    ]
    "#);
    insta::assert_debug_snapshot!(read_body(field, BY_HOST, b"payload=%7B"), @r#"
    [
        "not read: the field `payload` of its form is not JSON: EOF while parsing an object at line 1 column 1 | all of it",
    ]
    "#);
}

#[test]
fn xml_is_its_elements_and_attributes() {
    let xml = "    body: xml\n    lists: [check]\n";
    let each = r#"read:
  each: body.report.check
  kind: '"pier.check"'
  resource: '"vm/" + item["@host"]'
  severity: { of: item.level, as: { warn: warning, crit: critical } }
"#;
    let posted = br#"<?xml version="1.0"?><report xmlns="urn:pier"><check host="quill-1"><level>warn</level></check></report>"#;
    insta::assert_debug_snapshot!(read_body(xml, each, posted), @r#"
    [
        "pier.check vm/quill-1 warning raised 1970-01-01T00:00:00Z | pier.check on vm/quill-1 |",
    ]
    "#);
    insta::assert_debug_snapshot!(read_body(xml, each, b"<report><check>"), @r#"
    [
        "not read: said something that is no XML: it ends in the middle | all of it",
    ]
    "#);
    let entities = br#"<!DOCTYPE r [<!ENTITY a "aaaa">]><r>&a;</r>"#;
    insta::assert_debug_snapshot!(read_body(xml, each, entities), @r#"
    [
        "not read: said a document type, which is not read | all of it",
    ]
    "#);
}

#[test]
fn text_is_taken_apart_by_pairs_or_by_a_pattern_as_a_whole_or_line_by_line() {
    let pairs = "    body: text\n    parts: { pairs: true }\n";
    let posted = br#"ALARM host=quill-1, level=warn text="disk \"var\" is full""#;
    insta::assert_debug_snapshot!(read_body(pairs, BY_HOST, posted), @r#"
    [
        "pier.check vm/quill-1 warning raised 1970-01-01T00:00:00Z | disk \"var\" is full |",
    ]
    "#);
    insta::assert_debug_snapshot!(read_body(pairs, BY_HOST, b"nothing of it"), @r#"
    [
        "not read: holds no pair such as name=value | all of it",
    ]
    "#);
    let pattern = "    body: lines\n    parts:\n      pattern: '^(?<host>\\S+) (?<level>\\w+): (?<text>.*)$'\n";
    let posted = b"quill-1 warn: the disk is full\r\n\nquill-2 gone\nquill-3 crit: no answer\n";
    insta::assert_debug_snapshot!(read_body(pattern, BY_HOST, posted), @r#"
    [
        "pier.check vm/quill-1 warning raised 1970-01-01T00:00:00Z | the disk is full |",
        "pier.check vm/quill-3 critical raised 1970-01-01T00:00:00Z | no answer |",
        "item 1 not read: does not match the pattern | quill-2 gone",
    ]
    "#);
    let plain = "    body: text\n";
    let read = "read: { kind: '\"pier\"', resource: '\"vm/\" + slug(body)', summary: body }\n";
    insta::assert_debug_snapshot!(read_body(plain, read, "\u{feff}quill 1".as_bytes()), @r#"
    [
        "pier vm/quill-1 indeterminate raised 1970-01-01T00:00:00Z | quill 1 |",
    ]
    "#);
    insta::assert_debug_snapshot!(read_body(plain, read, &[0xff, 0x31]), @r#"
    [
        "not read: is no text in UTF-8: invalid utf-8 sequence of 1 bytes from index 0 | all of it",
    ]
    "#);
    let long = format!("quill-1 warn: {}", "x".repeat(20_000));
    let said = read_body(pattern, BY_HOST, long.as_bytes());
    assert!(said[0].contains("has 20014 bytes, and 16384 are matched"), "{}", &said[0][..200]);
    let many = "a\n".repeat(1_001);
    insta::assert_debug_snapshot!(read_body("    body: lines\n", read, many.as_bytes()), @r#"
    [
        "not read: holds more than 1000 lines | all of it",
    ]
    "#);
}

#[test]
fn values_of_pairs_end_where_they_are_quoted_or_where_something_stands_between() {
    let shown = |text: &str| {
        let source = with_webhook(
            "    body: text\n    parts: { pairs: true }\n",
            "read: { kind: '\"p\"', resource: '\"r/x\"', summary: 'join(body.map(k, k + \"→\" + body[k]), \"|\")' }\n",
        )
        .expect("is a source");
        let properties = Map::new();
        let delivery = Delivery {
            raw: text.as_bytes(),
            properties: &properties,
            received: DateTime::UNIX_EPOCH,
            fallback_id: "d1",
            normal: false,
        };
        let outcome = source.read(&delivery);
        outcome
            .alerts
            .first()
            .map_or_else(|| outcome.unreadable[0].reason.clone(), |alert| alert.summary.clone())
    };
    let of_each: Vec<String> = [
        "a=1 b=2",
        "a=1;b=,c=3",
        "a='x y' b=\"\" c",
        "url=http://x/?q=1 z=2",
        "a=\"open b=2",
        "a=\"x\\n\\\\y\"b=2",
        "=1 a=2",
        "ä=ö",
    ]
    .iter()
    .map(|text| format!("{text}  {}", shown(text).replace('\n', "⏎")))
    .collect();
    insta::assert_snapshot!(of_each.join("\n"), @r#"
    a=1 b=2  a→1|b→2
    a=1;b=,c=3  a→1|b→|c→3
    a='x y' b="" c  a→x y|b→
    url=http://x/?q=1 z=2  url→http://x/?q=1|z→2
    a="open b=2  a→"open|b→2
    a="x\n\\y"b=2  a→x⏎\y|b→2
    =1 a=2  a→2
    ä=ö  ä→ö
    "#);
}

#[test]
fn what_does_not_go_together_is_named_with_its_place() {
    let wrong = |webhook: &str, read: &str| with_webhook(webhook, read).expect_err("is wrong");
    insta::assert_snapshot!(wrong("    field: x\n    lists: [a]\n    body: lines\n", BY_HOST), @r"
    pier.yaml:5:5: goes with `body: form` alone, not with `lines`
        5 |     field: x
          |     ^^^^^
    pier.yaml:6:5: goes with `body: xml` alone, not with `lines`
        6 |     lists: [a]
          |     ^^^^^
    ");
    insta::assert_snapshot!(wrong("    body: text\n    parts: { pattern: '(a' }\n", BY_HOST), @r"
    pier.yaml:6:23: is no regular expression: unclosed group
        6 |     parts: { pattern: '(a' }
          |                       ^^^^^
    ");
    insta::assert_snapshot!(wrong("    body: text\n    parts: { pattern: 'a' }\n", BY_HOST), @r"
    pier.yaml:6:23: names no part; write (?<host>\S+) where the name of a host stands
        6 |     parts: { pattern: 'a' }
          |                       ^^^^
    ");
    insta::assert_snapshot!(wrong("    body: text\n    parts: { pairs: false }\n", BY_HOST), @r"
    pier.yaml:6:21: is `true`, or left out
        6 |     parts: { pairs: false }
          |                     ^^^^^
    ");
    insta::assert_snapshot!(wrong("    body: html\n", BY_HOST), @r"
    pier.yaml:5:11: unknown value `html`; known here: json, form, xml, text, lines
        5 |     body: html
          |           ^^^^
    ");
    insta::assert_snapshot!(wrong("    handshake: { answer: bdy.x }\n", BY_HOST), @r"
    pier.yaml:5:26: `bdy` is not known here; did you mean `body`?
        5 |     handshake: { answer: bdy.x }
          |                          ^^^
    ");
}

#[test]
fn a_handshake_is_answered_with_what_was_sent_and_by_nothing_else() {
    let answer = |handshake: &str, body: Option<Value>, query: Value| {
        let source = with_webhook(&format!("    handshake: {handshake}\n"), BY_HOST);
        let source = source.expect("is a source");
        let Intake::Webhook(webhook) = &source.intake else { panic!("is posted") };
        let handshake = webhook.handshake.as_ref().expect("has one");
        let headers = json!({});
        let request = HandshakeRequest { body: body.as_ref(), headers: &headers, query: &query };
        handshake.answer(&request)
    };
    let by_get = "{ answer: query.challenge }";
    assert_eq!(answer(by_get, None, json!({ "challenge": "x1" })), Some(Ok(json!("x1"))));
    assert_eq!(answer(by_get, Some(json!({})), json!({ "challenge": "x1" })), None);
    let missing = answer(by_get, None, json!({})).expect("is asked").expect_err("no answer");
    insta::assert_snapshot!(missing, @"the answer to the handshake: there is no field `challenge`");
    let long = answer(by_get, None, json!({ "challenge": "x".repeat(5_000) }));
    assert!(long.expect("is asked").expect_err("too long").contains("too long"));
    let by_post = r#"{ when: 'body.type == "challenge"', answer: "{'challenge': body.token}" }"#;
    let asked = json!({ "type": "challenge", "token": 7 });
    assert_eq!(answer(by_post, Some(asked), json!({})), Some(Ok(json!({ "challenge": 7 }))));
    assert_eq!(answer(by_post, Some(json!({ "type": "alert" })), json!({})), None);
    assert_eq!(answer(by_post, Some(json!([])), json!({})), None);
    assert_eq!(answer(by_post, None, json!({})), None);
}
