//! What reaching a machine costs: a command through a described connector, over a line that is
//! kept, against the bare client over one of its own.

use crate::{
    Fallible,
    stage::Stage,
    summary::{Figure, Goal},
};
use arvok_connect::{Call, Drivers, Redactor, Way};
use arvok_core::{
    connector::{Connector, Opened, UserKey},
    definition::Defined,
    document::parse_file,
};
use arvok_standins::machine::Machine;
use russh::{
    ChannelMsg,
    client::{self, Handle},
    keys::{PrivateKeyWithHashAlg, PublicKeyOrCertificate, decode_secret_key},
};
use serde_json::{Map, json};
use std::{
    sync::Arc,
    time::{Duration, Instant},
};

/// Rounds, each with so many commands of either kind: what slows the machine down slows both.
const ROUNDS: usize = 8;
const COMMANDS: usize = 15;

const ABOUT: &str = "connector: linux
operations:
  about: { command: { args: [uname, -s], looks: true } }
";

/// Whoever shows any key is the machine that was just started.
struct Trusting;

impl client::Handler for Trusting {
    type Error = russh::Error;

    async fn check_server_key(&mut self, _: &PublicKeyOrCertificate) -> Result<bool, russh::Error> {
        Ok(true)
    }
}

pub async fn figure() -> Fallible<Figure> {
    let machine = Machine::scratch("bench")?;
    let document = parse_file("linux.yaml", ABOUT).map_err(|p| p.to_string())?;
    let connector = Connector::check(&document[0]).map_err(|p| format!("{p:?}"))?;
    let (drivers, redactor) = (Drivers::new()?, Redactor::default());
    let credential = Opened::Key(UserKey {
        user: machine.user().to_owned(),
        private: machine.key()?,
        passphrase: None,
        certificate: None,
    });
    let (base, give) = (machine.base(), Map::new());
    let trusted = [(format!("127.0.0.1:{}", machine.port()), machine.fingerprint()?)].into();
    let call = || Call {
        operation: &connector.operations["about"],
        give: &give,
        key: "bench",
        callback: None,
        way: Way {
            credential: Some(&credential),
            trusted: Some(&trusted),
            ..Way::to(&base, Duration::from_secs(10))
        },
        within: None,
        redactor: &redactor,
    };
    let bare = session(&machine).await?;
    let (mut described, mut plain) = (Duration::ZERO, Duration::ZERO);
    for round in 0..=ROUNDS {
        let begun = Instant::now();
        for _ in 0..COMMANDS {
            std::hint::black_box(ran(&bare).await?);
        }
        let between = Instant::now();
        for _ in 0..COMMANDS {
            let output = drivers.call(call()).await.called.map_err(|failure| failure.message)?;
            std::hint::black_box(output);
        }
        // The first round opens lines.
        if round > 0 {
            plain += between - begun;
            described += between.elapsed();
        }
    }
    let each = |all: Duration| all.as_secs_f64() * 1e3 / (ROUNDS * COMMANDS) as f64;
    Ok(Figure::new(
        "hands/ssh-vs-bare",
        (each(described), "ms"),
        ("the bare client", each(plain)),
        Goal::AtMost(1.3, "<= 1.3"),
    ))
}

/// The connections that reach one machine: by the node, and by way of a runner beside it.
const WAYS: [(&str, &str); 2] = [("near", ""), ("far", "through: { site: bench }\n")];

/// A call by way of a runner, as a person makes it at a node, against one that the node makes.
pub async fn overhead(stage: &Stage) -> Fallible<Figure> {
    let machine = Machine::scratch("bench-runner")?;
    stage
        .put(
            "/api/v1/secrets/bench-key",
            &json!({ "value": machine.key()?,
        "allowed": ["connection/near", "connection/far"] }),
        )
        .await?;
    let connection = |(name, through): (&str, &str)| {
        format!(
            "---\nconnection: {name}\nconnector: linux\nbase: {}\n{through}credential: {{ key: {{ \
            user: {}, private: \"${{secret('bench-key')}}\" }} }}\nhost_keys: ['{}']\n",
            machine.base(),
            machine.user(),
            machine.fingerprint().unwrap_or_default(),
        )
    };
    stage.publish(&[ABOUT.to_owned(), WAYS.map(connection).concat()].concat()).await?;
    let _runner = stage.runner("site=bench").await?;
    let ask = async |name: &str| {
        let path = format!("/api/v1/connections/{name}/operations/about/try");
        let tried = stage.post_to(&path, &json!({ "give": {} })).await?;
        match tried["state"] == "done" {
            true => Ok(()),
            false => Err::<(), Box<dyn std::error::Error>>(tried.to_string().into()),
        }
    };
    let mut took = [Duration::ZERO; 2];
    for round in 0..=ROUNDS {
        for (way, took) in WAYS.iter().zip(&mut took) {
            let begun = Instant::now();
            for _ in 0..COMMANDS {
                ask(way.0).await?;
            }
            // The first round opens lines.
            *took += if round > 0 { begun.elapsed() } else { Duration::ZERO };
        }
    }
    let [near, far] = took.map(|all| all.as_secs_f64() * 1e3 / (ROUNDS * COMMANDS) as f64);
    Ok(Figure::new(
        "hands/runner-overhead",
        (far, "ms"),
        ("a call from the node", near),
        Goal::AtMost(1.5, "<= 1.5"),
    ))
}

/// Machines of a list, and how many of them at once.
const HOSTS: usize = 1_000;
const AT_ONCE: usize = 100;

