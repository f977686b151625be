//! Digest authentication (RFC 7616) against a real web server from Debian.

use super::{called, connector};
use arvok_connect::Drivers;
use arvok_core::connector::{CallEnd, Opened};
use serde_json::json;
use sha2::{Digest, Sha256};
use std::{
    fs,
    path::PathBuf,
    process::{Child, Command, Stdio},
    time::Duration,
};
use tokio::net::{TcpListener, TcpStream};

/// A web server that ends with the test.
struct Lighttpd {
    child: Child,
    base: String,
    log: PathBuf,
}

impl Lighttpd {
    async fn start(algorithm: &str) -> Self {
        let folder = PathBuf::from(env!("CARGO_TARGET_TMPDIR")).join(format!("web-{algorithm}"));
        let _ = fs::remove_dir_all(&folder);
        fs::create_dir_all(folder.join("root")).expect("a folder");
        fs::write(folder.join("root/x y"), "{\"in\": true}").expect("writes");
        // What stands in the file is a hash of user, realm and password (RFC 7616, section 3.4.2).
        let pair = "arvok:quay:fog-horn-77";
        let hash = match algorithm {
            "SHA-256" => hex::encode(Sha256::digest(pair)),
            _ => {
                let sum = "printf %s \"$1\" | md5sum";
                let out = Command::new("sh").args(["-c", sum, "-", pair]).output();
                String::from_utf8_lossy(&out.expect("coreutils").stdout)[..32].to_owned()
            }
        };
        fs::write(folder.join("users"), format!("arvok:quay:{hash}\n")).expect("writes");
        let bound = TcpListener::bind("127.0.0.1:0").await.expect("a port");
        let port = bound.local_addr().expect("has one").port();
        drop(bound);
        let shown = folder.display();
        let log = folder.join("log");
        fs::write(
            folder.join("conf"),
            format!(
                "server.modules = ( \"mod_auth\", \"mod_authn_file\", \"mod_accesslog\" )\n\
                 server.bind = \"127.0.0.1\"\nserver.port = {port}\n\
                 server.document-root = \"{shown}/root\"\n\
                 accesslog.filename = \"{shown}/log\"\naccesslog.format = \"%s %u\"\n\
                 auth.backend = \"htdigest\"\nauth.backend.htdigest.userfile = \"{shown}/users\"\n\
                 auth.require = ( \"\" => ( \"method\" => \"digest\", \"realm\" => \"quay\", \
                 \"require\" => \"valid-user\", \"algorithm\" => \"{algorithm}\" ) )\n"
            ),
        )
        .expect("writes");
        let child = Command::new("/usr/sbin/lighttpd")
            .args(["-D", "-f"])
            .arg(folder.join("conf"))
            .stdout(Stdio::null())
            .stderr(Stdio::null())
            .spawn()
            .expect("Debian has lighttpd");
        for _ in 0..200 {
            if TcpStream::connect(("127.0.0.1", port)).await.is_ok() {
                break;
            }
            tokio::time::sleep(Duration::from_millis(50)).await;
        }
        Self { child, base: format!("http://127.0.0.1:{port}"), log }
    }
}

impl Drop for Lighttpd {
    fn drop(&mut self) {
        // Politely: it writes its log at its end.
        let _ = Command::new("kill").arg(self.child.id().to_string()).status();
        let _ = self.child.wait();
    }
}

#[tokio::test(flavor = "multi_thread", worker_threads = 4)]
async fn a_digest_is_made_of_what_the_server_asks_and_the_password_is_not_sent() {
    for algorithm in ["MD5", "SHA-256"] {
        let server = Lighttpd::start(algorithm).await;
        let get = "operations: { op: { takes: { q: { default: '' } }, request: { method: GET, \
            path: '/x y', query: { q: '${give.q}' } } } }\n";
        let connector = connector(get);
        let digest = |password: &str| Opened::Digest {
            user: "arvok".to_owned(),
            password: password.to_owned(),
        };
        let drivers = Drivers::new().expect("a client");
        let good = digest("fog-horn-77");
        // One after the other answers the same challenge; at once, each its own.
        for n in 0..5 {
            let give = json!({ "q": format!("a={n}&ä") });
            let output = called(&drivers, &connector, &server.base, &good, give).await;
            assert_eq!(output, Ok(json!({ "in": true })), "{algorithm}");
        }
        let all = (0..20).map(|_| called(&drivers, &connector, &server.base, &good, json!({})));
        for output in futures_util::future::join_all(all).await {
            assert_eq!(output, Ok(json!({ "in": true })), "{algorithm}");
        }
        let wrong = digest("another-word");
        let failure = called(&drivers, &connector, &server.base, &wrong, json!({})).await;
        let failure = failure.expect_err("is refused");
        assert_eq!((failure.end, failure.lasting), (CallEnd::Refused, true), "{failure:?}");
        let log = server.log.clone();
        drop(server);
        let log = fs::read_to_string(log).expect("is written");
        let challenged = log.lines().filter(|line| line.starts_with("401")).count();
        // Once for the first five, at most once for each of the twenty, twice for the wrong one.
        assert!((3..=23).contains(&challenged), "{challenged}\n{log}");
        assert_eq!(log.lines().filter(|line| *line == "200 arvok").count(), 25, "{log}");
    }
}
