//! Network devices over NETCONF: a real netconfd behind sshd, and subsystems that misbehave.

use crate::{
    ssh::{LONG, Reached, failure, output, perform},
    texts,
};
use arvok_connect::{Drivers, TrustedKeys, Way};
use arvok_core::connector::{CallEnd, Failure, Opened};
use arvok_standins::{device::Device, machine::Machine};
use proptest::{prelude::*, test_runner::TestRunner};
use serde_json::{Value, json};
use std::{fs, path::PathBuf, process::Command, time::Duration};

fn device(name: &str, target: &'static str) -> Device {
    Device::scratch(name, target).unwrap_or_else(|e| panic!("{e}"))
}

/// How a device is reached.
struct Reach {
    base: String,
    trusted: TrustedKeys,
    credential: Opened,
}

impl Reach {
    fn of(machine: &Machine) -> Self {
        let base = format!("netconf://127.0.0.1:{}", machine.port());
        Self { base, trusted: machine.trusted(), credential: machine.credential() }
    }

    fn way(&self, timeout: Duration) -> Way<'_> {
        Way {
            credential: Some(&self.credential),
            trusted: Some(&self.trusted),
            ..Way::to(&self.base, timeout)
        }
    }
}

const INTERFACES: &str = "urn:ietf:params:xml:ns:yang:ietf-interfaces";

/// Writes a description to an interface that is called by what is given.
fn edit(more: &str) -> String {
    format!(
        "    netconf:
      edit_config:{more}
        config:
          interfaces:
            '@xmlns': {INTERFACES}
            interface:
              name: ${{give.x}}
              type: {{ '@xmlns:ianaift': 'urn:ietf:params:xml:ns:yang:iana-if-type', $: 'ianaift:ethernetCsmacd' }}
              description: <${{give.x}}>
"
    )
}

/// What the interfaces that are called so are described as.
const READ: &str = "    netconf:
      get_config:
        filter:
          interfaces:
            '@xmlns': urn:ietf:params:xml:ns:yang:ietf-interfaces
            interface: { name: '${give.x}', description: '' }
      lists: [interface]
    output: \"has(response.data.interfaces) ? response.data.interfaces.interface.map(i, i.description) : []\"
";

#[tokio::test(flavor = "multi_thread")]
async fn what_is_filled_in_reaches_a_device_as_it_is() {
    let device = device("netconf-data", "candidate");
    let reach = Reach::of(&device.machine);
    let (way, drivers) = (reach.way(LONG), Drivers::new().expect("drivers"));
    let nasty = [
        "plain",
        "it's",
        "\"",
        "a b",
        "<a/>",
        "</name>",
        "]]>",
        "]]>]]>",
        "&amp;",
        "&lt;",
        "&x;",
        "$(id)",
        "${give.x}",
        "a'b\"c",
        "<!-- x -->",
        "<![CDATA[x]]>",
        "@nc:operation",
        "é€😀",
        "\n##\n",
        "#1",
        "--",
        "%s",
    ];
    for text in nasty {
        // Not as a key: the server itself ends when a key has a quote.
        output(&drivers, way, &edit(" ").replace("name: ${give.x}", "name: port"), json!(text))
            .await;
        let read = output(&drivers, way, &READ.replace("${give.x}", "port"), json!(text)).await;
        assert_eq!(read, json!([format!("<{text}>")]), "{text:?}");
    }
    let all = "    netconf: { get_config: {}, lists: [interface] }\n    output: \
               response.data.interfaces.interface.size()\n";
    assert_eq!(output(&drivers, way, all, json!("")).await, json!(1), "no other came of it");
    assert_eq!(device.machine.times_let_in(), 1, "all of it on one line");
    // Nothing but text is filled in, and no text that XML cannot carry.
    for (x, why) in [
        (json!({ "@nc:operation": "delete" }), "name: is a list or a map"),
        (json!("a\u{1}b"), "U+0001, which no XML can carry"),
        (json!(null), "name: is nothing (null)"),
    ] {
        let refused = failure(&drivers, way, &edit(" "), x).await;
        assert_eq!((refused.end, refused.lasting), (CallEnd::NotSent, true));
        assert!(refused.message.contains(why), "{refused:?}");
    }
}

