//! Sessions at a server that counts them.

use super::{Server, called, connector, outcome};
use arvok_connect::Drivers;
use arvok_core::connector::{CallEnd, Connector, Opened};
use serde_json::{Value, json};
use std::time::Duration;

const SESSION: &str = r#"
session:
  login:
    takes: { user: { type: string }, password: { type: string } }
    request:
      method: POST
      path: /sessions
      body: { UserName: "${give.user}", Password: "${give.password}" }
    output: '{"token": response.headers["x-auth-token"], "id": response.body.Id}'
    gives: { token: { type: string }, id: { type: string } }
  headers: { X-Auth-Token: "${session.token}" }
  logout:
    takes: { id: { type: string } }
    request: { method: DELETE, path: "/sessions/${give.id}" }
  idle: IDLE
operations:
  op:
    takes: { path: { default: x } }
    request: { method: POST, path: "/inside/${give.path}", body: { n: 1 } }
"#;

fn sessions(idle: &str) -> Connector {
    connector(&SESSION.replace("IDLE", idle))
}

fn given(password: &str) -> Opened {
    let pairs = [("user", "arvok"), ("password", password)];
    Opened::Session(pairs.map(|(name, value)| (name.to_owned(), value.to_owned())).into())
}

/// How many sessions were opened, and how many are open.
async fn count(drivers: &Drivers, base: &str) -> Value {
    let connector =
        connector("operations: { op: { request: { method: GET, path: /sessions } } }\n");
    let nobody = Opened::Header { name: "x-nobody".into(), value: "1".into() };
    called(drivers, &connector, base, &nobody, json!({})).await.expect("counts")
}

/// Waits until so many are opened and open.
async fn counted(drivers: &Drivers, base: &str, opened: u64, open: u64) {
    let wanted = json!({ "opened": opened, "open": open });
    for _ in 0..200 {
        if count(drivers, base).await == wanted {
            return;
        }
        tokio::time::sleep(Duration::from_millis(50)).await;
    }
    assert_eq!(count(drivers, base).await, wanted);
}

#[tokio::test(flavor = "multi_thread", worker_threads = 4)]
async fn one_session_serves_all_calls_is_opened_anew_when_refused_and_is_ended() {
    let server = Server::start("sessions", &[]);
    let (drivers, connector) = (Drivers::new().expect("a client"), sessions("1h"));
    let (base, credential) = (server.base.as_str(), given("fog-horn-77"));
    let all = (0..20).map(|_| called(&drivers, &connector, base, &credential, json!({})));
    for output in futures_util::future::join_all(all).await {
        // The token was given by nobody, so it is in no output.
        assert_eq!(output.expect("is let in"), json!({ "said": "[secret]", "body": "{\"n\":1}" }));
    }
    counted(&drivers, base, 1, 1).await;
    // The server has forgotten: twenty calls at once open one more.
    let forget = "operations: { op: { request: { method: POST, path: /forget }, repeat: safe } }\n";
    let nobody = Opened::Header { name: "x-nobody".into(), value: "1".into() };
    let forgot = super::connector(forget);
    called(&drivers, &forgot, base, &nobody, json!({})).await.expect("forgets");
    let all = (0..20).map(|_| called(&drivers, &connector, base, &credential, json!({})));
    for output in futures_util::future::join_all(all).await {
        output.expect("is let in again");
    }
    counted(&drivers, base, 2, 1).await;
    // A thing that this user may never do is refused, each time, and leaves one session open.
    for _ in 0..6 {
        let refused = called(&drivers, &connector, base, &credential, json!({ "path": "never" }));
        let refused = refused.await.expect_err("is refused");
        assert_eq!(
            (refused.end, refused.message.as_str()),
            (CallEnd::Refused, "answered 401: no session")
        );
    }
    counted(&drivers, base, 8, 1).await;
    drivers.close().await;
    counted(&drivers, base, 8, 0).await;
}

#[tokio::test]
async fn a_session_that_nobody_uses_is_ended_and_one_that_is_not_opened_says_why() {
    let server = Server::start("idle", &[]);
    let (drivers, connector) = (Drivers::new().expect("a client"), sessions("1s"));
    let base = server.base.as_str();
    let outcome = outcome(&drivers, &connector, base, &given("wrong-pass-word"), json!({})).await;
    let failure = outcome.called.expect_err("no session");
    assert_eq!((failure.end, failure.lasting), (CallEnd::NotSent, true), "{failure:?}");
    let said = format!("no session at {base}: answered 401: no such user with that password");
    assert_eq!(failure.message, said);
    called(&drivers, &connector, base, &given("fog-horn-77"), json!({})).await.expect("is let in");
    counted(&drivers, base, 1, 1).await;
    counted(&drivers, base, 1, 0).await;
    called(&drivers, &connector, base, &given("fog-horn-77"), json!({})).await.expect("is let in");
    counted(&drivers, base, 2, 1).await;
    // Whoever has too many open, is told so, and it was not sent.
    let others: Vec<Drivers> = (0..3).map(|_| Drivers::new().expect("a client")).collect();
    let long = sessions("1h");
    let mut ended = Vec::new();
    for drivers in &others {
        ended.push(called(drivers, &long, base, &given("fog-horn-77"), json!({})).await);
    }
    let failure = ended.into_iter().find_map(Result::err).expect("too many");
    assert_eq!((failure.end, failure.lasting), (CallEnd::NotSent, false), "{failure:?}");
    assert!(failure.message.ends_with("answered 503: too many sessions"), "{failure:?}");
}
