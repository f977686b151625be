//! How many steps a job begins; and values that make what it wants impossible, which is said in
//! words while nothing is sent.

use crate::{
    Catalog,
    connector::MAX_OUTPUT,
    definition::Defined,
    document::parse_file,
    job::{MAX_BEGUN, play},
    runbook::Runbook,
};

fn runbook(text: &str) -> Runbook {
    Runbook::check(&parse_file("b.yaml", text).expect("reads")[0]).expect("checks")
}

/// A runbook that begins one step for the loop, one for each of a hundred, one for each of 98 in
/// these, one for a second loop, and one for each of its items.
fn many(items: usize, expect: &str) -> Runbook {
    let list = |n: usize| (0..n).map(|n| n.to_string()).collect::<Vec<_>>().join(", ");
    runbook(&format!(
        "runbook: many
inputs: {{ outer: {{ type: array }}, inner: {{ type: array }}, last: {{ type: array }} }}
target: vm/a
timeout: 10h
steps:
  - id: outer
    each: inputs.outer
    as: o
    at_once: 50
    gives: o
    steps: [ {{ id: inner, each: inputs.inner, as: i, at_once: 50, gives: i, steps: [ {{ id: one, set: {{ n: 1 }} }} ] }} ]
  - {{ id: last, each: inputs.last, as: l, at_once: 50, gives: l, steps: [ {{ id: two, set: {{ n: 1 }} }} ] }}
examples:
  - inputs: {{ outer: [{}], inner: [{}], last: [{}] }}
    expect: {expect}
",
        list(100),
        list(98),
        list(items)
    ))
}

#[test]
fn ten_thousand_steps_may_be_begun_and_not_one_more() {
    assert_eq!(MAX_BEGUN, 1 + 100 * (1 + 98) + 1 + 98);
    assert_eq!(play(&many(98, "{ state: succeeded }"), &Catalog::default()), []);
    let too_many = many(99, "{ state: failed, failure: has begun 10000 steps }");
    assert_eq!(play(&too_many, &Catalog::default()), []);
}

#[test]
fn what_cannot_be_worked_out_is_neither_sent_nor_waited_for() {
    let too_long = format!("[{}]", vec!["1"; 1_001].join(", "));
    let labels: Vec<String> = (0..65).map(|n| format!("l{n}: a")).collect();
    let many_labels = format!("emit: it.said, labels: {{ {} }}", labels.join(", "));
    for (step, inputs, failure) in [
        (many_labels.as_str(), "[]", "emit: labels: at most 64 names and values"),
        (
            "each: inputs.list, as: i, steps: [ { id: one, set: { n: 1 } } ]",
            too_long.as_str(),
            "inputs.list has 1001 items; 1000 are allowed",
        ),
        ("call: vm.power, via: yard, give: { on: '${inputs.list[3]}' }", "[1]", "give: "),
        (
            "await: { kinds: '${inputs.list}' }, within: 1h, else: nobody came",
            "[]",
            "kinds: the list is empty: nothing could ever come",
        ),
        (
            "await: { kinds: '${inputs.list}' }, within: 1h, else: nobody came",
            "[[]]",
            "kinds: `[]` is not a text",
        ),
        (
            "await: { kinds: '${inputs.list}' }, within: 1h, else: nobody came",
            "[a.b]",
            "nobody came",
        ),
    ] {
        let text = format!(
            "runbook: odd
inputs: {{ list: {{ type: array }} }}
target: vm/a
timeout: 2h
steps: [ {{ id: it, {step} }} ]
examples:
  - {{ inputs: {{ list: {inputs} }}, expect: {{ state: failed, failure: '{failure}', calls: [] }} }}
"
        );
        assert_eq!(play(&runbook(&text), &Catalog::default()), [], "{step} {inputs}");
    }
}

#[test]
fn a_job_of_a_step_that_an_example_stops_in_time_has_done_nothing_that_is_taken_back() {
    for (stops, calls) in [("30s", "[]"), ("20m", "[hand.undo]")] {
        let text = format!(
            "runbook: above
inputs: {{}}
target: vm/a
timeout: 1h
steps: [ {{ id: hand, runbook: hand-over, undo: {{ call: keyed.remove, via: desk }} }} ]
examples:
  - answers: {{ hand: {{ after: 10m, stops: {stops} }} }}
    meanwhile: [ {{ at: 1m, cancel: enough, undo: true }} ]
    expect: {{ state: cancelled, calls: {calls} }}
"
        );
        assert_eq!(play(&runbook(&text), &Catalog::default()), [], "it stops after {stops}");
    }
}

#[test]
fn what_the_items_of_a_list_give_has_room_to_the_last_byte() {
    let around = r#"[{"item":1,"gives":""}]"#.len();
    for (more, expect) in [
        (0, "{ state: succeeded }"),
        (1, "{ state: failed, failure: 'has 262145 bytes; 262144 are allowed' }"),
    ] {
        let text = format!(
            "runbook: wide
inputs: {{ text: {{ type: string }} }}
target: vm/a
steps: [ {{ id: it, each: '[1]', as: i, gives: inputs.text, steps: [ {{ id: one, set: {{ n: 1 }} }} ] }} ]
examples:
  - {{ inputs: {{ text: '{}' }}, expect: {expect} }}
",
            "x".repeat(MAX_OUTPUT - around + more)
        );
        assert_eq!(play(&runbook(&text), &Catalog::default()), [], "{more} too many");
    }
}
