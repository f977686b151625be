//! One request as it goes out: only to the connection's own origin, whatever an answer gave as
//! address, and what comes back within bounds.

use super::answer::{read, transport};
use crate::driver::{Way, unsent};
use arvok_core::{
    TRACEPARENT,
    connector::{Answer, Body, Failure, Request},
    text::cut,
};
use reqwest::{
    Client, Method, Url,
    header::{CONTENT_TYPE, HeaderName, HeaderValue},
};

/// A request that is whole but for the credential.
pub(super) fn build(
    client: &Client,
    way: Way<'_>,
    request: &Request,
) -> Result<reqwest::Request, Failure> {
    let base = way.base.trim_end_matches('/');
    let no_address = |e| unsent(format!("{base} is not an address: {e}"));
    let own = Url::parse(base).map_err(no_address)?;
    let mut url = if request.follows {
        own.join(&request.target)
            .map_err(|e| unsent(format!("the answer leads to no address: {e}")))?
    } else {
        Url::parse(&format!("{base}{}", request.target)).map_err(no_address)?
    };
    if url.origin() != own.origin() {
        return Err(unsent(format!("the request would leave {base}: {}", cut(url.as_str(), 200))));
    }
    // A name and a password in what an answer gave as address would be shown beside the
    // connection's own credential.
    if url.set_username("").and_then(|()| url.set_password(None)).is_err() {
        return Err(unsent(format!("{base} has no place for a request")));
    }
    let method =
        Method::from_bytes(request.method.as_bytes()).map_err(|e| unsent(e.to_string()))?;
    let mut sending = client.request(method, url).timeout(way.timeout);
    for (name, value) in &request.headers {
        sending = sending.header(name, value);
    }
    let names =
        |header: &str| request.headers.iter().any(|(name, _)| name.eq_ignore_ascii_case(header));
    // What a connector's author writes there counts.
    if let Some(trace) = way.trace.filter(|_| !names(TRACEPARENT)) {
        sending = sending.header(TRACEPARENT, trace.to_string());
    }
    let has_kind = names(CONTENT_TYPE.as_str());
    let sending = match &request.body {
        None => sending,
        Some(Body::Json(body)) => {
            let sending =
                if has_kind { sending } else { sending.header(CONTENT_TYPE, "application/json") };
            sending.body(body.to_string())
        }
        Some(Body::Text { kind, text }) => {
            let sending = if has_kind { sending } else { sending.header(CONTENT_TYPE, *kind) };
            sending.body(text.clone())
        }
    };
    sending.build().map_err(|e| transport(&e, base, way.timeout))
}

/// Sends a request as it is.
pub(super) async fn sent(
    client: &Client,
    request: reqwest::Request,
    way: Way<'_>,
) -> Result<reqwest::Response, Failure> {
    client.execute(request).await.map_err(|e| transport(&e, way.base, way.timeout))
}

/// Sends a request as it is, and reads the answer.
pub(super) async fn answered(
    client: &Client,
    request: reqwest::Request,
    way: Way<'_>,
) -> Result<Answer, Failure> {
    read(sent(client, request, way).await?, way.base, way.timeout).await
}

/// Puts a header into a request, in place of one that its author wrote. What is shown there is in
/// no message.
///
/// # Errors
/// That it cannot stand in a header.
pub(super) fn put_header(
    request: &mut reqwest::Request,
    name: &str,
    value: &str,
) -> Result<(), String> {
    let name = HeaderName::try_from(name.to_ascii_lowercase());
    let name = name.map_err(|_| "what is shown has no name that a header can have".to_owned())?;
    let mut value = HeaderValue::try_from(value)
        .map_err(|_| format!("what is shown in `{name}` cannot stand in a header"))?;
    value.set_sensitive(true);
    request.headers_mut().insert(name, value);
    Ok(())
}
