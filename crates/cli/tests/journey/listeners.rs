//! Senders that do not come by HTTP: syslog from Debian's `logger`, listeners that follow what is
//! published, messages over an outage; and CloudEvents in each of their modes.

use crate::kit::{Stage, answer, outage, until};
use reqwest::Method;
use serde_json::{Value, json};
use std::{
    io::Write,
    net::{TcpListener, TcpStream, UdpSocket},
    process::Command,
    time::Duration,
};

/// A port that nobody has at the moment, for datagrams and streams.
fn free_port() -> u16 {
    let listener = TcpListener::bind("127.0.0.1:0").expect("a port");
    listener.local_addr().expect("has one").port()
}

fn syslog(stage: &Stage, name: &str, port: u16, more: &str) {
    stage.publish(&format!(
        "source: {name}\nintake: {{ syslog: {{ udp: \"127.0.0.1:{port}\", \
        tcp: \"127.0.0.1:{port}\"{more} }} }}\n"
    ));
}

fn listeners(stage: &Stage) -> Vec<Value> {
    let (_, nodes) = stage.call(Method::GET, "/api/v1/nodes", None);
    let of = |node: &Value| node["listeners"].as_array().cloned().unwrap_or_default();
    nodes["nodes"].as_array().into_iter().flatten().flat_map(of).collect()
}

/// Waits until the listeners of a source stand so.
fn until_they(stage: &Stage, source: &str, state: &str) -> Vec<Value> {
    until(&format!("the listeners of {source} to be {state}"), || {
        let own: Vec<_> = listeners(stage).into_iter().filter(|l| l["source"] == source).collect();
        (!own.is_empty() && own.iter().all(|l| l["state"] == state)).then_some(own)
    })
}

/// Waits for the alerts of a source, the oldest first.
fn alerts(stage: &Stage, source: &str, count: usize) -> Vec<Value> {
    until(&format!("{count} alerts of {source}"), || {
        let (_, found) =
            stage.call(Method::GET, &format!("/api/v1/alerts?source={source}&limit=500"), None);
        let mut found = found["items"].as_array()?.clone();
        found.reverse();
        (found.len() >= count).then_some(found)
    })
}

fn logger(port: u16, options: &[&str], text: &str) {
    assert!(logs(port, options, text), "nobody took it: {text}");
}

/// Whether somebody took what was sent.
fn logs(port: u16, options: &[&str], text: &str) -> bool {
    let port = port.to_string();
    let mut command = Command::new("logger");
    command.args([
        "--server",
        "127.0.0.1",
        "--port",
        &port,
        "--tag",
        "kernel",
        "--priority",
        "daemon.err",
    ]);
    command.args(options).arg(text).status().expect("Debian has logger").success()
}

