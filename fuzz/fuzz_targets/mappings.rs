//! Any text as the lines of a source's `read`, over any payload: alerts in the normal form, or a
//! reason. The text and the payload are parted by a NUL.
#![no_main]

use arvok_core::{
    definition::Defined,
    document::parse_file,
    source::{Delivery, Source},
};
use libfuzzer_sys::fuzz_target;
use serde_json::{Map, json};

const PAYLOAD: &str = "{\"host\": \"a\", \"checks\": [{\"ok\": true}, 5, null]}";

fuzz_target!(|text: &str| {
    let (read, payload) = text.split_once('\0').unwrap_or((text, PAYLOAD));
    let indented: String = read.lines().map(|l| format!("  {l}\n")).collect();
    let document = format!(
        "source: fuzz\nintake: {{ webhook: {{ credential: {{ bearer: \"${{secret('fuzz')}}\" }} }} }}\nread:\n{indented}"
    );
    let Ok(documents) = parse_file("fuzz.yaml", &document) else { return };
    let Some(source) = documents.first().and_then(|d| Source::check(d).ok()) else { return };
    let headers = Map::from_iter([("headers".to_owned(), json!({ "user-agent": "fuzz" }))]);
    let outcome = source.read(&Delivery {
        raw: payload.as_bytes(),
        properties: &headers,
        received: chrono::DateTime::from_timestamp(1_790_000_000, 0).expect("a time"),
        fallback_id: "1",
        normal: false,
    });
    assert!(outcome.alerts.iter().all(|a| !a.id.is_empty() && !a.kind.is_empty()));
});
