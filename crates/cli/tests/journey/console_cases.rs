//! The console's pure parts: what it says of times and numbers, how texts differ, where a cursor stands in a rule and
//! what it is offered there, what a rehearsal draws. Cases of data, run in the browser that people use.

use crate::kit::{Browser, Stage};
use serde_json::{Value, json};
use std::{collections::BTreeMap, fmt::Write, fs};

const CONSOLE: &str = concat!(env!("CARGO_MANIFEST_DIR"), "/../../console");

#[test]
fn the_consoles_pure_parts_give_what_is_written_down() {
    let read = |file: &str| fs::read_to_string(format!("{CONSOLE}/{file}")).expect(file);
    let written: Value = serde_json::from_str(&read("tests/cases.json")).expect("JSON");
    let cases = written["cases"].as_array().expect("cases");
    let given = |case: &Value| -> Value {
        let given = case[1].as_array().expect("what is given");
        let named = |g: &Value| match g.as_str() {
            Some("KNOWN") => written["known"].clone(),
            // What a runbook's editor knows, with the same words.
            Some("BOOK") => {
                let mut book = written["book"].clone();
                book["words"] = written["known"]["words"].clone();
                book
            }
            _ => g.clone(),
        };
        given.iter().map(named).collect()
    };
    let filled: Value = cases.iter().map(|case| json!([case[0], given(case)])).collect();
    let browser = Browser::open(&Stage::bare(), true);
    let gave = browser.run(&format!("{}; return cases.play({filled})", read("dist-cases/cases.js")));
    let gave = gave.as_array().expect("an answer for each");
    assert_eq!(gave.len(), cases.len());
    let mut told: BTreeMap<&str, String> = BTreeMap::new();
    for (case, gave) in cases.iter().zip(gave) {
        let line = told.entry(case[0].as_str().expect("a name")).or_default();
        let given: Vec<String> = case[1].as_array().expect("given").iter().map(ToString::to_string).collect();
        writeln!(line, "{} -> {gave}", given.join(", ")).expect("writes");
    }
    let told: Vec<String> = told.into_iter().map(|(name, cases)| format!("{name}\n{cases}")).collect();
    insta::assert_snapshot!("pure_parts", told.join("\n"));
}
