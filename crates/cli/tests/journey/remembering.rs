//! What runs of a runbook remember for those that come after them: on any node, whoever dies.

use crate::kit::{Browser, Stage, until};
use reqwest::Method;
use serde_json::{Value, json};

/// Raises a share by a fifth each time, until all have it.
const ROLLOUT: &str = "
runbook: open-new-fares
inputs: { pause: { type: string, default: 0s }, on: { type: string, default: service/fares } }
memory: { percent: { type: integer, default: 0, maximum: 100 } }
target: '${inputs.on}'
steps:
  - { id: complete, when: memory.percent >= 100, finish: succeeded, because: All passengers have the new fares }
  - { id: raised, emit: rollout.raised, give: { percent: '${memory.percent + 20}' } }
  - { id: kept, remember: { percent: '${memory.percent + 20}' } }
  - { id: rest, pause: '${inputs.pause}' }
outputs: { percent: '${memory.percent}' }
examples:
  - memory: { percent: 80 }
    expect: { state: succeeded, emits: [rollout.raised], remembers: { percent: 100 } }
  - memory: { percent: 100 }
    expect: { state: succeeded, emits: [], remembers: { percent: 100 } }
";

fn launch(stage: &Stage, inputs: &Value) -> i64 {
    let body = json!({ "runbook": "open-new-fares", "inputs": inputs });
    let (status, made) = stage.call(Method::POST, "/api/v1/jobs", Some(&body));
    assert_eq!(status, 201, "{made}");
    made["job"].as_i64().expect("a number")
}

#[test]
fn a_rollout_goes_on_where_the_run_before_left_it_and_does_nothing_when_it_is_complete() {
    let mut stage = Stage::bare();
    stage.publish(ROLLOUT);
    let second = stage.second_node();
    let jobs: Vec<i64> = (0..8).map(|_| launch(&stage, &json!({ "pause": "500ms" }))).collect();
    // A node dies in the midst of it.
    stage.job_in(jobs[1], &["succeeded"]);
    stage.kill_node();
    let ended = jobs.iter().map(|job| second.job_in(*job, &["succeeded"]));
    // Which of them comes first after a death is nobody's promise.
    let mut percents: Vec<i64> =
        ended.filter_map(|job| job["outputs"]["percent"].as_i64()).collect();
    percents.sort_unstable();
    assert_eq!(percents, [20, 40, 60, 80, 100, 100, 100, 100], "the others find it complete");
    let raised = until("the events", || {
        let events = second.get("/api/v1/alerts?kind=rollout.raised")["items"].clone();
        (events.as_array()?.len() >= 5).then_some(events)
    });
    assert_eq!(raised.as_array().expect("a list").len(), 5, "none is raised twice: {raised:#}");
    drop(second);
    stage.start_node();

    let shown = stage.arvok(&["runbook", "memory", "open-new-fares", "--history"]);
    assert_eq!(shown.code, 0, "{}", shown.all());
    assert_eq!(shown.out.matches("service/fares").count(), 5, "{}", shown.out);
    assert!(shown.out.contains("percent=100"), "{}", shown.out);
    let stands = stage.get("/api/v1/memory?runbook=open-new-fares");
    assert_eq!(stands["items"].as_array().map(Vec::len), Some(1), "{stands:#}");
    assert!(jobs.iter().any(|job| stands["items"][0]["job"] == *job), "{stands:#}");
    assert_eq!(stands["items"][0]["step"], "kept");

    // What it would do is told by what is remembered.
    let dry = json!({ "runbook": "open-new-fares", "inputs": {} });
    let (_, would) = stage.call(Method::POST, "/api/v1/jobs/dry-run", Some(&dry));
    assert_eq!(would["steps"][0]["when"]["value"], true, "{would:#}");

    let forget = ["runbook", "forget", "open-new-fares", "service/fares", "--reason", "once more"];
    let forgotten = stage.arvok(&forget);
    assert_eq!(forgotten.code, 0, "{}", forgotten.all());
    let nothing = stage.arvok(&forget);
    assert!(
        nothing.code != 0
            && nothing
                .err
                .contains("there is no memory of runbook `open-new-fares` on service/fares"),
        "{}",
        nothing.all()
    );
    let audit = stage.arvok(&["audit", "list"]);
    assert!(audit.out.contains("memory.forgotten"), "{}", audit.out);
    let job = launch(&stage, &json!({}));
    assert_eq!(stage.job_in(job, &["succeeded"])["outputs"]["percent"], 20);

    // The runbook's page shows it, and an author forgets it there.
    let browser = Browser::open(&stage, false);
    browser.sign_in(&stage.token);
    browser.see("Sign out");
    browser.go("/runbooks/open-new-fares");
    browser.see("percent = 20");
    browser.click("Forget…");
    browser.fill("[role=alertdialog] input", "the new fares were wrong");
    browser.click("Forget it");
    until("it is forgotten", || {
        let stands = stage.get("/api/v1/memory?runbook=open-new-fares");
        (stands["items"] == json!([])).then_some(())
    });

    // Not under a job that is at work there, nor for whoever only answers.
    let job = launch(&stage, &json!({ "pause": "1h" }));
    stage.job_in(job, &["waiting"]);
    let refused = stage.arvok(&forget);
    assert!(
        refused.err.contains(&format!("job {job} is at work on service/fares")),
        "{}",
        refused.all()
    );
}

