//! Calls over HTTP: performs what an [`Exchange`] of the core decides, one request after the other.
//!
//! [`clients`] are made for each way to trust and to be trusted, [`credentials`] shown by each
//! [`request`], [`sending`] sends one with its credential, [`answer`] reads what comes back.
//! [`visit`] looks at web pages as a visitor does.

mod answer;
mod clients;
mod credentials;
mod request;
mod sending;
mod visit;

pub(crate) use answer::transport;
pub(crate) use credentials::pair;

use crate::driver::{Called, Driver, Way};
use arvok_core::{
    Period,
    connector::{Answer, CallEnd, Exchange, Failure, Next, Request},
};
use clients::Clients;
use credentials::Credentials;
use reqwest::Client;
use sending::send;
use std::time::{Duration, Instant};

/// The HTTP side of described connectors.
#[derive(Debug)]
pub struct Http {
    clients: Clients,
    credentials: Credentials,
}

/// The client could not be made.
#[derive(Debug, thiserror::Error)]
#[error("no HTTP client can be made: {0}")]
pub struct CallError(String);

impl Http {
    /// For all connections.
    pub fn new() -> Result<Self, CallError> {
        let clients = Clients::new().map_err(CallError)?;
        Ok(Self { clients, credentials: Credentials::default() })
    }
}

impl Http {
    /// The client of whoever shows nothing and trusts what the system knows.
    pub(crate) const fn plain(&self) -> &Client {
        self.clients.plain()
    }

    /// Ends the sessions that are open.
    pub(crate) async fn close(&self) {
        self.credentials.close().await;
    }

    /// Looks whether anybody answers, whatever the answer; what was answered.
    ///
    /// # Errors
    /// That nobody did, or that the credential was refused.
    pub(crate) async fn probe(&self, way: Way<'_>) -> Result<String, Failure> {
        let client = self.clients.for_connection(way.credential, way.authorities)?;
        let request = Request {
            method: "GET",
            target: String::new(),
            follows: false,
            headers: Vec::new(),
            body: None,
        };
        let answer = send(&self.credentials, &client, way, &request).await?;
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
        let client = self.clients.for_connection(way.credential, way.authorities)?;
        let mut request = exchange.request().clone();
        let mut answered: Option<Instant> = None;
        loop {
            let answer = send(&self.credentials, &client, way, &request).await;
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
