//! Calls over SSH: how they are written, the lines that they become, and what their ends mean.

use super::{check, give};
use crate::{
    connector::{
        CallEnd, CommandExit, CommandResult, Connection, Connector, Failure, Planned, RemoteAct,
        SshPlan,
    },
    definition::Defined,
    document::parse_file,
};
use serde_json::{Value, json};

fn operation(body: &str) -> String {
    format!("connector: linux\noperations:\n  op:\n    takes: {{ x: {{ default: a }} }}\n{body}")
}

fn planned(connector: &Connector, given: Value) -> Result<SshPlan<'_>, String> {
    match connector.operations["op"].begin(&give(given), "k", None).map_err(|e| e.to_string())? {
        Planned::Ssh(plan) => Ok(*plan),
        other => panic!("{other:?}"),
    }
}

/// The line that a command becomes, or why it becomes none.
fn line(body: &str, given: Value) -> String {
    let connector = check(&operation(body)).unwrap_or_else(|e| panic!("{e}"));
    match planned(&connector, given).map(|plan| plan.act().clone()) {
        Ok(RemoteAct::Run(command)) => command.line,
        Ok(other) => panic!("{other:?}"),
        Err(why) => why,
    }
}

#[test]
fn whatever_is_filled_in_is_one_argument() {
    let restart = "    command: { args: [systemctl, restart, '--', '${give.x}'] }\n";
    let lines = |body: &str, each: &[Value]| {
        each.iter().map(|x| line(body, json!({ "x": x }))).collect::<Vec<_>>().join("\n")
    };
    let each = [
        json!("nginx.service"),
        json!("a b; $(id) `id` \"'\n"),
        json!("-H root@elsewhere"),
        json!(["a.service", "b c"]),
        json!([]),
        json!(7),
        json!(null),
        json!({ "a": 1 }),
        json!("nul\0"),
    ];
    insta::assert_snapshot!(lines(restart, &each), @r#"
    systemctl restart -- nginx.service
    systemctl restart -- 'a b; $(id) `id` "'\''
    '
    systemctl restart -- '-H root@elsewhere'
    systemctl restart -- a.service 'b c'
    systemctl restart --
    systemctl restart -- 7
    args[3]: is nothing (null)
    args[3]: is a list or a map, and not one text
    systemctl restart -- 'nul�'
    "#);
    let status = "    command: { args: [systemctl, status, '${give.x}', '--lines=${give.x}'] }\n";
    let each = [json!("nginx"), json!("-H"), json!(-5), json!("")];
    insta::assert_snapshot!(lines(status, &each), @"
    systemctl status nginx '--lines=nginx'
    args[2]: `-H` begins with a dash and would be read as an option; an argument `--` before it says that none follow
    systemctl status -5 '--lines=-5'
    systemctl status '' '--lines='
    ");
    let shell = "    command:\n      shell: df -P \"$1\" | tail -n 1\n      \
                 args: ['${give.x}']\n      env: { LC_ALL: C, WHY: 'for ${give.x}' }\n";
    insta::assert_snapshot!(lines(shell, &[json!("/srv/it's"), json!("-x")]), @r#"
    env LC_ALL=C WHY='for /srv/it'\''s' sh -c 'df -P "$1" | tail -n 1' sh '/srv/it'\''s'
    env LC_ALL=C WHY='for -x' sh -c 'df -P "$1" | tail -n 1' sh -x
    "#);
    let long = line(restart, json!({ "x": vec!["y"; 1001] }));
    insta::assert_snapshot!(long, @"has 1004 arguments; 1000 are allowed");
    insta::assert_snapshot!(line(restart, json!({ "x": "y".repeat(200_000) })), @"the command has 200021 bytes; 102400 are allowed");
}

#[test]
fn what_is_no_command_is_refused_where_it_stands() {
    let wrong = |body: &str| check(&operation(body)).expect_err("refused");
    let all = [
        "    command: { args: [] }\n",
        "    command: { args: ['${give.x}'] }\n",
        "    command: { shell: 'rm ${give.x}' }\n",
        "    command: { args: [ls], env: { 'A=B': c } }\n",
        "    command: { args: [ls], refused: [0], retry_on: [3], succeeds: [3] }\n",
        "    command: { args: [ls], at_most: 900000 }\n",
        "    command: { args: [ls] }\n    repeat: keyed\n",
        "    command: { args: [ls] }\n    pages: { list: response, next: { link: next } }\n",
        "    command: { args: [ls] }\n    download: { from: /etc/motd }\n",
        "    upload: { to: /tmp/a, content: b, mode: '888' }\n",
        "    request: { method: GET, path: / }\n    host: '${give.x}'\n",
    ];
    insta::assert_snapshot!(all.map(wrong).join("\n"), @r#"
    yard.yaml:5:14: names no program: `args` begins with it, or `shell` is a line
        5 |     command: { args: [] }
          |              ^^
    yard.yaml:5:23: the program is written out; what is filled in are its arguments
        5 |     command: { args: ['${give.x}'] }
          |                       ^^^^^^^^^^^
    yard.yaml:5:23: nothing is filled into a line for a shell, which would read it; write `args: ["${give...}"]` and "$1" in the line
        5 |     command: { shell: 'rm ${give.x}' }
          |                       ^^^^^^^^^^^^^^^
    yard.yaml:5:42: is not the name of a variable: letters, digits and `_`
        5 |     command: { args: [ls], env: { 'A=B': c } }
          |                                          ^
    yard.yaml:5:38: is success
        5 |     command: { args: [ls], refused: [0], retry_on: [3], succeeds: [3] }
          |                                      ^
    yard.yaml:5:52: 3 stands in two of refused, retry_on, succeeds
        5 |     command: { args: [ls], refused: [0], retry_on: [3], succeeds: [3] }
          |                                                    ^
    yard.yaml:5:67: 3 stands in two of refused, retry_on, succeeds
        5 |     command: { args: [ls], refused: [0], retry_on: [3], succeeds: [3] }
          |                                                                   ^
    yard.yaml:5:37: is from 1 to 204800 bytes
        5 |     command: { args: [ls], at_most: 900000 }
          |                                     ^^^^^^
    yard.yaml:6:13: is `keyed`, and no machine knows a command by its key; write `never`, or `safe` where a second one does no harm
        6 |     repeat: keyed
          |             ^^^^^
    yard.yaml:6:12: belongs to a `request`
        6 |     pages: { list: response, next: { link: next } }
          |            ^^
    yard.yaml:4:5: an operation has one of `request`, `visit`, `mail`, `command`, `upload`, `download`, `netconf`, `libvirt`, `snmp`, `mqtt`, `amqp` and `arvok`
        4 |     takes: { x: { default: a } }
          |     ^
    yard.yaml:5:45: is permission bits in octal, from "0000" to "0777"
        5 |     upload: { to: /tmp/a, content: b, mode: '888' }
          |                                             ^^^^^^
    yard.yaml:6:11: belongs to a `command`, an `upload`, a `download`, a `netconf`, a `libvirt` or an `snmp`
        6 |     host: '${give.x}'
          |           ^^^^^^^^^^^
    "#);
}

fn ended(body: &str, exit: CommandExit, stdout: &str, stderr: &str) -> Result<Value, Failure> {
    let connector = check(&operation(body)).unwrap_or_else(|e| panic!("{e}"));
    let plan = planned(&connector, json!({})).expect("plans");
    let (stdout, stderr) = (stdout.as_bytes().to_vec(), stderr.as_bytes().to_vec());
    plan.ran(&CommandResult { exit, stdout, stderr, left_out: 0 })
}

#[test]
fn the_status_says_what_became_of_a_command() {
    let body = "    command: { args: [lvextend], refused: [3], retry_on: [75], succeeds: [1] }\n";
    let looks = format!("{body}    repeat: safe\n");
    let of = |body: &str, status| {
        ended(body, CommandExit::Status(status), "a\nb\n", "no room\n")
            .map_err(|failure| (failure.end, failure.lasting, failure.message))
    };
    assert_eq!((of(body, 0), of(body, 1)), (Ok(json!("a\nb")), Ok(json!("a\nb"))));
    let failed = |end, lasting, status: u32| {
        Err((end, lasting, format!("ended with status {status}: no room")))
    };
    assert_eq!(of(body, 3), failed(CallEnd::Refused, true, 3));
    assert_eq!(of(body, 75), failed(CallEnd::Refused, false, 75));
    assert_eq!(of(body, 127), failed(CallEnd::Refused, true, 127), "it was never run");
    assert_eq!(of(body, 5), failed(CallEnd::Done, true, 5), "nobody does it again by itself");
    assert_eq!(of(&looks, 5), failed(CallEnd::Done, false, 5), "looking again is harmless");
    let killed = ended(body, CommandExit::Signal("KILL".into()), "half", "").expect_err("failed");
    assert_eq!((killed.end, killed.lasting), (CallEnd::Unknown, false));
    assert_eq!(killed.message, "was ended by SIGKILL: half");
}

#[test]
fn what_a_command_wrote_is_read_as_its_author_says() {
    let of = |reads: &str, stdout: &str| {
        let body = format!("    command: {{ args: [df], reads: {reads} }}\n");
        ended(&body, CommandExit::Status(0), stdout, "")
    };
    assert_eq!(of("text", "a b\r\n\n"), Ok(json!("a b")));
    assert_eq!(of("lines", "a\r\nb\n\nc"), Ok(json!(["a", "b", "", "c"])));
    assert_eq!(of("json", "{\"size\": 4}\n"), Ok(json!({ "size": 4 })));
    let useless = of("json", "oops").expect_err("is none");
    assert_eq!((useless.end, useless.lasting), (CallEnd::Done, true));
    insta::assert_snapshot!(useless.message, @"it ended well, but what came cannot be used: it is no JSON: expected value at line 1 column 1");
    let made = "    command: { args: [df], reads: lines }\n    output: '{\"n\": \
                size(response.stdout), \"exit\": response.exit, \"told\": response.stderr}'\n    \
                gives: { n: { type: integer }, exit: { type: integer }, told: { type: string } }\n";
    let output = ended(made, CommandExit::Status(0), "a\nb", "warning\n");
    assert_eq!(output, Ok(json!({ "n": 2, "exit": 0, "told": "warning" })));
    let wrong = check(&operation("    command: { args: [df] }\n    output: response.stdot\n"));
    insta::assert_snapshot!(wrong.expect_err("refused"), @"
    yard.yaml:6:13: there is no field `stdot`; did you mean `stdout`?
        6 |     output: response.stdot
          |             ^^^^^^^^^^^^^^
    ");
}

#[test]
fn a_path_or_a_machine_that_is_filled_in_stays_in_its_place() {
    let why = |body: &str, x: &str| {
        let connector = check(&operation(body)).unwrap_or_else(|e| panic!("{e}"));
        planned(&connector, json!({ "x": x })).map_or_else(
            |why| why,
            |plan| format!("{:?} {:?}", plan.host().unwrap_or("-"), plan.act()),
        )
    };
    let get = "    download: { from: '/srv/booking/${give.x}', at_most: 10 }\n";
    let put = "    upload: { to: '${give.x}', content: { a: 1 }, mode: '0640' }\n";
    let on = "    command: { args: ['true'] }\n    host: '${give.x}'\n";
    let all = [
        why(get, "log"),
        why(get, "../../etc/shadow"),
        why(put, "/etc/motd"),
        why(put, "motd"),
        why(on, "Quill-Web-1.skerrow.example"),
        why(on, "::1"),
        why(on, "root@quill"),
        why(on, "quill:22"),
        why(on, "-oProxyCommand=id"),
        why(on, "quill/../.."),
        why(on, ""),
    ];
    insta::assert_snapshot!(all.join("\n"), @r#"
    "-" Download { path: "/srv/booking/log", at_most: 10 }
    from: `/srv/booking/../../etc/shadow` leads upwards (`..`)
    "-" Upload { path: "/etc/motd", content: [123, 34, 97, 34, 58, 49, 125], mode: Some(416) }
    to: `motd` is no absolute path
    "quill-web-1.skerrow.example" Run(RemoteCommand { line: "true", input: "", at_most: 65536 })
    "::1" Run(RemoteCommand { line: "true", input: "", at_most: 65536 })
    host: `root@quill` is not the name or the address of a machine
    host: `quill:22` is not the name or the address of a machine
    host: `-oProxyCommand=id` is not the name or the address of a machine
    host: `quill/../..` is not the name or the address of a machine
    host: `` is not the name or the address of a machine
    "#);
}

#[test]
fn a_connection_is_one_machine_or_the_many_that_it_lists() {
    let check = |body: &str| {
        let text = format!("connection: quill\nconnector: linux\n{body}");
        let checked = Connection::check(&parse_file("c.yaml", &text).expect("reads")[0]);
        checked.map_or_else(
            |problems| problems.iter().map(ToString::to_string).collect::<Vec<_>>().join("\n"),
            |connection| format!("good: {} hosts", connection.hosts.len()),
        )
    };
    let key = "credential: { key: { user: arvok, private: \"${secret('k')}\" } }\n";
    let all = [
        check(&format!("base: ssh://quill.skerrow.example:2222\n{key}")),
        check(&format!("base: ssh://*\nhosts: [\"Quill-*.skerrow.example\", '10.7.*']\n{key}")),
        check("base: ssh://quill\ncredential: { bearer: \"${secret('k')}\" }\n"),
        check(&format!("base: https://quill\n{key}")),
        check("base: ssh://*\n"),
        check("base: ssh://quill\nhosts: [a]\n"),
        check("base: https://quill\nhosts: [a]\nhost_keys: [a]\n"),
        check("base: ssh://quill\ncredential: { key: { user: a, private: written } }\n"),
        check("base: ssh://root@quill\n"),
        check("base: https://quill\njump: gate\n"),
    ];
    insta::assert_snapshot!(all.join("\n"), @r#"
    good: 0 hosts
    good: 2 hosts
    c.yaml:4:13: a machine is shown `key`, a user's private key, or `basic`, a name and a password
        4 | credential: { bearer: "${secret('k')}" }
          |             ^^
    c.yaml:4:13: a `key` is for machines that are reached over SSH
        4 | credential: { key: { user: arvok, private: "${secret('k')}" } }
          |             ^^
    c.yaml:1:1: is missing: `ssh://*` is the machines that it lists
        1 | connection: quill
          | ^
    c.yaml:3:7: is one machine, and `hosts` lists several; write `ssh://*`
        3 | base: ssh://quill
          |       ^^^^^^^^^^^
    c.yaml:4:8: belongs to machines that are reached over SSH, and to agents
        4 | hosts: [a]
          |        ^
    c.yaml:5:12: belongs to machines that are reached over SSH
        5 | host_keys: [a]
          |            ^
    c.yaml:5:13: is no fingerprint of a key, as `ssh-keygen -l` prints it: SHA256:...
        5 | host_keys: [a]
          |             ^
    c.yaml:4:40: a credential is not written out; set a secret and write "${secret('its-name')}"
        4 | credential: { key: { user: a, private: written } }
          |                                        ^^^^^^^
    c.yaml:3:7: holds a name or a password, which everybody would see; it stands under `credential`
        3 | base: ssh://root@quill
          |       ^^^^^^^^^^^^^^^^
    c.yaml:4:7: belongs to machines that are reached over SSH
        4 | jump: gate
          |       ^^^^
    "#);
}
