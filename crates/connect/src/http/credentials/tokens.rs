//! Tokens that are fetched, and kept while they last: with a client's credentials (OAuth 2.0, RFC
//! 6749, section 4.4), or for a signed assertion (RFC 7523).

use super::{assertion, cache::CredentialCache};
use crate::{
    driver::unsent,
    http::answer::{read, transport},
};
use arvok_core::{
    connector::{CallEnd, Failure, Grant, OAuth2},
    text::percent,
};
use base64::{Engine, prelude::BASE64_STANDARD};
use reqwest::{
    Client,
    header::{AUTHORIZATION, CONTENT_TYPE},
};
use serde_json::Value;
use std::{
    sync::Arc,
    time::{Duration, Instant, SystemTime},
};

/// How long before its end a token is not used any more.
const BEFORE: Duration = Duration::from_secs(20);
/// How long one lasts of which the server does not say it (it should, RFC 6749, section 5.1), and
/// at most.
const USUAL: Duration = Duration::from_secs(300);
const LONGEST: Duration = Duration::from_secs(86_400);

/// The grant of a signed assertion, and the kind of one that proves a client (RFC 7523, sections
/// 2.1 and 2.2).
const GRANT: &str = "urn:ietf:params:oauth:grant-type:jwt-bearer";
const CLIENT_ASSERTION: &str = "urn:ietf:params:oauth:client-assertion-type:jwt-bearer";

#[derive(Debug)]
struct Token {
    text: String,
    until: Instant,
}

/// One place for each credential, locked while its token is fetched, so that it is fetched once.
type Place = Arc<tokio::sync::Mutex<Option<Token>>>;

#[derive(Debug, Default)]
pub(super) struct Tokens(CredentialCache<Place>);

impl Tokens {
    /// A token; the one that is kept, unless it is `refused`.
    pub async fn token(
        &self,
        client: &Client,
        oauth2: &OAuth2<String>,
        refused: Option<&str>,
        timeout: Duration,
    ) -> Result<String, Failure> {
        let late = || {
            let message = format!(
                "no token from {}: no answer within {} s",
                oauth2.token,
                timeout.as_secs_f32()
            );
            Failure::new(CallEnd::NotSent, message)
        };
        // Whoever stands behind others that ask in vain does not wait for all of them.
        let fetching = self.kept_or_fetched(client, oauth2, refused, timeout);
        tokio::time::timeout(timeout, fetching).await.unwrap_or_else(|_| Err(late()))
    }

    async fn kept_or_fetched(
        &self,
        client: &Client,
        oauth2: &OAuth2<String>,
        refused: Option<&str>,
        timeout: Duration,
    ) -> Result<String, Failure> {
        let place = self.0.with(oauth2, |place| Arc::clone(place));
        let mut kept = place.lock().await;
        let good =
            kept.as_ref().filter(|t| t.until > Instant::now() && Some(t.text.as_str()) != refused);
        if let Some(token) = good {
            return Ok(token.text.clone());
        }
        let (text, lasts) = fetch(client, oauth2, timeout).await.map_err(|failure| Failure {
            message: format!("no token from {}: {}", oauth2.token, failure.message),
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

/// What is posted for a token, and in which header the client is named.
fn asked(oauth2: &OAuth2<String>) -> Result<(String, Option<String>), &'static str> {
    let (mut fields, header) = match &oauth2.grant {
        Grant::Client { client, secret } => {
            let pair = format!("Basic {}", BASE64_STANDARD.encode(pair(client, secret)));
            ("grant_type=client_credentials".to_owned(), Some(pair))
        }
        Grant::Assertion { client, assertion } => {
            let made = assertion::make(assertion, &oauth2.token, SystemTime::now())?;
            let fields = match client {
                None => {
                    format!("grant_type={}&assertion={made}", percent(GRANT))
                }
                Some(client) => format!(
                    "grant_type=client_credentials&client_id={}&client_assertion_type={}\
                     &client_assertion={made}",
                    percent(client),
                    percent(CLIENT_ASSERTION)
                ),
            };
            (fields, None)
        }
    };
    if !oauth2.scopes.is_empty() {
        fields.push_str(&format!("&scope={}", percent(&oauth2.scopes.join(" "))));
    }
    Ok((fields, header))
}

async fn fetch(
    client: &Client,
    oauth2: &OAuth2<String>,
    timeout: Duration,
) -> Result<(String, Duration), Failure> {
    let (fields, header) = asked(oauth2).map_err(|e| unsent(e.into()))?;
    let asking = client.post(&oauth2.token).timeout(timeout);
    let asking = asking.header(CONTENT_TYPE, "application/x-www-form-urlencoded").body(fields);
    let asking = match header {
        Some(header) => asking.header(AUTHORIZATION, header),
        None => asking,
    };
    let response = asking.send().await.map_err(|e| transport(&e, &oauth2.token, timeout))?;
    let answer = read(response, &oauth2.token, timeout).await?;
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
