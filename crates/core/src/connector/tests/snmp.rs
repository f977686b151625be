//! Calls to agents: how they are written, what they become, and what answers mean.

use super::{check, give};
use crate::{
    connector::{
        CallEnd, Connection, Connector, Hiding, Planned,
        snmp::{ObjectId, SnmpAct, SnmpValue},
    },
    definition::Defined,
    document::parse_file,
};
use serde_json::{Value, json};

fn connector(snmp: &str) -> Connector {
    let text = format!(
        "connector: old-switch\noperations:\n  op:\n    takes: {{ port: {{ default: 7 }}, x: {{ \
         default: up }} }}\n    snmp: {snmp}\n"
    );
    check(&text).unwrap_or_else(|e| panic!("{e}"))
}

fn planned(snmp: &str, given: Value) -> Result<SnmpAct, String> {
    let connector = connector(snmp);
    let given = give(given);
    match connector.operations["op"].begin(&given, "k", None) {
        Ok(Planned::Snmp(plan)) => Ok(plan.act().clone()),
        Ok(other) => panic!("{other:?}"),
        Err(e) => Err(e.to_string()),
    }
}

fn number(text: &str) -> ObjectId {
    ObjectId::parse(text).expect("the number of an object")
}

#[test]
fn objects_are_planned_of_what_is_given_and_shown() {
    let get = "{ get: { state: '1.3.6.1.2.1.2.2.1.8.${give.port}' } }";
    let act = planned(get, json!({ "port": "12" })).expect("plans");
    assert_eq!(act, SnmpAct::Get(vec![("state".into(), number("1.3.6.1.2.1.2.2.1.8.12"))]));
    for port in [json!("1 2"), json!("a"), json!(-1), json!(""), json!("1.x"), json!("4294967296")]
    {
        let wrong = planned(get, json!({ "port": port })).expect_err("is none");
        assert!(wrong.contains("is not the number of an object"), "{wrong}");
    }
    let set = |value: &str, given: Value| {
        planned(&format!("{{ set: [{{ object: 1.3.6.1.9.1, {value} }}] }}"), given).map(|act| {
            let SnmpAct::Set(objects) = act else { panic!("{act:?}") };
            objects[0].1.clone()
        })
    };
    let x = |x: Value| json!({ "x": x });
    assert_eq!(set("integer: '${give.x}'", x(json!(-2))), Ok(SnmpValue::Integer(-2)));
    assert_eq!(set("integer: '${give.x}'", x(json!("2"))), Ok(SnmpValue::Integer(2)));
    assert_eq!(set("text: '${give.x}'", x(json!("a\nb"))), Ok(SnmpValue::Bytes(b"a\nb".into())));
    assert_eq!(
        set("address: '${give.x}'", x(json!("10.7.0.12"))),
        Ok(SnmpValue::Address([10, 7, 0, 12].into()))
    );
    for (value, wrong) in [
        ("integer: '${give.x}'", json!(2_147_483_648_u64)),
        ("integer: '${give.x}'", json!(1.5)),
        ("unsigned: '${give.x}'", json!(-1)),
        ("text: '${give.x}'", json!("x".repeat(1025))),
        ("text: '${give.x}'", json!([1])),
        ("address: '${give.x}'", json!("10.7.0")),
        ("reference: '${give.x}'", json!("3.1")),
    ] {
        assert!(set(value, x(wrong.clone())).is_err(), "{value} {wrong}");
    }
    let shown = |snmp: &str| {
        let connector = connector(snmp);
        let operation = &connector.operations["op"];
        let shown = operation.request(&give(json!({})), "k").expect("plans");
        let body = shown.body.map(|body| body.to_string()).unwrap_or_default();
        format!("{} | {} | {} {body}", operation.line(), operation.only_looks(), shown.target)
    };
    let all = [
        get,
        "{ table: { name: 1.3.6.1.2.1.2.2.1.2, state: 1.3.6.1.2.1.2.2.1.8 } }",
        "{ set: [{ object: '1.3.6.1.2.1.2.2.1.7.${give.port}', integer: 2 }] }",
    ];
    insta::assert_snapshot!(all.map(shown).join("\n"), @r#"
    SNMP get state | true | get {"state":"1.3.6.1.2.1.2.2.1.8.7"}
    SNMP table name, state | true | table {"name":"1.3.6.1.2.1.2.2.1.2","state":"1.3.6.1.2.1.2.2.1.8"}
    SNMP set 1.3.6.1.2.1.2.2.1.7.${give.port} | false | set {"1.3.6.1.2.1.2.2.1.7.7":2}
    "#);
}

#[test]
fn rows_are_put_together_by_their_index_and_errors_have_words() {
    let table = connector("{ table: { name: 1.3.6.1.2.1.2.2.1.2, state: 1.3.6.1.2.1.2.2.1.8 } }");
    let given = give(json!({}));
    let hide = |text: &str| text.replace("sesame", "[secret]");
    let begun = table.operations["op"].begin(&given, "k", None).expect("plans");
    let Planned::Snmp(plan) = begun.hiding(Hiding(&hide)) else { panic!("over SNMP") };
    let cell = |column: u32, index: &str, value: SnmpValue| {
        (number(&format!("1.3.6.1.2.1.2.2.1.{column}.{index}")), value)
    };
    let text = |text: &str| SnmpValue::Bytes(text.as_bytes().to_vec());
    let came = [
        vec![cell(2, "2", text("eth0")), cell(2, "10", text("eth8"))],
        vec![cell(8, "2", SnmpValue::Integer(1)), cell(8, "7.1", SnmpValue::Unsigned(u64::MAX))],
    ];
    insta::assert_snapshot!(plan.rows(&came, true).expect("an output"), @r#"{"rows":[{"index":"2","name":"eth0","state":1},{"index":"7.1","state":18446744073709551615,"name":null},{"index":"10","name":"eth8","state":null}],"left_out":true}"#);
    assert_eq!(SnmpValue::Bytes(vec![0, 255]).json(), json!("0x00ff"));
    for (status, end, lasting) in [
        (1, CallEnd::Refused, false),
        (6, CallEnd::Refused, true),
        (13, CallEnd::Refused, false),
        (15, CallEnd::Unknown, false),
        (17, CallEnd::Refused, true),
        (99, CallEnd::Refused, true),
    ] {
        let failure = plan.refused(status, Some(&number("1.3.6")));
        assert_eq!((failure.end, failure.lasting), (end, lasting), "{failure:?}");
        assert!(failure.message.starts_with(&format!("1.3.6: answered {status}: ")), "{failure:?}");
    }
}

#[test]
fn what_is_written_wrong_is_told_with_its_place() {
    let wrong = |operation: &str| {
        let text = format!("connector: old-switch\noperations:\n  op:\n    {operation}\n");
        check(&text).expect_err("is wrong")
    };
    let all = [
        "snmp: {}",
        "snmp: { get: { a: 1.3.6 }, table: { a: 1.3.6 } }",
        "snmp: { get: {} }",
        "snmp: { get: { a: sysName } }",
        "snmp: { get: { a: 1.3 } }",
        "snmp: { get: { a: '1.3.${give.x}' } }",
        "snmp: { get: { a: 1.3.6.1 }, at_most: 5 }",
        "snmp: { table: { a: 1.3.6.1 }, at_most: 0 }",
        "snmp: { set: [{ object: 1.3.6.1 }] }",
        "snmp: { set: [{ object: 1.3.6.1, integer: 1, text: a }] }",
        "snmp: { set: [{ object: 1.3.6.1, integer: 1 }] }\n    repeat: keyed",
        "snmp: { get: { a: 1.3.6.1 } }\n    output: response.values.b",
        "snmp: { table: { a: 1.3.6.1 } }\n    output: response.rows[0].b",
    ];
    insta::assert_snapshot!(all.map(wrong).join("\n"), @r#"
    yard.yaml:4:11: has one of `get`, `table` and `set`
        4 |     snmp: {}
          |           ^
    yard.yaml:4:11: has one of `get`, `table` and `set`
        4 |     snmp: { get: { a: 1.3.6 }, table: { a: 1.3.6 } }
          |           ^^
    yard.yaml:4:18: has from 1 to 60 objects
        4 |     snmp: { get: {} }
          |                  ^
    yard.yaml:4:23: is not the number of an object, such as 1.3.6.1.2.1.1.5.0
        4 |     snmp: { get: { a: sysName } }
          |                       ^^^^^^^
    yard.yaml:4:23: is the number of an object, as text: "1.3.6.1.2.1.1.5.0"
        4 |     snmp: { get: { a: 1.3 } }
          |                       ^^^
    yard.yaml:4:30: there is no field `x`; there are none here
        4 |     snmp: { get: { a: '1.3.${give.x}' } }
          |                              ^^^^^^
    yard.yaml:4:43: belongs to a `table`
        4 |     snmp: { get: { a: 1.3.6.1 }, at_most: 5 }
          |                                           ^
    yard.yaml:4:45: is from 1 to 10000
        4 |     snmp: { table: { a: 1.3.6.1 }, at_most: 0 }
          |                                             ^
    yard.yaml:4:19: has one of `integer`, `unsigned`, `text`, `address` and `reference`
        4 |     snmp: { set: [{ object: 1.3.6.1 }] }
          |                   ^^
    yard.yaml:4:19: has one of `integer`, `unsigned`, `text`, `address` and `reference`
        4 |     snmp: { set: [{ object: 1.3.6.1, integer: 1, text: a }] }
          |                   ^^
    yard.yaml:5:13: is `keyed`, and no agent knows a request by its key; write `never`, or `safe` where a second one does no harm
        5 |     repeat: keyed
          |             ^^^^^
    yard.yaml:5:13: there is no field `b`; did you mean `a`?
        5 |     output: response.values.b
          |             ^^^^^^^^^^^^^^^^^
    yard.yaml:5:13: there is no field `b`; did you mean `a`?
        5 |     output: response.rows[0].b
          |             ^^^^^^^^^^^^^^^^^^
    "#);
    let connection = |text: &str| {
        let document =
            &parse_file("c.yaml", &format!("connection: c\nconnector: old-switch\n{text}"))
                .expect("reads")[0];
        Connection::check(document).map_or_else(
            |problems| problems.iter().map(|p| format!("{}\n", p.message)).collect(),
            |_| "it is well\n".to_owned(),
        )
    };
    let word = "\"${secret('s')}\"";
    let all = [
        format!("base: snmp://pier-1.example\ncredential: {{ snmp: {{ community: {word} }} }}\n"),
        format!(
            "base: snmp://*\nhosts: ['*.example']\ncredential: {{ snmp: {{ user: a, authentication: \
             {{ by: sha-256, password: {word} }}, privacy: {{ by: aes-128, password: {word} }} }} }}\n"
        ),
        "base: snmp://a.example\ncredential: { snmp: { community: public } }\n".to_owned(),
        format!(
            "base: snmp://a.example\ncredential: {{ snmp: {{ user: a, community: {word} }} }}\n"
        ),
        "base: snmp://a.example\ncredential: { snmp: { user: a } }\n".to_owned(),
        format!("base: snmp://a.example\ncredential: {{ bearer: {word} }}\n"),
        format!("base: https://a.example\ncredential: {{ snmp: {{ community: {word} }} }}\n"),
        "base: snmp://a.example\nhost_keys: ['SHA256:x']\njump: gate\n".to_owned(),
    ];
    insta::assert_snapshot!(all.map(|text| connection(&text)).join(""), @r#"
    it is well
    it is well
    a credential is not written out; set a secret and write "${secret('its-name')}"
    has a `community` alone, or a `user` with `authentication` and, if wished, `privacy`
    has a `community` alone, or a `user` with `authentication` and, if wished, `privacy`
    an agent is shown `snmp`, a community or a user's passwords
    `snmp` is for agents that are reached over SNMP
    belongs to machines that are reached over SSH
    is no fingerprint of a key, as `ssh-keygen -l` prints it: SHA256:...
    belongs to machines that are reached over SSH
    "#);
}
