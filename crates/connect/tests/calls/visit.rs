//! Visits to web pages: to the ferries' own site, and to sites that mean no good.

use super::{response, tls};
use arvok_connect::{Call, CallOutcome, Called, Drivers, Redactor, Way};
use arvok_core::{
    connector::{CallEnd, Connector, Opened},
    definition::Defined,
    document::parse_file,
};
use arvok_standins::site;
use serde_json::{Map, Value, json};
use std::{
    sync::{Arc, Mutex},
    time::{Duration, Instant},
};
use tokio::{
    io::{AsyncReadExt, AsyncWriteExt},
    net::TcpListener,
};

async fn visited(
    visit: &str,
    base: &str,
    credential: Option<&Opened>,
    authorities: Option<&str>,
) -> CallOutcome {
    let text = format!("connector: c\noperations:\n  op:\n    visit: {visit}\n");
    let connector =
        Connector::check(&parse_file("c.yaml", &text).expect("reads")[0]).expect("checks");
    let way = Way { credential, authorities, ..Way::to(base, Duration::from_secs(3)) };
    Drivers::new()
        .expect("a client")
        .call(Call {
            operation: &connector.operations["op"],
            give: &Map::new(),
            key: "k",
            callback: None,
            way,
            within: None,
            redactor: &Redactor::default(),
        })
        .await
}

async fn seen(visit: &str, base: &str) -> Value {
    output(visited(visit, base, None, None).await)
}

fn output(outcome: CallOutcome) -> Value {
    match outcome.called {
        Ok(Called::Output(output)) => output,
        other => panic!("{other:?}"),
    }
}

/// Answers each request by its first line; what was asked is kept.
async fn web(
    answer: impl Fn(&str) -> Vec<u8> + Send + 'static,
) -> (String, Arc<Mutex<Vec<String>>>) {
    let listener = TcpListener::bind("127.0.0.1:0").await.expect("a port");
    let base = format!("http://{}", listener.local_addr().expect("an address"));
    let asked = Arc::new(Mutex::new(Vec::new()));
    let kept = Arc::clone(&asked);
    tokio::spawn(async move {
        while let Ok((mut socket, _)) = listener.accept().await {
            let mut bytes = vec![0; 16 << 10];
            let n = socket.read(&mut bytes).await.unwrap_or(0);
            let text = String::from_utf8_lossy(&bytes[..n]).into_owned();
            let answer = answer(text.lines().next().unwrap_or_default());
            kept.lock().expect("kept").push(text);
            if answer == b"silence" {
                tokio::spawn(async move {
                    let _ = socket.read(&mut bytes).await;
                });
            } else {
                let _ = socket.write_all(&answer).await;
            }
        }
    });
    (base, asked)
}

fn html(headers: &str, body: &str) -> Vec<u8> {
    response("200 OK", &format!("content-type: text/html\r\n{headers}"), body)
}

const BOOK: &str = "{ pages: [
    { open: /book, expect: { text: [Book a crossing], elements: ['form#search'] } },
    { submit: 'form#search', fill: { from: Orrin Sound, date: '2027-06-01' },
      expect: { text: [From Orrin Sound], no_elements: [.error] }, read: { first: '#sailings .time' } },
    { follow: a.home } ] }";

