//! How each request is made to show a connection's credential: what is fixed, tokens that are
//! fetched, sessions that are opened, and signatures.

mod assertion;
mod cache;
mod digest;
mod message_signature;
mod sessions;
mod signature_v4;
mod tokens;

pub(crate) use tokens::pair;

use crate::{
    driver::{Way, unsent},
    http::request::put_header,
};
use arvok_core::connector::{Answer, Failure, Opened, Session};
use base64::{Engine, prelude::BASE64_STANDARD};
use digest::{Challenges, Respond};
use reqwest::{Client, Request};
use sessions::{Sessions, UsedSession};
use std::time::SystemTime;
use tokens::Tokens;

/// What is kept from one request to the next: tokens, sessions, challenges.
#[derive(Debug, Default)]
pub(super) struct Credentials {
    tokens: Tokens,
    sessions: Sessions,
    challenges: Challenges,
}

/// What a request shows that may be refused and be shown anew.
pub(super) enum Shown<'a> {
    /// A fixed credential, or none.
    Fixed,
    /// A token that was fetched.
    Token(String),
    /// A session that was opened.
    Session(UsedSession, &'a Session),
    /// An answer to a challenge; none: the challenge is yet to come.
    Digest(Option<Respond>),
}

impl Shown<'_> {
    /// Whether an answer says that this is not valid any more, so that nothing was done and another
    /// could be.
    pub fn is_refused(&self, answer: &Answer) -> bool {
        match self {
            Self::Fixed => false,
            Self::Token(_) => answer.status == 401,
            Self::Session(_, session) => session.refused_on.contains(&answer.status),
            Self::Digest(_) => answer.status == 401 && digest::challenge(answer).is_some(),
        }
    }

    /// What of it may not be seen in answers: nobody has given it and no runbook can know it, so it
    /// is no data of anybody's; after this call nothing could tell it from any other text.
    pub fn hidden(&self) -> Vec<String> {
        match self {
            Self::Token(token) => vec![token.clone()],
            Self::Session(session, _) => session.opened.hidden.clone(),
            Self::Fixed | Self::Digest(_) => Vec::new(),
        }
    }
}

impl Credentials {
    /// Makes a request show the credential of its way; `refused` was shown before, in vain, and
    /// answered with this.
    ///
    /// # Errors
    /// That there is nothing to show, in which case nothing is sent.
    pub async fn show<'a>(
        &self,
        request: &mut Request,
        client: &Client,
        way: Way<'a>,
        refused: Option<(Shown<'a>, &Answer)>,
    ) -> Result<Shown<'a>, Failure> {
        let Some(credential) = way.credential else { return Ok(Shown::Fixed) };
        match credential {
            Opened::Bearer(token) => put(request, "authorization", &format!("Bearer {token}"))?,
            Opened::Basic { user, password } => {
                let pair = BASE64_STANDARD.encode(format!("{user}:{password}"));
                put(request, "authorization", &format!("Basic {pair}"))?;
            }
            Opened::Header { name, value } => put(request, name, value)?,
            Opened::Digest { user, password } => {
                let asked = refused.as_ref().and_then(|(_, answer)| digest::challenge(answer));
                let respond = asked.or_else(|| self.challenges.take(way.base, user, password));
                let Some(mut respond) = respond else { return Ok(Shown::Digest(None)) };
                let header = respond.to(request, user, password)?;
                put(request, "authorization", &header)?;
                return Ok(Shown::Digest(Some(respond)));
            }
            Opened::OAuth2(oauth2) => {
                let refused = match &refused {
                    Some((Shown::Token(token), _)) => Some(token.as_str()),
                    _ => None,
                };
                let token = self.tokens.token(client, oauth2, refused, way.timeout).await?;
                put(request, "authorization", &format!("Bearer {token}"))?;
                return Ok(Shown::Token(token));
            }
            Opened::Session(given) => {
                let session = way.session.ok_or_else(|| {
                    unsent("its connector does not say how a session is opened".into())
                })?;
                let refused = match &refused {
                    Some((Shown::Session(kept, _), _)) => Some(kept),
                    _ => None,
                };
                let kept = self.sessions.session(client, way, session, given, refused).await?;
                for (name, value) in &kept.opened.headers {
                    put(request, name, value)?;
                }
                return Ok(Shown::Session(kept, session));
            }
            Opened::Signature(signature) => {
                message_signature::sign(request, signature, SystemTime::now()).map_err(unsent)?;
            }
            Opened::SignatureV4(key) => {
                signature_v4::sign(request, key, SystemTime::now()).map_err(unsent)?;
            }
            // The one was shown when the line was made, the other belongs to machines.
            Opened::Certificate(_) | Opened::Key(_) | Opened::Agent(_) => {}
        }
        Ok(Shown::Fixed)
    }

    /// What was shown was taken: a challenge can be answered again.
    pub fn keep(&self, shown: Shown<'_>, way: Way<'_>) {
        if let (Shown::Digest(Some(respond)), Some(Opened::Digest { user, password })) =
            (shown, way.credential)
        {
            self.challenges.keep(way.base, user, password, respond);
        }
    }

    /// Ends the sessions.
    pub async fn close(&self) {
        self.sessions.close().await;
    }
}

fn put(request: &mut Request, name: &str, value: &str) -> Result<(), Failure> {
    put_header(request, name, value).map_err(unsent)
}
