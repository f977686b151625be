//! Messages by mail: how they are written, what they become, and what a server's replies mean.

use super::{check, give};
use crate::connector::{CallEnd, Connector, Mailbox, Mailing, Planned};
use serde_json::{Value, json};

fn connector(mail: &str, more: &str) -> Connector {
    let text = format!(
        "connector: office\noperations:\n  send:\n    takes: {{ to: {{ default: \
        ops@skerrow.example }}, text: {{ type: string, default: t }} }}\n    \
        mail: {mail}\n{more}"
    );
    check(&text).unwrap_or_else(|e| panic!("{e}"))
}

const MAIL: &str = "{ from: 'Arvok <arvok@skerrow.example>', to: '${give.to}', subject: 'About \
    ${give.text}', text: '${give.text}' }";

fn mailing(connector: &Connector, given: Value) -> Result<Mailing<'_>, String> {
    under_key(connector, given, "arvok-job-7-tell")
}

fn under_key<'c>(connector: &'c Connector, given: Value, key: &str) -> Result<Mailing<'c>, String> {
    match connector.operations["send"].begin(&give(given), key, None).map_err(|e| e.to_string())? {
        Planned::Mail(mailing) => Ok(*mailing),
        other => panic!("{other:?}"),
    }
}

#[test]
fn a_message_is_planned_of_what_is_given() {
    let office = connector(MAIL, "");
    let planned =
        mailing(&office, json!({"to": ["a@x.example", "B <b@x.example>"], "text": "one\r\ntwo"}))
            .expect("plans");
    let letter = planned.letter();
    assert_eq!(
        letter.to.iter().map(ToString::to_string).collect::<Vec<_>>(),
        ["a@x.example", "b@x.example"]
    );
    assert_eq!((letter.subject.as_str(), letter.text.as_str()), ("About one  two", "one\r\ntwo"));
    assert_eq!(
        letter.message_id, "<arvok-job-7-tell@skerrow.example>",
        "the same at each try of a step"
    );
    let id =
        |key: &str| under_key(&office, json!({}), key).expect("plans").letter().message_id.clone();
    let long = format!("arvok-job-7-{}", "x".repeat(200));
    assert!(
        id("arvok-job-7-all[1].tell") != id("arvok-job-7-all[1]-tell")
            && id(&long) != id(&format!("{long}y"))
    );
    let shown = office.operations["send"].request(&give(json!({})), "k").expect("plans");
    assert_eq!((shown.method.as_str(), shown.target.as_str()), ("MAIL", "to ops@skerrow.example"));
    assert_eq!(
        shown.body,
        Some(json!({"from": "arvok@skerrow.example", "subject": "About t", "text": "t"}))
    );
    assert_eq!(office.operations["send"].line(), "MAIL to \"${give.to}\"");
    let wrong = |given: Value| mailing(&office, given).expect_err("is none");
    assert_eq!(
        wrong(json!({"to": "ops"})),
        "to: `ops` is not an address, such as ops@skerrow.example"
    );
    assert_eq!(wrong(json!({"to": []})), "to: names nobody");
    let many: Vec<String> = (0..101).map(|n| format!("a{n}@x.example")).collect();
    assert_eq!(wrong(json!({"to": many})), "has 101 recipients; 100 are allowed");
    assert_eq!(
        wrong(json!({"text": "x".repeat(300_000)})),
        "text: has 300000 bytes; 262144 are allowed"
    );
}

#[test]
fn a_message_has_one_text_plain_or_in_markdown() {
    let mail = |text: &str| {
        format!(
            "connector: office\noperations:\n  send:\n    mail: {{ from: a@x.example, to: \
             b@x.example, subject: s{text} }}\n"
        )
    };
    let office = check(&mail(", markdown: 'It is **full**'")).expect("is one");
    let planned = mailing(&office, json!({})).expect("plans");
    let letter = planned.letter();
    assert_eq!(letter.text, "It is **full**");
    assert!(letter.html.as_deref().is_some_and(|html| html.contains("<strong>full</strong>")));
    for text in ["", ", text: t, markdown: m"] {
        let wrong = check(&mail(text)).expect_err("is none").to_string();
        assert!(wrong.contains("has one of `text` and `markdown`"), "{wrong}");
    }
}

#[test]
fn replies_are_outputs_or_refusals() {
    let office = connector(MAIL, "    output: response.message_id\n");
    let planned = mailing(&office, json!({})).expect("plans");
    assert_eq!(planned.replied(250, "2.0.0 ok"), Ok(json!("<arvok-job-7-tell@skerrow.example>")));
    for (status, lasting) in [(451, false), (421, false), (550, true), (535, true)] {
        let failure = planned.replied(status, "said so").expect_err("refused");
        assert_eq!((failure.end, failure.lasting), (CallEnd::Refused, lasting), "{status}");
        assert_eq!(failure.message, format!("answered {status}: said so"));
    }
}

#[test]
fn addresses_are_those_that_a_line_can_carry() {
    let name = |text: &str| {
        Mailbox::parse(text).map(|m| (m.name.clone().unwrap_or_default(), m.to_string()))
    };
    assert_eq!(name(" ops@skerrow.example "), Some((String::new(), "ops@skerrow.example".into())));
    assert_eq!(
        name("Böoking, night <a.b+c@x.example>"),
        Some(("Böoking, night".into(), "a.b+c@x.example".into()))
    );
    assert_eq!(name("\"N\" <n@x>"), Some(("N".into(), "n@x".into())));
    for odd in [
        "",
        "a",
        "@x",
        "a@",
        "a@x..y",
        "a..b@x",
        "a b@x",
        "a@x y",
        "a@x\r\nBcc: b@y",
        "<a@x",
        "a@x>, b@y",
        "ä@x",
        "a@[127.0.0.1]",
        "A\u{7} <a@x>",
    ] {
        assert_eq!(name(odd), None, "{odd}");
    }
}

#[test]
fn what_belongs_to_another_protocol_is_a_diagnostic() {
    let said = |operation: &str| {
        let text = format!("connector: c\noperations:\n  op: {operation}\n");
        check(&text).map(|_| String::new()).unwrap_or_else(|e| e)
    };
    for (operation, why) in [
        ("{ summary: nothing }".to_owned(), "an operation has one of"),
        (
            format!("{{ mail: {MAIL}, request: {{ method: GET, path: /x }} }}"),
            "an operation has one of",
        ),
        (
            format!("{{ takes: {{ to: {{}}, text: {{}} }}, mail: {MAIL}, retry_on: [451] }}"),
            "belongs to a `request`",
        ),
        (
            format!("{{ takes: {{ to: {{}}, text: {{}} }}, mail: {MAIL}, repeat: keyed }}"),
            "no mail server knows a message by its key",
        ),
        ("{ mail: { from: a@x, to: b@x, subject: s, text: '${give.text}' } }".to_owned(), "text"),
        ("{ mail: { from: a@x, to: b@x, subject: s } }".to_owned(), "text"),
        (
            format!(
                "{{ takes: {{ to: {{}}, text: {{}} }}, mail: {MAIL}, output: response.headers }}"
            ),
            "there is no field `headers`",
        ),
    ] {
        assert!(said(&operation).contains(why), "{operation}: {}", said(&operation));
    }
}
