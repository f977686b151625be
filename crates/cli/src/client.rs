//! Talking to a server: addresses, tokens, and what its refusals mean.

use crate::{args::Server, error::CliError, login::Logins};
use arvok_api::Problem;
use percent_encoding::{AsciiSet, NON_ALPHANUMERIC, utf8_percent_encode};
use reqwest::{Client as Http, Method, RequestBuilder, Response, StatusCode};
use serde::{Serialize, de::DeserializeOwned};
use serde_json::Value;
use std::time::Duration;

const HERE: &str = "http://127.0.0.1:8470";

/// A server and a token.
#[derive(Clone, Debug)]
pub struct Client {
    http: Http,
    address: String,
    token: Option<String>,
}

/// How long a connection is kept for the next request: less than the 5 s after which a node closes
/// it, perhaps at the very moment at which that is sent.
const IDLE: Duration = Duration::from_secs(3);

impl Client {
    /// The server of the flags or the environment, else the remembered one.
    pub fn of(server: &Server) -> Result<Self, CliError> {
        if let (Some(address), Some(token)) = (&server.server, &server.token) {
            return Self::new(address.clone(), Some(token.clone()));
        }
        let logins = Logins::load()?;
        // A remembered token goes to the remembered server only.
        let login = match &server.server {
            Some(address) => logins.at(address),
            None => logins.find(server.profile.as_deref())?,
        };
        let address = server.server.clone().or_else(|| login.map(|l| l.server.clone()));
        let token = server.token.clone().or_else(|| login.map(|l| l.token.clone()));
        Self::new(address.unwrap_or_else(|| HERE.into()), token)
    }

    /// A server and a token.
    pub fn new(address: String, token: Option<String>) -> Result<Self, CliError> {
        let http = arvok_connect::http_client()
            .connect_timeout(Duration::from_secs(5))
            .pool_idle_timeout(IDLE)
            .build()
            .map_err(|e| CliError::Here(e.to_string()))?;
        Ok(Self { http, address: address.trim_end_matches('/').to_owned(), token })
    }

    /// The server's address.
    pub fn address(&self) -> &str {
        &self.address
    }

    /// The token.
    pub fn token(&self) -> Option<&str> {
        self.token.as_deref()
    }

    fn request(&self, method: Method, path: &str) -> RequestBuilder {
        let request = self.http.request(method, format!("{}{path}", self.address));
        match &self.token {
            Some(token) => request.bearer_auth(token),
            None => request,
        }
    }

    /// Sends; anything but success becomes an error with the server's own words.
    async fn send(&self, request: RequestBuilder) -> Result<Response, CliError> {
        let response = request.send().await.map_err(|e| {
            let why = if e.is_builder() { "is not an address" } else { "does not answer" };
            CliError::Unreachable(format!(
                "{} {why}; is `arvok serve` running there? Name another with --server",
                self.address
            ))
        })?;
        let status = response.status();
        if status.is_success() {
            return Ok(response);
        }
        let text = response.text().await.unwrap_or_default();
        Err(refusal(status, &text))
    }

    async fn json<T: DeserializeOwned>(&self, request: RequestBuilder) -> Result<T, CliError> {
        let response = self.send(request).await?;
        response.json().await.map_err(|e| {
            CliError::Unreachable(format!("the server's answer is not as expected: {e}"))
        })
    }

    /// Whether the server can work.
    pub async fn is_ready(&self) -> Result<(), CliError> {
        self.send(self.request(Method::GET, "/readyz").timeout(Duration::from_secs(5)))
            .await
            .map(|_| ())
    }

    /// GET.
    pub async fn get<T: DeserializeOwned>(
        &self,
        path: &str,
        query: &[(&str, Option<String>)],
    ) -> Result<T, CliError> {
        let given: Vec<String> = query
            .iter()
            .filter_map(|(k, v)| Some(format!("{k}={}", percent(v.as_ref()?))))
            .collect();
        let path =
            if given.is_empty() { path.to_owned() } else { format!("{path}?{}", given.join("&")) };
        self.json(self.request(Method::GET, &path).timeout(Duration::from_secs(30))).await
    }

    /// A list, of which only what a filter says is wanted.
    pub async fn list<T: DeserializeOwned>(
        &self,
        path: &str,
        filter: &impl Serialize,
    ) -> Result<T, CliError> {
        let filter = serde_json::to_value(filter).unwrap_or_default();
        let text = |value: &Value| match value {
            Value::Null => None,
            Value::String(text) => Some(text.clone()),
            other => Some(other.to_string()),
        };
        let query: Vec<_> =
            filter.as_object().into_iter().flatten().map(|(k, v)| (k.as_str(), text(v))).collect();
        self.get(path, &query).await
    }

