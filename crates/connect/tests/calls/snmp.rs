//! Agents over SNMP: Debian's snmpd, and peers that misbehave.

use crate::{
    ssh::{LONG, failure, output, perform},
    texts,
};
use arvok_connect::{Drivers, Way};
use arvok_core::{
    connector::{AgentCipher, AgentCredential, AgentDigest, CallEnd, Opened},
    glob::Glob,
};
use proptest::{prelude::*, test_runner::TestRunner};
use serde_json::{Value, json};
use std::{
    fs,
    path::PathBuf,
    process::{Child, Command, Stdio},
    time::{Duration, Instant},
};
use tokio::net::UdpSocket;

/// An agent that ends with the test.
struct Agent {
    child: Child,
    base: String,
    folder: PathBuf,
}

impl Drop for Agent {
    fn drop(&mut self) {
        let _ = self.child.kill();
        let _ = self.child.wait();
        let _ = fs::remove_dir_all(&self.folder);
    }
}

async fn agent(name: &str) -> Agent {
    let folder = PathBuf::from(env!("CARGO_TARGET_TMPDIR")).join(format!("agent-{name}"));
    let _ = fs::remove_dir_all(&folder);
    fs::create_dir_all(&folder).expect("a folder");
    let free = UdpSocket::bind("127.0.0.1:0").await.expect("a port");
    let port = free.local_addr().expect("an address").port();
    drop(free);
    let config = format!(
        "agentaddress udp:127.0.0.1:{port}\nrocommunity fog-read\nrwcommunity fog-horn-77\n\
         createUser arvok SHA-256 \"lantern-pass-1\" AES \"fog-horn-pass-2\"\n\
         createUser old MD5 \"lantern-pass-1\" DES \"fog-horn-pass-2\"\n\
         createUser plain SHA \"lantern-pass-1\"\n\
         rwuser arvok authpriv\nrwuser old authpriv\nrouser plain auth\n"
    );
    fs::write(folder.join("snmpd.conf"), config).expect("writes");
    let mut command = Command::new("setpriv");
    command.args(["--pdeathsig=KILL", "/usr/sbin/snmpd", "-f", "-r", "-C", "-c"]);
    command.arg(folder.join("snmpd.conf")).arg("-Lf").arg(folder.join("log"));
    command.env("SNMP_PERSISTENT_DIR", folder.join("kept")).env("MIBS", "");
    command.stdin(Stdio::null()).stdout(Stdio::null()).stderr(Stdio::null());
    let child = command.spawn().expect("Debian has snmpd");
    let agent = Agent { child, base: format!("snmp://127.0.0.1:{port}"), folder };
    let (drivers, credential) = (Drivers::new().expect("drivers"), community("fog-read"));
    let begun = Instant::now();
    let way = Way { credential: Some(&credential), ..Way::to(&agent.base, Duration::from_secs(1)) };
    while let Err(why) = drivers.probe(way).await {
        assert!(begun.elapsed() < LONG, "{why:?}");
    }
    agent
}

fn community(community: &str) -> Opened {
    Opened::Agent(AgentCredential::Community(community.to_owned()))
}

fn user(
    user: &str,
    digest: AgentDigest,
    known: &str,
    privacy: Option<(AgentCipher, &str)>,
) -> Opened {
    Opened::Agent(AgentCredential::User {
        user: user.to_owned(),
        authentication: (digest, known.to_owned()),
        privacy: privacy.map(|(cipher, password)| (cipher, password.to_owned())),
    })
}

fn way<'a>(base: &'a str, credential: &'a Opened, timeout: Duration) -> Way<'a> {
    Way { credential: Some(credential), ..Way::to(base, timeout) }
}

const NAME: &str =
    "    snmp: { get: { name: 1.3.6.1.2.1.1.5.0, missing: 1.3.6.1.4.1.99999.1.0 } }\n";
const RENAME: &str = "    snmp: { set: [{ object: 1.3.6.1.2.1.1.5.0, text: '${give.x}' }] }\n";
const PORTS: &str = "    snmp: { table: { name: 1.3.6.1.2.1.2.2.1.2, state: 1.3.6.1.2.1.2.2.1.8, \
    nothing: 1.3.6.1.4.1.99999.2 } }\n";