#[test]
fn targets_remember_by_themselves_and_what_does_not_fit_any_more_is_told() {
    let stage = Stage::bare();
    stage.publish(ROLLOUT);
    for (on, percent) in [("service/fares", 20), ("service/cargo", 20), ("service/fares", 40)] {
        let job = launch(&stage, &json!({ "on": on }));
        assert_eq!(stage.job_in(job, &["succeeded"])["outputs"]["percent"], percent, "{on}");
    }
    stage.publish(&ROLLOUT.replace("type: integer, default: 0, maximum: 100", "type: integer, default: 0, maximum: 30").replace(
        "examples:\n  - memory: { percent: 80 }\n    expect: { state: succeeded, emits: [rollout.raised], remembers: { percent: 100 } }\n  - memory: { percent: 100 }\n    expect: { state: succeeded, emits: [], remembers: { percent: 100 } }\n",
        "",
    ));
    let job = launch(&stage, &json!({ "on": "service/fares" }));
    let failed = stage.job_in(job, &["failed"]);
    let failure = failed["job"]["failure"].as_str().unwrap_or_default();
    assert!(
        failure.starts_with("what runs of `open-new-fares` remember of service/fares does not fit")
            && failure.ends_with("`arvok runbook forget open-new-fares service/fares` begins anew"),
        "{failure}"
    );
    // Of much that was written the last is kept.
    stage.publish(&format!(
        "{}{}",
        "
runbook: counts
target: service/counts
memory: { runs: { type: integer, default: 0 } }
steps:
  - id: many
    each: '[0, 1, 2, 3, 4, 5, 6, 7, 8, 9]'
    as: ten
    steps:
      - id: more
        each: '[0, 1, 2, 3, 4, 5, 6, 7, 8, 9]'
        as: one
        steps: [ { id: count, remember: { runs: '${memory.runs + 1}' } } ]
outputs: { runs: '${memory.runs}' }
",
        ""
    ));
    let (_, made) = stage.call(
        Method::POST,
        "/api/v1/jobs",
        Some(&json!({ "runbook": "counts", "inputs": {} })),
    );
    let job = stage.job_in(made["job"].as_i64().expect("a number"), &["succeeded"]);
    assert_eq!(job["outputs"]["runs"], 100);
    let history = stage.get("/api/v1/memory?runbook=counts&history=true&limit=500");
    let kept = history["items"].as_array().map_or(0, Vec::len);
    assert!((1..=150).contains(&kept), "{kept}");
    assert_eq!(history["items"][0]["remembered"]["runs"], 100, "{history:#}");
}
