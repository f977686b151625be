//! Calls back of other sides: whether they are signed with the key that went out with the call.

use arvok_core::connector::Signed;
use base64::{Engine, prelude::BASE64_STANDARD};
use hmac::{Hmac, KeyInit, Mac};
use sha2::Sha256;
use standardwebhooks::{
    HEADER_WEBHOOK_ID, HEADER_WEBHOOK_SIGNATURE, HEADER_WEBHOOK_TIMESTAMP, Webhook,
};

/// How far the clock of the other side may be away, in seconds.
const CLOCKS: i64 = 300;

/// An HMAC with SHA-256 (RFC 2104).
pub(crate) fn hmac_sha256(key: &[u8], body: &[u8]) -> Vec<u8> {
    started(key, body).finalize().into_bytes().to_vec()
}

fn started(key: &[u8], body: &[u8]) -> Hmac<Sha256> {
    let mut mac = Hmac::<Sha256>::new_from_slice(key).expect("a key of any length is one");
    mac.update(body);
    mac
}

/// The signature of a body with a key, as [`Signed::HmacSha256`] has it: in hexadecimal.
pub fn signature(key: &str, body: &[u8]) -> String {
    hex::encode(hmac_sha256(key.as_bytes(), body))
}

/// Why a call back is not believed; none if it is signed with the key. `now` is in seconds since
/// 1970, `header` gives the value of a header by its name in small letters.
pub fn unsigned(
    signed: &Signed,
    key: &str,
    now: i64,
    header: impl Fn(&str) -> Option<String>,
    body: &[u8],
) -> Option<String> {
    match signed {
        Signed::HmacSha256(name) => {
            let Some(given) = header(&name.to_ascii_lowercase()) else {
                return Some(format!("it has no {name}"));
            };
            let given = given.trim();
            let given = given.strip_prefix("sha256=").unwrap_or(given);
            let bytes = hex::decode(given).ok().or_else(|| BASE64_STANDARD.decode(given).ok());
            let good = bytes
                .is_some_and(|bytes| started(key.as_bytes(), body).verify_slice(&bytes).is_ok());
            (!good).then(|| format!("its {name} is not the signature of this body with the key"))
        }
        Signed::StandardWebhooks => {
            let all = [HEADER_WEBHOOK_ID, HEADER_WEBHOOK_TIMESTAMP, HEADER_WEBHOOK_SIGNATURE];
            let [Some(id), Some(at), Some(signatures)] = all.map(&header) else {
                return Some(format!("it has not all of {}", all.join(", ")));
            };
            let Some(at) = at.parse::<i64>().ok().filter(|at| (now - at).abs() <= CLOCKS) else {
                return Some(format!(
                    "its {HEADER_WEBHOOK_TIMESTAMP} is no time within five minutes of now"
                ));
            };
            let webhook = Webhook::new(key).ok()?;
            let expected = webhook.sign(&id, at, body).ok()?;
            // Compared in constant time: as MACs of the texts under the key.
            let of = |text: &str| started(key.as_bytes(), text.as_bytes());
            let expected = of(&expected);
            let good = signatures
                .split(' ')
                .any(|one| of(one).verify(&expected.clone().finalize().into_bytes()).is_ok());
            (!good).then(|| format!("its {HEADER_WEBHOOK_SIGNATURE} is not made with the key"))
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    const KEY: &str = "whsec_MfKQ9r8GKYqrTwjUPD8ILPZIo2LaLaSw";

    fn hmac(value: Option<&str>) -> Option<String> {
        let header =
            |name: &str| (name == "x-signature").then(|| value.map(str::to_owned)).flatten();
        unsigned(&Signed::HmacSha256("X-Signature".into()), KEY, 0, header, b"{\"ok\":true}")
    }

    #[test]
    fn a_body_is_believed_that_is_signed_with_the_key() {
        let good = signature(KEY, b"{\"ok\":true}");
        assert_eq!(hmac(Some(&good)), None);
        assert_eq!(hmac(Some(&format!("sha256={good}"))), None);
        let encoded = BASE64_STANDARD.encode(hex::decode(&good).expect("hexadecimal"));
        assert_eq!(hmac(Some(&encoded)), None);
        for bad in [
            None,
            Some(""),
            Some("sha256="),
            Some("ab"),
            Some(&signature("other", b"{\"ok\":true}")[..]),
        ] {
            assert!(hmac(bad).is_some(), "{bad:?}");
        }
    }

    #[test]
    fn standard_webhooks_are_believed_in_time_only() {
        let webhook = Webhook::new(KEY).expect("a key");
        let good = webhook.sign("m-1", 1_000, b"body").expect("signs");
        let said = |now: i64, id: &str, signatures: &str| {
            let header = |name: &str| match name {
                HEADER_WEBHOOK_ID => Some(id.to_owned()),
                HEADER_WEBHOOK_TIMESTAMP => Some("1000".to_owned()),
                HEADER_WEBHOOK_SIGNATURE => Some(signatures.to_owned()),
                _ => None,
            };
            unsigned(&Signed::StandardWebhooks, KEY, now, header, b"body")
        };
        assert_eq!(said(1_100, "m-1", &good), None);
        assert_eq!(said(1_100, "m-1", &format!("v1,other {good}")), None, "one of several");
        assert!(said(1_100, "m-2", &good).is_some(), "of another id");
        assert!(said(1_301, "m-1", &good).is_some(), "too late");
        assert!(said(1_100, "m-1", "").is_some());
        assert!(unsigned(&Signed::StandardWebhooks, KEY, 0, |_| None, b"body").is_some());
    }
}
