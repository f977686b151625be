//! Any text as a resource path, a length of time, a range of severities, an alert.
#![no_main]

use arvok_core::{NewAlert, Period, ResourcePath, alert::{Delivery, SeverityRange}, rehearse::written_alert};
use libfuzzer_sys::fuzz_target;

fuzz_target!(|text: &str| {
    if let Ok(path) = ResourcePath::parse(text) {
        assert_eq!(path.as_str(), text);
        assert!(text.split('/').count() >= 2);
    }
    if let Ok(period) = Period::parse(text) {
        assert_eq!(Period::parse(&period.to_string()), Ok(period));
    }
    let _ = SeverityRange::parse(text);
    if let Ok(value) = serde_json::from_str::<serde_json::Value>(text) {
        let _ = written_alert(&value, 1);
        if let Ok(new) = serde_json::from_value::<NewAlert>(value) {
            let received = chrono::DateTime::from_timestamp(1_790_000_000, 0).expect("a time");
            let _ = new.complete(Delivery { source: "fuzz", received, fallback_id: "1" });
        }
    }
});