/// A command on each of many machines, by one step of a job, against a loop of the bare client with
/// as many at once. They are one machine under as many names: all of them are 127.0.0.1.
pub async fn many(stage: &Stage) -> Fallible<Vec<Figure>> {
    let folder = std::env::temp_dir().join(format!("arvok-{}-many", std::process::id()));
    let machine = Machine::start_with(folder, 0, "MaxStartups 300\n")?;
    let names: Vec<String> = (0..HOSTS)
        .map(|n| {
            let zeros = |digit: usize| "0".repeat(1 + n / digit % 10);
            format!("127.{}.{}.{}1", zeros(100), zeros(10), zeros(1))
        })
        .collect();
    let secret = json!({ "value": machine.key()?, "allowed": ["connection/fleet"] });
    stage.put("/api/v1/secrets/fleet-key", &secret).await?;
    stage.publish(&fleet(&machine)?).await?;
    let mut took = (Duration::ZERO, Duration::ZERO);
    // A list that is short shows that it works, and warms both up.
    for names in [&names[..20], &names] {
        let begun = Instant::now();
        bare_loop(&machine, names).await?;
        let between = Instant::now();
        let launch = json!({ "runbook": "fleet", "inputs": { "hosts": names } });
        let job = stage.launch(&launch).await?;
        loop {
            let state = stage.get("/api/v1/jobs?runbook=fleet&limit=1").await?;
            match state["items"][0]["state"].as_str() {
                Some("succeeded") => break,
                Some("queued" | "running") => tokio::time::sleep(Duration::from_millis(50)).await,
                other => return Err(format!("job {job} is {other:?}").into()),
            }
        }
        took = (between - begun, between.elapsed());
    }
    let pace = |took: Duration| HOSTS as f64 / took.as_secs_f64();
    Ok(vec![
        Figure::new(
            "hands/1000-hosts",
            (pace(took.1), "hosts/s"),
            ("a bare loop", pace(took.0)),
            Goal::AtLeast(0.7, ">= 0.7"),
        ),
        Figure::new(
            "hands/1000-hosts-memory",
            (stage.most_memory()?, "MB"),
            ("what is allowed", 200.0),
            Goal::AtMost(1.0, "<= 1"),
        ),
    ])
}

/// A connection that stands for many machines, and a runbook that asks all of a list.
fn fleet(machine: &Machine) -> Fallible<String> {
    Ok(format!(
        "connector: any-linux\noperations:\n  about:\n    takes: {{ host: {{ type: string }} }}\n    \
         host: '${{give.host}}'\n    command: {{ args: [uname, -s], looks: true }}\n---\n\
         connection: fleet\nconnector: any-linux\nbase: ssh://*:{}\nhosts: ['127.*']\n\
         host_keys: ['{}']\ntimeout: 30s\ncredential: {{ key: {{ user: {}, private: \
         \"${{secret('fleet-key')}}\" }} }}\n---\nrunbook: fleet\ninputs: {{ hosts: {{ type: array, \
         items: {{ type: string }} }} }}\ntarget: fleet/all\ntimeout: 10m\nsteps:\n  - id: all\n    \
         each: inputs.hosts\n    as: host\n    at_once: {AT_ONCE}\n    gives: host\n    steps:\n      \
         - {{ id: about, call: about, via: fleet, give: {{ host: '${{host}}' }} }}\n",
        machine.port(),
        machine.fingerprint()?,
        machine.user(),
    ))
}

/// The same without a service: a session of each, `AT_ONCE` side by side.
async fn bare_loop(machine: &Machine, names: &[String]) -> Fallible<()> {
    let room = Arc::new(tokio::sync::Semaphore::new(AT_ONCE));
    let key = machine.key()?;
    let loops = names.iter().map(|name| {
        let (room, key) = (Arc::clone(&room), key.clone());
        let (name, port) = (name.clone(), machine.port());
        let user = machine.user().to_owned();
        tokio::spawn(async move {
            let _turn = room.acquire_owned().await.map_err(|e| e.to_string())?;
            let bare = session_at((&name, port), &user, &key).await;
            ran(&bare.map_err(|e| e.to_string())?).await.map_err(|e| e.to_string())
        })
    });
    for ended in loops.collect::<Vec<_>>() {
        ended.await??;
    }
    Ok(())
}

async fn session(machine: &Machine) -> Fallible<Handle<Trusting>> {
    session_at(("127.0.0.1", machine.port()), machine.user(), &machine.key()?).await
}

async fn session_at(at: (&str, u16), user: &str, key: &str) -> Fallible<Handle<Trusting>> {
    let config = Arc::new(client::Config { nodelay: true, ..client::Config::default() });
    let mut handle = client::connect(config, at, Trusting).await?;
    let key = PrivateKeyWithHashAlg::new(Arc::new(decode_secret_key(key, None)?), None);
    match handle.authenticate_publickey(user, key).await?.success() {
        true => Ok(handle),
        false => Err("the machine does not let the bare client in".into()),
    }
}

/// Runs the same command, and reads what it writes.
async fn ran(handle: &Handle<Trusting>) -> Fallible<Vec<u8>> {
    let mut channel = handle.channel_open_session().await?;
    channel.exec(true, "uname -s").await?;
    let mut written = Vec::new();
    while let Some(said) = channel.wait().await {
        if let ChannelMsg::Data { data } = said {
            written.extend_from_slice(&data);
        }
    }
    Ok(written)
}
