//! Notifications of agents over SNMP, sent by Debian's `snmptrap` and `snmpinform`.

use crate::kit::{Stage, outage, until};
use arvok_postgres::free_port;
use reqwest::Method;
use serde_json::Value;
use std::{
    net::{SocketAddr, UdpSocket},
    process::Command,
    thread,
    time::Duration,
};

/// A machine that sends notifications: its files are its own.
struct Agent {
    home: std::path::PathBuf,
}

impl Agent {
    fn runs(&self, line: &str) -> bool {
        let mut command = Command::new("sh");
        command.args(["-c", line]).env("SNMP_PERSISTENT_DIR", &self.home).env("SNMPCONFPATH", "/");
        command.env("KEY", "the pier's key").env("PRIVACY_KEY", "the pier's other key");
        command.output().expect("it runs").status.success()
    }

    /// Sends a message of some kind; what it tells is the index of a link.
    fn sends(&self, command: &str, at: SocketAddr, index: u32) -> bool {
        self.runs(&format!(
            "MIBS= {command} {at} '' 1.3.6.1.6.3.1.1.5.3 1.3.6.1.2.1.2.2.1.1.{index} i {index}"
        ))
    }
}

fn publish(stage: &Stage, port: u16) {
    stage.secret("pier", "the pier's key", &["source/switches"]);
    stage.secret("private", "the pier's other key", &["source/switches"]);
    let user = |name: &str, more: &str| {
        format!(
            "{{ user: {name}, authentication: {{ by: sha-256, password: \"${{secret('pier')}}\" \
            }}{more} }}"
        )
    };
    stage.publish(&format!(
        "source: switches\nintake:\n  trap:\n    udp: '127.0.0.1:{port}'\n    credentials:\n      \
         - community: \"${{secret('pier')}}\"\n      - {}\n      - {}\n\
         read:\n  kind: '\"link.\" + slug(name)'\n  resource: '\"switch/\" + \
         string(varbinds.ifIndex)'\n  state: '\"noted\"'\n  summary: 'version + \" \" + user'\n",
        user("plain", ""),
        user("kept", ", privacy: { by: aes-128, password: \"${secret('private')}\" }"),
    ));
}

fn alerts(stage: &Stage) -> Vec<Value> {
    until("the records to answer", || {
        let (status, found) =
            stage.call(Method::GET, "/api/v1/alerts?source=switches&limit=200", None);
        (status == 200).then(|| found["items"].as_array().cloned().unwrap_or_default())
    })
}

fn listener(stage: &Stage) -> Value {
    let (_, detail) = stage.call(Method::GET, "/api/v1/definitions/source/switches", None);
    detail["listeners"][0].clone()
}

#[test]
fn traps_and_informs_are_taken_of_whom_has_proved_himself() {
    let stage = Stage::bare();
    let port = free_port().expect("a port");
    let at = SocketAddr::from(([127, 0, 0, 1], port));
    publish(&stage, port);
    until("it to be listened for", || (listener(&stage)["state"] == "listening").then_some(()));
    let agent = Agent { home: crate::kit::folder("agent") };

    // The printed lines are ones that work.
    let shown = stage.arvok(&["source", "lines", "switches"]);
    let lines: Vec<&str> = shown.out.lines().filter(|line| line.starts_with("MIBS=")).collect();
    assert_eq!(lines.len(), 6, "{}", shown.out);
    for line in &lines {
        assert!(agent.runs(line), "{line}");
    }
    let taken = until("all of them", || Some(alerts(&stage)).filter(|taken| taken.len() == 6));
    let mut said: Vec<&str> = taken.iter().filter_map(|alert| alert["summary"].as_str()).collect();
    said.sort_unstable();
    assert_eq!(said, ["2c ", "2c ", "3 kept", "3 kept", "3 plain", "3 plain"]);
    assert!(taken.iter().all(|a| a["kind"] == "link.linkDown" && a["resource"] == "switch/3"));
    assert!(agent.sends("snmptrap -v2c -c \"$KEY\"", at, 4));
    until("the trap", || (alerts(&stage).len() == 7).then_some(()));

    // Who has another password is told so, where he can be, and it is seen why.
    for (command, why) in [
        ("snmpinform -r 0 -t 1 -v2c -c other", "its community is none of this source's"),
        (
            "snmpinform -r 0 -t 1 -v3 -l authNoPriv -u nobody -a SHA-256 -A 'a pier key'",
            "its user `nobody` is none of this source's",
        ),
        (
            "snmpinform -r 0 -t 1 -v3 -l authNoPriv -u plain -a SHA-256 -A 'a pier key'",
            "its digest is not made with the password of user `plain`",
        ),
        (
            "snmpinform -r 0 -t 1 -v3 -l authNoPriv -u kept -a SHA-256 -A \"$KEY\"",
            "user `kept` has authentication and privacy",
        ),
    ] {
        assert!(!agent.sends(command, at, 9), "{command}");
        let seen = listener(&stage)["last_refusal"].clone();
        assert_eq!(seen, format!("127.0.0.1: {why}"), "{command}");
    }
    let shown = stage.arvok(&["source", "show", "switches"]).out;
    assert!(shown.contains("refused last: 127.0.0.1: user `kept` has"), "{shown}");

    // A secret that is changed counts at once.
    stage.secret("pier", "a pier key", &["source/switches"]);
    until("the new key to count", || {
        agent.sends("snmpinform -r 0 -t 1 -v2c -c 'a pier key'", at, 5).then_some(())
    });
    assert!(!agent.sends("snmpinform -r 0 -t 1 -v2c -c \"$KEY\"", at, 9));
    assert!(alerts(&stage).iter().all(|alert| alert["resource"] != "switch/9"));
}

