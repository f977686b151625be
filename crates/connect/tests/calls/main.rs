//! Calls against a peer that misbehaves: redirects, floods, silence, lost lines.

mod brokers;
mod credentials;
mod device;
mod libvirt;
mod mail;
mod mailbox;
mod netconf;
mod script;
mod snmp;
mod ssh;
mod tls;
mod visit;

use arvok_connect::{Call, CallOutcome, Called, Drivers, Redactor, Way};
use arvok_core::{
    connector::{CallEnd, Connector, Failure, Grant, OAuth2, Opened},
    definition::Defined,
    document::parse_file,
};
use proptest::prelude::*;
use serde_json::{Map, Value, json};
use std::time::Duration;
use tokio::{
    io::{AsyncReadExt, AsyncWriteExt},
    net::TcpListener,
};

/// Whatever an alert may hold: any characters, and what means something to shells, terminals, XML.
fn texts() -> impl Strategy<Value = String> {
    let pieces = vec![
        "'",
        "\"",
        "\\",
        "$(id)",
        "`id`",
        "${x}",
        "\n",
        "\r",
        "\t",
        " ",
        "-",
        "--",
        ";",
        "&",
        "|",
        ">",
        "<",
        "]]>",
        "<![CDATA[",
        "&amp;",
        "&#0;",
        "<!--",
        "?>",
        "%s",
        "*",
        "~",
        "!",
        "#",
        "\u{1b}[2J",
        "\0",
        "\u{7f}",
        "é",
        "\u{202e}",
        "\u{fffe}",
        "a",
    ];
    let soup = prop::collection::vec(prop::sample::select(pieces), 1..12);
    prop_oneof![3 => soup.prop_map(|pieces| pieces.concat()), 1 => "\\PC{1,40}", 1 => any::<String>()]
}

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
    format!(
        "HTTP/1.1 {status}\r\ncontent-length: {}\r\nconnection: close\r\n{headers}\r\n{body}",
        body.len()
    )
    .into_bytes()
}

async fn call(base: &str, repeat: &str, give: Value) -> Result<Value, Failure> {
    ended(base, repeat, give).await.called.map(|called| match called {
        Called::Output(output) => output,
        Called::Later(within) => panic!("nobody calls back: {within}"),
    })
}

async fn ended(base: &str, repeat: &str, give: Value) -> CallOutcome {
    let text = format!(
        "connector: c\noperations:\n  op:\n    takes: {{ name: {{ default: a }} }}\n    request: \
        {{ method: POST, path: '/v1/${{give.name}}', body: {{ n: 1 }} }}\n    repeat: {repeat}\n"
    );
    let connector =
        Connector::check(&parse_file("c.yaml", &text).expect("reads")[0]).expect("checks");
    let redactor = Redactor::new(["sesame-token".to_owned()]);
    let give: Map<String, Value> = give.as_object().cloned().unwrap_or_default();
    let credential = Opened::Bearer("sesame-token".into());
    let way = Way { credential: Some(&credential), ..Way::to(base, Duration::from_secs(3)) };
    Drivers::new()
        .expect("a client")
        .call(Call {
            operation: &connector.operations["op"],
            give: &give,
            key: "arvok-job-7-op",
            callback: None,
            way,
            within: None,
            redactor: &redactor,
        })
        .await
}

#[tokio::test]
async fn what_came_back_is_handed_on_as_it_came_without_secrets_and_cookies() {
    let headers = "set-cookie: session=abc\r\nretry-after: 7\r\nx-seen: sesame-token\r\n";
    for (status, body) in
        [("200 OK", "{\"k\": \"sesame-token\"}"), ("503 Busy", "<b>sesame-token</b>")]
    {
        let (base, _heard) = peer(response(status, headers, body)).await;
        let answer = ended(&base, "safe", json!({})).await.answer.expect("an answer");
        assert_eq!(
            (answer.headers.get("set-cookie"), &answer.headers["retry-after"]),
            (None, &json!("7"))
        );
        assert_eq!(answer.headers["x-seen"], json!("[secret]"));
        let shown = json!([answer.status, answer.body]);
        let seen = [json!([200, { "k": "[secret]" }]), json!([503, "<b>[secret]</b>"])];
        assert!(seen.contains(&shown), "{shown}");
    }
    let (base, _heard) = peer(b"silence".to_vec()).await;
    assert_eq!(ended(&base, "safe", json!({})).await.answer, None);
}

