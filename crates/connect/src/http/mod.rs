//! Calls over HTTP: performs what an [`Exchange`] of the core decides, one request after the other.
//!
//! [`clients`] are made for each way to trust and to be trusted, [`tokens`] fetched where a
//! connection has a client's credentials, [`sending`] sends one request and reads its answer.

mod clients;
mod sending;
mod tokens;

pub(crate) use sending::transport;
pub(crate) use tokens::pair;

use crate::{
    driver::{Called, Driver, Way},
    http_client,
};
use arvok_core::{
    Period,
    connector::{Answer, CallEnd, Exchange, Failure, Next, Request},
};
use clients::Clients;
use reqwest::{Client, ClientBuilder, redirect::Policy};
use std::time::{Duration, Instant};
use tokens::Tokens;

/// The HTTP side of described connectors.
#[derive(Debug)]
pub struct Http {
    pub(crate) client: Client,
    clients: Clients,
    tokens: Tokens,
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
}

impl Http {
    /// Looks whether anybody answers, whatever the answer; what was answered.
    ///
    /// # Errors
    /// That nobody did, or that the credential was refused.
    pub(crate) async fn probe(&self, way: Way<'_>) -> Result<String, Failure> {
        let client = self.client_for(way.credential, way.authorities)?;
        let request = Request {
            method: "GET",
            target: String::new(),
            follows: false,
            headers: Vec::new(),
            body: None,
        };
        let answer = self.send(&client, way, &request).await?;
        match answer.status {
            status @ (401 | 403) => {
                Err(Failure::lasting(CallEnd::Refused, format!("answered {status}")))
            }
            status => Ok(format!("answers ({status})")),
        }
    }
}

impl Driver<Exchange<'_>> for Http {
    async fn perform(
        &self,
        mut exchange: Exchange<'_>,
        way: Way<'_>,
        last: &mut Option<Answer>,
    ) -> Result<Called, Failure> {
        let client = self.client_for(way.credential, way.authorities)?;
        let mut request = exchange.request().clone();
        let mut answered: Option<Instant> = None;
        loop {
            let answer = self.send(&client, way, &request).await;
            let since = *answered.get_or_insert_with(Instant::now);
            let passed =
                Period::from_millis(since.elapsed().as_millis().try_into().unwrap_or(u64::MAX));
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