/// Passes packets on, and hands on what comes back, but for the first answers.
fn relay(to: SocketAddr, lost: usize) -> (SocketAddr, thread::JoinHandle<usize>) {
    let socket = UdpSocket::bind("127.0.0.1:0").expect("a port");
    let at = socket.local_addr().expect("has one");
    let passing = thread::spawn(move || {
        socket.set_read_timeout(Some(Duration::from_secs(4))).expect("is set");
        let (mut sender, mut passed, mut left) = (at, 0, lost);
        let mut buffer = [0; 65_535];
        while let Ok((bytes, from)) = socket.recv_from(&mut buffer) {
            if from == to {
                if left == 0 {
                    socket.send_to(&buffer[..bytes], sender).expect("is sent");
                }
                left = left.saturating_sub(1);
            } else {
                (sender, passed) = (from, passed + 1);
                // Twice, as some networks do.
                socket.send_to(&buffer[..bytes], to).expect("is sent");
                socket.send_to(&buffer[..bytes], to).expect("is sent");
            }
        }
        passed
    });
    (at, passing)
}

#[test]
fn an_inform_is_answered_after_the_commit_and_taken_once_however_often_it_comes() {
    let stage = Stage::bare();
    let port = free_port().expect("a port");
    let at = SocketAddr::from(([127, 0, 0, 1], port));
    publish(&stage, port);
    until("it to be listened for", || (listener(&stage)["state"] == "listening").then_some(()));
    let agent = Agent { home: crate::kit::folder("agent") };

    // Its answers are lost on the way, and it comes again.
    let (through, passing) = relay(at, 2);
    assert!(agent.sends("snmpinform -r 5 -t 1 -v2c -c \"$KEY\"", through, 1));
    assert!(passing.join().expect("ends") >= 2, "it came again");
    // A trap of a user that is sent again by somebody else is the same.
    let (through, passing) = relay(at, 0);
    let kept = "-v3 -l authPriv -u kept -a SHA-256 -A \"$KEY\" -x AES -X \"$PRIVACY_KEY\"";
    assert!(agent.sends(&format!("snmptrap {kept}"), through, 2));
    passing.join().expect("ends");
    let resources = || {
        let mut all: Vec<String> = alerts(&stage)
            .iter()
            .filter_map(|alert| alert["resource"].as_str().map(str::to_owned))
            .collect();
        all.sort_unstable();
        all
    };
    assert_eq!(resources(), ["switch/1", "switch/2"]);

    // While nothing can be recorded there is no answer.
    let database = stage.database.clone();
    let away = thread::spawn(move || outage(&database, Duration::from_secs(3)));
    assert!(agent.sends(&format!("snmpinform -r 20 -t 1 {kept}"), at, 3));
    away.join().expect("ends");
    assert_eq!(resources(), ["switch/1", "switch/2", "switch/3"]);
}