#[test]
fn whatever_is_filled_in_reaches_a_device_as_it_is_or_not_at_all() {
    let device = device("netconf-texts", "running");
    let reach = Reach::of(&device.machine);
    let runtime = tokio::runtime::Runtime::new().expect("a runtime");
    let (way, drivers) = (reach.way(LONG), Drivers::new().expect("drivers"));
    let write = edit(" ").replace("name: ${give.x}", "name: port");
    // The server itself compares what it keeps with what is asked for.
    let read =
        READ.replace("${give.x}", "port").replace("description: ''", "description: '<${give.x}>'");
    let all = "    netconf: { get_config: {}, lists: [interface] }\n    output: \
               response.data.interfaces.interface.size()\n";
    let mut runner = TestRunner::new(ProptestConfig { cases: 40, ..ProptestConfig::default() });
    let ended = runner.run(&texts(), |text| {
        let called = runtime.block_on(perform(&drivers, way, &write, json!(text))).called;
        match called {
            Ok(_) => {
                let came = runtime.block_on(output(&drivers, way, &read, json!(text)));
                // The server writes a carriage return as it is, which is the end of a line to who
                // reads it (XML, section 2.11).
                let text = text.replace('\0', "\u{fffd}");
                let text = text.replace("\r\n", "\n").replace('\r', "\n");
                prop_assert_eq!(came, json!([format!("<{text}>")]));
                let all = runtime.block_on(output(&drivers, way, all, json!("")));
                prop_assert_eq!(all, json!(1), "no other came of it");
            }
            // What XML or YANG cannot carry (RFC 7950, section 9.4).
            Err(failure) => {
                let is_carried = |c: char| {
                    matches!(c, '\t' | '\n' | '\r' | ' '..='\u{d7ff}' | '\u{e000}'..='\u{fdcf}'
                        | '\u{fdf0}'..='\u{fffd}' | '\u{10000}'..)
                        && c as u32 & 0xfffe != 0xfffe
                };
                let refused = [CallEnd::NotSent, CallEnd::Refused].contains(&failure.end);
                prop_assert!(refused && !text.chars().all(is_carried), "{failure:?}");
            }
        }
        Ok(())
    });
    ended.unwrap_or_else(|e| panic!("{e}"));
}

