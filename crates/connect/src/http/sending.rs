//! One request and its answer, with the credential of its connection.

use super::{
    credentials::Credentials,
    request::{build, sent},
};
use crate::driver::Way;
use arvok_core::connector::{Answer, Failure, Request};
use reqwest::Client;
use serde_json::{Map, Value};

/// Sends a request with the connection's credential.
pub(super) async fn send(
    credentials: &Credentials,
    client: &Client,
    way: Way<'_>,
    request: &Request,
) -> Result<Answer, Failure> {
    let mut request = build(client, way, request)?;
    let again = request.try_clone();
    let shown = credentials.show(&mut request, client, way, None).await?;
    let answer = sent(client, request, way).await?;
    // Refused, so nothing was done: a token may be taken back before its time.
    let (shown, answer) = match again {
        Some(mut again) if shown.is_refused(&answer) => {
            let refused = Some((shown, &answer));
            let shown = credentials.show(&mut again, client, way, refused).await?;
            (shown, sent(client, again, way).await?)
        }
        _ => (shown, answer),
    };
    let answer = hide(answer, shown.hidden());
    if answer.status != 401 {
        credentials.keep(shown, way);
    }
    Ok(answer)
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
