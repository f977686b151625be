//! Calls against a peer that misbehaves: redirects, floods, silence, lost lines.

use arvok_connect::{Call, Called, Http, Redactor};
use arvok_core::{
    connector::{CallEnd, Connector, Failure, Opened},
    definition::Defined,
    document::parse_file,
};
use serde_json::{Map, Value, json};
use std::time::Duration;
use tokio::{
    io::{AsyncReadExt, AsyncWriteExt},
    net::TcpListener,
};

/// A peer that reads one request, answers with these bytes, and ends. It gives back the request.
async fn peer(answer: Vec<u8>) -> (String, tokio::task::JoinHandle<String>) {
    let listener = TcpListener::bind("127.0.0.1:0").await.expect("a port");
    let base = format!("http://{}", listener.local_addr().expect("an address"));
    let heard = tokio::spawn(async move {
        let (mut socket, _) = listener.accept().await.expect("a caller");
        let mut bytes = vec![0; 16 << 10];
        let n = socket.read(&mut bytes).await.unwrap_or(0);
        if answer == b"silence" {
            let _ = socket.read(&mut bytes).await;
        } else {
            let _ = socket.write_all(&answer).await;
        }
        String::from_utf8_lossy(&bytes[..n]).into_owned()
    });
    (base, heard)
}

fn response(status: &str, headers: &str, body: &str) -> Vec<u8> {
    format!("HTTP/1.1 {status}\r\ncontent-length: {}\r\nconnection: close\r\n{headers}\r\n{body}", body.len())
        .into_bytes()
}

async fn call(base: &str, repeat: &str, give: Value) -> Result<Value, Failure> {
    let text = format!(
        "connector: c\noperations:\n  op:\n    takes: {{ name: {{ default: a }} }}\n    request: {{ method: POST, path: '/v1/${{give.name}}', body: {{ n: 1 }} }}\n    repeat: {repeat}\n"
    );
    let connector = Connector::check(&parse_file("c.yaml", &text).expect("reads")[0]).expect("checks");
    let redactor = Redactor::new(["sesame-token".to_owned()]);
    let give: Map<String, Value> = give.as_object().cloned().unwrap_or_default();
    let called = Http::new()
        .expect("a client")
        .call(Call {
            operation: &connector.operations["op"],
            give: &give,
            key: "arvok-job-7-op",
            callback: None,
            base,
            credential: Some(&Opened::Bearer("sesame-token".into())),
            authorities: None,
            timeout: Duration::from_millis(500),
            within: None,
            redactor: &redactor,
        })
        .await;
    called.map(|called| match called {
        Called::Output(output) => output,
        Called::Later(within) => panic!("nobody calls back: {within}"),
    })
}

#[tokio::test]
async fn what_is_sent_and_what_comes_back() {
    let (base, heard) = peer(response("200 OK", "", "{\"seen\": \"Bearer sesame-token\"}")).await;
    let output = call(&format!("{base}/api/"), "keyed", json!({"name": "../x y"})).await;
    assert_eq!(output, Ok(json!({"seen": "Bearer [secret]"})));
    let request = heard.await.expect("a request").to_lowercase();
    assert!(request.starts_with("post /api/v1/..%2fx%20y http/1.1"), "{request}");
    for line in
        ["authorization: bearer sesame-token", "idempotency-key: arvok-job-7-op", "content-type: application/json"]
    {
        assert!(request.contains(line), "{line} in {request}");
    }
}

#[tokio::test]
async fn a_redirect_is_not_followed() {
    let (elsewhere, other) = peer(response("200 OK", "", "{}")).await;
    let (base, _heard) = peer(response("302 Found", &format!("location: {elsewhere}/steal\r\n"), "")).await;
    let failure = call(&base, "safe", json!({})).await.expect_err("refused");
    assert_eq!(failure, Failure::lasting(CallEnd::Refused, "answered 302"));
    assert!(!other.is_finished(), "nobody came there");
    other.abort();
}

#[tokio::test]
async fn a_flood_is_cut_off_and_an_error_is_quoted_without_secrets() {
    let (base, _heard) = peer(response("200 OK", "", &"x".repeat(2 << 20))).await;
    let failure = call(&base, "safe", json!({})).await.expect_err("too much");
    assert_eq!(failure.message, "answered 200 with more than 1048576 bytes");
    let (base, _heard) = peer(response("403 Forbidden", "", "{\"error\": \"sesame-token is too weak\"}")).await;
    let failure = call(&base, "safe", json!({})).await.expect_err("refused");
    assert_eq!(failure.message, "answered 403: [secret] is too weak");
}

#[tokio::test]
async fn what_is_not_known_to_have_been_refused_is_unknown() {
    let cut = b"HTTP/1.1 200 OK\r\ncontent-length: 100\r\n\r\n{".to_vec();
    for (answer, said) in [
        (b"silence".to_vec(), "no answer within 0.5 s"),
        (Vec::new(), "the connection broke"),
        (cut, "the connection broke"),
        (response("500 Internal Server Error", "", ""), "answered 500"),
        (response("502 Bad Gateway", "", ""), "answered 502"),
        (response("503 Service Unavailable", "", ""), "answered 503"),
        (response("504 Gateway Timeout", "", ""), "answered 504"),
    ] {
        let (base, _heard) = peer(answer).await;
        let failure = call(&base, "never", json!({})).await.expect_err("no good answer");
        assert_eq!((failure.end, failure.lasting), (CallEnd::Unknown, false), "{failure:?}");
        assert!(failure.message.contains(said), "{failure:?}");
    }
}

#[tokio::test]
async fn a_refusal_says_how_long_to_wait() {
    let (base, _heard) = peer(response("429 Too Many Requests", "retry-after: 7\r\n", "")).await;
    let failure = call(&base, "never", json!({})).await.expect_err("refused");
    assert_eq!((failure.end, failure.lasting), (CallEnd::Refused, false));
    assert_eq!(failure.retry_after.map(|p| p.to_string()), Some("7s".into()));
    let (base, _heard) = peer(response("409 Conflict", "", "")).await;
    let failure = call(&base, "never", json!({})).await.expect_err("refused");
    assert_eq!((failure.end, failure.lasting), (CallEnd::Refused, true));
}

#[tokio::test]
async fn what_was_done_but_cannot_be_used_is_neither_refused_nor_unknown() {
    let deep = format!("{}1{}", "[".repeat(80), "]".repeat(80));
    let (base, _heard) = peer(response("200 OK", "", &deep)).await;
    let failure = call(&base, "never", json!({})).await.expect_err("too deep");
    assert_eq!(
        failure,
        Failure::lasting(CallEnd::Done, "answered 200, and what it answered is nested deeper than 64 levels")
    );
}

#[tokio::test]
async fn a_refused_connection_has_done_nothing() {
    let free = TcpListener::bind("127.0.0.1:0").await.and_then(|l| l.local_addr()).expect("a port");
    let failure = call(&format!("http://{free}"), "never", json!({})).await.expect_err("nobody there");
    assert!(
        failure.end == CallEnd::NotSent
            && !failure.lasting
            && failure.message.starts_with("cannot connect to http://127.0.0.1"),
        "{failure:?}"
    );
    let failure = call("not an address", "safe", json!({})).await.expect_err("no address");
    assert!(
        failure.end == CallEnd::NotSent && failure.lasting && failure.message.contains("is not an address"),
        "{failure:?}"
    );
}
