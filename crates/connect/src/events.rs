//! Events on their way to subscribers: signed as Standard Webhooks says, and only to addresses that
//! have agreed, as the CloudEvents specification of web hooks asks (section 4, abuse protection).

use crate::{Http, http::transport};
use arvok_core::{connector::retry_after, text::cut};
use base64::{Engine, prelude::BASE64_STANDARD as STANDARD};
use reqwest::{Method, Response, StatusCode, header::HeaderMap};
use standardwebhooks::{
    HEADER_WEBHOOK_ID, HEADER_WEBHOOK_SIGNATURE, HEADER_WEBHOOK_TIMESTAMP, Webhook,
};
use std::time::Duration;

/// How long an address may take to answer.
const TIMEOUT: Duration = Duration::from_secs(15);
/// Bytes of a key, by Standard Webhooks.
const KEY: std::ops::RangeInclusive<usize> = 24..=64;

/// An event that is posted.
#[derive(Debug)]
pub struct Posted<'a> {
    /// The id, the same for every try.
    pub id: &'a str,
    /// Its media type.
    pub content_type: &'a str,
    /// The event.
    pub body: String,
    /// The moment of this try, in seconds since 1970.
    pub at: i64,
    /// Who sends it, as the address has agreed to.
    pub origin: &'a str,
}

/// Why an event was not taken, or an address did not agree.
#[derive(Clone, Debug, Default)]
pub struct NotTaken {
    /// What was answered, if anything was.
    pub status: Option<u16>,
    /// What was wrong.
    pub why: String,
    /// How long we are asked to wait.
    pub retry_after: Option<Duration>,
}

impl NotTaken {
    /// Whether the address wants no events any more: 410.
    pub fn is_gone(&self) -> bool {
        self.status == Some(StatusCode::GONE.as_u16())
    }
}

/// The keys that events are signed with.
#[derive(Default)]
pub struct Keys(Vec<Webhook>);

impl std::fmt::Debug for Keys {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        write!(f, "Keys({})", self.0.len())
    }
}

/// A key that is none.
#[derive(Clone, Copy, Debug, PartialEq, Eq, thiserror::Error)]
#[error(
    "is no key for signing: `whsec_` and 24 to 64 bytes in base64; `arvok secret make` makes one"
)]
pub struct KeyError;

impl Keys {
    /// From their texts.
    ///
    /// # Errors
    /// If one of them is not `whsec_` and 24 to 64 bytes in base64.
    pub fn read<'a>(texts: impl IntoIterator<Item = &'a str>) -> Result<Self, KeyError> {
        let key = |text: &str| {
            let encoded = text.strip_prefix("whsec_").ok_or(KeyError)?;
            let bytes = STANDARD.decode(encoded).map_err(|_| KeyError)?;
            if !KEY.contains(&bytes.len()) {
                return Err(KeyError);
            }
            Webhook::from_bytes(bytes).map_err(|_| KeyError)
        };
        texts.into_iter().map(key).collect::<Result<_, _>>().map(Self)
    }

    /// A new one, of 32 bytes.
    ///
    /// # Errors
    /// If the system gives no random numbers.
    pub fn make() -> Result<String, getrandom::Error> {
        let mut bytes = [0u8; 32];
        getrandom::fill(&mut bytes)?;
        Ok(format!("whsec_{}", STANDARD.encode(bytes)))
    }

    /// The signatures by all keys, each with its version.
    fn sign(&self, id: &str, at: i64, body: &str) -> Result<String, String> {
        let signed: Result<Vec<_>, _> =
            self.0.iter().map(|key| key.sign(id, at, body.as_bytes())).collect();
        signed.map(|all| all.join(" ")).map_err(|e| e.to_string())
    }
}

impl Http {
    /// Asks an address whether it wants events of this origin; most requests a minute that it
    /// wants.
    ///
    /// # Errors
    /// Why it did not agree. It may do so later at `callback`.
    pub async fn ask_for_consent(
        &self,
        address: &str,
        origin: &str,
        callback: &str,
    ) -> Result<Option<u32>, NotTaken> {
        let asking = self.plain().request(Method::OPTIONS, address).timeout(TIMEOUT);
        let asking = asking
            .header("webhook-request-origin", origin)
            .header("webhook-request-callback", callback);
        let answer = asking.send().await.map_err(|e| broke(&e, address))?;
        refused(&answer)?;
        let status = Some(answer.status().as_u16());
        match text(answer.headers(), "webhook-allowed-origin") {
            Some(allowed) if allowed == "*" || allowed.eq_ignore_ascii_case(origin) => {
                Ok(allowed_rate(text(answer.headers(), "webhook-allowed-rate")))
            }
            Some(other) => {
                let why = format!(
                    "it allows events of `{}`, and these are of `{origin}`",
                    cut(other, 80)
                );
                Err(NotTaken { status, why, ..NotTaken::default() })
            }
            None => {
                let why = format!(
                    "it answered {} without WebHook-Allowed-Origin",
                    answer.status().as_u16()
                );
                Err(NotTaken { status, why, ..NotTaken::default() })
            }
        }
    }