#[tokio::test(flavor = "multi_thread")]
async fn objects_are_read_and_set_with_each_credential() {
    let agent = agent("each").await;
    let drivers = Drivers::new().expect("drivers");
    let (digest, password) = (AgentDigest::Sha256, "lantern-pass-1");
    let privacy = Some((AgentCipher::Aes128, "fog-horn-pass-2"));
    let old = Some((AgentCipher::Des, "fog-horn-pass-2"));
    for (n, credential) in [
        community("fog-horn-77"),
        user("arvok", digest, password, privacy),
        user("old", AgentDigest::Md5, password, old),
    ]
    .iter()
    .enumerate()
    {
        let way = way(&agent.base, credential, LONG);
        let name = format!("pier-{n}");
        assert_eq!(output(&drivers, way, RENAME, json!(name)).await, json!({ "count": 1 }));
        let read = output(&drivers, way, NAME, json!("")).await;
        assert_eq!(read, json!({ "values": { "name": name, "missing": null } }));
        let said = drivers.probe(way).await.expect("answers");
        assert!(said.contains(&format!("it is {name}: Linux")), "{said}");
        let table = output(&drivers, way, PORTS, json!("")).await;
        let row = &table["rows"][0];
        assert_eq!(
            (&row["index"], &row["name"], &row["state"]),
            (&json!("1"), &json!("lo"), &json!(1))
        );
        assert_eq!((&row["nothing"], &table["left_out"]), (&json!(null), &json!(false)), "{table}");
    }
    // The table of the system's descriptions of itself has more than two rows.
    let few = "    snmp: { table: { what: 1.3.6.1.2.1.1.9.1.3 }, at_most: 2 }\n";
    let credential = user("plain", AgentDigest::Sha1, password, None);
    let few = output(&drivers, way(&agent.base, &credential, LONG), few, json!("")).await;
    assert_eq!((few["rows"].as_array().map(Vec::len), &few["left_out"]), (Some(2), &json!(true)));
}

#[tokio::test(flavor = "multi_thread")]
async fn what_an_agent_refuses_says_why() {
    let agent = agent("refuses").await;
    let drivers = Drivers::new().expect("drivers");
    let rw = community("fog-horn-77");
    let may = way(&agent.base, &rw, LONG);
    let set = |object: &str, value: &str| {
        format!("    snmp: {{ set: [{{ object: {object}, {value} }}] }}\n")
    };
    for (object, value, status) in [
        ("1.3.6.1.2.1.1.3.0", "integer: 1", "answered 17: it cannot be written"),
        ("1.3.6.1.2.1.1.5.0", "integer: 1", "answered 7: the type is another one"),
        ("1.3.6.1.4.1.99999.1.0", "unsigned: 1", "answered 17"),
    ] {
        let why = failure(&drivers, may, &set(object, value), json!("")).await;
        assert_eq!((why.end, why.lasting), (CallEnd::Refused, true), "{why:?}");
        assert!(why.message.contains(&format!("{object}: {status}")), "{why:?}");
    }
    // All or nothing.
    let both = "    snmp: { set: [{ object: 1.3.6.1.2.1.1.5.0, text: other }, { object: \
                1.3.6.1.2.1.1.3.0, integer: 1 }] }\n";
    failure(&drivers, may, both, json!("")).await;
    assert_ne!(output(&drivers, may, NAME, json!("")).await["values"]["name"], "other");

    let short = Duration::from_secs(2);
    let (known, privacy) = ("lantern-pass-1", Some((AgentCipher::Aes128, "fog-horn-pass-2")));
    let refused: [(Opened, &str); 4] = [
        (user("nobody", AgentDigest::Sha256, known, privacy), "does not take the credential"),
        (user("arvok", AgentDigest::Sha256, "another-pass", privacy), "does not take"),
        (community("another"), "no answer"),
        (user("plain", AgentDigest::Sha1, known, None), "answered 6"),
    ];
    for (credential, words) in &refused {
        let time = if *words == "no answer" { short } else { LONG };
        let why = failure(&drivers, way(&agent.base, credential, time), RENAME, json!("x")).await;
        assert!(why.message.contains(words), "{credential:?}: {why:?}");
        // An agent keeps silent about a wrong community: nobody knows that it did nothing.
        let expected = if *words == "no answer" { CallEnd::Unknown } else { CallEnd::Refused };
        assert_eq!(why.end, expected, "{credential:?}: {why:?}");
    }
    let readers = community("fog-read");
    let why = failure(&drivers, way(&agent.base, &readers, LONG), RENAME, json!("x")).await;
    assert!(why.message.contains("answered"), "{why:?}");
    // Nobody is there.
    let why = failure(&drivers, way("snmp://127.0.0.1:9", &rw, short), RENAME, json!("x")).await;
    assert_eq!(why.end, CallEnd::NotSent, "{why:?}");
    // One of many, and only of those.
    let (many, hosts) =
        (agent.base.replace("127.0.0.1", "*"), [Glob::parse("127.0.0.*").expect("one")]);
    let many = Way { hosts: &hosts, ..way(&many, &rw, LONG) };
    let on = format!("    host: '${{give.x}}'\n{NAME}");
    assert!(output(&drivers, many, &on, json!("127.0.0.1")).await["values"]["name"].is_string());
    let why = failure(&drivers, many, &on, json!("localhost")).await;
    assert!(why.message.contains("none of the connection's hosts"), "{why:?}");
}