#[tokio::test(flavor = "multi_thread")]
async fn an_edit_takes_effect_as_a_whole_or_not_at_all() {
    for (target, datastore) in [("candidate", "candidate"), ("running", "running")] {
        let device = device(&format!("netconf-{target}"), target);
        let reach = Reach::of(&device.machine);
        let (way, drivers) = (reach.way(LONG), Drivers::new().expect("drivers"));
        let probed = drivers.probe(way).await.expect("answers");
        assert!(probed.contains("speaks NETCONF 1.1 with"), "{probed}");
        let done = output(&drivers, way, &edit(" "), json!("ge-0/0/1")).await;
        assert_eq!(done, json!({ "datastore": datastore, "persist_id": null }));
        // One of the two that are written cannot be: neither is there after.
        let wrong = "    netconf:
      edit_config:
        config:
          interfaces:
            '@xmlns': urn:ietf:params:xml:ns:yang:ietf-interfaces
            interface:
              - { name: '${give.x}', description: fits }
              - { name: other, enabled: perhaps }
";
        let refused = failure(&drivers, way, wrong, json!("ge-0/0/2")).await;
        assert_eq!((refused.end, refused.lasting), (CallEnd::Refused, true), "{refused:?}");
        assert!(refused.message.contains("was refused: invalid-value"), "{refused:?}");
        assert_eq!(output(&drivers, way, READ, json!("ge-0/0/2")).await, json!([]));
        // No lock is left, nor anything prepared.
        output(&drivers, way, &edit(" "), json!("ge-0/0/3")).await;
        let delete = "    netconf:
      edit_config:
        config:
          interfaces:
            '@xmlns': urn:ietf:params:xml:ns:yang:ietf-interfaces
            interface: { '@nc:operation': delete, name: '${give.x}' }
";
        output(&drivers, way, delete, json!("ge-0/0/3")).await;
        assert_eq!(output(&drivers, way, READ, json!("ge-0/0/3")).await, json!([]));
        let gone = failure(&drivers, way, delete, json!("ge-0/0/3")).await;
        assert!(gone.message.contains("data-missing"), "{gone:?}");
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn of_edits_at_once_each_is_done_or_refused_and_none_is_lost() {
    let device = device("netconf-at-once", "candidate");
    let reach = Reach::of(&device.machine);
    let (way, drivers) = (reach.way(LONG), Drivers::new().expect("drivers"));
    let edits = (0..12).map(|n| {
        let drivers = &drivers;
        async move {
            let name = format!("ge-0/0/{n}");
            let called = crate::ssh::perform(drivers, way, &edit(" "), json!(name)).await.called;
            (name, called)
        }
    });
    let ended = futures_util::future::join_all(edits).await;
    let mut done = 0;
    for (name, called) in ended {
        let is_there =
            output(&drivers, way, READ, json!(name)).await == json!([format!("<{name}>")]);
        assert_eq!(called.is_ok(), is_there, "{name}: {called:?}");
        done += usize::from(is_there);
        if let Err(refused) = called {
            assert_eq!((refused.end, refused.lasting), (CallEnd::Refused, false), "{refused:?}");
        }
    }
    assert!(done > 0, "somebody had the locks");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_commit_that_nobody_confirms_is_taken_back_by_the_device() {
    let device = device("netconf-confirm", "candidate");
    let reach = Reach::of(&device.machine);
    let (way, drivers) = (reach.way(LONG), Drivers::new().expect("drivers"));
    let for_a_while = edit("\n        confirm_within: 2s");
    let read = async |name: &str| output(&drivers, way, READ, json!(name)).await != json!([]);
    let done = output(&drivers, way, &for_a_while, json!("left")).await;
    assert_eq!(done, json!({ "datastore": "candidate", "persist_id": "arvok k" }));
    assert!(read("left").await, "it has taken effect");
    let begun = std::time::Instant::now();
    while read("left").await {
        assert!(begun.elapsed() < Duration::from_secs(60), "it is not taken back");
        // The server looks at its own times only when nobody has asked it for a while.
        tokio::time::sleep(Duration::from_secs(3)).await;
    }
    let for_long = edit("\n        confirm_within: 10m");
    let done = output(&drivers, way, &for_long, json!("confirmed")).await;
    let confirm = "    netconf: { commit: { persist_id: '${give.x}' } }\n";
    output(&drivers, way, confirm, done["persist_id"].clone()).await;
    assert!(read("confirmed").await);
    let done = output(&drivers, way, &for_long, json!("cancelled")).await;
    let cancel = "    netconf: { cancel_commit: { persist_id: '${give.x}' } }\n";
    let other = failure(&drivers, way, cancel, json!("another")).await;
    assert_eq!(other.end, CallEnd::Refused, "{other:?}");
    output(&drivers, way, cancel, done["persist_id"].clone()).await;
    assert!(read("confirmed").await && !read("cancelled").await);
}

/// A machine whose subsystem does what a file says.
struct Odd {
    machine: Machine,
    script: PathBuf,
}

impl Odd {
    fn start(name: &str) -> Self {
        let name = format!("arvok-{}-{name}", std::process::id());
        let script = std::env::temp_dir().join(format!("{name}.sh"));
        let more = format!("Subsystem netconf /bin/sh {}\n", script.display());
        let machine = Machine::start_with(std::env::temp_dir().join(name), 0, &more);
        Self { machine: machine.unwrap_or_else(|e| panic!("{e}")), script }
    }

    /// Says these messages one after another, whatever it is asked, and then does something.
    fn says(&self, messages: &[&str], then: &str) {
        let said: String =
            messages.iter().map(|text| format!("cat <<'END'\n{text}\n]]>]]>\nEND\n")).collect();
        fs::write(&self.script, format!("{said}{then}\n")).expect("writes");
    }
}

impl Drop for Odd {
    fn drop(&mut self) {
        let _ = fs::remove_file(&self.script);
    }
}

const HELLO: &str = "<hello xmlns='urn:ietf:params:xml:ns:netconf:base:1.0'><capabilities>\
    <capability>urn:ietf:params:netconf:base:1.0</capability>\
    <capability>urn:ietf:params:netconf:capability:candidate:1.0</capability>\
    <capability>urn:ietf:params:netconf:capability:validate:1.1</capability>\
    </capabilities></hello>";

fn reply(id: usize, said: &str) -> String {
    format!(
        "<rpc-reply xmlns='urn:ietf:params:xml:ns:netconf:base:1.0' message-id='{id}'>{said}</rpc-reply>"
    )
}

fn error(tag: &str) -> String {
    format!(
        "<rpc-error><error-severity>error</error-severity><error-tag>{tag}</error-tag>\
         <error-message>no</error-message></rpc-error>"
    )
}

#[tokio::test(flavor = "multi_thread")]
async fn wherever_a_session_is_cut_it_is_known_what_that_means() {
    let odd = Odd::start("netconf-cut");
    let reach = Reach::of(&odd.machine);
    let drivers = Drivers::new().expect("drivers");
    let ended = async |said: &[String], then: &str| -> Result<Value, Failure> {
        let all: Vec<&str> =
            std::iter::once(HELLO).chain(said.iter().map(String::as_str)).collect();
        odd.says(&all, then);
        // Only a device that falls silent after the commit has to be given up to be judged
        // aright; where it is cut before that, a slow machine must not look like a silence.
        let silent = then == "sleep 60";
        let way = reach.way(match (silent, said.len()) {
            (true, ..4) => Duration::from_secs(2),
            (true, _) => Duration::from_secs(15),
            (false, _) => LONG,
        });
        match crate::ssh::perform(&drivers, way, &edit("\n        validate: true"), json!("x"))
            .await
            .called
        {
            Ok(arvok_connect::Called::Output(output)) => Ok(output),
            Ok(other) => panic!("{other:?}"),
            Err(failure) => Err(failure),
        }
    };
    let ok = |id| reply(id, "<ok/>");
    // Two locks, the edit, its validation, and the commit.
    for steps in 0..=5 {
        let said: Vec<String> = (1..=steps).map(ok).collect();
        for then in
            ["exit 0", "sleep 60", "yes ']]>' | head -c 4300000", "printf '<rpc-reply'; exit 0"]
        {
            let came = ended(&said, then).await;
            match (steps, came) {
                (5, came) => assert_eq!(came.expect("it is committed")["datastore"], "candidate"),
                (4, came) => assert_eq!(came.expect_err("cut").end, CallEnd::Unknown, "{then}"),
                (_, came) => assert_eq!(came.expect_err("cut").end, CallEnd::NotSent, "{then}"),
            }
        }
    }
    for (steps, tag, lasting) in [
        (0, "lock-denied", false),
        (1, "in-use", false),
        (2, "access-denied", true),
        (3, "invalid-value", true),
        (4, "operation-failed", true),
    ] {
        let said: Vec<String> =
            (1..=steps).map(ok).chain([reply(steps + 1, &error(tag))]).collect();
        let refused = ended(&said, "cat >/dev/null").await.expect_err("refused");
        assert_eq!((refused.end, refused.lasting), (CallEnd::Refused, lasting), "{refused:?}");
        assert!(refused.message.contains(&format!("was refused: {tag}: no")), "{refused:?}");
    }
    let in_part: Vec<String> =
        (1..=4).map(ok).chain([reply(5, &error("partial-operation"))]).collect();
    assert_eq!(ended(&in_part, "exit 0").await.expect_err("in part").end, CallEnd::Unknown);
    // What is no reply is passed over; a warning is none to refuse by.
    let noted =
        "<notification xmlns='urn:ietf:params:xml:ns:netconf:notification:1.0'/>".to_owned();
    let warned = error("x").replace("<error-severity>error", "<error-severity>warning");
    let said =
        [noted.clone(), ok(1), noted, ok(2), reply(3, &format!("{warned}<ok/>")), ok(4), ok(5)];
    ended(&said, "exit 0").await.expect("done");
    let other = [ok(1), ok(7)];
    let message = ended(&other, "sleep 60").await.expect_err("another").message;
    assert!(message.contains("answered another request than it was sent"), "{message}");
    let bomb = "<!DOCTYPE x [<!ENTITY a 'aaaaaaaaaa'><!ENTITY b '&a;&a;&a;'>]>";
    let said = [format!("{bomb}{}", ok(1))];
    let message = ended(&said, "sleep 60").await.expect_err("a bomb").message;
    assert!(message.contains("a document type, which is not read"), "{message}");
    let deep = reply(1, &("<a>".repeat(5000) + &"</a>".repeat(5000)));
    let message = ended(&[deep], "sleep 60").await.expect_err("deep").message;
    assert!(message.contains("more than is read"), "{message}");
    // What the sessions that were cut had begun has ended.
    let begun = std::time::Instant::now();
    let is_left = || {
        let looked = Command::new("pgrep").arg("-f").arg(&odd.script).output().expect("looks");
        !looked.stdout.is_empty()
    };
    while is_left() {
        assert!(begun.elapsed() < Duration::from_secs(90), "sessions are left behind");
        tokio::time::sleep(Duration::from_millis(100)).await;
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn a_device_that_says_no_hello_was_asked_nothing() {
    let odd = Odd::start("netconf-hello");
    let reach = Reach::of(&odd.machine);
    let drivers = Drivers::new().expect("drivers");
    let lacking = HELLO.replace("candidate:1.0", "url:1.0");
    let deaf = "<hello xmlns='urn:ietf:params:xml:ns:netconf:base:1.0'/>";
    for (said, then, why) in [
        (&[][..], "exit 0", "the session was cut"),
        (&[], "sleep 60", "said no hello within 2 s"),
        (&[], "yes | head -c 4300000; sleep 60", "said more than"),
        (&["hello?"], "sleep 60", "is no XML"),
        (&[deaf], "sleep 60", "announced no capabilities"),
        (&["<rpc-reply/>"], "sleep 60", "began with `rpc-reply`"),
        (&[&lacking], "sleep 60", "announces no candidate configuration"),
    ] {
        odd.says(said, then);
        let silent = said.is_empty() && then == "sleep 60";
        let way = reach.way(if silent { Duration::from_secs(2) } else { LONG });
        let into = edit("\n        into: candidate");
        let refused = failure(&drivers, way, &into, json!("x")).await;
        assert_eq!(refused.end, CallEnd::NotSent, "{refused:?}");
        assert!(refused.message.contains(why), "{why}: {refused:?}");
    }
    // And one that speaks SSH alone.
    let sshd = crate::ssh::machine("netconf-none");
    let reach = Reach::of(&sshd);
    let refused = failure(&drivers, reach.way(LONG), &edit(" "), json!("x")).await;
    assert_eq!((refused.end, refused.lasting), (CallEnd::NotSent, true), "{refused:?}");
    assert!(refused.message.contains("does not speak netconf"), "{refused:?}");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_device_that_frames_in_chunks_alone_is_understood() {
    let odd = Odd::start("netconf-chunks");
    let reach = Reach::of(&odd.machine);
    let drivers = Drivers::new().expect("drivers");
    let hello = HELLO.replace("base:1.0</capability>", "base:1.1</capability>");
    // Each reply in two chunks, when a request has come: four lines each.
    let chunks: String = (1..=2)
        .map(|id| {
            let said = reply(id, "<data><a>]]&gt;]]&gt;</a></data>");
            let (one, other) = said.split_at(20);
            format!("\n#{}\n{one}\n#{}\n{other}\n##\n", one.len(), other.len())
        })
        .collect();
    odd.says(&[&hello], &format!("printf '%s' {}", quoted(&chunks)));
    let way = reach.way(LONG);
    let get = "    netconf: { get: {} }\n";
    assert_eq!(output(&drivers, way, get, json!("x")).await, json!({ "a": "]]>]]>" }));
    let probed = drivers.probe(way).await.expect("answers");
    assert!(probed.contains("speaks NETCONF 1.1 with candidate:1.0"), "{probed}");
    for wrong in ["\n#5\nabc", "x", "\n#99999999\n"] {
        odd.says(&[&hello], &format!("printf '%s' {}", quoted(wrong)));
        let cut = failure(&drivers, way, get, json!("x")).await;
        assert_eq!(cut.end, CallEnd::Unknown, "{cut:?}");
    }
}

fn quoted(text: &str) -> String {
    format!("'{}'", text.replace('\'', "'\\''"))
}