    /// Posts an event; the status with which it was taken.
    ///
    /// # Errors
    /// Why it was not taken, as far as that is known.
    pub async fn post_event(
        &self,
        address: &str,
        keys: &Keys,
        event: Posted<'_>,
    ) -> Result<u16, NotTaken> {
        let signed = keys.sign(event.id, event.at, &event.body);
        let signed = signed.map_err(|why| NotTaken { why, ..NotTaken::default() })?;
        let posting =
            self.plain().post(address).timeout(TIMEOUT).header("content-type", event.content_type);
        let posting = posting
            .header("webhook-request-origin", event.origin)
            .header(HEADER_WEBHOOK_ID, event.id);
        let posting = posting
            .header(HEADER_WEBHOOK_TIMESTAMP, event.at)
            .header(HEADER_WEBHOOK_SIGNATURE, signed);
        let answer = posting.body(event.body).send().await.map_err(|e| broke(&e, address))?;
        refused(&answer)?;
        Ok(answer.status().as_u16())
    }
}

/// Most requests a minute, as an address allows them; `*` and what is no number: as many as there
/// are.
pub fn allowed_rate(allowed: Option<&str>) -> Option<u32> {
    allowed.and_then(|text| text.trim().parse().ok()).filter(|rate| *rate > 0)
}

fn text<'a>(headers: &'a HeaderMap, name: &str) -> Option<&'a str> {
    headers.get(name).and_then(|value| value.to_str().ok())
}

fn broke(e: &reqwest::Error, address: &str) -> NotTaken {
    let failure = transport(e, address, TIMEOUT);
    NotTaken { why: failure.message, ..NotTaken::default() }
}

/// Anything but 2xx; an address that turns elsewhere is not followed.
fn refused(answer: &Response) -> Result<(), NotTaken> {
    let status = answer.status();
    if status.is_success() {
        return Ok(());
    }
    let wait = text(answer.headers(), "retry-after").and_then(retry_after);
    let elsewhere = if status.is_redirection() { "; redirects are not followed" } else { "" };
    Err(NotTaken {
        status: Some(status.as_u16()),
        why: format!("it answered {}{elsewhere}", status.as_u16()),
        retry_after: wait.map(|period| Duration::from_millis(period.millis())),
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    /// The key, and what its signature must be, are those of the specification's own reference.
    #[test]
    fn events_are_signed_by_every_key() {
        let key = "whsec_MfKQ9r8GKYqrTwjUPD8ILPZIo2LaLaSw";
        let keys = Keys::read([key, key]).expect("keys");
        let signed = keys
            .sign("msg_p5jXN8AQM9LWM0D4loKWxJek", 1_614_265_330, r#"{"test": 2432232314}"#)
            .expect("signs");
        let one = "v1,g0hM9SsE+OTPJTGt/tmIKtSyZlE3uFJELVlNIOLJ1OE=";
        assert_eq!(signed, format!("{one} {one}"));
    }

    #[test]
    fn what_is_no_key_is_refused() {
        let short = format!("whsec_{}", STANDARD.encode([7u8; 23]));
        let long = format!("whsec_{}", STANDARD.encode([7u8; 65]));
        for wrong in ["", "hunter22", "whsec_", "whsec_%%%", &short, &long] {
            assert_eq!(Keys::read([wrong]).err(), Some(KeyError), "{wrong}");
        }
        let made = Keys::make().expect("random numbers");
        assert!(Keys::read([made.as_str()]).is_ok());
    }

    #[test]
    fn a_rate_is_a_number_above_none() {
        for (allowed, rate) in
            [("120", Some(120)), ("*", None), ("0", None), ("-1", None), ("fast", None)]
        {
            assert_eq!(allowed_rate(Some(allowed)), rate, "{allowed}");
        }
        assert_eq!(allowed_rate(None), None);
    }
}
