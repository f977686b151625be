//! Calls over NETCONF: how they are written, the XML that they become, and how a session is led.

use super::{check, give};
use crate::connector::{
    CallEnd, Connector, Failure, NetconfExchange, NetconfNext, NetconfPlan, Planned,
};
use serde_json::{Value, json};

fn operation(body: &str) -> String {
    format!("connector: switch\noperations:\n  op:\n    takes: {{ x: {{ default: a }} }}\n{body}")
}

fn planned(connector: &Connector, given: Value) -> Result<NetconfPlan<'_>, String> {
    let planned = connector.operations["op"].begin(&give(given), "job-7/port", None);
    match planned.map_err(|e| e.to_string())? {
        Planned::Netconf(plan) => Ok(*plan),
        other => panic!("{other:?}"),
    }
}

fn hello(capabilities: &[&str]) -> String {
    let each =
        |name: &&str| format!("<capability>urn:ietf:params:netconf:capability:{name}</capability>");
    let each: String = capabilities.iter().map(each).collect();
    format!(
        "<hello xmlns='urn:ietf:params:xml:ns:netconf:base:1.0'><capabilities>\
         <capability>urn:ietf:params:netconf:base:1.1</capability>{each}</capabilities></hello>"
    )
}

fn reply(id: usize, said: &str) -> Vec<u8> {
    format!(
        "<n:rpc-reply xmlns:n='urn:ietf:params:xml:ns:netconf:base:1.0' message-id='{id}'>{said}</n:rpc-reply>"
    )
    .into_bytes()
}

/// What is sent to a device that says yes to all of it, without what all requests have; and what
/// comes of it in the end.
fn said(body: &str, capabilities: &[&str], x: Value) -> String {
    let connector = check(&operation(body)).unwrap_or_else(|e| panic!("{e}"));
    let plan = match planned(&connector, json!({ "x": x })) {
        Ok(plan) => plan,
        Err(why) => return why,
    };
    let mut exchange = match plan.begin(hello(capabilities).as_bytes()) {
        Ok(exchange) => exchange,
        Err(failure) => return format!("{:?}: {}", failure.end, failure.message),
    };
    let (mut all, mut id) = (Vec::new(), 0);
    let mut next = exchange.ask();
    loop {
        match next {
            NetconfNext::Send(message) => {
                id += 1;
                let (_, rest) = message.split_once('>').expect("an rpc");
                all.push(rest.strip_suffix("</rpc>").expect("an end").to_owned());
                next = exchange.replied(&reply(id, "<n:ok/>")).expect("a reply");
            }
            NetconfNext::Over(result) => {
                all.push(format!("{result:?}"));
                return all.join("\n");
            }
        }
    }
}

const EDIT: &str = "    netconf:
      edit_config:
        config:
          interfaces:
            '@xmlns': urn:ietf:params:xml:ns:yang:ietf-interfaces
            interface:
              name: ${give.x}
              enabled: false
              '@nc:operation': merge
";
const CANDIDATE: [&str; 3] = ["candidate:1.0", "validate:1.1?x=y", "confirmed-commit:1.1"];

