//! The trace that a message belongs to (W3C Trace Context).

use super::HEADERS;
use crate::{TRACEPARENT, TraceContext};
use serde_json::{Map, Value};

/// The trace that a message belongs to: what it says itself as the CloudEvents extension for
/// distributed tracing, else what the headers among its properties say.
pub(in crate::source) fn trace_of(
    body: &Value,
    properties: &Map<String, Value>,
) -> Option<TraceContext> {
    let read = |from: Option<&Map<String, Value>>| {
        from?.get(TRACEPARENT).and_then(Value::as_str).and_then(TraceContext::parse)
    };
    let event = body.as_object().filter(|event| event.contains_key("specversion"));
    read(event).or_else(|| read(properties.get(HEADERS).and_then(Value::as_object)))
}

#[cfg(test)]
mod tests {
    use super::*;
    use serde_json::json;

    const SENT: &str = "00-4bf92f3577b34da6a3ce929d0e0e4736-00f067aa0ba902b7-01";

    #[test]
    fn an_event_says_more_than_its_request() {
        let other = "00-11111111111111111111111111111111-2222222222222222-00";
        let properties = Map::from_iter([(HEADERS.to_owned(), json!({ "traceparent": other }))]);
        let trace = |body: Value| trace_of(&body, &properties).map(|t| t.to_string());
        assert_eq!(
            trace(json!({ "specversion": "1.0", "traceparent": SENT })).as_deref(),
            Some(SENT)
        );
        assert_eq!(
            trace(json!({ "specversion": "1.0", "traceparent": 7 })).as_deref(),
            Some(other)
        );
        // What is no CloudEvent may mean something else by the name.
        assert_eq!(trace(json!({ "traceparent": SENT })).as_deref(), Some(other));
        assert_eq!(trace_of(&json!({}), &Map::new()), None);
    }
}
