//! Somebody outside hears at intervals that Arvok does its work, and no more when it does not.

use crate::kit::{Peer, Stage, until};
use serde_json::Value;

/// A watch outside that wants to hear of the service every second.
fn definitions(watch: &Peer, unless: &str) -> String {
    format!(
        "connector: night-watch\noperations:\n  beat:\n    takes: {{ from: {{ type: string }}, \
        troubles: {{ type: array }} }}\n    request: {{ method: POST, path: /beats, body: {{ from: \
        \"${{give.from}}\", troubles: \"${{give.troubles}}\" }} }}\n    repeat: keyed\n---\nconnection: \
        night-watch\nconnector: night-watch\nbase: \"{}\"\npulse: {{ call: beat, every: 1s, unless: \
        [{unless}], give: {{ from: \"${{node}}\", troubles: \"${{alarms.map(a, a.kind)}}\" }} }}\n",
        watch.url
    )
}

fn pulse(stage: &Stage) -> Value {
    stage.get("/api/v1/connections/night-watch")["pulse"].clone()
}

/// Waits until the watch has heard so often.
fn until_heard(watch: &Peer, times: usize) {
    until(&format!("{times} pulses"), || (watch.told().len() >= times).then_some(()));
}

#[test]
fn one_node_calls_at_each_time_and_another_goes_on_when_it_dies() {
    let watch = Peer::start();
    let mut stage = Stage::bare();
    let second = stage.second_node();
    let unready = stage.node_with_key(&"0".repeat(64));
    let name = until("a node that is not ready", || {
        let nodes = stage.get("/api/v1/nodes")["nodes"].clone();
        let found = nodes.as_array()?.iter().find(|node| node["fault"].is_string())?.clone();
        found["name"].as_str().map(str::to_owned)
    });
    stage.publish(&definitions(&watch, ""));
    until_heard(&watch, 6);
    let told = watch.told();
    let mut keys: Vec<_> = told.iter().filter_map(|told| told.key.clone()).collect();
    keys.dedup();
    assert_eq!(keys.len(), told.len(), "each time has one call");
    let at = |n: usize| told[n].at;
    let (first, last) = (at(0), at(told.len() - 1));
    assert!(last - first > std::time::Duration::from_secs(3), "one a second");

    stage.kill_node();
    let before = watch.told().len();
    until_heard(&watch, before + 3);
    let shown = second.arvok(&["connection", "show", "night-watch"]).out;
    assert!(shown.contains("  pulse       beat every 1s\n"), "{shown}");
    assert_eq!(watch.count(&name), 0, "a node that is not ready does not say that it works");
    drop(unready);
}

#[test]
fn it_is_kept_back_by_the_alarms_it_names_and_says_why_it_fails() {
    let watch = Peer::start();
    let stage = Stage::bare();
    stage.publish(&definitions(&watch, "jobs.*"));
    until_heard(&watch, 2);
    assert_eq!(stage.arvok(&["halt", "begin", "--reason", "a look first"]).code, 0);
    until("it is kept back", || pulse(&stage)["held_by"][0].as_str().map(str::to_owned));
    let shown = stage.arvok(&["connection", "show", "night-watch"]).out;
    assert!(shown.contains("every 1s, not as long as this stands: jobs are halted by"), "{shown}");
    // What was under way when the alarm came has been heard of.
    let due = |stage: &Stage| pulse(stage)["next_at"].as_str().map(str::to_owned);
    let step = |from: Option<String>| {
        until("its next time", || due(&stage).filter(|next| Some(next) != from.as_ref()))
    };
    let mut next = step(due(&stage));
    let before = watch.told().len();
    for _ in 0..3 {
        next = step(Some(next));
    }
    assert_eq!(watch.told().len(), before, "nobody calls");

    // One that names no alarm is given what stands.
    stage.publish(&definitions(&watch, ""));
    until("it is told of the halt", || (watch.count("jobs.halted") > 0).then_some(()));
    assert_eq!(stage.arvok(&["halt", "lift"]).code, 0);

    watch.answers(503);
    let failed = until("the failure", || pulse(&stage)["failure"].as_str().map(str::to_owned));
    assert!(failed.contains("503"), "{failed}");
    let shown = stage.arvok(&["connection", "show", "night-watch"]).out;
    assert!(shown.contains("every 1s, which fails: "), "{shown}");
    watch.answers(200);
    until("it is well again", || pulse(&stage)["failure"].is_null().then_some(()));
}
