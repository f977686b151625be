//! Signature Version 4: HMAC with SHA-256 over a canonical form of the request, by a key that is
//! derived for the day, the region and the service.

use super::message_signature::authority;
use crate::{callbacks::hmac_sha256, http::request::put_header};
use arvok_core::connector::SignatureV4;
use chrono::{DateTime, Utc};
use reqwest::Request;
use sha2::{Digest, Sha256};
use std::time::{SystemTime, UNIX_EPOCH};

const ALGORITHM: &str = "AWS4-HMAC-SHA256";
/// The service whose paths are signed as they are sent: it takes `%2F` and `/` for two names.
const OBJECTS: &str = "s3";

/// Signs a request.
///
/// # Errors
/// What cannot stand in a header.
pub(super) fn sign(
    request: &mut Request,
    key: &SignatureV4<String>,
    now: SystemTime,
) -> Result<(), String> {
    let seconds = now.duration_since(UNIX_EPOCH).unwrap_or_default().as_secs();
    let seconds = i64::try_from(seconds).unwrap_or(i64::MAX);
    let now = DateTime::<Utc>::from_timestamp(seconds, 0).unwrap_or_default();
    let (at, day) = (now.format("%Y%m%dT%H%M%SZ").to_string(), now.format("%Y%m%d").to_string());
    let body = request.body().and_then(|body| body.as_bytes()).unwrap_or_default();
    let digest = hex::encode(Sha256::digest(body));
    put_header(request, "x-amz-date", &at)?;
    if key.service == OBJECTS {
        put_header(request, "x-amz-content-sha256", &digest)?;
    }
    if let Some(token) = &key.token {
        put_header(request, "x-amz-security-token", token)?;
    }
    let (names, canonical) = canonical(request, key.service != OBJECTS, &digest);
    let scope = format!("{day}/{}/{}/aws4_request", key.region, key.service);
    let digest = hex::encode(Sha256::digest(canonical));
    let text = format!("{ALGORITHM}\n{at}\n{scope}\n{digest}");
    let parts = [day.as_str(), &key.region, &key.service, "aws4_request"];
    let signing = parts.iter().fold(format!("AWS4{}", key.key).into_bytes(), |key, part| {
        hmac_sha256(&key, part.as_bytes())
    });
    let signature = hex::encode(hmac_sha256(&signing, text.as_bytes()));
    let shown = format!(
        "{ALGORITHM} Credential={}/{scope}, SignedHeaders={names}, Signature={signature}",
        key.key_id
    );
    put_header(request, "authorization", &shown)
}

/// The names of the signed headers, and the canonical form of a request.
fn canonical(request: &Request, is_encoded_twice: bool, digest: &str) -> (String, String) {
    let url = request.url();
    let segment = |part: &str| match is_encoded_twice {
        true => encoded(part.as_bytes()),
        false => part.to_owned(),
    };
    let path: Vec<String> = url.path().split('/').map(segment).collect();
    let mut pairs: Vec<(String, String)> = url
        .query_pairs()
        .map(|(name, value)| (encoded(name.as_bytes()), encoded(value.as_bytes())))
        .collect();
    pairs.sort_unstable();
    let query: Vec<String> = pairs.iter().map(|(name, value)| format!("{name}={value}")).collect();
    // Whatever is between us and the other side may change the others.
    let is_signed = |name: &str| name == "content-type" || name.starts_with("x-amz-");
    let mut headers: Vec<(String, String)> = request
        .headers()
        .iter()
        .filter(|(name, _)| is_signed(name.as_str()))
        .map(|(name, value)| {
            let value = String::from_utf8_lossy(value.as_bytes());
            let words: Vec<&str> = value.split_whitespace().collect();
            (name.to_string(), words.join(" "))
        })
        .chain([("host".to_owned(), authority(request))])
        .collect();
    headers.sort_unstable();
    let names: Vec<&str> = headers.iter().map(|(name, _)| name.as_str()).collect();
    let names = names.join(";");
    let lines: String = headers.iter().map(|(name, value)| format!("{name}:{value}\n")).collect();
    let (method, path, query) = (request.method(), path.join("/"), query.join("&"));
    let canonical = format!("{method}\n{path}\n{query}\n{lines}\n{names}\n{digest}");
    (names, canonical)
}

/// As it stands in a canonical form: percent-encoded but for letters, digits, `-`, `.`, `_`, `~`.
fn encoded(bytes: &[u8]) -> String {
    let each = bytes.iter().map(|byte| match byte {
        b'A'..=b'Z' | b'a'..=b'z' | b'0'..=b'9' | b'-' | b'.' | b'_' | b'~' => {
            char::from(*byte).to_string()
        }
        byte => format!("%{byte:02X}"),
    });
    each.collect()
}

#[cfg(test)]
mod tests {
    use super::*;
    use reqwest::{Method, Url};
    use std::time::Duration;

    #[test]
    fn a_published_example_holds() {
        let url = Url::parse("https://example.amazonaws.com/").expect("an address");
        let mut request = Request::new(Method::GET, url);
        let key = SignatureV4 {
            key_id: "AKIDEXAMPLE".to_owned(),
            key: "wJalrXUtnFEMI/K7MDENG+bPxRfiCYEXAMPLEKEY".to_owned(),
            region: "us-east-1".to_owned(),
            service: "service".to_owned(),
            token: None,
        };
        let now = UNIX_EPOCH + Duration::from_secs(1_440_938_160);
        sign(&mut request, &key, now).expect("is signed");
        assert_eq!(
            request.headers()["authorization"].to_str().expect("is ASCII"),
            "AWS4-HMAC-SHA256 Credential=AKIDEXAMPLE/20150830/us-east-1/service/aws4_request, \
             SignedHeaders=host;x-amz-date, \
             Signature=5fa00fa31553b73ebf1942676e86291e8372ff2a2260956d9b8aae1d763fbf31"
        );
    }
}
