//! Credentials and sessions as they are written, and what is complained of.

use super::check;
use crate::{
    Period,
    connector::{Answer, Connection, Connector, Next, Opened},
    definition::{Defined, Definition, Fault, Kind, Others},
    document::parse_file,
};
use serde_json::{Map, Value, json};

fn complaints(credential: &str) -> String {
    let text = format!(
        "connection: c\nconnector: c\nbase: http://127.0.0.1\ncredential: {{ {credential} }}\n"
    );
    let documents = parse_file("c.yaml", &text).expect("reads");
    match Connection::check(&documents[0]) {
        Ok(_) => "is good".into(),
        Err(problems) => {
            let all: Vec<String> = problems.iter().map(|p| p.message.clone()).collect();
            all.join("; ")
        }
    }
}

#[test]
fn a_credential_that_cannot_be_meant_is_told() {
    let secret = "\"${secret('k')}\"";
    let lines: Vec<String> = [
        "digest: { user: arvok, password: S }",
        "digest: { user: arvok, password: fog-horn }",
        "digest: { user: \"${secret(setting('x'))}\", password: S }",
        "oauth2: { token: 'https://t/token', client: a, secret: S }",
        "oauth2: { token: 'https://t/token', client: a }",
        "oauth2: { token: 'https://t/token', secret: S }",
        "oauth2: { token: 'https://t/token', client: a, secret: S, assertion: { key: S } }",
        "oauth2: { token: 'https://t/token', assertion: { issuer: a, key: S } }",
        "oauth2: { token: 'https://t/token', client: a, assertion: { key: S } }",
        "oauth2: { token: 'https://t/token', assertion: { key: S } }",
        "oauth2: { token: 'https://t/token', assertion: { issuer: a, key: PEM, claims: { exp: 1 }, \
         lasts: 2h } }",
        "session: { user: arvok, password: S }",
        "session: { user: arvok, password: fog-horn }",
        "session: {}",
        "signature: { key_id: a, key: S, algorithm: ed25519 }",
        "signature: { key_id: a, key: S, algorithm: rot13 }",
        "signature: { key_id: a, key: S, algorithm: ed25519, covers: ['@path', '@body', X-Note, \
         '@path'], label: SIG, tag: 'ä', lasts: 10ms }",
        "signature_v4: { key_id: a, key: S, region: quillhaven-1, service: ec2 }",
        "signature_v4: { key_id: a, key: S, region: quillhaven-1, service: ec2, token: T }",
        "bearer: S, digest: { user: arvok, password: S }",
    ]
    .into_iter()
    .map(|written| {
        let text = complaints(
            &written
                .replace(" S,", &format!(" {secret},"))
                .replace(" S }", &format!(" {secret} }}")),
        );
        format!("{written}\n    {text}")
    })
    .collect();
    insta::assert_snapshot!(lines.join("\n"));
}

const SESSION: &str = r#"
connector: controller
session:
  login:
    takes: { user: { type: string }, password: { type: string } }
    request:
      method: POST
      path: /sessions
      body: { UserName: "${give.user}", Password: "${give.password}" }
    output: '{"token": response.headers["x-auth-token"], "id": response.body.Id}'
    gives: { token: { type: string }, id: { type: string } }
  headers: { X-Auth-Token: "${session.token}" }
  logout:
    takes: { id: { type: string } }
    request: { method: DELETE, path: "/sessions/${give.id}" }
operations:
  op: { request: { method: GET, path: /x } }
"#;

