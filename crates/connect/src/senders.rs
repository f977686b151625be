//! Senders that sign what they post: whether it is signed with a key that both sides know.

use crate::callbacks::unsigned;
use arvok_core::{
    connector::Signed,
    source::{HeaderField, HmacDigest, SenderHmac, SenderProofOf, SignatureEncoding, SignedPart},
};
use base64::{Engine, prelude::BASE64_STANDARD};
use hmac::{Hmac, KeyInit, Mac};
use sha1::Sha1;
use sha2::{Sha256, Sha512};

/// Most signatures of one request that are looked at.
const MOST: usize = 8;

/// Whether a request carries what a proof signs with, whatever that is worth.
pub fn carries_signature(proof: &SenderProofOf<String>, has_header: impl Fn(&str) -> bool) -> bool {
    match proof {
        SenderProofOf::Shown(_) | SenderProofOf::Certificate(_) => false,
        SenderProofOf::Hmac(hmac) => has_header(&hmac.at.header),
        SenderProofOf::StandardWebhooks(_) => has_header("webhook-signature"),
    }
}

/// Why what was posted is not believed; none if it is signed as a proof says. `now` is in seconds
/// since 1970, `header` gives the value of a header by its name in small letters.
pub fn unsigned_sender(
    proof: &SenderProofOf<String>,
    now: i64,
    header: impl Fn(&str) -> Option<String>,
    body: &[u8],
) -> Option<String> {
    match proof {
        SenderProofOf::Shown(_) | SenderProofOf::Certificate(_) => {
            Some("it is not signed".to_owned())
        }
        SenderProofOf::StandardWebhooks(key) => {
            unsigned(&Signed::StandardWebhooks, key, now, header, body)
        }
        SenderProofOf::Hmac(hmac) => unsigned_hmac(hmac, now, header, body),
    }
}

fn unsigned_hmac(
    hmac: &SenderHmac<String>,
    now: i64,
    header: impl Fn(&str) -> Option<String>,
    body: &[u8],
) -> Option<String> {
    let read = |place: &HeaderField| {
        let value = header(&place.header).unwrap_or_default();
        let values = place.values(&value).into_iter().map(str::to_owned);
        values.filter(|value| !value.is_empty()).take(MOST).collect::<Vec<_>>()
    };
    let mut timestamp = String::new();
    if let Some((place, within)) = &hmac.timestamp {
        timestamp = read(place).into_iter().next().unwrap_or_default();
        let seconds = within.millis() / 1_000;
        let is_near = |at: i64| now.abs_diff(at) <= seconds;
        if !timestamp.parse().is_ok_and(is_near) {
            return Some(format!("its {} is no time within {within} of now", place.header));
        }
    }
    let signatures = read(&hmac.at);
    if signatures.is_empty() {
        return Some(format!("it has no {}", hmac.at.header));
    }
    let signed = signed_bytes(hmac, &timestamp, body);
    let good = |text: &String| {
        let given = text.strip_prefix(&hmac.prefix).map(|text| match hmac.encoding {
            SignatureEncoding::Hex => hex::decode(text).ok(),
            SignatureEncoding::Base64 => BASE64_STANDARD.decode(text).ok(),
        });
        given.flatten().is_some_and(|given| is_made_with(hmac, &signed, &given))
    };
    (!signatures.iter().any(good)).then(|| {
        format!("its {} is not the signature of this body with the source's key", hmac.at.header)
    })
}

/// What is signed.
fn signed_bytes(hmac: &SenderHmac<String>, timestamp: &str, body: &[u8]) -> Vec<u8> {
    let part = |part: &SignedPart| match part {
        SignedPart::Text(text) => text.as_bytes().to_vec(),
        SignedPart::Body => body.to_vec(),
        SignedPart::Timestamp => timestamp.as_bytes().to_vec(),
    };
    hmac.signs.iter().flat_map(part).collect()
}

/// Compared in constant time.
fn is_made_with(hmac: &SenderHmac<String>, signed: &[u8], given: &[u8]) -> bool {
    let key = hmac.key.as_bytes();
    match hmac.algorithm {
        HmacDigest::Sha1 => verifies::<Hmac<Sha1>>(key, signed, given),
        HmacDigest::Sha256 => verifies::<Hmac<Sha256>>(key, signed, given),
        HmacDigest::Sha512 => verifies::<Hmac<Sha512>>(key, signed, given),
    }
}

fn verifies<M: Mac + KeyInit>(key: &[u8], signed: &[u8], given: &[u8]) -> bool {
    let Ok(mut mac) = M::new_from_slice(key) else { return false };
    mac.update(signed);
    mac.verify_slice(given).is_ok()
}

