//! What jobs touch: on the record, kept away from, and looked at by a ready-made runbook.

use crate::kit::{DEMO, LIBRARY, Stage, until};
use reqwest::Method;
use serde_json::{Value, json};

/// Hosts that need so much memory for themselves.
fn set_own(stage: &Stage, own: &[(&str, f64)]) {
    stage.harbour.yard.with(|yard| {
        for (host, gib) in own {
            yard.hosts.get_mut(*host).expect("a host").own_gib = *gib;
        }
    });
}

fn host_of(stage: &Stage, vm: &str) -> String {
    stage.harbour.yard.with(|yard| yard.vms[vm].host.clone())
}

fn relieve(stage: &Stage, host: &str) -> i64 {
    let launch = json!({ "runbook": "relieve-host", "inputs": { "host": host } });
    let (status, launched) = stage.call(Method::POST, "/api/v1/jobs", Some(&launch));
    assert!(status < 300, "{launched:#}");
    launched["job"].as_i64().expect("a job")
}

#[test]
fn a_guest_is_never_passed_to_and_fro_and_goes_where_no_alarm_stands() {
    // No rule acts beside the jobs of this test.
    let mut stage = Stage::bare();
    let sources = format!("{DEMO}/sources");
    let said = stage.arvok(&["publish", LIBRARY, &sources, "--yes"]);
    assert_eq!(said.code, 0, "{}", said.all());
    stage.publish(
        "guard: hosts-apart\nconcerns: { runbooks: relieve-host, targets: host/* }\n\
        at_once: 1\nuntouched: 5m\n",
    );
    // The least loaded host has a failing disk.
    stage.send(
        "yard-hypervisor",
        &json!({ "kind": "host.disk", "resource": "host/quill-hv-4", "severity": "major" }),
    );
    set_own(&stage, &[("quill-hv-2", 26.0)]);
    let first = relieve(&stage, "host/quill-hv-2");
    let job = stage.job_in(first, &["succeeded"]);
    assert_eq!(host_of(&stage, "quill-mail-1"), "quill-hv-3", "{job:#}");
    let touched = |job: &Value| -> Vec<String> {
        let touched = job["touched"].as_array().cloned().unwrap_or_default();
        touched.iter().map(|t| t["resource"].as_str().unwrap_or_default().to_owned()).collect()
    };
    let mut both = touched(&job);
    both.sort();
    assert_eq!(both, ["host/quill-hv-3", "vm/quill-mail-1"]);
    let said = stage.arvok(&["job", "show", &first.to_string()]);
    assert!(
        said.out.contains("touched     host/quill-hv-3, vm/quill-mail-1 by go.move"),
        "{}",
        said.out
    );

    // The host that was given the guest is under pressure now: a guard keeps jobs away from it.
    set_own(&stage, &[("quill-hv-2", 4.0), ("quill-hv-3", 46.0)]);
    stage.harbour.yard.with(|yard| yard.vms.remove("oldhithe-kiosk-1").expect("a smaller one"));
    let second = relieve(&stage, "host/quill-hv-3");
    let held = until("the job to be held", || {
        let job = stage.get(&format!("/api/v1/jobs/{second}"));
        job["job"]["held"]["why"].as_str().map(str::to_owned)
    });
    let words = format!("job {first} touched host/quill-hv-3 and ended at ");
    assert!(held.starts_with(&words) && held.ends_with("; it is left alone for 5m"), "{held}");

    // Whoever overrules that does not send the guest back.
    let why = ["--guard", "hosts-apart", "--reason", "it swaps"];
    let overruled =
        stage.arvok(&[&["job", "overrule", &second.to_string()][..], &why[..]].concat());
    assert_eq!(overruled.code, 0, "{}", overruled.all());
    let job = stage.job_in(second, &["failed"]);
    let failure = job["job"]["failure"].as_str().unwrap_or_default();
    let words = format!("vm/quill-mail-1 was touched by job {first} within 15 minutes");
    assert!(failure.starts_with(&words), "{failure}");
    assert_eq!(host_of(&stage, "quill-mail-1"), "quill-hv-3");

    // What the records know outlives the node.
    stage.kill_node();
    stage.start_node();
    let asked = ["connection", "try", "own-records", "resource.known", "--give"];
    let asked = stage.arvok(&[&asked[..], &["resource=vm/quill-mail-1", "--json"]].concat());
    assert_eq!(asked.code, 0, "{}", asked.all());
    let known: Value = serde_json::from_str(&asked.out).expect("JSON");
    assert!(known.to_string().contains(&format!("\"job\":{first}")), "{known:#}");
}

#[test]
fn where_every_host_is_full_nobody_is_moved_and_a_healthy_disk_is_not_grown() {
    let stage = Stage::with_demo();
    let full = ["quill-hv-1", "quill-hv-3", "quill-hv-4"].map(|host| (host, 50.0));
    set_own(&stage, &full);
    set_own(&stage, &[("quill-hv-2", 26.0)]);
    let job = relieve(&stage, "host/quill-hv-2");
    let job = stage.job_in(job, &["failed"]);
    let failure = job["job"]["failure"].as_str().unwrap_or_default();
    assert!(failure.contains("No other host has room for vm/quill-mail-1"), "{failure}");
    assert_eq!(host_of(&stage, "quill-mail-1"), "quill-hv-2");
    assert!(job.get("touched").is_none(), "{job:#}");

    stage.harbour.yard.with(|yard| yard.fill("quill-report-2", "scratch", 40.0, 0.0));
    stage.harbour.yard.with(|yard| yard.fill("quill-report-2", "system", 40.0, 0.0));
    let launch = json!({ "runbook": "grow-disk", "inputs": { "vm": "vm/quill-report-2" } });
    let (_, launched) = stage.call(Method::POST, "/api/v1/jobs", Some(&launch));
    let job = stage.job_in(launched["job"].as_i64().expect("a job"), &["succeeded"]);
    let said = job["job"]["failure"].as_str().unwrap_or_default();
    assert!(said.ends_with("is 40 % full; it was not grown"), "{said}");
    assert_eq!(stage.harbour.yard.with(|yard| yard.vms["quill-report-2"].grown), 0);
}