#[tokio::test(flavor = "multi_thread")]
async fn texts_reach_an_agent_as_they_are_and_numbers_stay_numbers() {
    let agent = agent("texts").await;
    let drivers = Drivers::new().expect("drivers");
    let credential = community("fog-horn-77");
    let way = way(&agent.base, &credential, LONG);
    let handle = tokio::runtime::Handle::current();
    let place = "    snmp: { set: [{ object: 1.3.6.1.2.1.1.6.0, text: '${give.x}' }] }\n";
    let read = "    snmp: { get: { place: 1.3.6.1.2.1.1.6.0 } }\n";
    let properties = move || {
        let mut runner = TestRunner::new(ProptestConfig { cases: 60, ..ProptestConfig::default() });
        let result = runner.run(&texts(), |text| {
            let text = text.replace('\0', "");
            if text.len() > 255 {
                return Ok(());
            }
            let came = handle.block_on(async {
                output(&drivers, way, place, json!(text)).await;
                output(&drivers, way, read, json!("")).await["values"]["place"].clone()
            });
            let is_plain = !text.contains(|c: char| c.is_control() && !"\r\n\t".contains(c));
            match is_plain {
                true => prop_assert_eq!(came, json!(text)),
                false => prop_assert!(came.as_str().is_some_and(|hex| hex.starts_with("0x"))),
            }
            Ok(())
        });
        result.unwrap_or_else(|e| panic!("{e}"));
        drivers
    };
    let drivers = tokio::task::block_in_place(properties);
    let of = "    snmp: { get: { port: '1.3.6.1.2.1.2.2.1.8.${give.x}' } }\n";
    assert_eq!(output(&drivers, way, of, json!(1)).await["values"]["port"], 1);
    for wrong in ["", "1 2", "-1", "x", "1;2", "é", "..1", "99999999999"] {
        let why = failure(&drivers, way, of, json!(wrong)).await;
        assert_eq!((why.end, why.lasting), (CallEnd::NotSent, true), "{wrong}: {why:?}");
    }
}

/// What an odd agent answers to a request.
#[derive(Clone, Copy, Debug, PartialEq)]
enum Manner {
    Silent,
    Garbage,
    Cut,
    Echo,
    Another,
    Goes,
}

/// Answers as an agent that is odd.
async fn odd(manner: Manner) -> String {
    let socket = UdpSocket::bind("127.0.0.1:0").await.expect("a port");
    let base = format!("snmp://{}", socket.local_addr().expect("an address"));
    tokio::spawn(async move {
        let mut request = [0; 2048];
        while let Ok((length, from)) = socket.recv_from(&mut request).await {
            let request = &request[..length];
            // The protocol data unit follows the version and the community, of 11 bytes.
            let at = 2 + 3 + 2 + 11;
            let mut answer = request.to_vec();
            answer[at] = 0xa2;
            // What is asked with `getbulk` has 20 repetitions where answers have an index.
            match manner {
                Manner::Silent => continue,
                Manner::Garbage => answer = vec![0x30, 0x84, 0xff, 0xff, 0xff, 0xff, 1, 2, 3],
                Manner::Cut => answer.truncate(length / 2),
                Manner::Echo => answer = request.to_vec(),
                Manner::Another => answer[at + 4] ^= 0x1f,
                Manner::Goes => {}
            }
            let _ = socket.send_to(&answer, from).await;
        }
    });
    base
}

#[tokio::test(flavor = "multi_thread")]
async fn agents_that_misbehave_end_in_time_and_leave_no_doubt_where_there_is_none() {
    let drivers = Drivers::new().expect("drivers");
    let credential = community("fog-horn-77");
    for manner in
        [Manner::Silent, Manner::Garbage, Manner::Cut, Manner::Echo, Manner::Another, Manner::Goes]
    {
        let base = odd(manner).await;
        for (operation, sets) in [(NAME, false), (PORTS, false), (RENAME, true)] {
            let begun = Instant::now();
            let way = way(&base, &credential, Duration::from_millis(900));
            let ended = perform(&drivers, way, operation, json!("x")).await.called;
            assert!(begun.elapsed() < Duration::from_secs(20), "{manner:?}");
            // One that answers with what it was asked has done that, as far as one can see.
            if manner == Manner::Goes {
                continue;
            }
            let why = ended.expect_err("a failure");
            let expected = if sets { CallEnd::Unknown } else { CallEnd::NotSent };
            assert_eq!(why.end, expected, "{manner:?} {operation}: {why:?}");
        }
    }
    let nothing: Value = json!("x");
    let way = Way::to("snmp://127.0.0.1:9", LONG);
    let why = failure(&drivers, way, NAME, nothing).await;
    assert!(why.message.contains("is shown `snmp`"), "{why:?}");
}
