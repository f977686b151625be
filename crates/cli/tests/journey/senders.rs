//! Who may post: any of several proofs, signatures that other programs make, and from where.

use crate::kit::{Stage, answer, until};
use reqwest::Method;
use serde_json::{Value, json};
use std::{
    io::Write,
    process::{Command, Stdio},
    time::{SystemTime, UNIX_EPOCH},
};

const SIGNED: &str = "
source: pier-shop
intake:
  webhook:
    credential:
      - hmac: { key: \"${secret('shop')}\", header: X-Shop-Signature, prefix: 'sha256=' }
      - hmac:
          key: \"${secret('shop-next')}\"
          header: Shop-Signature
          field: v1
          encoding: base64
          algorithm: sha512
          signs: '{timestamp}.{body}'
          timestamp: { header: Shop-Signature, field: t, within: 2m }
      - standard_webhooks: \"${secret('shop-webhooks')}\"
      - basic: { user: shop, password: \"${secret('shop-password')}\" }
---
source: pier-gate
intake:
  webhook: { credential: { bearer: \"${secret('gate')}\" }, from: [10.4.0.0/16] }
";

/// What the machine's own `openssl` makes of something.
fn openssl(args: &[&str], input: &[u8]) -> Vec<u8> {
    let mut command = Command::new("openssl");
    let mut running =
        command.args(args).stdin(Stdio::piped()).stdout(Stdio::piped()).spawn().expect("openssl");
    running.stdin.take().expect("its input").write_all(input).expect("writes");
    running.wait_with_output().expect("ends").stdout
}

/// The HMAC of a text with a key.
fn hmac(digest: &str, key: &[u8], text: &str) -> Vec<u8> {
    let key = format!("hexkey:{}", hex(key));
    openssl(&["dgst", digest, "-mac", "HMAC", "-macopt", &key, "-binary"], text.as_bytes())
}

fn hex(bytes: &[u8]) -> String {
    bytes.iter().map(|byte| format!("{byte:02x}")).collect()
}

fn base64(bytes: &[u8]) -> String {
    String::from_utf8(openssl(&["base64", "-A"], bytes)).expect("ASCII")
}

fn now() -> u64 {
    SystemTime::now().duration_since(UNIX_EPOCH).expect("after 1970").as_secs()
}

fn alert(n: u64) -> String {
    json!({ "id": format!("a-{n}"), "kind": "disk.usage", "severity": "minor",
        "resource": "vm/quill-1" })
    .to_string()
}

fn post(stage: &Stage, source: &str, headers: &[(&str, String)], body: &str) -> (u16, Value) {
    let mut request = stage.request(Method::POST, &format!("/in/{source}"));
    request = request.header("content-type", "application/json").body(body.to_owned());
    for (name, value) in headers {
        request = request.header(*name, value);
    }
    answer(request)
}

fn stage() -> Stage {
    let stage = Stage::bare();
    for (name, value, source) in [
        ("shop", "key-of-the-shop-one", "pier-shop"),
        ("shop-next", "key-of-the-shop-two", "pier-shop"),
        ("shop-webhooks", "whsec_MfKQ9r8GKYqrTwjUPD8ILPZIo2LaLaSw", "pier-shop"),
        ("shop-password", "password-of-the-shop", "pier-shop"),
        ("gate", "token-of-the-gate", "pier-gate"),
    ] {
        stage.secret(name, value, &[&format!("source/{source}")]);
    }
    stage.publish(SIGNED);
    stage
}

#[test]
fn any_of_several_proofs_lets_a_sender_in_and_a_wrong_one_leaves_nothing() {
    let stage = stage();
    let first = |body: &str| {
        let signature = hex(&hmac("-sha256", b"key-of-the-shop-one", body));
        vec![("x-shop-signature", format!("sha256={signature}"))]
    };
    let second = |at: u64, body: &str| {
        let signature = hmac("-sha512", b"key-of-the-shop-two", &format!("{at}.{body}"));
        vec![("shop-signature", format!("t={at},v0=old,v1={}", base64(&signature)))]
    };
    let webhooks = |at: u64, body: &str| {
        let key = openssl(&["base64", "-d", "-A"], b"MfKQ9r8GKYqrTwjUPD8ILPZIo2LaLaSw");
        let signature = hmac("-sha256", &key, &format!("m-1.{at}.{body}"));
        vec![
            ("webhook-id", "m-1".to_owned()),
            ("webhook-timestamp", at.to_string()),
            ("webhook-signature", format!("v1,{}", base64(&signature))),
        ]
    };
    let password =
        vec![("authorization", format!("Basic {}", base64(b"shop:password-of-the-shop")))];
    for (n, headers) in [
        (1, first(&alert(1))),
        (2, second(now(), &alert(2))),
        (3, webhooks(now(), &alert(3))),
        (4, password),
    ] {
        let (status, said) = post(&stage, "pier-shop", &headers, &alert(n));
        assert_eq!(status, 202, "{n}: {said}");
    }

    // A body that was changed on its way, a key that is another's, and a time that has passed.
    let old = now() - 200;
    let other = hex(&hmac("-sha256", b"key-of-somebody", &alert(9)));
    for (headers, words) in [
        (first(&alert(1)), "x-shop-signature is not the signature of this body"),
        (vec![("x-shop-signature", format!("sha256={other}"))], "is not the signature"),
        (second(old, &alert(9)), "shop-signature is no time within 2m of now"),
        (webhooks(now() - 1_000, &alert(9)), "no time within five minutes"),
    ] {
        let (status, said) = post(&stage, "pier-shop", &headers, &alert(9));
        assert_eq!((status, &said["code"]), (401, &json!("not-signed")), "{said}");
        assert!(said["detail"].as_str().is_some_and(|why| why.contains(words)), "{said}");
    }
    // Without any proof the sender is challenged by the scheme that it may answer.
    let bare = stage.request(Method::POST, "/in/pier-shop").body(alert(9));
    let challenged = crate::kit::block(bare.send()).expect("an answer");
    let challenge = challenged.headers().get("www-authenticate").cloned().expect("a challenge");
    assert!(challenge.to_str().is_ok_and(|c| c.starts_with("Basic ")), "{challenge:?}");

    let taken = stage.get("/api/v1/alerts?source=pier-shop");
    assert_eq!(taken["items"].as_array().map(Vec::len), Some(4), "{taken}");
    let kept = stage.get("/api/v1/unreadable?source=pier-shop");
    assert_eq!(kept["items"], json!([]), "what is not believed is not kept");

    // Why, is recorded, and shown of the source.
    let audit = until("the refusals to be recorded", || {
        let audit = stage.arvok(&["audit", "list", "--act", "sender.refused"]);
        let words = ["is not the signature of this body", "a name and a password"];
        words.iter().all(|words| audit.out.contains(words)).then_some(audit)
    });
    let shown = stage.arvok(&["source", "show", "pier-shop"]);
    assert!(shown.out.contains("Refused within a day: "), "{}", shown.all());
    let everything = format!("{}{}{}", audit.all(), shown.all(), stage.log());
    assert!(!everything.contains("key-of-the-shop"), "no key is shown");
}

#[test]
fn a_sender_comes_from_where_its_source_says_and_people_from_anywhere() {
    let stage = stage();
    let bearer = vec![("authorization", "Bearer token-of-the-gate".to_owned())];
    let (status, said) = post(&stage, "pier-gate", &bearer, &alert(1));
    assert_eq!(status, 401, "{said}");
    let (status, said) = post(&stage, "pier-gate", &[], &alert(1));
    assert_eq!((status, &said["code"]), (403, &json!("not-from-there")), "{said}");
    let mine = vec![("authorization", format!("Bearer {}", stage.token))];
    assert_eq!(post(&stage, "pier-gate", &mine, &alert(2)).0, 202, "a person's own trial");

    // Published otherwise, it is let in.
    stage.publish(
        "source: pier-gate\nintake:\n  webhook:\n    credential: { bearer: \"${secret('gate')}\" }\n    \
        from: [10.4.0.0/16, 127.0.0.0/8]\n",
    );
    assert_eq!(post(&stage, "pier-gate", &bearer, &alert(3)).0, 202);
}

/// Runs a script with an alert of this number as its input; how it ended.
fn run_script(interpreter: &str, script: &std::path::Path, key: &str, n: u64) -> Option<i32> {
    let spool = script.with_extension("spool");
    let mut command = Command::new(interpreter);
    command.arg(script).env("KEY", key).env("SPOOL", spool).env_remove("http_proxy");
    let mut running = command.stdin(Stdio::piped()).spawn().expect("an interpreter");
    running.stdin.take().expect("its input").write_all(alert(n).as_bytes()).expect("writes");
    running.wait().expect("ends").code()
}

#[test]
fn the_printed_scripts_send_spool_while_nobody_takes_it_and_send_nothing_twice() {
    let mut stage = stage();
    let webhook = |name: &str, credential: &str| {
        format!("source: {name}\nintake: {{ webhook: {{ credential: {credential} }} }}\n")
    };
    let hmac = "{ hmac: { key: \"${secret('shop-next')}\", header: Shop-Signature, field: v1, \
        encoding: base64, algorithm: sha512, signs: '{timestamp}.{body}', \
        timestamp: { header: Shop-Signature, field: t, within: 2m } } }";
    let sources = [
        ("lines-bearer", "{ bearer: \"${secret('gate')}\" }", "token-of-the-gate"),
        (
            "lines-basic",
            "{ basic: { user: shop, password: \"${secret('shop-password')}\" } }",
            "password-of-the-shop",
        ),
        (
            "lines-header",
            "{ header: { name: X-Gate, value: \"${secret('gate')}\" } }",
            "token-of-the-gate",
        ),
        ("lines-hmac", hmac, "key-of-the-shop-two"),
        (
            "lines-standard",
            "{ standard_webhooks: \"${secret('shop-webhooks')}\" }",
            "whsec_MfKQ9r8GKYqrTwjUPD8ILPZIo2LaLaSw",
        ),
    ];
    let places: Vec<String> = sources.iter().map(|(name, ..)| format!("source/{name}")).collect();
    let places: Vec<&str> = places.iter().map(String::as_str).collect();
    for (name, value) in [
        ("gate", "token-of-the-gate"),
        ("shop-password", "password-of-the-shop"),
        ("shop-next", "key-of-the-shop-two"),
        ("shop-webhooks", "whsec_MfKQ9r8GKYqrTwjUPD8ILPZIo2LaLaSw"),
    ] {
        stage.secret(name, value, &places);
    }
    let all: Vec<String> =
        sources.iter().map(|(name, credential, _)| webhook(name, credential)).collect();
    stage.publish(&all.join("---\n"));
    let folder = crate::kit::folder("sender-lines");
    let mut scripts = Vec::new();
    for (name, credential, key) in sources {
        for (language, interpreter) in [("sh", "sh"), ("python", "python3")] {
            let is_signed = credential.contains("hmac") || credential.contains("standard");
            let said = stage.arvok(&["source", "lines", name, "--only", language]);
            if is_signed && language == "sh" {
                assert_eq!(said.code, 2, "{}", said.all());
                continue;
            }
            assert_eq!(said.code, 0, "{}", said.all());
            let script = folder.join(format!("{name}.{language}"));
            std::fs::write(&script, &said.out).expect("writes");
            scripts.push((name, interpreter, script, key));
        }
    }
    for (n, (name, interpreter, script, key)) in (1..).zip(&scripts) {
        assert_eq!(run_script(interpreter, script, key, n), Some(0), "{name} by {interpreter}");
        assert_ne!(run_script(interpreter, script, "not-the-key", 900 + n), Some(0), "{name}");
    }
    // While the service is away messages wait; the next that is sent takes them along.
    stage.kill_node();
    for (n, (name, interpreter, script, key)) in (101..).zip(&scripts) {
        assert_eq!(run_script(interpreter, script, key, n), Some(75), "{name} by {interpreter}");
    }
    stage.start_node();
    stage.until_ready();
    for (n, (name, interpreter, script, key)) in (201..).zip(&scripts) {
        assert_eq!(run_script(interpreter, script, key, n), Some(0), "{name} by {interpreter}");
    }
    let taken =
        "SELECT count(*) AS n, count(DISTINCT id) AS ids FROM alerts WHERE source LIKE 'lines-%'";
    let taken = &stage.records().rows(taken)[0];
    // With the wrong one, which the right key has sent: four each.
    let each = 4 * scripts.len();
    assert_eq!((&taken["n"], &taken["ids"]), (&json!(each), &json!(each)));
    let waiting = scripts.iter().flat_map(|(.., script, _)| {
        std::fs::read_dir(script.with_extension("spool")).expect("a folder").filter_map(Result::ok)
    });
    assert_eq!(waiting.count(), 0, "nothing waits any more");

    // The one line does as it says, and the page shows the same.
    let lines = stage.arvok(&["source", "lines", "lines-bearer"]);
    let line = lines.out.lines().nth(1).expect("a line");
    let said = Command::new("sh").args(["-c", line]).env("KEY", "token-of-the-gate").output();
    let said = String::from_utf8(said.expect("a shell").stdout).expect("a text");
    assert!(said.contains("\"alerts\""), "{line}: {said}");
}