#[cfg(test)]
mod tests {
    use super::*;
    use arvok_core::{definition::Defined, document::parse_file, source::Source};

    /// A proof as it is written, with its key opened.
    fn proof(lines: &str) -> SenderProofOf<String> {
        let text = format!(
            "source: s\nintake: {{ webhook: {{ credential: {{ hmac: {{ \
            key: \"${{secret('k')}}\", {lines} }} }} }} }}\n"
        );
        let documents = parse_file("s.yaml", &text).expect("is YAML");
        let source = Source::check(&documents[0]).expect("checks");
        let proof = source.intake.http().expect("posted").proofs[0].clone();
        proof.open(|_| Ok::<_, ()>("Jefe".to_owned())).expect("opens")
    }

    fn said(proof: &SenderProofOf<String>, headers: &[(&str, &str)], body: &str) -> Option<String> {
        let header = |name: &str| {
            headers.iter().find(|(of, _)| *of == name).map(|(_, value)| (*value).to_owned())
        };
        unsigned_sender(proof, 1_600_000_100, header, body.as_bytes())
    }

    fn made(text: &str) -> String {
        let mut mac = Hmac::<Sha512>::new_from_slice(b"Jefe").expect("a key of any length");
        mac.update(text.as_bytes());
        hex::encode(mac.finalize().into_bytes())
    }

    #[test]
    fn a_signature_is_known_however_it_is_written() {
        let plain = proof("header: X-Signature-256, prefix: 'sha256='");
        // RFC 4231, section 4.3.
        let good = "sha256=5bdcc146bf60754e6a042426089575c75a003f089d2739839dec58b964ec3843";
        assert_eq!(
            said(&plain, &[("x-signature-256", good)], "what do ya want for nothing?"),
            None
        );
        assert_eq!(
            said(
                &plain,
                &[("x-signature-256", &good.to_uppercase().replace("SHA", "sha"))],
                "what do ya want for nothing?"
            ),
            None
        );
        let bare = &good["sha256=".len()..];
        for (headers, body) in [
            (vec![], "what do ya want for nothing?"),
            (vec![("x-signature-256", good)], "what do ya want for nothing"),
            (vec![("x-signature-256", bare)], "what do ya want for nothing?"),
            (vec![("x-signature-256", "sha256=")], "what do ya want for nothing?"),
            (vec![("x-signature-256", "sha256=zz")], "what do ya want for nothing?"),
            (vec![("x-signature", good)], "what do ya want for nothing?"),
        ] {
            assert!(said(&plain, &headers, body).is_some(), "{headers:?} {body}");
        }
        let old = proof("header: X-Sig, algorithm: sha1, encoding: base64");
        // RFC 2202, section 3.
        let good = hex::decode("effcdf6ae5eb2fa2d27416d5f184df9c259a7c79").expect("hexadecimal");
        let good = BASE64_STANDARD.encode(good);
        let signed = "what do ya want for nothing?";
        assert_eq!(said(&old, &[("x-sig", &good)], signed), None);
        assert!(said(&old, &[("x-sig", &good)], "what do ya want").is_some());
    }

    #[test]
    fn a_time_that_is_signed_along_is_believed_for_a_while() {
        let timed = proof(
            "header: Sender-Signature, field: v1, algorithm: sha512, \
            signs: '{timestamp}.{body}', timestamp: { header: Sender-Signature, field: t, \
            within: 2m }",
        );
        let signed = |at: i64| made(&format!("{at}.body"));
        let header = |at: i64, signature: &str| format!("t={at}, v1={signature}, v0=x");
        let now = 1_600_000_100;
        for at in [now, now - 120, now + 120] {
            let good = header(at, &signed(at));
            assert_eq!(said(&timed, &[("sender-signature", &good)], "body"), None, "{at}");
        }
        // One of several, as while a key is changed.
        let several = format!("t={now},v1=00,v1={}", signed(now));
        assert_eq!(said(&timed, &[("sender-signature", &several)], "body"), None);
        for bad in [
            header(now - 121, &signed(now - 121)),
            header(now, &signed(now - 1)),
            format!("v1={}", signed(now)),
            format!("t={now}"),
            format!("t=never,v1={}", signed(now)),
            format!("t={},v1={}", i64::MAX, signed(i64::MAX)),
        ] {
            assert!(said(&timed, &[("sender-signature", &bad)], "body").is_some(), "{bad}");
        }
    }
}
