//! Reading payloads by a source's lines.

mod broker;
mod catching;
mod certificate;
mod cloudevents;
mod heartbeat;
mod mail;
mod mib;
mod poll;
mod read_forms;
mod schedule;
mod sender_lines;
mod suggestion;
mod syslog;
mod trap;
mod webhook;
mod write_back;

use super::*;
use crate::{Severity, connector::Credential, document::parse_file};
use chrono::DateTime;
use proptest::prelude::*;
use serde_json::{Map, Value, json};

fn webhook(source: &Source) -> &HttpIntake {
    source.intake.http().expect("posted over HTTP")
}

fn source(read: &str) -> Result<Source, String> {
    let text = format!(
        "source: pier-probes\nintake: {{ webhook: {{ credential: {{ \
        bearer: \"${{secret('pier')}}\" }} }} }}\n{read}"
    );
    let docs = parse_file("pier.yaml", &text).map_err(|p| p.to_string())?;
    Source::check(&docs[0])
        .map_err(|ps| ps.iter().map(ToString::to_string).collect::<Vec<_>>().join("\n"))
}

/// A source with one intake and no lines of its own.
fn of_format(intake: &str) -> Result<Source, String> {
    let docs = parse_file("pier.yaml", &format!("source: pier\nintake: {intake}\n"))
        .map_err(|p| p.to_string())?;
    Source::check(&docs[0])
        .map_err(|ps| ps.iter().map(ToString::to_string).collect::<Vec<_>>().join("\n"))
}

/// What came of a delivery, a line each.
fn lines(outcome: &ReadOutcome) -> Vec<String> {
    let alert = |a: &Alert| {
        let labels: Vec<_> =
            a.labels.iter().map(|(name, value)| format!(" {name}={value}")).collect();
        let time = a.time.format("%FT%TZ");
        format!(
            "{} {} {} {} {time} | {} |{}",
            a.kind,
            a.resource,
            a.severity,
            a.state,
            a.summary,
            labels.concat()
        )
    };
    let unread = |u: &Unread| {
        let item = u.item.map(|n| format!("item {n} ")).unwrap_or_default();
        format!("{item}not read: {} | {}", u.reason, u.part.as_deref().unwrap_or("all of it"))
    };
    outcome.alerts.iter().map(alert).chain(outcome.unreadable.iter().map(unread)).collect()
}

fn read(source: &Source, body: &Value) -> Result<ReadOutcome, String> {
    let raw = body.to_string();
    let delivery = Delivery {
        raw: raw.as_bytes(),
        properties: &Map::new(),
        received: DateTime::UNIX_EPOCH,
        fallback_id: "d1",
        normal: false,
    };
    let outcome = source.read(&delivery);
    match outcome.unreadable.first() {
        Some(first) if outcome.alerts.is_empty() && outcome.left_out == 0 => {
            Err(first.reason.clone())
        }
        _ => Ok(outcome),
    }
}

const PROBES: &str = r#"
read:
  each: body.checks
  id: body.run + "/" + item.name
  kind: '"web." + item.test'
  severity: { of: item.level, as: { soft: warning, hard: major } }
  state: 'item.ok ? "cleared" : "raised"'
  resource: '"vm/" + item.host'
  value: item.seconds
  labels: { site: item.site }
  keep: item.test != "ping"
"#;

fn check(name: &str, test: &str, level: &str) -> Value {
    json!({"name": name, "test": test, "level": level, "ok": false, "host": "brack-kiosk-3",
        "seconds": 4.5})
}

#[test]
fn one_payload_several_alerts() {
    let source = source(PROBES).expect("checks");
    let body =
        json!({"run": "r7", "checks": [check("a", "page", "hard"), check("b", "ping", "soft")]});
    let outcome = read(&source, &body).expect("reads");
    assert_eq!(outcome.left_out, 1);
    let alert = &outcome.alerts[0];
    assert_eq!((alert.id.as_str(), alert.kind.as_str()), ("r7/a", "web.page"));
    assert_eq!((alert.severity, alert.value), (Severity::Major, Some(4.5)));
    assert_eq!(alert.resource.as_str(), "vm/brack-kiosk-3");
    assert!(alert.labels.is_empty(), "a label whose field is missing is left out");
    assert_eq!(alert.body["name"], "a");
}