    /// The same, with a key by which a launch that is sent twice is known.
    pub async fn post_once<T: DeserializeOwned>(
        &self,
        path: &str,
        body: &impl Serialize,
        key: Option<&str>,
    ) -> Result<T, CliError> {
        let request = self.request(Method::POST, path).json(body);
        self.json(match key {
            Some(key) => request.header("Idempotency-Key", key),
            None => request,
        })
        .await
    }

    /// POST with a JSON body.
    pub async fn post<T: DeserializeOwned>(
        &self,
        path: &str,
        body: &impl Serialize,
    ) -> Result<T, CliError> {
        self.json(self.request(Method::POST, path).timeout(Duration::from_secs(60)).json(body))
            .await
    }

    /// PUT with a JSON body.
    pub async fn put<T: DeserializeOwned>(
        &self,
        path: &str,
        body: &impl Serialize,
    ) -> Result<T, CliError> {
        self.json(self.request(Method::PUT, path).timeout(Duration::from_secs(30)).json(body)).await
    }

    /// DELETE with an answer.
    pub async fn delete<T: DeserializeOwned>(&self, path: &str) -> Result<T, CliError> {
        self.json(self.request(Method::DELETE, path).timeout(Duration::from_secs(60))).await
    }

    /// A change without an answer.
    pub async fn change(
        &self,
        method: Method,
        path: &str,
        body: Option<&impl Serialize>,
    ) -> Result<(), CliError> {
        let request = self.request(method, path).timeout(Duration::from_secs(30));
        let request = match body {
            Some(body) => request.json(body),
            None => request,
        };
        self.send(request).await.map(|_| ())
    }

    /// Posts bytes of a content type; with a key they are taken once, however often they are sent.
    pub async fn deliver<T: DeserializeOwned>(
        &self,
        path: &str,
        kind: &str,
        key: Option<&str>,
        body: Vec<u8>,
    ) -> Result<T, CliError> {
        let mut request = self
            .request(Method::POST, path)
            .header("content-type", kind)
            .timeout(Duration::from_secs(60));
        if let Some(key) = key {
            request = request.header("idempotency-key", key);
        }
        // What is sent are no words of the command.
        self.json(request.body(body)).await.map_err(|e| match e {
            CliError::Usage(said) => CliError::Refused(said),
            other => other,
        })
    }

    /// POST with a JSON body; the answer comes in pieces.
    pub async fn post_stream(
        &self,
        path: &str,
        body: &impl Serialize,
    ) -> Result<Response, CliError> {
        self.send(self.request(Method::POST, path).json(body)).await
    }

    /// Opens the event stream.
    pub async fn stream(&self) -> Result<Response, CliError> {
        self.send(self.request(Method::GET, "/api/v1/stream")).await
    }
}

fn refusal(status: StatusCode, text: &str) -> CliError {
    let Ok(problem) = serde_json::from_str::<Problem>(text) else {
        // The server says no in its own words only: a proxy or a page for signing in has answered
        // in its place, and what was sent did not arrive.
        let who = "something between here and the server answered in its place";
        return CliError::Unreachable(format!("{who} ({status}); what was sent did not arrive"));
    };
    let shown: Vec<String> =
        problem.problems.into_iter().map(|p| arvok_core::Problem::from(p).to_string()).collect();
    let said = if shown.is_empty() {
        problem.detail
    } else {
        format!("{}\n{}", problem.detail, shown.join("\n"))
    };
    match status.as_u16() {
        400 => CliError::Usage(said),
        401 => CliError::Denied(format!(
            "{said} (or give it with --token, ARVOK_TOKEN or `arvok login`)"
        )),
        403 => CliError::Denied(said),
        404 => CliError::Missing(said),
        408 | 429 | 500.. => CliError::Unreachable(said),
        _ => CliError::Refused(said),
    }
}

/// All but the unreserved characters (RFC 3986, section 2.3).
const RESERVED: &AsciiSet = &NON_ALPHANUMERIC.remove(b'-').remove(b'.').remove(b'_').remove(b'~');

/// Percent-encodes a value for a path or a query.
pub fn percent(text: &str) -> String {
    utf8_percent_encode(text, RESERVED).to_string()
}
