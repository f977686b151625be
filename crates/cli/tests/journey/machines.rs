//! Machines over SSH, as people reach them: whom they trust, what reaches which machine, and what a
//! job knows of a command.

use crate::kit::{Peer, Runner, Stage, until};
use arvok_standins::{device::Device, machine::Machine};
use reqwest::Method;
use serde_json::json;

/// A machine, with a connection to it and one that stands for many.
fn machine(stage: &Stage, name: &str) -> Machine {
    let machine = Machine::scratch(name).unwrap_or_else(|e| panic!("{e}"));
    let key = machine.key().expect("a key");
    stage.secret("machine-key", &key, &["connection/quill", "connection/many"]);
    stage.publish(&format!(
        "connector: linux
test: about
operations:
  about: {{ command: {{ args: [uname, -s], looks: true }} }}
  said:
    takes: {{ text: {{ default: a }}, status: {{ type: integer, default: 0 }} }}
    command: {{ shell: 'echo \"$1\"; exit $2', args: ['${{give.text}}', '${{give.status}}'], refused: [3] }}
    gives: {{ said: {{ type: string }} }}
    output: '{{\"said\": response.stdout}}'
  talk:
    command: {{ shell: 'for n in 1 2 3 4 5; do echo \"line $n\"; sleep 0.4; done', looks: true }}
---
connection: quill
connector: linux
base: {base}
credential: {{ key: {{ user: {user}, private: \"${{secret('machine-key')}}\" }} }}
timeout: 20s
---
connector: any-linux
operations:
  about:
    takes: {{ host: {{ type: string }} }}
    host: '${{give.host}}'
    command: {{ args: [uname, -s], looks: true }}
---
connection: many
connector: any-linux
base: ssh://*:{port}
hosts: ['127.0.0.*']
credential: {{ key: {{ user: {user}, private: \"${{secret('machine-key')}}\" }} }}
---
runbook: say
summary: s
inputs: {{ status: {{ type: integer, default: 0 }} }}
target: vm/quill
steps:
  - {{ id: said, call: said, via: quill, give: {{ text: \"it's $(id)\", status: '${{inputs.status}}' }} }}
outputs: {{ said: '${{steps.said.said}}' }}
---
runbook: listen
target: vm/quill
steps:
  - {{ id: talk, call: talk, via: quill }}
",
        base = machine.base(),
        user = machine.user(),
        port = machine.port(),
    ));
    machine
}

fn trust(stage: &Stage, machine: &Machine) {
    let fingerprint = machine.fingerprint().expect("a key");
    let said = stage.arvok(&["connection", "trust", "quill", "--fingerprint", &fingerprint]);
    assert_eq!(said.code, 0, "{}", said.all());
    assert!(said.out.contains("trusted"), "{}", said.out);
}

fn token(stage: &Stage, role: &str) -> String {
    let asked = json!({ "name": format!("some-{role}"), "role": role });
    let (_, made) = stage.call(Method::POST, "/api/v1/tokens", Some(&asked));
    made["token"].as_str().expect("a token").to_owned()
}

/// A connector whose figure comes over SSH and whose act goes over HTTP.
fn array(peer: &Peer, more: &str, also: &str) -> String {
    format!(
        "connector: array
operations:
  waiting:
    command: {{ args: [echo, '7'], looks: true }}
    output: '{{\"waiting\": int(response.stdout.trim())}}'
    gives: {{ waiting: {{ type: integer }} }}
  flush:
    takes: {{ what: {{ type: string }} }}
    request: {{ method: POST, path: /tell, body: {{ what: '${{give.what}}' }} }}
    repeat: never
---
connection: array
connector: array
base: {}
credential: {{ bearer: \"${{secret('array')}}\" }}
{more}
also: {also}
---
runbook: flush
target: vm/array
steps:
  - {{ id: waiting, call: waiting, via: array }}
  - {{ id: flush, call: flush, via: array, give: {{ what: '${{steps.waiting.waiting}} are flushed' }} }}
",
        peer.url
    )
}

#[test]
fn the_figure_that_decides_comes_over_ssh_and_the_act_goes_over_http() {
    let stage = Stage::with_demo();
    let machine = machine(&stage, "also");
    trust(&stage, &machine);
    let peer = Peer::start();
    stage.secret("array", "array-password", &["connection/array"]);
    stage.publish(&array(&peer, "", "[quill]"));
    let done = |is: &str| {
        let job = stage.arvok(&["job", "launch", "flush", "--yes", "--follow"]);
        assert_eq!(job.code == 0, is == "done", "{}", job.all());
        job.all()
    };
    done("done");
    assert_eq!(peer.count("7 are flushed"), 1);
    let shown = stage.arvok(&["connection", "show", "array"]);
    assert!(shown.out.contains("also        by quill"), "{}", shown.out);
    // The calls of both are the connection's that was named.
    let calls = stage.get("/api/v1/connections/array/calls");
    let named: Vec<_> = calls["items"]
        .as_array()
        .expect("calls")
        .iter()
        .map(|call| call["operation"].as_str().unwrap_or_default())
        .collect();
    assert_eq!(named, ["flush", "waiting"]);
    assert!(
        stage.arvok(&["connection", "show", "quill"]).out.contains("used by     connection array")
    );
    let tried = stage.arvok(&["connection", "try", "array", "waiting", "--yes"]);
    assert!(tried.code == 0 && tried.out.contains('7'), "{}", tried.all());

    // What goes by another connection is bound by that one, and nobody takes it away.
    let gone = stage.arvok(&["withdraw", "connection", "quill", "--yes"]);
    assert!(gone.code != 0 && gone.all().contains("array"), "{}", gone.all());
    for (also, words) in [
        ("[]", "is not where `waiting` of connector `array` goes: ssh://"),
        ("[array]", "`array` is this connection"),
        ("[nobody]", "nobody"),
        ("[quill, crew-chat]", "`crew-chat` speaks the same protocol as base"),
        (
            "[many]",
            "`waiting` of connector `array` does not say on which `host`, by connection `many`",
        ),
        ("[quill, office-mail]", "`office-mail` is for no operation of connector `array`"),
    ] {
        let file = array(&peer, "", also);
        let said = stage.arvok_with(&["publish", "-", "--yes"], &[], &file);
        assert!(said.code != 0 && said.all().contains(words), "{also}: {}", said.all());
    }

    // Of runners too each is as its own connection says: the act goes by one, the command does not.
    let _near = Runner::start(&stage, "nessfold-1", "site=nessfold");
    stage.publish(&array(&peer, "through: { site: nessfold }", "[quill]"));
    done("done");
    assert_eq!(peer.count("7 are flushed"), 2);
}

#[test]
fn nothing_is_said_to_a_machine_before_an_admin_has_trusted_its_key() {
    let stage = Stage::with_demo();
    let second = stage.second_node();
    let machine = machine(&stage, "trust");
    let fingerprint = machine.fingerprint().expect("a key");
    let job = stage.arvok(&["job", "launch", "say", "--yes", "--follow"]);
    assert_ne!(job.code, 0);
    assert!(job.all().contains("nobody has trusted it yet"), "{}", job.all());
    let seen = stage.arvok(&["connection", "trust", "quill"]);
    assert!(seen.code != 0 && seen.out.contains("not trusted yet"), "{}", seen.all());
    assert!(seen.out.contains(&fingerprint));
    let wrong = stage.arvok(&["connection", "trust", "quill", "--fingerprint", "SHA256:other"]);
    assert!(wrong.code != 0 && wrong.all().contains("nothing was trusted"), "{}", wrong.all());
    assert_eq!(machine.times_let_in(), 0);

    trust(&stage, &machine);
    // All nodes have heard of it.
    for node in [&stage, &second] {
        until("the machine to let it in", || {
            let tested = node.arvok(&["connection", "test", "quill"]);
            (tested.code == 0 && tested.out.contains("Linux")).then_some(())
        });
    }
    let shown = stage.arvok(&["connection", "show", "quill"]);
    let line = format!("trusted     127.0.0.1:{} ssh-ed25519 {fingerprint}", machine.port());
    assert!(shown.out.contains(&line), "{}", shown.out);
    let audit = stage.get("/api/v1/audit?act=host-key.trusted");
    assert_eq!(audit["items"].as_array().map(Vec::len), Some(1), "{audit}");

    let name = format!("127.0.0.1:{}", machine.port());
    stage.records().run(&format!(
        "UPDATE host_key SET fingerprint = 'SHA256:before' WHERE machine = '{name}'"
    ));
    stage.secret("other", "waker-of-nodes", &["connection/quill"]);
    let tested = stage.arvok(&["connection", "test", "quill"]);
    assert!(tested.code != 0 && tested.out.contains("not the trusted one"), "{}", tested.all());
    let seen = stage.arvok(&["connection", "trust", "quill"]);
    assert!(seen.out.contains("NOT the trusted one, SHA256:before"), "{}", seen.out);
    let forgotten = stage.arvok(&["connection", "trust", "quill", "--forget", &name]);
    assert_eq!(forgotten.code, 0, "{}", forgotten.all());
    let again = stage.arvok(&["connection", "trust", "quill", "--forget", &name]);
    assert!(again.code != 0 && again.all().contains("there is no trusted key"), "{}", again.all());
    let other = stage.arvok(&["connection", "trust", "yard-hypervisor"]);
    assert!(other.all().contains("is not reached over SSH"), "{}", other.all());
    for role in ["viewer", "responder", "author"] {
        let token = token(&stage, role);
        let asked = json!({ "fingerprint": fingerprint });
        let path = "/api/v1/connections/quill/host-key";
        let (status, _) = stage.call_as(&token, Method::PUT, path, Some(&asked));
        assert_eq!(status, 403, "{role}");
    }
}

#[test]
fn a_job_knows_what_became_of_a_command() {
    let stage = Stage::with_demo();
    let machine = machine(&stage, "jobs");
    trust(&stage, &machine);
    let launch = |status: &str| {
        let status = format!("status={status}");
        stage.arvok(&["job", "launch", "say", "--input", &status, "--yes", "--follow"])
    };
    let done = launch("0");
    assert_eq!(done.code, 0, "{}", done.all());
    let job = stage.get("/api/v1/jobs?runbook=say")["items"][0]["id"].as_i64().expect("a job");
    let shown = stage.arvok(&["job", "show", &job.to_string()]);
    assert!(shown.out.contains("it's $(id)"), "as it was written: {}", shown.out);
    for (status, said) in [("3", "ended with status 3"), ("4", "ended with status 4: it's $(id)")] {
        let failed = launch(status);
        assert_ne!(failed.code, 0);
        assert!(failed.all().contains(said), "{}", failed.all());
    }
    let calls = stage.arvok(&["connection", "calls", "quill"]);
    assert!(calls.out.contains("refused") && calls.out.contains("useless"), "{}", calls.out);
    // What a command writes is seen while it runs.
    let followed = stage.arvok(&["job", "launch", "listen", "--yes", "--follow"]);
    assert_eq!(followed.code, 0, "{}", followed.all());
    assert!(followed.out.contains("| line 2"), "{}", followed.out);
    // The secret is in nothing that is shown.
    let key = machine.key().expect("a key");
    let line = key.lines().nth(2).expect("a line of the key");
    for said in [&done, &shown, &calls] {
        assert!(!said.all().contains(line));
    }
    assert!(!stage.log().contains(line));
}

#[test]
fn a_call_goes_to_no_machine_that_its_connection_does_not_list() {
    let stage = Stage::with_demo();
    let machine = machine(&stage, "many");
    let tried = |host: &str| {
        let host = format!("host={host}");
        stage.arvok(&["connection", "try", "many", "about", "--give", &host, "--yes"])
    };
    let unknown = tried("127.0.0.1");
    assert!(unknown.all().contains("nobody has trusted it yet"), "{}", unknown.all());
    let fingerprint = machine.fingerprint().expect("a key");
    let trusts = ["connection", "trust", "many", "--fingerprint", &fingerprint];
    let said = stage.arvok(&trusts);
    assert!(said.code != 0 && said.all().contains("names none"), "{}", said.all());
    let said = stage.arvok(&[&trusts[..], &["--host", "127.0.0.1"]].concat());
    assert_eq!(said.code, 0, "{}", said.all());
    assert!(tried("127.0.0.1").out.contains("Linux"));
    for (host, why) in [
        ("10.0.0.1", "is none of the connection's hosts"),
        ("127.0.0.1:22", "is not the name or the address of a machine"),
        ("root@127.0.0.1", "is not the name or the address of a machine"),
    ] {
        let refused = tried(host);
        assert!(refused.code != 0 && refused.all().contains(why), "{host}: {}", refused.all());
    }
    // Where the key of a person's choice goes is an admin's word: other machines, another word.
    let author = token(&stage, "author");
    let text = format!(
        "connection: many\nconnector: any-linux\nbase: ssh://*:{}\nhosts: ['*']\ncredential: {{ \
         key: {{ user: {}, private: \"${{secret('machine-key')}}\" }} }}\n",
        machine.port(),
        machine.user()
    );
    let body = json!({ "files": [{ "file": "many.yaml", "text": text }] });
    let (status, problem) = stage.call_as(&author, Method::POST, "/api/v1/publish", Some(&body));
    assert_eq!(status, 403, "{problem}");
}

#[test]
fn machines_behind_a_jump_host_are_trusted_and_reached_through_it() {
    let stage = Stage::with_demo();
    let (behind, gate) = (machine(&stage, "behind"), Machine::scratch("gate").expect("starts"));
    stage.secret("gate-key", &gate.key().expect("a key"), &["connection/gate"]);
    let connection = |name: &str, machine: &Machine, secret: &str, more: &str| {
        format!(
            "connection: {name}\nconnector: linux\nbase: {}\n{more}credential: {{ key: {{ user: \
             {}, private: \"${{secret('{secret}')}}\" }} }}\n---\n",
            machine.base(),
            machine.user()
        )
    };
    let quill = |jump: &str| connection("quill", &behind, "machine-key", jump);
    let both = [connection("gate", &gate, "gate-key", ""), quill("jump: gate\n")];
    stage.publish(&both.concat());
    let tried = || stage.arvok(&["connection", "test", "quill"]);
    let trusts = |name: &str, machine: &Machine| {
        let key = machine.fingerprint().expect("a key");
        stage.arvok(&["connection", "trust", name, "--fingerprint", &key])
    };
    let early = trusts("quill", &behind);
    let why = "the jump host: 127.0.0.1:";
    assert!(early.code != 0 && early.all().contains(why), "{}", early.all());
    assert!(early.all().contains("nobody has trusted it yet"), "{}", early.all());
    assert_eq!(trusts("gate", &gate).code, 0);
    assert_eq!(trusts("quill", &behind).code, 0);
    assert_eq!(tried().code, 0, "{}", tried().all());
    assert_eq!(gate.times_let_in(), 1, "one line serves all that goes through");
    let shown = stage.arvok(&["connection", "show", "quill"]);
    assert!(shown.out.contains("through     connection gate"), "{}", shown.out);

    // What is no jump host is told where it is written, and nobody takes one away.
    for (jump, why) in [
        ("gale", "there is no connection `gale` (did you mean `gate`?)"),
        ("ticket-desk", "`ticket-desk` is not reached over SSH"),
        ("many", "`many` is not one machine"),
        ("quill", "`quill` is reached through another jump host"),
    ] {
        let text = quill(&format!("jump: {jump}\n"));
        let body = json!({ "files": [{ "file": "quill.yaml", "text": text }] });
        let (status, problem) = stage.call(Method::POST, "/api/v1/publish", Some(&body));
        let told = problem.to_string();
        assert!(status == 422 && told.contains(why), "{jump}: {status} {problem}");
    }
    let gone = stage.arvok(&["withdraw", "connection", "gate", "--yes"]);
    assert!(gone.code != 0 && gone.all().contains("quill"), "{}", gone.all());
}

#[test]
fn a_job_changes_a_device_and_keeps_the_change() {
    let stage = Stage::with_demo();
    let device = Device::scratch("journey-device", "candidate").unwrap_or_else(|e| panic!("{e}"));
    let key = device.machine.key().expect("a key");
    stage.secret("device-key", &key, &["connection/pier-switch"]);
    let interfaces = "'@xmlns': 'urn:ietf:params:xml:ns:yang:ietf-interfaces'";
    let ethernet = "'@xmlns:i': 'urn:ietf:params:xml:ns:yang:iana-if-type', $: 'i:ethernetCsmacd'";
    stage.publish(&format!(
        "connector: switch
operations:
  look:
    takes: {{ port: {{ type: string }} }}
    netconf: {{ get_config: {{ filter: {{ interfaces: {{ {interfaces}, interface: {{ name: '${{give.port}}' }} }} }} }} }}
    output: '{{\"is_there\": has(response.data.interfaces)}}'
    gives: {{ is_there: {{ type: boolean }} }}
  add:
    takes: {{ port: {{ type: string }} }}
    netconf:
      edit_config:
        confirm_within: 5m
        config: {{ interfaces: {{ {interfaces}, interface: {{ name: '${{give.port}}', type: {{ {ethernet} }}, description: 'of <pier 3>' }} }} }}
    gives: {{ persist_id: {{ type: string }} }}
  keep:
    takes: {{ id: {{ type: string }} }}
    netconf: {{ commit: {{ persist_id: '${{give.id}}' }} }}
---
connection: pier-switch
connector: switch
base: {base}
credential: {{ key: {{ user: {user}, private: \"${{secret('device-key')}}\" }} }}
timeout: 20s
---
runbook: add-port
inputs: {{ port: {{ type: string }} }}
target: switch/pier
steps:
  - {{ id: add, call: add, via: pier-switch, give: {{ port: '${{inputs.port}}' }} }}
  - {{ id: keep, call: keep, via: pier-switch, give: {{ id: '${{steps.add.persist_id}}' }} }}
",
        base = device.base(),
        user = device.machine.user(),
    ));
    let tested = stage.arvok(&["connection", "test", "pier-switch"]);
    assert!(tested.code != 0 && tested.all().contains("nobody has trusted it yet"));
    let fingerprint = device.machine.fingerprint().expect("a key");
    let trusted =
        stage.arvok(&["connection", "trust", "pier-switch", "--fingerprint", &fingerprint]);
    assert_eq!(trusted.code, 0, "{}", trusted.all());
    let tested = stage.arvok(&["connection", "test", "pier-switch"]);
    assert!(tested.out.contains("speaks NETCONF 1.1 with candidate:1.0"), "{}", tested.all());
    let is_there = |port: &str| {
        let port = format!("port={port}");
        let seen = stage.arvok(&["connection", "try", "pier-switch", "look", "--give", &port]);
        assert_eq!(seen.code, 0, "{}", seen.all());
        seen.out.contains("true")
    };
    let launch = ["job", "launch", "add-port", "--input", "port=kept", "--yes", "--follow"];
    let kept = stage.arvok(&launch);
    assert_eq!(kept.code, 0, "{}", kept.all());
    assert!(is_there("kept"));
    let calls = stage.arvok(&["connection", "calls", "pier-switch"]);
    assert!(calls.out.contains("job 1 keep") && calls.out.contains("done"), "{}", calls.out);
    let dry = ["connection", "try", "pier-switch", "add", "--give", "port=x", "--dry-run"];
    let dry = stage.arvok(&dry);
    assert!(dry.out.contains("<name>x</name>") && !is_there("x"), "{}", dry.all());
    let other = stage.arvok(&["connection", "trust", "yard-hypervisor"]);
    assert!(other.all().contains("is not reached over SSH"), "{}", other.all());
}