#[test]
fn what_cannot_be_read_says_which_line_and_why() {
    let source = source(PROBES).expect("checks");
    let bodies = [
        json!({"run": "r7"}),
        json!({"run": "r7", "checks": 5}),
        json!({"run": "r7", "checks": [check("a", "page", "odd")]}),
        json!({"run": 7, "checks": [check("a", "page", "hard")]}),
        json!([]),
        json!({"run": "r7", "checks": vec![check("a", "page", "hard"); 1001]}),
    ];
    let said: Vec<String> =
        bodies.iter().map(|b| read(&source, b).expect_err("unreadable")).collect();
    insta::assert_snapshot!(said.join("\n"), @"
    `each`: there is no field `checks`
    `each`: is not a list
    item 0, `severity`: `odd` has no translation and there is no `else`
    item 0, `id`: cannot calculate with a number and a string
    `each`: there is no field `checks` in a list
    `each`: the payload holds 1001 alerts; 1000 are allowed
    ");
}

#[test]
fn of_several_alerts_those_that_can_be_read_are_taken() {
    let source = source(PROBES).expect("checks");
    let strange = json!({"name": "b", "test": "page"});
    let body = json!({"run": "r7", "checks": [check("a", "page", "hard"), strange, check("c",
        "page", "soft")]});
    let outcome = read(&source, &body).expect("two of three");
    assert_eq!(outcome.alerts.iter().map(|a| a.id.as_str()).collect::<Vec<_>>(), ["r7/a", "r7/c"]);
    let [unread] = outcome.unreadable.as_slice() else { panic!("one: {:?}", outcome.unreadable) };
    assert_eq!(unread.reason, "item 1, `state`: there is no field `ok`");
    assert_eq!(unread.part.as_deref(), Some(strange.to_string().as_str()));
}

#[test]
fn without_lines_the_normal_form_is_expected() {
    let source = source("").expect("checks");
    let outcome = read(
        &source,
        &json!([{"kind": "disk.usage", "resource": "vm/a"}, {"kind": "b", "resource": "vm/b"}]),
    );
    let ids: Vec<String> = outcome.expect("reads").alerts.into_iter().map(|a| a.id).collect();
    assert_eq!(ids, ["d1-0", "d1-1"]);
    insta::assert_snapshot!(read(&source, &json!({"kind": "x", "resource": "vm/a", "value": "high"})).expect_err("no"), @"`value`: is the text `high`; a number was expected");
}

#[test]
fn diagnostics_about_the_document_are_all_given() {
    let bad = "read:\n  kind: bdy.x\n  resource: item.host\n  severity: { of: body.l, as: { soft: \
        bad } }\n";
    insta::assert_snapshot!(source(bad).expect_err("refused"), @"
    pier.yaml:4:9: `bdy` is not known here; did you mean `body`?
        4 |   kind: bdy.x
          |         ^^^
    pier.yaml:5:13: `item` is not known here; known here: body, headers
        5 |   resource: item.host
          |             ^^^^
    pier.yaml:6:13: unknown value `bad`; known here: indeterminate, warning, minor, major, critical
        6 |   severity: { of: body.l, as: { soft: bad } }
          |             ^^
    ");
    let bad = "read:\n  kind: bdy.x\n  resource: item.host\n  labels: { site: 'body.a +' }\n";
    insta::assert_snapshot!(source(bad).expect_err("refused"), @"
    pier.yaml:4:9: `bdy` is not known here; did you mean `body`?
        4 |   kind: bdy.x
          |         ^^^
    pier.yaml:5:13: `item` is not known here; known here: body, headers
        5 |   resource: item.host
          |             ^^^^
    pier.yaml:6:28: the expression ends here, and something more was expected
        6 |   labels: { site: 'body.a +' }
          |                            ^
    ");
    insta::assert_snapshot!(source("raed: {}\n").expect_err("refused"), @"
    pier.yaml:3:1: unknown key `raed`; did you mean `read`?
        3 | raed: {}
          | ^^^^
    ");
}

#[test]
fn the_lines_of_a_payload_share_their_steps() {
    let kind = "body.few.exists(i, body.few.exists(j, i + j < 0)) ? 'a' : 'b'";
    let source =
        source(&format!("read:\n  each: body.all\n  kind: \"{kind}\"\n  resource: \"'vm/a'\"\n"))
            .expect("checks");
    let body = |all: i32| {
        json!({ "few": (0..30).collect::<Vec<_>>(),
        "all": (0..all).collect::<Vec<_>>() })
    };
    let outcome = read(&source, &body(60)).expect("is cheap enough");
    assert_eq!(outcome.alerts.len(), 60);
    let outcome = read(&source, &body(900)).expect("the first are read");
    assert!((60..900).contains(&outcome.alerts.len()), "{}", outcome.alerts.len());
    let last = outcome.unreadable.last().expect("the others are not").reason.clone();
    assert_eq!(
        last,
        "item 899, `kind`: the expressions together take too many steps and were stopped; make \
        them simpler"
    );
}

#[test]
fn optional_lines_that_give_nothing_are_absent_and_counted() {
    let lines = "read:\n  each: body.checks\n  kind: item.kind\n  resource: \"'vm/' + \
        item.host\"\n  value: item.value\n  summary: item.text\n  time: item.at\n\
                 \x20 severity: { of: item.level, as: { bad: critical }, else: minor }\n";
    let source = source(lines).expect("checks");
    let item = |value: Value| {
        let mut item = json!({ "kind": "a", "host": "h" });
        item.as_object_mut().expect("a map").extend(value.as_object().cloned().expect("a map"));
        item
    };
    let checks = [
        item(json!({})),
        item(json!({ "value": "91.5", "text": "full", "at": "1970-01-01T00:01:00Z",
                "level": "bad" })),
        item(json!({ "value": "nan", "level": "worse", "at": "60" })),
        item(json!({ "value": null, "text": null, "level": null, "at": 60.5 })),
        item(json!({ "value": ["x"] })),
    ];
    let outcome = read(&source, &json!({ "checks": checks })).expect("reads");
    let seen: Vec<_> = outcome
        .alerts
        .iter()
        .map(|a| (a.value, a.severity.as_str(), a.time.timestamp_millis()))
        .collect();
    let expected = [
        (None, "minor", 0),
        (Some(91.5), "critical", 60_000),
        (None, "minor", 60_000),
        (None, "minor", 60_500),
        (None, "minor", 0),
    ];
    assert_eq!(seen, expected);
    assert_eq!(outcome.absent, [("severity", 3), ("summary", 4), ("time", 2), ("value", 4)].into());
    let wrong = read(&source, &json!({ "checks": [item(json!({ "at": "noon" }))] }))
        .expect_err("not made up for");
    assert_eq!(wrong, "item 0, `time`: is not an RFC 3339 time, nor seconds since 1970");
}

#[test]
fn a_sender_may_show_a_password_or_a_header_and_be_answered_200() {
    let text = |credential: &str, answer: &str| {
        let text =
            format!("source: s\nintake: {{ webhook: {{ credential: {credential}{answer} }} }}\n");
        let docs = parse_file("s.yaml", &text).expect("reads");
        Source::check(&docs[0])
            .map_err(|ps| ps.iter().map(|p| p.message.clone()).collect::<Vec<_>>().join("; "))
    };
    let basic = "{ basic: { user: pier, password: \"${secret('p')}\" } }";
    assert_eq!(webhook(&text(basic, ", answer: 200").expect("checks")).answer, 200);
    let header =
        text("{ header: { name: X-Pier-Key, value: \"${secret('p')}\" } }", "").expect("checks");
    let SenderProof::Shown(Credential::Header { name, .. }) = &webhook(&header).proofs[0] else {
        panic!("{:?}", webhook(&header).proofs)
    };
    assert_eq!(name, "x-pier-key");
    let wrong = [
        text(basic, ", answer: 204"),
        text("{ basic: { user: pier, password: plain } }", ""),
        text("{ header: { name: 'a b', value: \"${secret('p')}\" } }", ""),
        text("{ bearer: \"${secret('p')}\", header: { name: x, value: \"${secret('p')}\" } }", ""),
        text("{}", ""),
    ];
    let said: Vec<String> = wrong.into_iter().map(|w| w.expect_err("refused")).collect();
    insta::assert_snapshot!(said.join("\n"), @r#"
    is 204; 200 or 202 is possible
    a credential is not written out; set a secret and write "${secret('its-name')}"
    is not the name of a header (RFC 9110, section 5.1)
    is one of `bearer`, `basic`, `header`, `hmac`, `standard_webhooks` or `certificate`
    is one of `bearer`, `basic`, `header`, `hmac`, `standard_webhooks` or `certificate`
    "#);
}

#[test]
fn a_sender_may_prove_itself_by_any_of_several_and_a_signature_is_told_whole() {
    let checked = |intake: &str| {
        let text = format!("source: s\nintake:\n  webhook:\n{intake}");
        let documents = parse_file("s.yaml", &text).expect("reads");
        Source::check(&documents[0])
            .map_err(|all| all.iter().map(|p| format!("{p}\n")).collect::<String>())
    };
    let key = "\"${secret('p')}\"";
    let several = checked(&format!(
        "    credential:\n      - bearer: {key}\n      - hmac: {{ key: {key}, header: X-Sig, \
        signs: '{{timestamp}}.{{body}}!', timestamp: {{ header: X-At }} }}\n      \
        - standard_webhooks: {key}\n    from: [10.4.0.0/16, \"::1\"]\n"
    ))
    .expect("checks");
    let http = webhook(&several);
    let SenderProof::Hmac(hmac) = &http.proofs[1] else { panic!("{:?}", http.proofs) };
    let text = |text: &str| SignedPart::Text(text.to_owned());
    assert_eq!(hmac.signs, [SignedPart::Timestamp, text("."), SignedPart::Body, text("!")]);
    assert_eq!(several.credentials().len(), 3, "the secret of each is known");
    let from = |address: &str| http.admits(Some(address.parse().expect("an address")));
    assert!(from("10.4.1.2") && from("::1") && !from("10.5.1.2") && !http.admits(None));

    let wrong = [
        format!("    credential:\n      - bearer: {key}\n      - bearre: {key}\n"),
        format!(
            "    credential:\n      - bearer: {key}\n        header: {{ name: x, value: {key} }}\n"
        ),
        "    credential: []\n".to_owned(),
        "    credential: { hmac: { key: plain, header: 'a b' } }\n".to_owned(),
        format!(
            "    credential: {{ hmac: {{ key: {key}, header: x, signs: '{{timestamp}}' }} }}\n"
        ),
        format!(
            "    credential: {{ hmac: {{ key: {key}, header: x, timestamp: {{ header: t, \
            within: 2d }} }} }}\n"
        ),
        format!("    credential: {{ hmac: {{ key: {key}, header: x, algorithm: md5 }} }}\n"),
        format!("    credential: {{ bearer: {key} }}\n    from: [10.4]\n"),
    ];
    let said: Vec<String> = wrong.iter().map(|w| checked(w).expect_err(w)).collect();
    insta::assert_snapshot!(said.join("\n"), @r#"
    s.yaml:6:9: unknown key `bearre`; did you mean `bearer`?
        6 |       - bearre: "${secret('p')}"
          |         ^^^^^^

    s.yaml:5:9: is one of `bearer`, `basic`, `header`, `hmac`, `standard_webhooks` or `certificate`
        5 |       - bearer: "${secret('p')}"
          |         ^

    s.yaml:4:17: has 0 entries; 1 to 8 are possible
        4 |     credential: []
          |                 ^

    s.yaml:4:32: a credential is not written out; set a secret and write "${secret('its-name')}"
        4 |     credential: { hmac: { key: plain, header: 'a b' } }
          |                                ^^^^^
    s.yaml:4:47: is not the name of a header (RFC 9110, section 5.1)
        4 |     credential: { hmac: { key: plain, header: 'a b' } }
          |                                               ^^^^^^

    s.yaml:4:68: leaves the `{body}` unsigned
        4 |     credential: { hmac: { key: "${secret('p')}", header: x, signs: '{timestamp}' } }
          |                                                                    ^^^^^^^^^^^^^^
    s.yaml:4:68: names a `{timestamp}`; say under `timestamp` where that stands
        4 |     credential: { hmac: { key: "${secret('p')}", header: x, signs: '{timestamp}' } }
          |                                                                    ^^^^^^^^^^^^^^

    s.yaml:4:25: leaves the `{timestamp}` unsigned: anybody could write another
        4 |     credential: { hmac: { key: "${secret('p')}", header: x, timestamp: { header: t, within: 2d } } }
          |                         ^^
    s.yaml:4:93: is 1d at most, not 2d
        4 |     credential: { hmac: { key: "${secret('p')}", header: x, timestamp: { header: t, within: 2d } } }
          |                                                                                             ^^

    s.yaml:4:72: unknown value `md5`; known here: sha1, sha256, sha512
        4 |     credential: { hmac: { key: "${secret('p')}", header: x, algorithm: md5 } }
          |                                                                        ^^^

    s.yaml:5:12: is `10.4`; a text was expected
        5 |     from: [10.4]
          |            ^^^^
    "#);
}
