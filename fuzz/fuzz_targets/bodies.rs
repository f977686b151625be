//! Any bytes as a body of each form that a webhook takes, and as a time: alerts, or a reason. The
//! first byte says which form.
#![no_main]

use arvok_core::{
    definition::Defined,
    document::parse_file,
    source::{Delivery, Source},
};
use libfuzzer_sys::fuzz_target;
use serde_json::Map;
use std::sync::LazyLock;

const FORMS: [&str; 6] = [
    "body: json",
    "body: form",
    "body: form, field: payload",
    "body: xml, lists: [check]",
    "body: text, parts: { pairs: true }",
    "body: lines, parts: { pattern: '^(?<host>\\S+) (?<level>\\w+)?:? (?<text>.*)$' }",
];

static SOURCES: LazyLock<Vec<Source>> = LazyLock::new(|| {
    let source = |form: &&str| {
        let document = format!(
            "source: fuzz\nintake: {{ webhook: {{ credential: {{ bearer: \"${{secret('fuzz')}}\" }}, {form} }} }}\n\
            read: {{ kind: '\"k\"', resource: '\"r/\" + slug(string(body))', time: {{ of: string(body), as: '%b %d %T', zone: Europe/London }}, value: string(body), labels_of: body }}\n"
        );
        let documents = parse_file("fuzz.yaml", &document).expect("is YAML");
        Source::check(&documents[0]).expect("is a source")
    };
    FORMS.iter().map(source).collect()
});

fuzz_target!(|bytes: &[u8]| {
    let Some((form, raw)) = bytes.split_first() else { return };
    let source = &SOURCES[usize::from(*form) % SOURCES.len()];
    let outcome = source.read(&Delivery {
        raw,
        properties: &Map::new(),
        received: chrono::DateTime::from_timestamp(1_790_000_000, 0).expect("a time"),
        fallback_id: "1",
        normal: false,
    });
    assert!(outcome.alerts.len() + outcome.unreadable.len() + outcome.left_out > 0);
});
