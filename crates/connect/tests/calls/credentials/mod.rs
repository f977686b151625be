//! Credentials that are more than a fixed text, shown to servers that check them with other
//! people's libraries: digests, sessions, assertions and signatures.

mod cloud;
mod digest;
mod sessions;
mod signatures;

use arvok_connect::{Call, CallOutcome, Called, Drivers, Redactor, Way};
use arvok_core::{
    connector::{Connector, Failure, Opened},
    definition::Defined,
    document::parse_file,
};
use serde_json::{Map, Value};
use std::{
    fs,
    io::{BufRead, BufReader},
    path::PathBuf,
    process::{Child, Command, Stdio},
    time::Duration,
};

/// The folder of the Python packages that `tools/setup` installs for tests.
pub(super) const PACKAGES: &str = concat!(env!("CARGO_MANIFEST_DIR"), "/../../target/peers");

/// A server that ends with the test.
pub(super) struct Server {
    child: Child,
    pub base: String,
}

impl Server {
    /// Starts the server; `keys` are public keys by name.
    pub fn start(name: &str, keys: &[(&str, String)]) -> Self {
        let folder = PathBuf::from(env!("CARGO_TARGET_TMPDIR")).join(format!("credentials-{name}"));
        let _ = fs::remove_dir_all(&folder);
        fs::create_dir_all(&folder).expect("a folder");
        for (name, pem) in keys {
            fs::write(folder.join(format!("{name}.pem")), pem).expect("writes");
        }
        let script = concat!(env!("CARGO_MANIFEST_DIR"), "/tests/calls/credentials/server.py");
        let mut child = Command::new(format!("{PACKAGES}/bin/python"))
            .arg(script)
            .arg(&folder)
            .stdout(Stdio::piped())
            .spawn()
            .expect("tools/setup has installed the packages");
        let mut port = String::new();
        let out = child.stdout.take().expect("is piped");
        BufReader::new(out).read_line(&mut port).expect("says its port");
        Self { child, base: format!("http://127.0.0.1:{}", port.trim()) }
    }
}

impl Drop for Server {
    fn drop(&mut self) {
        let _ = self.child.kill();
        let _ = self.child.wait();
    }
}

/// A connector of these operations, and what stands beside them.
pub(super) fn connector(text: &str) -> Connector {
    let text = format!("connector: c\n{text}");
    let documents = parse_file("c.yaml", &text).expect("reads");
    Connector::check(&documents[0]).unwrap_or_else(|problems| panic!("{problems:?}\n{text}"))
}

/// Calls the operation `op`.
pub(super) async fn called(
    drivers: &Drivers,
    connector: &Connector,
    base: &str,
    credential: &Opened,
    give: Value,
) -> Result<Value, Failure> {
    outcome(drivers, connector, base, credential, give).await.called.map(|called| match called {
        Called::Output(output) => output,
        Called::Later(within) => panic!("nobody calls back: {within}"),
    })
}

pub(super) async fn outcome(
    drivers: &Drivers,
    connector: &Connector,
    base: &str,
    credential: &Opened,
    give: Value,
) -> CallOutcome {
    let give: Map<String, Value> = give.as_object().cloned().unwrap_or_default();
    let way = Way {
        credential: Some(credential),
        session: connector.session.as_ref(),
        ..Way::to(base, Duration::from_secs(20))
    };
    let redactor = Redactor::new(["fog-horn-77".to_owned()]);
    let call = Call {
        operation: &connector.operations["op"],
        give: &give,
        key: "k",
        callback: None,
        way,
        within: None,
        redactor: &redactor,
    };
    drivers.call(call).await
}
