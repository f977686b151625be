//! Calls over HTTP. They go only to the connection's own base address: redirects are not
//! followed, names and paths cannot lead elsewhere, answers are bounded.

use crate::Redactor;
use arvok_core::connector::{Answer, Failure, Operation, Repeat, Request};
use reqwest::{Client, Method, Url, redirect::Policy};
use serde_json::{Map, Value};
use std::time::Duration;

/// Largest answer that is read, in bytes.
const MAX_ANSWER: usize = 1 << 20;

/// The HTTP side of described connectors.
#[derive(Clone, Debug)]
pub struct Http {
    client: Client,
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
    /// The connection's base address.
    pub base: &'a str,
    /// The opened credential.
    pub bearer: Option<&'a str>,
    /// How long it may take.
    pub timeout: Duration,
    /// Knows the secrets that may come back.
    pub redactor: &'a Redactor,
}

/// The client could not be made.
#[derive(Debug, thiserror::Error)]
#[error("no HTTP client can be made: {0}")]
pub struct CallError(String);

impl Http {
    /// One client for all connections.
    pub fn new() -> Result<Self, CallError> {
        let client = Client::builder()
            .redirect(Policy::none())
            .no_proxy()
            .user_agent(concat!("arvok/", env!("CARGO_PKG_VERSION")))
            .build()
            .map_err(|e| CallError(e.to_string()))?;
        Ok(Self { client })
    }

    /// Sends one request and reads the answer. Secrets are taken out of outputs and messages.
    pub async fn call(&self, call: Call<'_>) -> Result<Value, Failure> {
        let clean = |f: Failure| Failure { message: call.redactor.text(&f.message), again: f.again };
        let planned = call.operation.request(call.give, call.key).map_err(|message| Failure { message, again: false });
        let answer = self.send(&call, &planned.map_err(clean)?).await.map_err(clean)?;
        let output = call.operation.answer(call.give, &answer).map_err(clean)?;
        Ok(call.redactor.value(output))
    }

    async fn send(&self, call: &Call<'_>, request: &Request) -> Result<Answer, Failure> {
        let fixed = |message: String| Failure { message, again: false };
        let base = call.base.trim_end_matches('/');
        let url = Url::parse(&format!("{base}{}", request.target))
            .map_err(|e| fixed(format!("{base} is not an address: {e}")))?;
        let own = Url::parse(base).map_err(|e| fixed(format!("{base} is not an address: {e}")))?;
        if url.origin() != own.origin() {
            return Err(fixed(format!("the request would leave {base}")));
        }
        let method = Method::from_bytes(request.method.as_bytes()).map_err(|e| fixed(e.to_string()))?;
        let mut sending = self.client.request(method, url).timeout(call.timeout);
        for (name, value) in &request.headers {
            sending = sending.header(name, value);
        }
        if let Some(bearer) = call.bearer {
            sending = sending.bearer_auth(bearer);
        }
        if let Some(body) = &request.body {
            sending = sending.json(body);
        }
        let harmless = call.operation.repeat != Repeat::Never;
        let response = sending.send().await.map_err(|e| transport(&e, base, harmless, call.timeout))?;
        read(response, base, harmless, call.timeout).await
    }
}

/// A connection that was refused has done nothing; after anything later the request may have
/// arrived, so another try must be harmless.
fn transport(e: &reqwest::Error, base: &str, harmless: bool, timeout: Duration) -> Failure {
    if e.is_connect() {
        return Failure { message: format!("cannot connect to {base}"), again: true };
    }
    let what = if e.is_timeout() {
        format!("no answer within {} s", timeout.as_secs_f32())
    } else {
        "the connection broke".into()
    };
    let unknown = if harmless { "" } else { "; whether it was done is not known" };
    Failure { message: format!("{base}: {what}{unknown}"), again: harmless }
}

async fn read(
    mut response: reqwest::Response,
    base: &str,
    harmless: bool,
    timeout: Duration,
) -> Result<Answer, Failure> {
    let status = response.status().as_u16();
    let headers: Map<String, Value> =
        response.headers().iter().filter_map(|(k, v)| Some((k.to_string(), Value::from(v.to_str().ok()?)))).collect();
    let mut bytes = Vec::new();
    while let Some(chunk) = response.chunk().await.map_err(|e| transport(&e, base, harmless, timeout))? {
        bytes.extend_from_slice(&chunk);
        if bytes.len() > MAX_ANSWER {
            let message = format!("answered {status} with more than {MAX_ANSWER} bytes");
            return Err(Failure { message, again: false });
        }
    }
    let body = match serde_json::from_slice(&bytes) {
        Ok(json) => json,
        Err(_) if bytes.is_empty() => Value::Null,
        Err(_) => Value::String(String::from_utf8_lossy(&bytes).replace('\0', "\u{fffd}")),
    };
    Ok(Answer { status, headers, body: arvok_core::alert::clean_json(body) })
}