#[test]
fn a_machines_own_logger_sends_what_rules_act_on() {
    let stage = Stage::with_demo();
    let port = free_port();
    syslog(&stage, "pier-hosts", port, "");
    stage.publish(
        "rule: port-down\nsummary: s\nstance: act\nlisten: { sources: [pier-hosts], states: \
        [noted], where: 'alert.body.message.contains(\"down\")' }\n\
         dispatch: { runbook: wait-a-little, inputs: { host: \"${alert.resource}\" } }\n---\n\
         runbook: wait-a-little\ninputs: { host: { type: string, format: resource } }\ntarget: \
         ${inputs.host}\nsteps: [ { id: rest, pause: 1ms } ]\n",
    );
    until_they(&stage, "pier-hosts", "listening");
    logger(port, &["--udp", "--rfc5424"], "one by datagram");
    logger(port, &["--udp", "--rfc3164"], "two, the older form");
    logger(
        port,
        &["--tcp", "--rfc5424", "--sd-id", "pier@32473", "--sd-param", "berth=\"4\""],
        "three by stream",
    );
    logger(port, &["--tcp", "--octet-count"], "four, counted, port ge-0/0/7 down");
    let found = alerts(&stage, "pier-hosts", 4);
    let mut said: Vec<_> =
        found.iter().map(|a| a["summary"].as_str().unwrap_or_default().to_owned()).collect();
    said.sort();
    assert_eq!(
        said,
        [
            "four, counted, port ge-0/0/7 down",
            "one by datagram",
            "three by stream",
            "two, the older form"
        ]
    );
    for alert in &found {
        assert_eq!(
            (&alert["kind"], &alert["severity"]),
            (&json!("syslog.kernel"), &json!("major")),
            "{alert}"
        );
        assert!(alert["resource"].as_str().is_some_and(|r| r.starts_with("host/")), "{alert}");
    }
    until("the job of the fourth", || {
        let jobs = stage.get("/api/v1/jobs?rule=port-down&state=succeeded");
        (jobs["items"].as_array()?.len() == 1).then_some(())
    });
    let own = until("what was taken to be told", || {
        let own = until_they(&stage, "pier-hosts", "listening");
        (own.iter().filter_map(|l| l["taken"].as_i64()).sum::<i64>() == 4).then_some(own)
    });
    assert!(own.iter().all(|l| l["dropped"] == 0 && l["refused"] == 0), "{own:?}");
    let shown = stage.arvok(&["source", "show", "pier-hosts"]);
    assert!(shown.out.contains(&format!("udp 127.0.0.1:{port}  listening")), "{}", shown.out);
}

#[test]
fn listeners_follow_what_is_published_and_say_why_they_cannot_listen() {
    let stage = Stage::bare();
    let (first, second) = (free_port(), free_port());
    let taken = TcpListener::bind(("127.0.0.1", first)).expect("the port");
    syslog(&stage, "pier-hosts", first, "");
    let failed = until("the stream's listener to fail", || {
        listeners(&stage).into_iter().find(|l| l["transport"] == "tcp" && l["state"] == "failed")
    });
    assert!(failed["reason"].as_str().is_some_and(|r| r.contains("in use")), "{failed}");
    until("an alarm about it", || {
        let alarms = stage.get("/api/v1/alarms?source=arvok&state=raised");
        alarms["items"].as_array()?.iter().find(|a| a["kind"] == "listener.failed").cloned()
    });
    drop(taken);
    until_they(&stage, "pier-hosts", "listening");
    logger(first, &["--tcp", "--octet-count"], "after it was tried again");
    alerts(&stage, "pier-hosts", 1);

    // A port passes from one source to another, and what was withdrawn is not listened for.
    stage.publish(&format!(
        "source: pier-hosts\nintake: {{ syslog: {{ udp: \"127.0.0.1:{second}\" }} }}\n---\n\
         source: quill-hosts\nintake: {{ syslog: {{ tcp: \"127.0.0.1:{first}\" }} }}\n"
    ));
    until_they(&stage, "quill-hosts", "listening");
    logger(first, &["--tcp", "--octet-count"], "of the other");
    assert_eq!(alerts(&stage, "quill-hosts", 1)[0]["summary"], "of the other");
    let body = json!({ "files": [], "withdraw": [{ "kind": "source", "name": "quill-hosts" }] });
    assert_eq!(stage.call(Method::POST, "/api/v1/publish", Some(&body)).0, 200);
    until("the port to be free", || TcpListener::bind(("127.0.0.1", first)).ok());

    // Lines of `read` change without the listener.
    let since = until_they(&stage, "pier-hosts", "listening")[0]["since"].clone();
    stage.publish(&format!(
        "source: pier-hosts\nintake: {{ syslog: {{ udp: \"127.0.0.1:{second}\" }} }}\nread:\n  \
        kind: '\"pier.\" + slug(app)'\n  resource: '\"pier/\" + slug(host)'\n"
    ));
    logger(second, &["--udp"], "by the new lines");
    let found = alerts(&stage, "pier-hosts", 2);
    assert_eq!(
        (found[1]["kind"].as_str(), &until_they(&stage, "pier-hosts", "listening")[0]["since"]),
        (Some("pier.kernel"), &since)
    );
    let (status, said) =
        answer(stage.request(Method::POST, "/in/pier-hosts").bearer_auth(&stage.token).body("{}"));
    assert_eq!(status, 400, "{said}");
    assert!(
        said["detail"].as_str().is_some_and(|d| d.contains("its alerts come by syslog")),
        "{said}"
    );
}

