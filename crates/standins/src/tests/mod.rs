//! The stand-ins as their callers meet them: over HTTP, faults included.

mod board;
mod chat;
mod offices;
mod releases;
mod watch;
mod yard;

use reqwest::{Client, Method, RequestBuilder};
use serde_json::{Value, json};

/// A caller with a token.
struct Caller {
    http: Client,
    base: String,
    token: &'static str,
}

impl Caller {
    fn of(base: String, token: &'static str) -> Self {
        Self { http: arvok_connect::http_client().build().expect("a client"), base, token }
    }

    fn request(&self, method: Method, path: &str) -> RequestBuilder {
        self.http.request(method, format!("{}{path}", self.base)).bearer_auth(self.token)
    }

    /// Status and body; no status if the line broke.
    async fn ask(&self, request: RequestBuilder) -> (u16, Value) {
        let Ok(answer) = request.send().await else { return (0, Value::Null) };
        let status = answer.status().as_u16();
        match answer.bytes().await {
            Ok(bytes) => (status, serde_json::from_slice(&bytes).unwrap_or(Value::Null)),
            Err(_) => (0, Value::Null),
        }
    }

    async fn get(&self, path: &str) -> (u16, Value) {
        self.ask(self.request(Method::GET, path)).await
    }

    async fn post(&self, path: &str, body: Value) -> (u16, Value) {
        self.ask(self.request(Method::POST, path).json(&body)).await
    }

    /// With a key by which a repeated request is known.
    async fn post_once(&self, key: &str, path: &str, body: &Value) -> (u16, Value) {
        self.ask(self.request(Method::POST, path).header("Idempotency-Key", key).json(body)).await
    }

    async fn faults(&self, faults: Value) -> u16 {
        self.ask(self.request(Method::PUT, "/v1/faults").json(&faults)).await.0
    }
}

fn error(text: &str) -> Value {
    json!({ "error": text })
}
