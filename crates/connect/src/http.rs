//! Calls over HTTP. They go only to the connection's own base address: redirects are not
//! followed, names and paths cannot lead elsewhere, answers are bounded.

use crate::{Redactor, http_client};
use arvok_core::{
    bounds::{depth_complaint, too_deep},
    connector::{Answer, CallEnd, Failure, Opened, Operation, Request},
};
use reqwest::{Client, Method, Url, redirect::Policy};
use serde_json::{Map, Value};
use std::time::Duration;

/// Largest answer that is read, in bytes.
const MAX_ANSWER: usize = 1 << 20;

/// The HTTP side of described connectors.
#[derive(Clone, Debug)]
pub struct Http {
    pub(crate) client: Client,
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
    pub credential: Option<&'a Opened>,
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
        let client = http_client()
            .redirect(Policy::none())
            // A line kept open may be closed by the other side at the very moment of a call, and then
            // nobody knows whether the call was taken.
            .pool_max_idle_per_host(0)
            .user_agent(concat!("arvok/", env!("CARGO_PKG_VERSION")))
            .build()
            .map_err(|e| CallError(e.to_string()))?;
        Ok(Self { client })
    }

    /// Sends one request and reads the answer. Secrets are taken out of outputs and messages.
    pub async fn call(&self, call: Call<'_>) -> Result<Value, Failure> {
        let clean = |f: Failure| Failure { message: call.redactor.text(&f.message), ..f };
        let planned = call.operation.request(call.give, call.key).map_err(|e| unsent(e.to_string()));
        let answer = self.send(&call, &planned.map_err(clean)?).await.map_err(clean)?;
        let output = call.operation.answer(call.give, &answer).map_err(clean)?;
        Ok(call.redactor.value(output))
    }

    async fn send(&self, call: &Call<'_>, request: &Request) -> Result<Answer, Failure> {
        let base = call.base.trim_end_matches('/');
        let url = Url::parse(&format!("{base}{}", request.target))
            .map_err(|e| unsent(format!("{base} is not an address: {e}")))?;
        let own = Url::parse(base).map_err(|e| unsent(format!("{base} is not an address: {e}")))?;
        if url.origin() != own.origin() {
            return Err(unsent(format!("the request would leave {base}")));
        }
        let method = Method::from_bytes(request.method.as_bytes()).map_err(|e| unsent(e.to_string()))?;
        let mut sending = self.client.request(method, url).timeout(call.timeout);
        for (name, value) in &request.headers {
            sending = sending.header(name, value);
        }
        sending = match call.credential {
            None => sending,
            Some(Opened::Bearer(token)) => sending.bearer_auth(token),
            Some(Opened::Basic { user, password }) => sending.basic_auth(user, Some(password)),
            Some(Opened::Header { name, value }) => sending.header(name, value),
        };
        if let Some(body) = &request.body {
            sending = sending.json(body);
        }
        let response = sending.send().await.map_err(|e| transport(&e, base, call.timeout))?;
        read(response, base, call.timeout).await
    }
}

/// What cannot be sent as it is.
fn unsent(message: String) -> Failure {
    Failure::lasting(CallEnd::NotSent, message)
}

/// A connection that was refused has done nothing; after anything later the request may have
/// arrived.
pub(crate) fn transport(e: &reqwest::Error, base: &str, timeout: Duration) -> Failure {
    if e.is_builder() {
        return unsent(format!("{base}: the request cannot be made: {e}"));
    }
    if e.is_connect() {
        return Failure::new(CallEnd::NotSent, format!("cannot connect to {base}"));
    }
    let what = if e.is_timeout() {
        format!("no answer within {} s", timeout.as_secs_f32())
    } else {
        "the connection broke".into()
    };
    Failure::new(CallEnd::Unknown, format!("{base}: {what}"))
}

async fn read(mut response: reqwest::Response, base: &str, timeout: Duration) -> Result<Answer, Failure> {
    let status = response.status().as_u16();
    let good = (200..300).contains(&status);
    let headers: Map<String, Value> =
        response.headers().iter().filter_map(|(k, v)| Some((k.to_string(), Value::from(v.to_str().ok()?)))).collect();
    let mut bytes = Vec::new();
    loop {
        match response.chunk().await {
            Ok(Some(chunk)) => bytes.extend_from_slice(&chunk),
            Ok(None) => break,
            // What a refusal says besides its status is not needed.
            Err(_) if !good => break,
            Err(e) => return Err(transport(&e, base, timeout)),
        }
        if bytes.len() > MAX_ANSWER {
            if !good {
                bytes.clear();
                break;
            }
            let message = format!("answered {status} with more than {MAX_ANSWER} bytes");
            return Err(Failure::lasting(CallEnd::Done, message));
        }
    }
    let body = match serde_json::from_slice(&bytes) {
        Ok(json) if too_deep(&json) && good => {
            let message = format!("answered {status}, and what it answered {}", depth_complaint());
            return Err(Failure::lasting(CallEnd::Done, message));
        }
        Ok(json) if !too_deep(&json) => json,
        _ if bytes.is_empty() => Value::Null,
        _ => Value::String(String::from_utf8_lossy(&bytes).replace('\0', "\u{fffd}")),
    };
    Ok(Answer { status, headers, body: arvok_core::text::clean_json(body) })
}
