//! An event as it leaves: a CloudEvent (CloudEvents 1.0.2, structured mode in JSON).

use crate::{Alert, TRACEPARENT};
use chrono::SecondsFormat;
use serde_json::{Map, Value, json};

/// The media type of an event that leaves (CloudEvents JSON format, section 3).
pub const CONTENT_TYPE: &str = "application/cloudevents+json; charset=utf-8";

/// One of Arvok's own events as a CloudEvent; `installation` is the random id of those whose events
/// these are.
///
/// `source` and `id` together are unique, as section 3.1.1 wants it: an event that comes twice is
/// known by them. The trace of its job comes along as the extension for distributed tracing.
pub fn envelope(event: &Alert, installation: &str) -> Value {
    let told = event.body.as_object().into_iter().flatten().map(|(k, v)| (k.clone(), v.clone()));
    let mut data: Map<String, Value> = told.collect();
    data.insert("severity".into(), json!(event.severity));
    data.insert("summary".into(), json!(event.summary));
    data.insert("labels".into(), json!(event.labels));
    let mut envelope = json!({
        "specversion": "1.0",
        "id": event.id,
        "source": format!("/arvok/{installation}"),
        "type": format!("arvok.{}", event.kind),
        "subject": event.resource.as_str(),
        "time": event.time.to_rfc3339_opts(SecondsFormat::Micros, true),
        "datacontenttype": "application/json",
        "data": data,
    });
    if let Some(trace) = event.trace {
        envelope[TRACEPARENT] = trace.to_string().into();
    }
    envelope
}