#[tokio::test]
async fn what_is_sent_and_what_comes_back() {
    let (base, heard) = peer(response("200 OK", "", "{\"seen\": \"Bearer sesame-token\"}")).await;
    let output = call(&format!("{base}/api/"), "keyed", json!({"name": "../x y"})).await;
    // What later steps work with is as it came.
    assert_eq!(output, Ok(json!({"seen": "Bearer sesame-token"})));
    let request = heard.await.expect("a request").to_lowercase();
    assert!(request.starts_with("post /api/v1/..%2fx%20y http/1.1"), "{request}");
    for line in [
        "authorization: bearer sesame-token",
        "idempotency-key: arvok-job-7-op",
        "content-type: application/json",
    ] {
        assert!(request.contains(line), "{line} in {request}");
    }
}

#[tokio::test]
async fn a_redirect_is_not_followed() {
    let (elsewhere, other) = peer(response("200 OK", "", "{}")).await;
    let (base, _heard) =
        peer(response("302 Found", &format!("location: {elsewhere}/steal\r\n"), "")).await;
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
    let (base, _heard) =
        peer(response("403 Forbidden", "", "{\"error\": \"sesame-token is too weak\"}")).await;
    let failure = call(&base, "safe", json!({})).await.expect_err("refused");
    assert_eq!(failure.message, "answered 403: [secret] is too weak");
}

#[tokio::test]
async fn what_is_not_known_to_have_been_refused_is_unknown() {
    let cut = b"HTTP/1.1 200 OK\r\ncontent-length: 100\r\n\r\n{".to_vec();
    for (answer, said) in [
        (b"silence".to_vec(), "no answer within 3 s"),
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
        Failure::lasting(
            CallEnd::Done,
            "answered 200, and what it answered is nested deeper than 64 levels"
        )
    );
}

#[tokio::test]
async fn a_refused_connection_has_done_nothing() {
    let free = TcpListener::bind("127.0.0.1:0").await.and_then(|l| l.local_addr()).expect("a port");
    let failure =
        call(&format!("http://{free}"), "never", json!({})).await.expect_err("nobody there");
    assert!(
        failure.end == CallEnd::NotSent
            && !failure.lasting
            && failure.message.starts_with("cannot connect to http://127.0.0.1"),
        "{failure:?}"
    );
    let failure = call("not an address", "safe", json!({})).await.expect_err("no address");
    assert!(
        failure.end == CallEnd::NotSent
            && failure.lasting
            && failure.message.contains("is not where this operation goes"),
        "{failure:?}"
    );
}

/// Calls an operation of its own with a credential of its own.
async fn shown(
    base: &str,
    operation: &str,
    credential: &Opened,
    authorities: Option<&str>,
) -> Result<Value, Failure> {
    let way =
        Way { credential: Some(credential), authorities, ..Way::to(base, Duration::from_secs(20)) };
    performed(way, operation).await.called.map(|called| match called {
        Called::Output(output) => output,
        Called::Later(within) => panic!("nobody calls back: {within}"),
    })
}

/// Calls an operation of its own.
async fn performed(way: Way<'_>, operation: &str) -> CallOutcome {
    performed_with(way, operation, &Map::new()).await
}

/// The same, with what it is given.
async fn performed_with(way: Way<'_>, operation: &str, give: &Map<String, Value>) -> CallOutcome {
    let text = format!("connector: c\noperations:\n  op: {operation}\n");
    let connector =
        Connector::check(&parse_file("c.yaml", &text).expect("reads")[0]).expect("checks");
    let redactor = Redactor::new(["sesame-token".to_owned()]);
    let call = Call {
        operation: &connector.operations["op"],
        give,
        key: "k",
        callback: None,
        way,
        within: None,
        redactor: &redactor,
    };
    Drivers::new().expect("a client").call(call).await
}

