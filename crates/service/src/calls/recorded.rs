//! What is kept of requests and answers: as they were, as far as that is not too long.

use arvok_api::CallAnswer;
use arvok_core::{connector::Answer, text::cut};
use serde_json::Value;

/// Longest body that is kept, in bytes.
pub(crate) const LONGEST_BODY: usize = 16_384;
/// Longest header that is kept, in bytes.
const LONGEST_HEADER: usize = 500;

/// An answer as it is kept.
pub(crate) fn answer_kept(Answer { status, headers, body }: Answer) -> CallAnswer {
    let header = |(name, value): (String, Value)| match value {
        Value::String(text) => (name, cut(&text, LONGEST_HEADER).into()),
        other => (name, other),
    };
    CallAnswer { status, headers: headers.into_iter().map(header).collect(), body: body_kept(body) }
}

/// A body as it is kept.
pub(crate) fn body_kept(body: Value) -> Value {
    match body.to_string() {
        long if long.len() > LONGEST_BODY => {
            Value::String(format!("{}…", cut(&long, LONGEST_BODY)))
        }
        _ => body,
    }
}
