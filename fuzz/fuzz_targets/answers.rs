//! Any bytes as what other sides say: XML of hypervisors and devices, numbers of objects, counters.
#![no_main]

use arvok_core::connector::{
    Hiding, announced,
    libvirt::{counted, definition, most_kib, progress, snapshot},
    snmp::ObjectId,
};
use libfuzzer_sys::fuzz_target;

fuzz_target!(|bytes: &[u8]| {
    if let Ok(described) = definition(bytes) {
        assert!(described.is_object() || described.is_string());
    }
    let _ = (most_kib(bytes), snapshot("a", bytes), announced(bytes, Hiding::NOTHING));
    let Ok(text) = std::str::from_utf8(bytes) else { return };
    for line in text.lines() {
        if let Some(number) = ObjectId::parse(line) {
            assert_eq!(ObjectId::parse(&number.to_string()), Some(number));
        }
    }
    let named = text.lines().map(|line| {
        let (name, value) = line.split_once('=').unwrap_or((line, "1"));
        let value = serde_json::from_str(value).unwrap_or_else(|_| value.into());
        (name.to_owned(), value)
    });
    let fields: Vec<(String, serde_json::Value)> = named.collect();
    let came = progress(1, &fields);
    assert!(came["percent"].as_u64().is_some_and(|percent| percent <= 100), "{came}");
    let _ = counted(fields);
});
