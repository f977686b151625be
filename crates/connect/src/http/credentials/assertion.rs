//! Signed assertions for which tokens are given (JSON Web Token, RFC 7519; RFC 7523).

use crate::private_key::PrivateKey;
use arvok_core::connector::Assertion;
use base64::{Engine, prelude::BASE64_URL_SAFE_NO_PAD};
use serde_json::{Map, Value, json};
use std::time::{SystemTime, UNIX_EPOCH};

/// An assertion for whoever gives tokens at an address, made now.
///
/// # Errors
/// That its key cannot sign.
pub(super) fn make(
    assertion: &Assertion<String>,
    address: &str,
    now: SystemTime,
) -> Result<String, &'static str> {
    let key = PrivateKey::from_pem(&assertion.key)?;
    let mut header = json!({ "alg": key.assertion_algorithm(), "typ": "JWT" });
    if let Some(id) = &assertion.key_id {
        header["kid"] = id.as_str().into();
    }
    let now = now.duration_since(UNIX_EPOCH).unwrap_or_default().as_secs();
    let mut id = [0u8; 16];
    getrandom::fill(&mut id).map_err(|_| "the system gives no random numbers")?;
    let mut claims: Map<String, Value> = assertion.claims.clone();
    let audience = assertion.audience.as_deref().unwrap_or(address);
    for (name, value) in [
        ("iss", Value::from(assertion.issuer.as_str())),
        ("sub", assertion.subject.as_str().into()),
        ("aud", audience.into()),
        ("iat", now.into()),
        ("exp", (now + assertion.lasts.millis() / 1000).into()),
        ("jti", hex::encode(id).into()),
    ] {
        claims.insert(name.into(), value);
    }
    let part = |value: String| BASE64_URL_SAFE_NO_PAD.encode(value);
    let text = format!("{}.{}", part(header.to_string()), part(Value::Object(claims).to_string()));
    let signature = BASE64_URL_SAFE_NO_PAD.encode(key.sign_assertion(text.as_bytes())?);
    Ok(format!("{text}.{signature}"))
}
