//! One request and its answer. It goes only to the connection's own origin: redirects are not
//! followed, what answers give as addresses leads nowhere else, and answers are bounded.

use super::{
    answer::{read, transport},
    tokens::{Asking, Tokens},
};
use crate::driver::{Way, unsent};
use arvok_core::{
    TRACEPARENT,
    connector::{Answer, Body, Failure, Opened, Request},
    text::cut,
};
use reqwest::{Client, Method, RequestBuilder, Url, header::CONTENT_TYPE};
use serde_json::{Map, Value};
use std::time::Duration;

/// Sends a request with the connection's credential.
pub(super) async fn send(
    tokens: &Tokens,
    client: &Client,
    way: Way<'_>,
    request: &Request,
) -> Result<Answer, Failure> {
    let built = build(client, way, request)?;
    let Way { base, credential, timeout, .. } = way;
    let Some(Opened::OAuth2 { token, client: name, secret, scopes }) = credential else {
        return sent(shown(built, credential), base, timeout).await;
    };
    let asking = Asking { address: token, client: name, secret, scopes };
    let again = built.try_clone();
    let token = tokens.token(client, asking, None, timeout).await?;
    let answer = hide(sent(built.bearer_auth(&token), base, timeout).await, &token);
    // Refused, so nothing was done: a token may be taken back before its time.
    if let (Ok(Answer { status: 401, .. }), Some(again)) = (&answer, again) {
        let token = tokens.token(client, asking, Some(&token), timeout).await?;
        return hide(sent(again.bearer_auth(&token), base, timeout).await, &token);
    }
    answer
}

/// A request that is whole but for the credential.
fn build(client: &Client, way: Way<'_>, request: &Request) -> Result<RequestBuilder, Failure> {
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
    Ok(match &request.body {
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
    })
}

fn shown(sending: RequestBuilder, credential: Option<&Opened>) -> RequestBuilder {
    match credential {
        Some(Opened::Bearer(token)) => sending.bearer_auth(token),
        Some(Opened::Basic { user, password }) => sending.basic_auth(user, Some(password)),
        Some(Opened::Header { name, value }) => sending.header(name, value),
        // The one was shown when the line was made, the other is a token by now.
        None | Some(Opened::Certificate(_) | Opened::OAuth2 { .. } | Opened::Key { .. }) => sending,
    }
}

async fn sent(sending: RequestBuilder, base: &str, timeout: Duration) -> Result<Answer, Failure> {
    let response = sending.send().await.map_err(|e| transport(&e, base, timeout))?;
    read(response, base, timeout).await
}

/// An answer without the token that was fetched for it. Nobody has given it and no runbook can know
/// it, so it is no data of anybody's; after this call nothing could tell it from any other text.
fn hide(answer: Result<Answer, Failure>, token: &str) -> Result<Answer, Failure> {
    let redactor = crate::Redactor::new([token.to_owned()]);
    let answer = answer?;
    let headers = match redactor.value(Value::Object(answer.headers)) {
        Value::Object(headers) => headers,
        _ => Map::new(),
    };
    Ok(Answer { status: answer.status, headers, body: redactor.value(answer.body) })
}
