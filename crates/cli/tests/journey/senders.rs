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
