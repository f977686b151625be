//! Tokens that are fetched with a client's credentials (OAuth 2.0, RFC 6749, section 4.4), and kept
//! while they last.

use super::answer::{read, transport};
use crate::driver::unsent;
use arvok_core::{
    connector::{CallEnd, Failure},
    text::percent,
};
use base64::{Engine, prelude::BASE64_STANDARD};
use reqwest::{
    Client,
    header::{AUTHORIZATION, CONTENT_TYPE},
};
use serde_json::Value;
use std::{
    collections::{HashMap, hash_map::RandomState},
    hash::BuildHasher,
    sync::{Arc, Mutex, PoisonError},
    time::{Duration, Instant},
};

/// Clients' tokens that are kept.
const MOST: usize = 256;
/// How long before its end a token is not used any more.
const BEFORE: Duration = Duration::from_secs(20);
/// How long one lasts of which the server does not say it (it should, RFC 6749, section 5.1), and
/// at most.
const USUAL: Duration = Duration::from_secs(300);
const LONGEST: Duration = Duration::from_secs(86_400);

/// What a token is asked for with.
#[derive(Clone, Copy, Debug, Hash)]
pub(super) struct Asking<'a> {
    pub address: &'a str,
    pub client: &'a str,
    pub secret: &'a str,
    pub scopes: &'a [String],
}

#[derive(Debug)]
struct Token {
    text: String,
    until: Instant,
}

/// One place for each client, locked while its token is fetched, so that it is fetched once.
type Place = Arc<tokio::sync::Mutex<Option<Token>>>;

#[derive(Debug, Default)]
pub(super) struct Tokens {
    places: Mutex<HashMap<u64, Place>>,
    hashing: RandomState,
}

impl Tokens {
    fn place(&self, asking: Asking<'_>) -> Place {
        let of = self.hashing.hash_one(asking);
        let mut places = self.places.lock().unwrap_or_else(PoisonError::into_inner);
        if places.len() >= MOST && !places.contains_key(&of) {
            places.clear();
        }
        Arc::clone(places.entry(of).or_default())
    }

    /// A token; the one that is kept, unless it is `refused`.
    pub async fn token(
        &self,
        client: &Client,
        asking: Asking<'_>,
        refused: Option<&str>,
        timeout: Duration,
    ) -> Result<String, Failure> {
        let late = || {
            let message = format!(
                "no token from {}: no answer within {} s",
                asking.address,
                timeout.as_secs_f32()
            );
            Failure::new(CallEnd::NotSent, message)
        };
        // Whoever stands behind others that ask in vain does not wait for all of them.
        let fetching = self.kept_or_fetched(client, asking, refused, timeout);
        tokio::time::timeout(timeout, fetching).await.unwrap_or_else(|_| Err(late()))
    }

    async fn kept_or_fetched(
        &self,
        client: &Client,
        asking: Asking<'_>,
        refused: Option<&str>,
        timeout: Duration,
    ) -> Result<String, Failure> {
        let place = self.place(asking);
        let mut kept = place.lock().await;
        let good =
            kept.as_ref().filter(|t| t.until > Instant::now() && Some(t.text.as_str()) != refused);
        if let Some(token) = good {
            return Ok(token.text.clone());
        }
        let (text, lasts) = fetch(client, asking, timeout).await.map_err(|failure| Failure {
            message: format!("no token from {}: {}", asking.address, failure.message),
            // Of the call itself nothing was sent.
            end: CallEnd::NotSent,
            ..failure
        })?;
        *kept = Some(Token {
            text: text.clone(),
            until: Instant::now() + lasts.saturating_sub(BEFORE),
        });
        Ok(text)
    }
}

/// Name and secret of a client as they are shown: each written as in a form before the colon stands
/// between them (RFC 6749, section 2.3.1).
pub(crate) fn pair(client: &str, secret: &str) -> String {
    let form = |text: &str| form_urlencoded::byte_serialize(text.as_bytes()).collect::<String>();
    format!("{}:{}", form(client), form(secret))
}

async fn fetch(
    client: &Client,
    asking: Asking<'_>,
    timeout: Duration,
) -> Result<(String, Duration), Failure> {
    let mut fields = "grant_type=client_credentials".to_owned();
    if !asking.scopes.is_empty() {
        fields.push_str(&format!("&scope={}", percent(&asking.scopes.join(" "))));
    }
    let pair = format!("Basic {}", BASE64_STANDARD.encode(pair(asking.client, asking.secret)));
    let asking_for = client.post(asking.address).timeout(timeout).header(AUTHORIZATION, pair);
    let asking_for =
        asking_for.header(CONTENT_TYPE, "application/x-www-form-urlencoded").body(fields);
    let response = asking_for.send().await.map_err(|e| transport(&e, asking.address, timeout))?;
    let answer = read(response, asking.address, timeout).await?;
    let field = |name: &str| answer.body.get(name).and_then(Value::as_str);
    if !(200..300).contains(&answer.status) {
        // The words of RFC 6749, section 5.2.
        let said = field("error_description")
            .or(field("error"))
            .map_or_else(String::new, |said| format!(": {said}"));
        let failure = Failure::new(CallEnd::NotSent, format!("answered {}{said}", answer.status));
        return Err(Failure {
            lasting: (400..500).contains(&answer.status) && answer.status != 429,
            ..failure
        });
    }
    let is_bearer = field("token_type").is_none_or(|kind| kind.eq_ignore_ascii_case("bearer"));
    let token = field("access_token").filter(|token| is_bearer && !token.is_empty());
    let token = token
        .ok_or_else(|| unsent("its answer has no bearer token (RFC 6749, section 5.1)".into()))?;
    let lasts =
        answer.body.get("expires_in").and_then(Value::as_u64).map_or(USUAL, Duration::from_secs);
    Ok((token.to_owned(), lasts.min(LONGEST)))
}