#[tokio::test(flavor = "multi_thread")]
async fn a_passenger_begins_to_book_and_says_what_is_wrong() {
    let site = site::start(0, "sesame".into(), Duration::from_millis(100)).expect("a site");
    let base = site.url();
    let found = seen(BOOK, &base).await;
    assert_eq!(json!([found["ok"], found["why"]]), json!([true, null]), "{found}");
    let page = &found["pages"][1];
    let at = format!("{base}/book/sailings/orrin-sound?date=2027-06-01");
    let expected = json!([at, 200, "Sailings from Orrin Sound", { "first": "07:10" }]);
    assert_eq!(json!([page["url"], page["status"], page["title"], page["read"]]), expected);
    assert_eq!(found["certificate"], Value::Null, "none was shown");
    // A form that is not the passenger's own is refused: cookies and hidden fields were sent.
    let stranger =
        "{ pages: [{ open: /book/sailings/quill, expect: { text: [Book a crossing] } }] }";
    assert_eq!(seen(stranger, &base).await["ok"], true, "who is not known begins anew");
    site.with(|site| site.jam_bookings());
    let found = seen(BOOK, &base).await;
    let why = "page 2 (submit `form#search`): `From Orrin Sound` is not on it";
    assert_eq!(json!([found["ok"], found["why"]]), json!([false, why]));
    assert_eq!(found["pages"].as_array().map(Vec::len), Some(2), "it goes no further");
    site.stop().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn how_long_a_certificate_is_valid_is_told_and_a_strange_one_is_what_is_wrong() {
    let (ours, strangers) = (tls::Authority::new(), tls::Authority::new());
    let base = tls::server(&ours, "127.0.0.1").await;
    let mine = ours.credential("arvok");
    let visit = "{ pages: [{ open: /, expect: { text: [served] } }] }";
    let found = output(visited(visit, &base, Some(&mine), Some(&ours.pem)).await);
    assert_eq!(found["ok"], true, "{found}");
    let days = found["certificate"]["days_left"].as_i64().expect("a number");
    assert!(days > 300_000, "until 4096: {found}");
    assert!(
        found["certificate"]["not_after"].as_str().is_some_and(|t| t.starts_with("4096-01-01"))
    );
    let found = output(visited(visit, &base, Some(&mine), Some(&strangers.pem)).await);
    let why = found["why"].as_str().unwrap_or_default();
    assert!(why.starts_with("page 1 (open /): cannot connect to https://127.0.0.1:"), "{why}");
    assert!(why.contains("certificate"), "{why}");
}

#[tokio::test(flavor = "multi_thread")]
async fn what_is_wrong_with_a_site_is_told_and_a_form_that_may_have_arrived_is_unknown() {
    let one = |expect: &str| format!("{{ pages: [{{ open: /, expect: {expect} }}] }}");
    let why = async |answer: Vec<u8>, expect: &str| {
        let (base, _asked) = web(move |_| answer.clone()).await;
        let found = seen(&one(expect), &base).await;
        let why = found["why"].as_str().unwrap_or_default().replace(&base, "BASE");
        why.strip_prefix("page 1 (open /): ").unwrap_or(&why).to_owned()
    };
    let plain = response("200 OK", "content-type: text/plain\r\n", "<p>up");
    assert_eq!(why(plain, "{ text: [<p>up] }").await, "");
    let latin =
        b"HTTP/1.1 200 OK\r\ncontent-type: text/html\r\nconnection: close\r\n\r\n<meta charset=\
                  iso-8859-1><p>caf\xe9 \x00\xff";
    assert_eq!(why(latin.to_vec(), "{ text: [café] }").await, "");
    let endless = html("", &format!("<p>{}", "on and on ".repeat(200_000)));
    let part = "`end` is not on it in the part of it that was read";
    assert_eq!(why(endless, "{ text: [end] }").await, part);
    assert_eq!(why(b"silence".to_vec(), "{}").await, "BASE: no answer within 3 s");
    assert_eq!(
        why(b"HTTP/1.1 200 OK\r\ncontent-length: 9\r\n\r\n<".to_vec(), "{}").await,
        "BASE: the connection broke"
    );
    let round = response("302 Found", "location: /\r\n", "");
    assert_eq!(why(round, "{}").await, "it leads on more than 10 times");
    let away = response("302 Found", "location: http://127.0.0.1:1/x\r\n", "");
    assert_eq!(
        why(away, "{}").await,
        "it leads to http://127.0.0.1:1, where this visit does not go"
    );
    let odd = response("302 Found", "location: http://[\r\n", "");
    assert_eq!(why(odd, "{}").await, "it leads on to `http://[`, no address");
    let found = seen(&one("{}"), "http://127.0.0.1:1").await;
    assert_eq!(found["why"], "page 1 (open /): cannot connect to http://127.0.0.1:1");
    let (base, _asked) = web(|line| match line.starts_with("POST") {
        true => Vec::new(),
        false => html("", "<form method=post></form>"),
    })
    .await;
    let outcome = visited("{ pages: [{ open: / }, { submit: form }] }", &base, None, None).await;
    let failure = outcome.called.expect_err("nobody knows");
    assert_eq!(
        (failure.end, failure.message),
        (CallEnd::Unknown, format!("{base}: the connection broke"))
    );
}

#[tokio::test(flavor = "multi_thread")]
async fn what_is_shown_at_the_connections_own_place_is_shown_nowhere_else() {
    let (beyond, asked_beyond) = web(|_| html("", "<h1>Log in</h1>")).await;
    let to = beyond.clone();
    let (base, asked) = web(move |line| match line {
        line if line.starts_with("GET /a ") => response("302 Found", "location: /b#part\r\nset-cookie: s=1; Path=/\r\nset-cookie: d=2; Domain=example.net\r\n", ""),
        _ => html("", &format!("<a href='{to}/login'>log in</a>")),
    })
    .await;
    let token = Opened::Bearer("sesame-token".into());
    let pages = "pages: [{ open: /a }, { follow: a, expect: { text: [Log in] } }]";
    let visit = format!("{{ {pages}, also: ['{beyond}'] }}");
    assert_eq!(output(visited(&visit, &base, Some(&token), None).await)["ok"], true);
    let own = asked.lock().expect("asked").join("\n").to_lowercase();
    assert_eq!(own.matches("authorization: bearer sesame-token").count(), 2, "{own}");
    assert!(own.contains("get /b http") && own.contains("cookie: s=1\r\n"), "{own}");
    let there = asked_beyond.lock().expect("asked").join("\n").to_lowercase();
    assert!(
        there.contains("get /login") && there.contains(&format!("referer: {base}/\r\n")),
        "{there}"
    );
    assert!(!there.contains("sesame"), "{there}");
    let outcome = visited(&format!("{{ {pages} }}"), &base, Some(&token), None).await;
    let why = format!("page 2 (follow `a`): it leads to {beyond}, where this visit does not go");
    assert_eq!(output(outcome)["why"], why);
    assert_eq!(asked_beyond.lock().expect("asked").len(), 1, "nobody came again");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_certificate_of_ours_is_shown_at_the_connections_own_place_alone() {
    let authority = tls::Authority::new();
    let mine = authority.credential("arvok");
    let asks = tls::server(&authority, "127.0.0.1").await;
    let to = asks.clone();
    let (base, _asked) = web(move |_| html("", &format!("<a href='{to}/'>in</a>"))).await;
    let visit = format!("{{ pages: [{{ open: / }}, {{ follow: a }}], also: ['{asks}'] }}");
    let found = output(visited(&visit, &base, Some(&mine), Some(&authority.pem)).await);
    assert_eq!(found["ok"], false, "whoever asks for a certificate there gets none: {found}");
    assert!(found["why"].as_str().is_some_and(|why| why.contains(&asks)), "{found}");
}

#[tokio::test(flavor = "multi_thread")]
async fn pages_that_make_much_of_little_are_left_off_in_time() {
    let nested = "<div>".repeat(200_000);
    let formats: String = (0..30_000).map(|n| format!("<b a={n}>")).collect();
    let blown = format!("{formats}{}", "<p>x".repeat(100_000));
    let tables = "<table><tr><td>".repeat(60_000);
    let attributes = format!("<p {}>", (0..150_000).map(|n| format!("a{n} ")).collect::<String>());
    for (name, page) in
        [("nested", nested), ("blown up", blown), ("tables", tables), ("attributes", attributes)]
    {
        let (base, _asked) = web(move |_| html("", &page)).await;
        let begun = Instant::now();
        let found = seen("{ pages: [{ open: /, expect: { elements: [h1] } }] }", &base).await;
        assert_eq!(found["ok"], false, "{name}");
        assert!(begun.elapsed() < Duration::from_secs(40), "{name}: {:?}", begun.elapsed());
        println!("{name}: {:?} {}", begun.elapsed(), found["why"]);
    }
}
