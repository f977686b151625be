//! Calls over HTTP: performs what an [`Exchange`] of the core decides, one request after the other.
//!
//! [`clients`] are made for each way to trust and to be trusted, [`tokens`] fetched where a connection has a client's
//! credentials, [`sending`] sends one request and reads its answer.

mod clients;
mod sending;
mod tokens;

pub(crate) use sending::transport;

use crate::{Redactor, http_client};
use arvok_core::{
    Period,
    connector::{Answer, CallEnd, CallbackAt, Failure, Hiding, Next, Opened, Operation, Request},
};
use clients::Clients;
use reqwest::{Client, ClientBuilder, redirect::Policy};
use sending::{Sending, unsent};
use serde_json::{Map, Value};
use std::time::{Duration, Instant};
use tokens::Tokens;

/// The HTTP side of described connectors.
#[derive(Debug)]
pub struct Http {
    pub(crate) client: Client,
    clients: Clients,
    tokens: Tokens,
}

/// One call.
#[derive(Debug)]
pub struct Call<'a> {
    /// The operation.
    pub operation: &'a Operation,
    /// What it is given.
    pub give: &'a Map<String, Value>,
    /// The same for every try of the same step.
    pub key: &'a str,
    /// Where we wait for a call back, if the operation calls back.
    pub callback: Option<&'a CallbackAt>,
    /// The connection's base address.
    pub base: &'a str,
    /// The opened credential.
    pub credential: Option<&'a Opened>,
    /// The authorities that are trusted, in PEM, instead of those that the system knows.
    pub authorities: Option<&'a str>,
    /// How long one request may take.
    pub timeout: Duration,
    /// How long the whole may take; none: as long as its requests may.
    pub within: Option<Duration>,
    /// Knows the secrets that may come back, and hides them in messages and in the answer that is shown.
    pub redactor: &'a Redactor,
}

/// What came of a call.
#[derive(Clone, Debug, PartialEq)]
pub enum Called {
    /// Its output.
    Output(Value),
    /// The other side calls back, within a time.
    Later(Period),
}

/// How a call ended.
#[derive(Clone, Debug, PartialEq)]
pub struct Ended {
    /// What came of it, or what went wrong, and what is known of the other side then.
    pub called: Result<Called, Failure>,
    /// The last answer that came, as people may see it; none if none did.
    pub answer: Option<Answer>,
}

impl Ended {
    /// It ended before anything was sent.
    pub const fn unsent(failure: Failure) -> Self {
        Self { called: Err(failure), answer: None }
    }
}

/// A header that is for the client alone: what it names is a credential of the other side.
const CREDENTIAL: &str = "set-cookie";

/// What a credential shows to the other side, and what that may show in turn: a pair is hidden as a whole, since in base64
/// it is one text.
fn shown_by(credential: &Opened) -> Vec<String> {
    match credential {
        Opened::Bearer(token) => vec![token.clone()],
        Opened::Basic { user, password } => vec![password.clone(), format!("{user}:{password}")],
        Opened::Header { value, .. } => vec![value.clone()],
        Opened::OAuth2 { client, secret, .. } => {
            vec![secret.clone(), tokens::pair(client, secret)]
        }
        Opened::Certificate(_) => Vec::new(),
    }
}

/// The client could not be made.
#[derive(Debug, thiserror::Error)]
#[error("no HTTP client can be made: {0}")]
pub struct CallError(String);

/// How all clients behave.
fn behaving() -> ClientBuilder {
    http_client()
        .redirect(Policy::none())
        // A line kept open may be closed by the other side at the very moment of a call, and then
        // nobody knows whether the call was taken.
        .pool_max_idle_per_host(0)
        .user_agent(concat!("arvok/", env!("CARGO_PKG_VERSION")))
}

impl Http {
    /// For all connections.
    pub fn new() -> Result<Self, CallError> {
        let client = behaving().build().map_err(|e| CallError(e.to_string()))?;
        Ok(Self { client, clients: Clients::default(), tokens: Tokens::default() })
    }

    /// Calls: one request, or as many as its pages and looks need. Secrets are hidden in messages and in the answer that
    /// is shown; the output is as it came.
    pub async fn call(&self, call: Call<'_>) -> Ended {
        let own = Redactor::new(call.credential.map_or_else(Vec::new, shown_by));
        let (known, within) = (call.redactor, call.within);
        let hide = |text: &str| own.hidden(&known.hidden(text)).into_owned();
        let mut last = None;
        let performed = self.perform(call, Hiding(&hide), &mut last);
        let called = match within {
            None => performed.await,
            Some(within) => tokio::time::timeout(within, performed).await.unwrap_or_else(|_| {
                Err(Failure::new(CallEnd::Unknown, format!("was not over within {} s", within.as_secs_f32())))
            }),
        };
        let called = called.map_err(|failure| Failure { message: hide(&failure.message), ..failure });
        let shown = |value: Value| own.value(known.value(value));
        let answer = last.map(|Answer { status, mut headers, body }| {
            headers.remove(CREDENTIAL);
            let headers = headers.into_iter().map(|(name, value)| (name, shown(value))).collect();
            Answer { status, headers, body: shown(body) }
        });
        Ended { called, answer }
    }

    /// Looks whether anybody answers at an address, whatever the answer; what it was.
    ///
    /// # Errors
    /// That nobody did, or that the credential was refused.
    pub async fn probe(
        &self,
        base: &str,
        credential: Option<&Opened>,
        authorities: Option<&str>,
        timeout: Duration,
    ) -> Result<String, Failure> {
        let client = self.client_for(credential, authorities)?;
        let request = Request { method: "GET", target: String::new(), follows: false, headers: Vec::new(), body: None };
        let answer = self.send(Sending { client: &client, base, credential, timeout }, &request).await?;
        match answer.status {
            status @ (401 | 403) => Err(Failure::lasting(CallEnd::Refused, format!("answered {status}"))),
            status => Ok(format!("answers ({status})")),
        }
    }

    async fn perform(&self, call: Call<'_>, hiding: Hiding<'_>, last: &mut Option<Answer>) -> Result<Called, Failure> {
        let begun = call.operation.begin(call.give, call.key, call.callback);
        let mut exchange = begun.map_err(|e| unsent(e.to_string()))?.hiding(hiding);
        let client = self.client_for(call.credential, call.authorities)?;
        let way = Sending { client: &client, base: call.base, credential: call.credential, timeout: call.timeout };
        let mut request = exchange.request().clone();
        let mut answered: Option<Instant> = None;
        loop {
            let answer = self.send(way, &request).await;
            let since = *answered.get_or_insert_with(Instant::now);
            let passed = Period::from_millis(since.elapsed().as_millis().try_into().unwrap_or(u64::MAX));
            let next = match answer {
                Ok(answer) => {
                    *last = Some(answer.clone());
                    exchange.answered(answer, passed)
                }
                Err(failure) => exchange.broke(failure, passed),
            };
            match next {
                Next::Send(another, after) => {
                    tokio::time::sleep(Duration::from_millis(after.millis())).await;
                    request = another;
                }
                Next::Output(output) => return Ok(Called::Output(output)),
                Next::CalledBack(within) => return Ok(Called::Later(within)),
                Next::Failed(failure) => return Err(failure),
            }
        }
    }
}
