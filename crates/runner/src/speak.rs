//! What is said to the node, and what its refusals mean.

use arvok_api::Problem;
use reqwest::{Client, StatusCode};
use serde::{Serialize, de::DeserializeOwned};
use std::{net::IpAddr, time::Duration};

/// How long an answer may take that waits for nothing.
const ANSWER: Duration = Duration::from_secs(10);

/// Why a runner cannot do its work.
#[derive(Debug, thiserror::Error)]
pub enum RunnerError {
    /// Something is wrong on this side.
    #[error("{0}")]
    Here(String),
    /// Nobody is there.
    #[error("{0}")]
    Unreachable(String),
    /// The token is not known.
    #[error("{0}")]
    Denied(String),
    /// It does not want to hear that.
    #[error("{0}")]
    Refused(String),
    /// It has too much to do, or is not ready.
    #[error("{0}")]
    Later(String),
}

impl RunnerError {
    /// Whether the same would be refused again and again, so that a person is needed.
    pub fn is_for_good(&self) -> bool {
        !matches!(self, Self::Unreachable(_) | Self::Later(_))
    }

    /// Whether the node has heard it and said no.
    pub fn is_refusal(&self) -> bool {
        matches!(self, Self::Denied(_) | Self::Refused(_))
    }
}

/// Speaks to the node.
pub struct Speaker {
    http: Client,
    server: String,
    token: String,
}

impl Speaker {
    /// To the node at this address. Secrets come over it: without TLS that is for loopback alone.
    pub fn new(server: String, token: String) -> Result<Self, RunnerError> {
        let here = |why: String| RunnerError::Here(why);
        let url: reqwest::Url = server.parse().map_err(|_| {
            here(format!("`{server}` is no address, such as https://arvok.quill.example"))
        })?;
        let host = url.host_str().unwrap_or_default().trim_matches(['[', ']']).to_owned();
        let is_loopback =
            host == "localhost" || host.parse::<IpAddr>().is_ok_and(|ip| ip.is_loopback());
        if url.scheme() != "https" && !is_loopback {
            return Err(here(format!(
                "{server}: secrets come from there, so that it takes TLS: give an address with \
                https://"
            )));
        }
        let http = arvok_connect::http_client()
            .connect_timeout(Duration::from_secs(5))
            .build()
            .map_err(|e| here(e.to_string()))?;
        Ok(Self { http, server: server.trim_end_matches('/').to_owned(), token })
    }

    async fn send(
        &self,
        what: &str,
        body: &impl Serialize,
        patience: Duration,
    ) -> Result<reqwest::Response, RunnerError> {
        let request = self
            .http
            .post(format!("{}/runner/v1/{what}", self.server))
            .bearer_auth(&self.token)
            .timeout(ANSWER + patience)
            .json(body);
        let answer = request.send().await.map_err(|e| {
            let why = if e.is_timeout() { "does not answer in time" } else { "does not answer" };
            RunnerError::Unreachable(format!("{} {why}", self.server))
        })?;
        let status = answer.status();
        if status.is_success() {
            return Ok(answer);
        }
        let told = answer.json::<Problem>().await.ok().map(|problem| problem.detail);
        let why = format!("{} answers {status}: {}", self.server, told.unwrap_or_default());
        Err(match status {
            StatusCode::UNAUTHORIZED => RunnerError::Denied(why),
            StatusCode::TOO_MANY_REQUESTS | StatusCode::REQUEST_TIMEOUT => RunnerError::Later(why),
            status if status.is_server_error() => RunnerError::Later(why),
            _ => RunnerError::Refused(why),
        })
    }

    /// Says something and hears the answer, which may take so much longer.
    pub async fn ask<T: DeserializeOwned>(
        &self,
        what: &str,
        body: &impl Serialize,
        patience: Duration,
    ) -> Result<T, RunnerError> {
        let answer = self.send(what, body, patience).await?;
        let read = answer.json().await;
        read.map_err(|e| RunnerError::Unreachable(format!("{}: {e}", self.server)))
    }

    /// Says something that has no answer but that it was heard.
    pub async fn tell(&self, what: &str, body: &impl Serialize) -> Result<(), RunnerError> {
        self.send(what, body, Duration::ZERO).await.map(|_| ())
    }
}