#[test]
fn an_edit_is_prepared_under_locks_and_takes_effect_as_a_whole() {
    insta::assert_snapshot!(said(EDIT, &CANDIDATE, json!("ge-0/0/1 <b> & \"c\"\n]]>")), @r#"
    <lock><target><running/></target></lock>
    <lock><target><candidate/></target></lock>
    <edit-config><target><candidate/></target><default-operation>merge</default-operation><config><interfaces xmlns="urn:ietf:params:xml:ns:yang:ietf-interfaces"><interface nc:operation="merge"><name>ge-0/0/1 &lt;b&gt; &amp; &quot;c&quot;&#10;]]&gt;</name><enabled>false</enabled></interface></interfaces></config></edit-config>
    <commit/>
    <unlock><target><candidate/></target></unlock>
    <unlock><target><running/></target></unlock>
    Ok(Object {"datastore": String("candidate"), "persist_id": Null})
    "#);
    let careful = EDIT.replace("edit_config:", "edit_config:\n        validate: true\n        confirm_within: 1m30s\n        default_operation: none");
    insta::assert_snapshot!(said(&careful, &CANDIDATE, json!(["a", 7])), @r#"
    <lock><target><running/></target></lock>
    <lock><target><candidate/></target></lock>
    <edit-config><target><candidate/></target><default-operation>none</default-operation><config><interfaces xmlns="urn:ietf:params:xml:ns:yang:ietf-interfaces"><interface nc:operation="merge"><name>a</name><name>7</name><enabled>false</enabled></interface></interfaces></config></edit-config>
    <validate><source><candidate/></source></validate>
    <commit><confirmed/><confirm-timeout>90</confirm-timeout><persist>arvok job-7/port</persist></commit>
    <unlock><target><candidate/></target></unlock>
    <unlock><target><running/></target></unlock>
    Ok(Object {"datastore": String("candidate"), "persist_id": String("arvok job-7/port")})
    "#);
    let at_once = ["writable-running:1.0", "rollback-on-error:1.0"];
    insta::assert_snapshot!(said(EDIT, &at_once, json!("a")), @r#"
    <lock><target><running/></target></lock>
    <edit-config><target><running/></target><default-operation>merge</default-operation><error-option>rollback-on-error</error-option><config><interfaces xmlns="urn:ietf:params:xml:ns:yang:ietf-interfaces"><interface nc:operation="merge"><name>a</name><enabled>false</enabled></interface></interfaces></config></edit-config>
    <unlock><target><running/></target></unlock>
    Ok(Object {"datastore": String("running"), "persist_id": Null})
    "#);
    let into = |datastore: &str| {
        EDIT.replace("edit_config:", &format!("edit_config:\n        into: {datastore}"))
    };
    let lacking = [
        said(&into("candidate"), &at_once, json!("a")),
        said(&into("running"), &CANDIDATE, json!("a")),
        said(&careful, &["candidate:1.0"], json!("a")),
        said(&careful, &["candidate:1.0", "confirmed-commit:1.1"], json!("a")),
        said(&careful.replace("validate: true", "validate: false"), &at_once, json!("a")),
        said(&careful, &at_once, json!("a")),
    ];
    insta::assert_snapshot!(lacking.join("\n"), @"
    NotSent: the device announces no candidate configuration (candidate:1.0)
    NotSent: the device announces no running configuration that can be edited (writable-running:1.0)
    NotSent: the device announces no commit that waits to be confirmed (confirmed-commit:1.1)
    NotSent: the device announces no validation (validate:1.1)
    NotSent: the device has no candidate, whose commit could wait to be confirmed
    NotSent: the device announces no candidate that could be validated (candidate:1.0)
    ");
}

#[test]
fn what_is_read_and_asked_is_written_as_elements() {
    let bodies = [
        "    netconf: { get: {} }\n",
        "    netconf: { get_config: { from: startup, filter: { system: { '@xmlns': 'urn:s', name: '' } } } }\n",
        "    netconf: { rpc: { 'reset': { '@xmlns': 'urn:r', '@xmlns:p': 'urn:p', 'p:port': { '@at': '${give.x}', $: 'n ${give.x}' } } } }\n",
        "    netconf: { rpc: { kill-session: { session-id: '${give.x}' } }, looks: true }\n",
        "    netconf: { commit: { persist_id: '${give.x}' } }\n",
        "    netconf: { cancel_commit: { persist_id: '${give.x}' } }\n",
    ];
    let all = bodies.map(|body| said(body, &CANDIDATE, json!("it's <x>")));
    insta::assert_snapshot!(all.join("\n"), @r#"
    <get></get>
    Ok(Object {})
    <get-config><source><startup/></source><filter type="subtree"><system xmlns="urn:s"><name/></system></filter></get-config>
    Ok(Object {})
    <reset xmlns="urn:r" xmlns:p="urn:p"><p:port at="it&apos;s &lt;x&gt;">n it&apos;s &lt;x&gt;</p:port></reset>
    Ok(Object {})
    <kill-session><session-id>it&apos;s &lt;x&gt;</session-id></kill-session>
    Ok(Object {})
    <commit><persist-id>it&apos;s &lt;x&gt;</persist-id></commit>
    Ok(Object {})
    <cancel-commit><persist-id>it&apos;s &lt;x&gt;</persist-id></cancel-commit>
    Ok(Object {})
    "#);
    for (body, looks) in bodies.iter().zip([true, true, false, true, false, false]) {
        let connector = check(&operation(body)).expect("checks");
        assert_eq!(connector.operations["op"].only_looks(), looks, "{body}");
    }
    let lines = bodies.map(|body| {
        let connector = check(&operation(body)).expect("checks");
        connector.operations["op"].line().to_owned()
    });
    insta::assert_snapshot!(lines.join("\n"), @"
    NETCONF get everything
    NETCONF get-config system
    NETCONF reset
    NETCONF kill-session
    NETCONF commit
    NETCONF cancel-commit
    ");
}

#[test]
fn nothing_but_text_is_filled_in() {
    let each = [
        json!({ "@nc:operation": "delete" }),
        json!([{ "a": 1 }]),
        json!(null),
        json!("a\u{0}\u{8}b"),
    ];
    let each = each.map(|x| said(EDIT, &CANDIDATE, x));
    insta::assert_snapshot!(each.join("\n"), @"
    name: is a list or a map; elements are written out, and only their text is filled in
    name: is a list or a map; elements are written out, and only their text is filled in
    name: is nothing (null)
    name: `a��b` has U+0008, which no XML can carry
    ");
}

#[test]
fn what_is_no_request_is_refused_where_it_stands() {
    let wrong = |body: &str| check(&operation(body)).expect_err("refused");
    let all = [
        "    netconf: {}\n",
        "    netconf: { get: {}, looks: true }\n",
        "    netconf: { get: {}, rpc: { a: b } }\n",
        "    netconf: { rpc: { a: b, c: d } }\n",
        "    netconf: { get: { filter: { interfaces: '' } } }\n",
        "    netconf: { get: { filter: { 'if:interfaces': '' } } }\n",
        "    netconf: { rpc: { 'a b': '' } }\n",
        "    netconf: { rpc: { a: { '@xmlns': '${give.x}' } } }\n",
        "    netconf: { rpc: { a: { $: x, b: c } } }\n",
        "    netconf: { edit_config: { config: {}, confirm_within: 2h } }\n",
        "    netconf: { edit_config: { into: running, validate: true, confirm_within: 1m, config: { a: { '@xmlns': u } } } }\n",
        "    netconf: { edit_config: { into: somewhere, config: { a: { '@xmlns': u } } } }\n",
        "    netconf: { get: {} }\n    repeat: keyed\n",
        "    netconf: { get: {} }\n    request: { method: GET, path: / }\n",
    ];
    insta::assert_snapshot!(all.map(wrong).join("\n"), @r#"
    yard.yaml:5:14: has one of `get`, `get_config`, `edit_config`, `commit`, `cancel_commit` and `rpc`
        5 |     netconf: {}
          |              ^
    yard.yaml:5:32: belongs to an `rpc`
        5 |     netconf: { get: {}, looks: true }
          |                                ^^^^
    yard.yaml:5:14: has one of `get`, `get_config`, `edit_config`, `commit`, `cancel_commit` and `rpc`
        5 |     netconf: { get: {}, rpc: { a: b } }
          |              ^^
    yard.yaml:5:21: has one element, the request
        5 |     netconf: { rpc: { a: b, c: d } }
          |                     ^^
    yard.yaml:5:45: says no namespace: write it as `"@xmlns"`, as the YANG module has it
        5 |     netconf: { get: { filter: { interfaces: '' } } }
          |                                             ^^^
    yard.yaml:5:50: no `"@xmlns:if"` above says which namespace `if` is
        5 |     netconf: { get: { filter: { 'if:interfaces': '' } } }
          |                                                  ^^^
    yard.yaml:5:30: is no name of an element: letters, digits, `-`, `_` and `.`
        5 |     netconf: { rpc: { 'a b': '' } }
          |                              ^^^
    yard.yaml:5:38: a namespace is written out
        5 |     netconf: { rpc: { a: { '@xmlns': '${give.x}' } } }
          |                                      ^^^^^^^^^^^^
    yard.yaml:5:31: stands beside attributes alone, not beside elements
        5 |     netconf: { rpc: { a: { $: x, b: c } } }
          |                               ^
    yard.yaml:5:39: is empty
        5 |     netconf: { edit_config: { config: {}, confirm_within: 2h } }
          |                                       ^
    yard.yaml:5:59: is from 1s to 1h
        5 |     netconf: { edit_config: { config: {}, confirm_within: 2h } }
          |                                                           ^^
    yard.yaml:5:56: belongs to the candidate, which is committed
        5 |     netconf: { edit_config: { into: running, validate: true, confirm_within: 1m, config: { a: { '@xmlns': u } } } }
          |                                                        ^^^^
    yard.yaml:5:78: belongs to the candidate, which is committed
        5 |     netconf: { edit_config: { into: running, validate: true, confirm_within: 1m, config: { a: { '@xmlns': u } } } }
          |                                                                              ^^
    yard.yaml:5:37: unknown value `somewhere`; known here: running, candidate, startup
        5 |     netconf: { edit_config: { into: somewhere, config: { a: { '@xmlns': u } } } }
          |                                     ^^^^^^^^^
    yard.yaml:6:13: is `keyed`, and no device knows a request by its key; write `never`, or `safe` where a second one does no harm
        6 |     repeat: keyed
          |             ^^^^^
    yard.yaml:4:5: an operation has one of `request`, `visit`, `mail`, `command`, `upload`, `download`, `netconf`, `libvirt`, `snmp`, `mqtt`, `amqp` and `arvok`
        4 |     takes: { x: { default: a } }
          |     ^
    "#);
}

fn led<'o>(connector: &'o Connector, capabilities: &[&str]) -> NetconfExchange<'o> {
    let plan = planned(connector, json!({ "x": "a" })).expect("plans");
    plan.begin(hello(capabilities).as_bytes()).expect("begins")
}

#[test]
fn what_is_read_is_a_map_of_its_elements() {
    let connector =
        check(&operation("    netconf: { get: {}, lists: [port, neighbour] }\n")).expect("checks");
    let read = |said: &str| {
        let mut exchange = led(&connector, &[]);
        assert!(matches!(exchange.ask(), NetconfNext::Send(_)));
        match exchange.replied(&reply(1, said)) {
            Some(NetconfNext::Over(Ok(output))) => output.to_string(),
            other => format!("{other:?}"),
        }
    };
    let each = [
        "<data><ports xmlns='urn:p'><port><name> a&#32;&amp;&lt;b </name><up/></port></ports></data>",
        "<data><p:ports xmlns:p='urn:p'><p:port><p:n>1</p:n></p:port><p:port><p:n><![CDATA[<2>]]></p:n></p:port><x>1</x><x>2</x><x>3</x></p:ports></data>",
        "<data/>",
        "<data>\n</data>",
        "<n:ok/>",
        "<n:data><a b='c'>d<!-- e --></a></n:data>",
        "<data>&unknown;</data>",
        "<data>&#0;</data>",
        "<data>",
        "</data>",
        "<a></b>",
    ];
    insta::assert_snapshot!(each.map(read).join("\n"), @r#"
    {"ports":{"port":[{"name":" a &<b ","up":""}]}}
    {"ports":{"port":[{"n":"1"},{"n":"<2>"}],"x":["1","2","3"]}}
    {}
    {}
    {}
    {"a":"d"}
    Some(Over(Err(Failure { message: "said something that is no XML: at 1..8: unrecognized entity `unknown`", end: Unknown, lasting: false, retry_after: None })))
    Some(Over(Err(Failure { message: "said something that is no XML: invalid character reference: 0x0 character is not permitted in XML", end: Unknown, lasting: false, retry_after: None })))
    Some(Over(Err(Failure { message: "said something that is no XML: ill-formed document: expected `</data>`, but `</n:rpc-reply>` was found", end: Unknown, lasting: false, retry_after: None })))
    Some(Over(Err(Failure { message: "said something that is no XML: ill-formed document: expected `</n:rpc-reply>`, but `</data>` was found", end: Unknown, lasting: false, retry_after: None })))
    Some(Over(Err(Failure { message: "said something that is no XML: ill-formed document: expected `</a>`, but `</b>` was found", end: Unknown, lasting: false, retry_after: None })))
    "#);
}

#[test]
fn what_is_refused_is_cleaned_up_after() {
    let connector = check(&operation(EDIT)).expect("checks");
    let error = "<n:rpc-error><n:error-severity>error</n:error-severity><n:error-tag>lock-denied</n:error-tag></n:rpc-error>";
    // At each of its steps.
    let mut all = Vec::new();
    for refused in 1..=5 {
        let mut exchange = led(&connector, &CANDIDATE);
        let (mut next, mut id, mut names) = (exchange.ask(), 0, Vec::new());
        let end = loop {
            match next {
                NetconfNext::Send(message) => {
                    id += 1;
                    let (_, rest) = message.split_once("\"><").expect("an rpc");
                    let name: String =
                        rest.chars().take_while(|c| c.is_ascii_lowercase() || *c == '-').collect();
                    names.push(name);
                    let said = if id == refused { error } else { "<n:ok/>" };
                    next = exchange.replied(&reply(id, said)).expect("a reply");
                }
                NetconfNext::Over(end) => break end,
            }
        };
        all.push(format!(
            "{refused}: {}: {}",
            names.join(" "),
            match end {
                Ok(_) => "done".to_owned(),
                Err(Failure { end, message, lasting, .. }) =>
                    format!("{end:?} {lasting} {message}"),
            }
        ));
    }
    insta::assert_snapshot!(all.join("\n"), @"
    1: lock: Refused false lock was refused: lock-denied
    2: lock lock unlock: Refused false lock was refused: lock-denied
    3: lock lock edit-config discard-changes unlock unlock: Refused false edit-config was refused: lock-denied
    4: lock lock edit-config commit discard-changes unlock unlock: Refused false commit was refused: lock-denied
    5: lock lock edit-config commit unlock unlock: done
    ");
}

#[test]
fn of_a_session_that_is_cut_it_is_known_whether_it_had_taken_effect() {
    let connector = check(&operation(EDIT)).expect("checks");
    let cut = Failure::new(CallEnd::Unknown, "cut");
    for (steps, end) in
        [(0, CallEnd::NotSent), (1, CallEnd::NotSent), (3, CallEnd::NotSent), (4, CallEnd::Unknown)]
    {
        let mut exchange = led(&connector, &CANDIDATE);
        let mut next = exchange.ask();
        for id in 1..steps {
            next = exchange.replied(&reply(id, "<n:ok/>")).expect("a reply");
        }
        assert!(matches!(next, NetconfNext::Send(_)));
        assert_eq!(exchange.cut(cut.clone()).expect_err("cut").end, end, "{steps}");
    }
    let mut exchange = led(&connector, &CANDIDATE);
    exchange.ask();
    for id in 1..=4 {
        exchange.replied(&reply(id, "<n:ok/>"));
    }
    assert!(exchange.cut(cut).is_ok(), "committed, and the unlocking was cut");
}