#[test]
fn a_session_is_opened_by_one_request_and_ended_by_another() {
    let connector = check(SESSION).expect("checks");
    let session = connector.session.as_ref().expect("has one");
    let given = [("user", "arvok"), ("password", "a \"b\"")];
    let given = given.map(|(name, value)| (name.to_owned(), value.to_owned())).into();
    let mut exchange = session.begin(&given).expect("begins");
    insta::assert_compact_json_snapshot!(exchange.request(), @r#"{"method": "POST", "target": "/sessions", "headers": [], "body": {"UserName": "arvok", "Password": "a \"b\""}}"#);
    let headers = Map::from_iter([("x-auth-token".to_owned(), json!("t-77"))]);
    let answer = Answer { status: 201, headers, body: json!({ "Id": "4/2" }) };
    let Next::Output(gave) = exchange.answered(answer, Period::from_millis(0)) else {
        panic!("is opened")
    };
    let opened = session.opened(&gave).expect("fits");
    assert_eq!(opened.headers, [("X-Auth-Token".to_owned(), "t-77".to_owned())]);
    assert_eq!(opened.hidden, ["t-77", "t-77", "4/2"]);
    assert_eq!(opened.logout.expect("ends").target, "/sessions/4%2F2");
    assert!(!format!("{:?}", Opened::Session(given)).contains("arvok"));
}

#[test]
fn a_session_that_cannot_be_meant_is_told() {
    let lines: Vec<String> = [
        ("    request:\n      method: POST\n", "    request:\n      method: PUSH\n"),
        ("    takes: { id:", "    takes: { key:"),
        (
            "    takes: { id: { type: string } }\n    request: { method: DELETE, path: \
             \"/sessions/${give.id}\" }",
            "    takes: { key: { type: string } }\n    request: { method: DELETE, path: \
             \"/sessions/${give.key}\" }",
        ),
        ("    takes: { id:", "    repeat: safe\n    takes: { id:"),
        ("headers: { X-Auth-Token: \"${session.token}\" }", "headers: {}"),
        ("headers: { X-Auth-Token: \"${session.token}\" }", "headers: { \"X Y\": a }"),
        ("${session.token}", "${session.tokn}"),
        ("  logout:\n", "  refused_on: [401, 500]\n  idle: 10ms\n  logout:\n"),
        (
            "    request: { method: DELETE, path: \"/sessions/${give.id}\" }",
            "    mail: { from: a@b.example, to: a@b.example, subject: a, text: b }",
        ),
    ]
    .into_iter()
    .map(|(old, new)| {
        assert!(SESSION.contains(old), "{old}");
        let told = match check(&SESSION.replace(old, new)) {
            Ok(_) => "is good".to_owned(),
            Err(told) => told,
        };
        format!("{}\n{told}", new.trim())
    })
    .collect();
    insta::assert_snapshot!(lines.join("\n\n"));
}

/// One connector.
#[derive(Debug)]
struct One(Connector);

impl Others for One {
    fn definition(&self, kind: Kind, name: &str) -> Option<&dyn Definition> {
        let is_it = kind == Kind::Connector && name == self.0.name;
        is_it.then_some(&self.0 as &dyn Definition)
    }

    fn names(&self, _: Kind) -> Vec<&str> {
        vec![&self.0.name]
    }
}

#[test]
fn a_connection_gives_what_the_session_takes() {
    let told = |given: &str, connector: &str| {
        let text = format!(
            "connection: c\nconnector: controller\nbase: http://127.0.0.1\ncredential: {{ session: \
             {{ {given} }} }}\n"
        );
        let documents = parse_file("c.yaml", &text).expect("reads");
        let connection = Connection::check(&documents[0]).expect("checks");
        let all = connection.misfits(&One(check(connector).expect("checks")));
        let said = all.into_iter().map(|mismatch| match mismatch.fault {
            Fault::Unfit(said) => format!("{}: {said}", mismatch.pointer),
            other => panic!("{other:?}"),
        });
        said.collect::<Vec<String>>().join("; ")
    };
    let none = "connector: controller\noperations: { op: { request: { method: GET, path: /x } } }";
    let secret = "password: \"${secret('k')}\"";
    assert_eq!(told(&format!("user: a, {secret}"), SESSION), "");
    insta::assert_snapshot!(told(&format!("usr: a, {secret}"), SESSION), @"/credential/session: the session of connector `controller`: there is no input `usr`; did you mean `user`?; /credential/session: the session of connector `controller`: the input `user` is missing");
    insta::assert_snapshot!(told(&format!("user: a, {secret}"), none), @"/credential/session: connector `controller` says nothing of a `session`");
}

#[test]
fn an_answer_of_xml_is_read_like_one_of_json() {
    let text = "connector: c\noperations:\n  op:\n    request: { method: GET, path: /x }\n    lists: \
                [item]\n    output: response.body\n";
    let connector = check(text).expect("checks");
    let read = |kind: &str, status: u16, body: &str| {
        let planned = connector.operations["op"].begin(&Map::new(), "k", None).expect("begins");
        let mut exchange = super::http(planned);
        let headers = Map::from_iter([("content-type".to_owned(), Value::from(kind))]);
        let answer = Answer { status, headers, body: body.into() };
        match exchange.answered(answer, Period::from_millis(0)) {
            Next::Output(output) => output.to_string(),
            Next::Failed(failure) => failure.message,
            other => panic!("{other:?}"),
        }
    };
    let one = "<?xml version=\"1.0\"?>\n<R xmlns=\"u\"><set><item><id>i-1</id></item></set></R>";
    let two = "<R><item a=\"1\">x</item><item><b/><b>&lt;2&gt;</b></item></R>";
    let error =
        "<R><Errors><Error><Code>NoVm</Code><Message>no such VM</Message></Error></Errors></R>";
    let all = [
        read("text/xml;charset=UTF-8", 200, one),
        read("application/soap+xml", 200, two),
        read("text/html", 200, one),
        read("application/xml", 200, "<R><item>"),
        read("application/xml", 200, "<!DOCTYPE R [<!ENTITY a \"b\">]><R>&a;</R>"),
        read("application/xml", 400, error),
    ];
    insta::assert_snapshot!(all.join("\n"), @r#"
    {"R":{"set":{"item":[{"id":"i-1"}]}}}
    {"R":{"item":[{"@a":"1","$":"x"},{"b":["","<2>"]}]}}
    "<?xml version=\"1.0\"?>\n<R xmlns=\"u\"><set><item><id>i-1</id></item></set></R>"
    "<R><item>"
    "<!DOCTYPE R [<!ENTITY a \"b\">]><R>&a;</R>"
    answered 400: no such VM
    "#);
}
