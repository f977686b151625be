//! What comes back: an answer within bounds, or why there is none and what is known then.

use crate::driver::unsent;
use arvok_core::{
    bounds::{depth_diagnostic, too_deep},
    connector::{Answer, CallEnd, Failure},
    text::cut,
};
use serde_json::{Map, Value};
use std::{error::Error, time::Duration};

/// Largest answer that is read, in bytes.
const MAX_ANSWER: usize = 1 << 20;

/// A connection that was refused has done nothing; after anything later the request may have
/// arrived.
pub(crate) fn transport(e: &reqwest::Error, base: &str, timeout: Duration) -> Failure {
    if e.is_builder() {
        return unsent(format!("{base}: the request cannot be made: {e}"));
    }
    if e.is_connect() {
        return Failure::new(CallEnd::NotSent, format!("cannot connect to {base}{}", distrust(e)));
    }
    let what = if e.is_timeout() {
        format!("no answer within {} s", timeout.as_secs_f32())
    } else {
        "the connection broke".into()
    };
    Failure::new(CallEnd::Unknown, format!("{base}: {what}"))
}

/// That a certificate was the reason, and why.
fn distrust(e: &reqwest::Error) -> String {
    let causes = std::iter::successors(e.source(), |e| (*e).source()).map(ToString::to_string);
    let why = causes.filter(|cause| cause.contains("certificate")).last();
    why.map_or_else(String::new, |why| format!(": {}", cut(&why, 200)))
}

/// The status and the headers of an answer whose body is yet to be read.
pub(super) fn head(response: &reqwest::Response) -> Answer {
    let mut headers = Map::new();
    for (name, value) in response.headers() {
        let Ok(value) = value.to_str() else { continue };
        match headers.entry(name.to_string()) {
            serde_json::map::Entry::Vacant(new) => _ = new.insert(value.into()),
            serde_json::map::Entry::Occupied(mut old) => {
                let all = format!("{}, {value}", old.get().as_str().unwrap_or_default());
                old.insert(all.into());
            }
        }
    }
    Answer { status: response.status().as_u16(), headers, body: Value::Null }
}

/// Reads an answer to its end.
pub(super) async fn read(
    mut response: reqwest::Response,
    base: &str,
    timeout: Duration,
) -> Result<Answer, Failure> {
    let Answer { status, headers, .. } = head(&response);
    let good = (200..300).contains(&status);
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
            let message = format!("answered {status}, and what it answered {}", depth_diagnostic());
            return Err(Failure::lasting(CallEnd::Done, message));
        }
        Ok(json) if !too_deep(&json) => json,
        _ if bytes.is_empty() => Value::Null,
        _ => Value::String(String::from_utf8_lossy(&bytes).replace('\0', "\u{fffd}")),
    };
    Ok(Answer { status, headers, body: arvok_core::text::clean_json(body) })
}