#[test]
fn a_stranger_is_refused_and_nonsense_harms_nobody() {
    let stage = Stage::bare();
    let (open, closed) = (free_port(), free_port());
    syslog(&stage, "pier-hosts", open, "");
    syslog(&stage, "quill-hosts", closed, ", from: [10.4.0.0/16]");
    until_they(&stage, "pier-hosts", "listening");
    until_they(&stage, "quill-hosts", "listening");
    logger(closed, &["--udp"], "from elsewhere");
    until("what came from elsewhere to be refused", || {
        let udp = listeners(&stage)
            .into_iter()
            .find(|l| l["source"] == "quill-hosts" && l["transport"] == "udp")?;
        (udp["refused"] == 1 && udp["taken"] == 0).then_some(())
    });

    let socket = UdpSocket::bind("127.0.0.1:0").expect("a socket");
    let mut stream = TcpStream::connect(("127.0.0.1", open)).expect("connects");
    let odd: [&[u8]; 7] = [
        b"",
        b"\n\n",
        b"<",
        b"<999>1 x",
        b"\xff\xfe\0\0",
        b"<34>1 2026-13-45T99:99:99Z h a - - [x",
        &[b'['; 9_000],
    ];
    for odd in odd {
        socket.send_to(odd, ("127.0.0.1", open)).expect("is sent");
        stream.write_all(odd).and_then(|()| stream.write_all(b"\n")).expect("is sent");
    }
    stream
        .write_all(format!("{}\n9 <13>after\n", "x".repeat(200_000)).as_bytes())
        .expect("is sent");
    until("what came after the nonsense", || {
        let found = stage.get("/api/v1/alerts?source=pier-hosts&limit=500");
        found["items"].as_array()?.iter().any(|a| a["summary"] == "after").then_some(())
    });
    logger(open, &["--udp"], "and by datagram");
    until("the next datagram", || {
        let found = stage.get("/api/v1/alerts?source=pier-hosts&limit=500");
        found["items"].as_array()?.iter().any(|a| a["summary"] == "and by datagram").then_some(())
    });
    assert!(stage.get("/api/v1/alerts?source=quill-hosts")["items"] == json!([]));
}

#[test]
fn a_stream_is_taken_once_over_an_outage_and_a_second_node_takes_over_the_port() {
    let mut stage = Stage::bare();
    let port = free_port();
    syslog(&stage, "pier-hosts", port, "");
    until_they(&stage, "pier-hosts", "listening");
    let second = stage.second_node();
    let states = || {
        let mut states: Vec<_> = listeners(&stage)
            .into_iter()
            .map(|l| l["state"].as_str().unwrap_or_default().to_owned())
            .collect();
        states.sort();
        states
    };
    until("one node to have the port", || {
        (states() == ["failed", "failed", "listening", "listening"]).then_some(())
    });
    let mut stream = TcpStream::connect(("127.0.0.1", port)).expect("connects");
    let mut send = |numbers: std::ops::Range<u32>| {
        for n in numbers {
            let message = format!("<13>1 - pier-{n} boiler - - - number {n}");
            stream.write_all(format!("{} {message}", message.len()).as_bytes()).expect("is sent");
        }
    };
    send(0..100);
    alerts(&stage, "pier-hosts", 1);
    outage(&stage.database, Duration::from_secs(2));
    send(100..300);
    let all = alerts(&stage, "pier-hosts", 300);
    let said: Vec<_> =
        all.iter().map(|a| a["summary"].as_str().unwrap_or_default().to_owned()).collect();
    let mut once = said.clone();
    once.sort();
    once.dedup();
    assert_eq!((said.len(), once.len()), (300, 300), "each once");
    drop(stream);
    stage.kill_node();
    until("the other node to listen", || {
        logs(port, &["--tcp", "--octet-count"], "to the other").then_some(())
    });
    alerts(&second, "pier-hosts", 301);
}

