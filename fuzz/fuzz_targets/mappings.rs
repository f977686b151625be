//! Any text as the lines of a source's `read`, over any payload: alerts in the normal form, or a
//! reason. The text and the payload are parted by a NUL.
#![no_main]

use arvok_core::{
    document::parse_file,
    source::{Payload, Source},
};
use libfuzzer_sys::fuzz_target;
use serde_json::{Value, json};

fuzz_target!(|text: &str| {
    let (read, payload) = text.split_once('\0').unwrap_or((text, "{\"host\": \"a\", \"checks\": [{\"ok\": true}, 5, null]}"));
    let body: Value = serde_json::from_str(payload).unwrap_or_else(|_| json!({ "text": payload }));
    let indented: String = read.lines().map(|l| format!("  {l}\n")).collect();
    let document = format!(
        "source: fuzz\nintake: {{ webhook: {{ credential: {{ bearer: \"${{secret('fuzz')}}\" }} }} }}\nread:\n{indented}"
    );
    let Ok(documents) = parse_file("fuzz.yaml", &document) else { return };
    let Some(source) = documents.first().and_then(|d| Source::check(d).ok()) else { return };
    let payload = Payload {
        body: &body,
        beside: &[("headers", &json!({ "user-agent": "fuzz" }))],
        received: chrono::DateTime::from_timestamp(1_790_000_000, 0).expect("a time"),
        fallback_id: "1",
        normal: false,
    };
    if let Ok(outcome) = source.read(payload) {
        assert!(outcome.alerts.iter().all(|a| !a.id.is_empty() && !a.kind.is_empty()));
    }
});
