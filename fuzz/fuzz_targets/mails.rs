//! Any bytes as a mail: an alert, or a reason.
#![no_main]

use arvok_core::{
    definition::Defined,
    document::parse_file,
    source::{Delivery, Source},
};
use libfuzzer_sys::fuzz_target;
use serde_json::Map;
use std::sync::LazyLock;

static SOURCE: LazyLock<Source> = LazyLock::new(|| {
    let text = "source: fuzz\nintake: { mail: { lmtp: '127.0.0.1:2525' } }\n";
    let documents = parse_file("fuzz.yaml", text).expect("is YAML");
    Source::check(&documents[0]).expect("is a source")
});

fuzz_target!(|raw: &[u8]| {
    let outcome = SOURCE.read(&Delivery {
        raw,
        properties: &Map::new(),
        received: chrono::DateTime::from_timestamp(1_790_000_000, 0).expect("a time"),
        fallback_id: "1",
        normal: false,
    });
    assert_eq!(outcome.alerts.len() + outcome.unreadable.len(), 1);
});