const GET: &str = "{ request: { method: GET, path: /x } }";

#[tokio::test]
async fn a_page_elsewhere_gets_no_credential() {
    let (elsewhere, other) = peer(response("200 OK", "", "[]")).await;
    let (base, _heard) =
        peer(response("200 OK", &format!("link: <{elsewhere}/2>; rel=next\r\n"), "[1]")).await;
    let pages = "{ request: { method: GET, path: /x }, pages: { list: response.body, next: { link: \
        next } } }";
    let failure = shown(&base, pages, &Opened::Bearer("sesame-token".into()), None)
        .await
        .expect_err("refused");
    assert_eq!(failure.end, CallEnd::NotSent);
    assert!(
        failure.message.starts_with(&format!("the request would leave {base}: ")),
        "{failure:?}"
    );
    assert!(!other.is_finished(), "nobody came there");
    other.abort();
}

#[tokio::test]
async fn a_certificate_that_is_none_is_told_without_its_text() {
    let junk = Opened::Certificate("-----BEGIN sesame-token-----".into());
    for (credential, authorities, said) in [
        (&junk, None, "the credential is no certificate with its key in PEM"),
        (&Opened::Bearer("x".into()), Some("nothing"), "`authorities` holds no certificate in PEM"),
    ] {
        let failure = shown("https://127.0.0.1:9", GET, credential, authorities)
            .await
            .expect_err("no client");
        assert_eq!(failure, Failure::lasting(CallEnd::NotSent, said));
    }
}

#[tokio::test]
async fn a_token_is_fetched_and_never_told_and_what_gives_none_says_why() {
    let opened = |token: &str| {
        Opened::OAuth2(OAuth2 {
            token: token.into(),
            grant: Grant::Client { client: "arvok".into(), secret: "client-secret".into() },
            scopes: vec!["tickets:read".into(), "tickets:write".into()],
        })
    };
    let (tokens, asked) =
        peer(response("200 OK", "", "{\"access_token\": \"fetched-token\", \"expires_in\": 60}"))
            .await;
    let (base, heard) =
        peer(response("200 OK", "x-echo: fetched-token\r\n", "{\"seen\": \"fetched-token\"}"))
            .await;
    let output = shown(&base, GET, &opened(&format!("{tokens}/token")), None).await;
    assert_eq!(output, Ok(json!({ "seen": "[secret]" })));
    let asked = asked.await.expect("a request");
    assert!(
        asked.ends_with("grant_type=client_credentials&scope=tickets%3Aread%20tickets%3Awrite"),
        "{asked}"
    );
    assert!(asked.to_lowercase().contains("authorization: basic "), "{asked}");
    assert!(
        heard
            .await
            .expect("a request")
            .to_lowercase()
            .contains("authorization: bearer fetched-token")
    );
    for (answer, said, lasting) in [
        (
            response("401 Unauthorized", "", "{\"error\": \"invalid_client\"}"),
            "answered 401: invalid_client",
            true,
        ),
        (response("503 Service Unavailable", "", ""), "answered 503", false),
        (
            response("200 OK", "", "{\"token_type\": \"mac\", \"access_token\": \"x\"}"),
            "its answer has no bearer token",
            true,
        ),
        (
            response("400 Bad Request", "", "{\"error\": \"client-secret is wrong\"}"),
            "answered 400: [secret] is wrong",
            true,
        ),
    ] {
        let (tokens, _asked) = peer(answer).await;
        let failure =
            shown("http://127.0.0.1:9", GET, &opened(&tokens), None).await.expect_err("no token");
        assert_eq!((failure.end, failure.lasting), (CallEnd::NotSent, lasting), "{failure:?}");
        assert!(failure.message.contains(said), "{failure:?}");
    }
}
