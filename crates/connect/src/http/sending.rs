//! One request and its answer, with the credential of its connection.

use super::{
    answer::{head, read},
    credentials::Credentials,
    request::{build, sent},
};
use crate::driver::Way;
use arvok_core::connector::{Answer, Failure, Request};
use reqwest::{Client, StatusCode};
use serde_json::{Map, Value};

/// Sends a request with the connection's credential, and reads the answer.
pub(super) async fn send(
    credentials: &Credentials,
    client: &Client,
    way: Way<'_>,
    request: &Request,
) -> Result<Answer, Failure> {
    let request = build(client, way, request)?;
    let (response, hidden) = execute(credentials, client, way, request).await?;
    let answer = read(response, way.base, way.timeout).await?;
    Ok(hide(answer, hidden))
}

/// Sends a request with the connection's credential; with the answer, whose body is yet to be read,
/// comes what nobody may see in it.
pub(super) async fn execute(
    credentials: &Credentials,
    client: &Client,
    way: Way<'_>,
    mut request: reqwest::Request,
) -> Result<(reqwest::Response, Vec<String>), Failure> {
    let again = request.try_clone();
    let shown = credentials.show(&mut request, client, way, None).await?;
    let response = sent(client, request, way).await?;
    // Refused, so nothing was done: a token may be taken back before its time.
    let (shown, response) = match again {
        Some(mut again) if shown.is_refused(&head(&response)) => {
            let refused = Some((shown, &head(&response)));
            let shown = credentials.show(&mut again, client, way, refused).await?;
            (shown, sent(client, again, way).await?)
        }
        _ => (shown, response),
    };
    let hidden = shown.hidden();
    if response.status() != StatusCode::UNAUTHORIZED {
        credentials.keep(shown, way);
    }
    Ok((response, hidden))
}

/// An answer without what was fetched or opened for it.
fn hide(answer: Answer, hidden: Vec<String>) -> Answer {
    if hidden.is_empty() {
        return answer;
    }
    let redactor = crate::Redactor::new(hidden);
    let headers = match redactor.value(Value::Object(answer.headers)) {
        Value::Object(headers) => headers,
        _ => Map::new(),
    };
    Answer { status: answer.status, headers, body: redactor.value(answer.body) }
}
