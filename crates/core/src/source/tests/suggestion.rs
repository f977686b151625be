//! Lines that are suggested from what was caught.

use super::*;
use crate::source::{Suggestion, suggest};

fn suggested(payloads: &[String]) -> Option<Suggestion> {
    let source = source("").expect("checks");
    let raw: Vec<&[u8]> = payloads.iter().map(String::as_bytes).collect();
    suggest(&source, &raw, DateTime::UNIX_EPOCH)
}

/// The lines with their reasons, and how many payloads they read.
fn shown(suggestion: Option<Suggestion>) -> String {
    let Some(Suggestion { lines, payloads, readable, .. }) = suggestion else {
        return "nothing".into();
    };
    let line = |l: &SuggestedLine| format!("{}: {}\n    {}\n", l.line, l.text, l.why);
    let lines: String = lines.iter().map(line).collect();
    format!("{lines}reads {readable} of {payloads}")
}

#[test]
fn a_list_of_checks_is_read_element_by_element() {
    let payloads: Vec<String> = (0..5)
        .map(|run| {
            let checks: Vec<Value> = (0..3)
                .map(|n| {
                    json!({ "id": format!("{run}-{n}"), "test": "page.load", "level":
                        if n == 0 { "hard" } else { "soft" }, "ok": n == 2,
                        "host": format!("kiosk-{n}"), "seconds": 0.5 + f64::from(n),
                        "at": "2026-11-02T07:00:00Z", "text": "The page is slow", "site": "brack" })
                })
                .collect();
            json!({ "run": run, "checks": checks }).to_string()
        })
        .collect();
    insta::assert_snapshot!(shown(suggested(&payloads)));
}

#[test]
fn words_of_senders_are_translated_and_what_is_over_is_found() {
    let statuses = ["PROBLEM", "OK", "PROBLEM", "OK"];
    let payloads: Vec<String> = (0..4)
        .map(|n| {
            let level = ["Disaster", "warn", "High", "average"][n];
            json!({ "eventType": "disk.full", "Priority": level, "status": statuses[n],
                "hostName": "quill-booking-db-1", "timestamp": 1_793_600_000 + n,
                "used": format!("{n}1.5 %"), "password": "never-shown" })
            .to_string()
        })
        .collect();
    let shown = shown(suggested(&payloads));
    assert!(!shown.contains("never-shown"));
    insta::assert_snapshot!(shown);
}

#[test]
fn forms_xml_and_pairs_are_known_by_their_looks() {
    let of = |payloads: &[&str]| {
        let payloads: Vec<String> = payloads.iter().map(|p| (*p).to_owned()).collect();
        shown(suggested(&payloads))
    };
    insta::assert_snapshot!(of(&[
        "host=kiosk-1&level=warn&check=web.page",
        "host=kiosk-2&level=crit&check=web.page"
    ]));
    insta::assert_snapshot!(of(&["<alert level=\"minor\"><host>kiosk-1</host></alert>"]));
    insta::assert_snapshot!(of(&["host=kiosk-1 severity=major msg=\"page is slow\""]));
    assert_eq!(of(&["The page of kiosk-1 is slow."]), "nothing");
    assert_eq!(of(&[]), "nothing");
}

#[test]
fn whatever_names_fields_have_what_is_suggested_is_well_formed() {
    let odd = json!({ "ho st": "a", "it's": "b", "host\"": "c", "severity": "it's: {bad}", "level": "warn",
        "a.b": "d", "": "e", "kind": "Disk Full!", "host": "two words", "device": "sw-1",
        "labels": { "x y": "z" } });
    let Suggestion { read, readable, .. } = suggested(&vec![odd.to_string(); 4]).expect("some");
    assert_eq!(readable, 4, "{read}");
    for odd in [json!([[]]), json!([]), json!([{}]), json!({ "a": [{}] }), json!("x")] {
        if let Some(Suggestion { read, .. }) = suggested(&[odd.to_string()]) {
            source(&read).expect(&read);
        }
    }
}
