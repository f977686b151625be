//! Digest access authentication (RFC 7616). Each request that is under way answers a challenge of
//! its own, so that the count of its answers always grows, as servers want it.

use super::cache::CredentialCache;
use crate::driver::unsent;
use arvok_core::connector::{Answer, Failure};
use http_auth::{DigestClient, PasswordParams, digest::Algorithm};
use reqwest::Request;

/// Challenges of one credential that can be answered again.
const MOST: usize = 8;

/// Challenges that can be answered again.
#[derive(Debug, Default)]
pub(super) struct Challenges(CredentialCache<Vec<Respond>>);

/// A challenge that can be answered.
#[derive(Debug)]
pub(in crate::http) struct Respond(DigestClient);

impl Challenges {
    /// One that nobody else answers now.
    pub fn take(&self, base: &str, user: &str, password: &str) -> Option<Respond> {
        self.0.with((base, user, password), Vec::pop)
    }

    /// Keeps one that was answered well.
    pub fn keep(&self, base: &str, user: &str, password: &str, respond: Respond) {
        self.0.with((base, user, password), |all| {
            if all.len() < MOST {
                all.push(respond);
            }
        });
    }
}

/// The strongest challenge of an answer that we know to answer.
pub(super) fn challenge(answer: &Answer) -> Option<Respond> {
    let header = answer.headers.get("www-authenticate")?.as_str()?;
    let challenges = http_auth::parse_challenges(header).ok()?;
    let digests = challenges.iter().filter(|c| c.scheme.eq_ignore_ascii_case("digest"));
    let known = digests.filter_map(|challenge| DigestClient::try_from(challenge).ok());
    let strength = |client: &DigestClient| match client.algorithm() {
        Algorithm::Md5 => 0,
        Algorithm::Sha256 => 1,
        Algorithm::Sha512Trunc256 => 2,
        _ => 0,
    };
    known.max_by_key(strength).map(Respond)
}

impl Respond {
    /// The answer for a request.
    pub fn to(&mut self, request: &Request, user: &str, password: &str) -> Result<String, Failure> {
        let url = request.url();
        let uri = url
            .query()
            .map_or_else(|| url.path().to_owned(), |query| format!("{}?{query}", url.path()));
        let params = PasswordParams {
            username: user,
            password,
            uri: &uri,
            method: request.method().as_str(),
            body: Some(request.body().and_then(|body| body.as_bytes()).unwrap_or_default()),
        };
        let wrong = |e| unsent(format!("the server's challenge cannot be answered: {e}"));
        self.0.respond(&params).map_err(wrong)
    }
}