#[test]
fn cloud_events_are_taken_in_each_mode_and_what_is_none_is_read_again() {
    let stage = Stage::bare();
    let intake = "intake: { cloudevents: { credential: { bearer: \"${secret('pier')}\" } } }";
    stage.secret("pier", "pier-token", &["source/pier-events"]);
    stage.publish(&format!("source: pier-events\n{intake}\n"));
    let post = |headers: &[(&str, &str)], body: String| {
        let mut request =
            stage.request(Method::POST, "/in/pier-events").bearer_auth("pier-token").body(body);
        for (name, value) in headers {
            request = request.header(*name, *value);
        }
        answer(request)
    };
    let event = |id: &str| {
        json!({"specversion": "1.0", "id": id, "source": "/piers/brack",
        "type": "berth.taken", "data": {"berth": 4}})
    };
    let structured = [("content-type", "application/cloudevents+json")];
    assert_eq!(post(&structured, event("e1").to_string()).0, 202);
    let (status, again) = post(&structured, event("e1").to_string());
    assert_eq!(
        (status, &again["alerts"][0]["duplicate"]),
        (202, &json!(true)),
        "its id and source are its own"
    );
    let binary = [
        ("content-type", "application/json"),
        ("ce-specversion", "1.0"),
        ("ce-id", "e2"),
        ("ce-source", "/piers/brack"),
        ("ce-type", "berth.taken"),
        ("ce-subject", "berth 4"),
    ];
    assert_eq!(post(&binary, "{\"berth\": 4}".into()).0, 202);
    let batch = json!([event("e3"), {"specversion": "1.0", "id": "e4"}, event("e5")]);
    let (status, said) =
        post(&[("content-type", "application/cloudevents-batch+json")], batch.to_string());
    assert_eq!((status, said["alerts"].as_array().map(Vec::len)), (202, Some(2)), "{said}");
    assert_eq!(
        (&said["unreadable"][0]["item"], &said["unreadable"][0]["reason"]),
        (&json!(1), &json!("source: is missing"))
    );
    let (status, said) = post(&[("content-type", "application/json")], "{}".into());
    assert_eq!(status, 422, "{said}");
    let found = alerts(&stage, "pier-events", 4);
    let told: Vec<_> = found
        .iter()
        .map(|a| (a["kind"].as_str(), a["resource"].as_str(), a["state"].as_str()))
        .collect();
    assert_eq!(told[1], (Some("berth.taken"), Some("events/piers-brack/berth-4"), Some("noted")));

    // Lines that want more than some events have keep these, until the lines are mended.
    let read = |berth: &str| {
        format!(
            "source: pier-events\n{intake}\nread:\n  id: event.id\n  kind: event.type\n  resource: \
            '\"berth/\" + string({berth})'\n"
        )
    };
    stage.publish(&read("event.data.number"));
    let both = json!([event("e6"), event("e7")]).to_string();
    assert_eq!(post(&[("content-type", "application/cloudevents-batch+json")], both).0, 422);
    assert_eq!(post(&binary, "{\"berth\": 5}".into()).0, 422);
    stage.publish(&read("event.data.berth"));
    let retried = stage.call(
        Method::POST,
        "/api/v1/unreadable/retry",
        Some(&json!({ "source": "pier-events" })),
    );
    assert_eq!((retried.0, &retried.1["read"]), (200, &json!(3)), "{}", retried.1);
    let found = alerts(&stage, "pier-events", 7);
    let resources: Vec<_> = found[4..].iter().filter_map(|a| a["resource"].as_str()).collect();
    assert_eq!(resources, ["berth/4", "berth/4", "berth/5"]);
}
