//! Any text as an expression: it is compiled and evaluated within its budget, explained and
//! looked through, or refused.
#![no_main]

use arvok_core::{
    Alert, NewAlert,
    alert::Delivery,
    expr::{Expr, Template},
    rule::{ALERT, AlertScope},
};
use libfuzzer_sys::fuzz_target;
use std::sync::LazyLock;

static SAMPLE: LazyLock<Alert> = LazyLock::new(|| {
    let new: NewAlert = serde_json::from_value(serde_json::json!({
        "kind": "disk.usage", "resource": "vm/quill-booking-db-1", "severity": "major", "value": 88.5,
        "labels": { "site": "quill", "tier": "gold" },
        "body": { "disks": [{ "name": "data", "gib": 40 }, { "name": "log", "gib": 8 }], "host": "quill-hv-1", "up": true }
    }))
    .expect("an alert");
    let received = chrono::DateTime::from_timestamp(1_790_000_000, 0).expect("a time");
    new.complete(Delivery { source: "yard-hypervisor", received, fallback_id: "1" }).expect("the normal form")
});

fuzz_target!(|text: &str| {
    let scope = AlertScope(&SAMPLE);
    if let Ok(expr) = Expr::compile(text, ALERT) {
        let value = expr.eval(&scope).map(|v| (v.text(), v.to_json()));
        let holds = expr.holds(&scope);
        let _ = (value, expr.limits(), expr.reads_body());
        let parts = expr.explain(&scope);
        if holds == Ok(true) {
            assert!(parts.iter().all(|p| p.holds == Some(true)), "{text}: {parts:?}");
        }
    }
    if let Ok(template) = Template::compile(&serde_json::Value::from(text), ALERT) {
        let _ = template.fill(&scope);
    }
});
