//! Jobs that say what they are about to do: who objects keeps them from it, and nobody's word lets
//! them act, whichever node is there by then.

use crate::kit::{DEMO, LIBRARY, Stage, until};
use reqwest::Method;
use serde_json::{Value, json};

/// Who is told, and a rule that says before what it is about to do.
const DISKS: &str = "
contact: pat-moen
token: pat
ways:
  - { call: chat.post, via: crew-chat, give: { channel: pat, text: '${message.text}' } }
---
contact: storage
members: [pat-moen]
---
rule: disks
stance: act
announce: { before: 1h, to: { team: storage } }
listen: { kinds: disk.usage, resource: vm/quill-* }
dispatch: { runbook: grow-disk, inputs: { vm: '${alert.resource}', full_from: 0.1 } }
";

fn stage() -> Stage {
    let stage = Stage::bare();
    let sources = format!("{DEMO}/sources");
    let said = stage.arvok(&["publish", LIBRARY, &sources, "--yes"]);
    assert_eq!(said.code, 0, "{}", said.all());
    stage.publish(DISKS);
    stage
}

fn grown(stage: &Stage, vm: &str) -> u32 {
    stage.harbour.yard.with(|yard| yard.vms[vm].grown)
}

/// The job that a real alert sets off on a machine.
fn job_on(stage: &Stage, target: &str) -> i64 {
    until("a job", || {
        let jobs = stage.get("/api/v1/jobs")["items"].as_array().cloned().unwrap_or_default();
        let of = |job: &&Value| job["target"] == target && job["trial"].is_null();
        jobs.iter().find(of)?["id"].as_i64()
    })
}

/// The same, whose monitor finds a disk of it full.
fn filled(stage: &Stage, vm: &str) -> i64 {
    stage.harbour.yard.with(|yard| {
        let disk = yard.vms[vm].disks.last().expect("a disk").name.clone();
        yard.fill(vm, &disk, 90.0, 0.0);
    });
    job_on(stage, &format!("vm/{vm}"))
}

/// The question whether somebody objects, once it stands.
fn announced(stage: &Stage, job: i64) -> Value {
    until("the announcement", || {
        let open = stage.get("/api/v1/decisions");
        let open = open["items"].as_array().cloned().unwrap_or_default();
        open.into_iter().find(|decision| decision["job"] == job)
    })
}

#[test]
fn who_objects_keeps_a_rule_from_acting_and_the_record_says_why() {
    let mut stage = stage();
    let job = filled(&stage, "quill-report-2");
    let asked = announced(&stage, job);
    let text = asked["text"].as_str().unwrap_or_default();
    assert!(
        text.starts_with(&format!(
            "Job {job} (grow-disk) is about to act on vm/quill-report-2, in 1h unless somebody \
            objects: `"
        )) && text.contains("vm.grow_disk via yard-hypervisor"),
        "{text}"
    );
    let told = until("Pat to be told", || {
        stage.harbour.chat.messages().into_iter().find(|m| m.channel == "pat")
    });
    assert_eq!(told.text, text);
    let event = until("the event", || {
        stage.get("/api/v1/alerts?kind=job.announced")["items"].get(0).cloned()
    });
    assert_eq!(event["resource"], "vm/quill-report-2", "{event:#}");

    // The job outlives its node, and so does the question.
    stage.kill_node();
    stage.start_node();
    let shown = stage.arvok(&["job", "show", &job.to_string()]);
    let line = "… Say what it is about to do; somebody may object [ask announced] waiting";
    assert!(shown.out.contains(line), "{}", shown.out);
    let id = asked["id"].to_string();
    let remark = "it is being copied until noon";
    let said = stage.arvok(&["decision", "take", &id, "object", "--remark", remark]);
    assert_eq!(said.code, 0, "{}", said.all());
    let ended = stage.job_in(job, &["cancelled"]);
    let failure = ended["job"]["failure"].as_str().unwrap_or_default();
    assert!(failure.starts_with("objected to by ") && failure.ends_with(remark), "{failure}");
    assert_eq!(grown(&stage, "quill-report-2"), 0);
    assert!(ended.get("touched").is_none(), "{ended:#}");

    // Who launches the same by hand has decided already.
    let launch = json!({ "runbook": "grow-disk", "inputs": { "vm": "vm/quill-report-2" } });
    let (status, launched) = stage.call(Method::POST, "/api/v1/jobs", Some(&launch));
    assert!(status < 300, "{launched:#}");
    stage.job_in(launched["job"].as_i64().expect("a job"), &["succeeded"]);
    assert_eq!(grown(&stage, "quill-report-2"), 1);
}

#[test]
fn nobodys_word_lets_it_act_once_and_a_trial_says_what_it_would_announce() {
    let mut stage = stage();
    stage.publish(&DISKS.replace("before: 1h", "before: 3s"));
    let trial = stage.arvok(&[
        "trial",
        "yard-hypervisor",
        "--set",
        "kind=disk.usage",
        "--set",
        "resource=vm/quill-report-2",
        "--set",
        "severity=major",
    ]);
    assert_eq!(trial.code, 0, "{}", trial.all());
    let line = "Say what it is about to do; somebody may object [ask announced] done";
    assert!(trial.out.contains(line), "{}", trial.out);
    assert_eq!(stage.get("/api/v1/decisions?state=all")["items"], json!([]));

    let job = filled(&stage, "quill-booking-db-2");
    announced(&stage, job);
    stage.kill_node();
    stage.start_node();
    let ended = stage.job_in(job, &["succeeded"]);
    assert_eq!(grown(&stage, "quill-booking-db-2"), 1, "{ended:#}");
    let asked = stage.get("/api/v1/decisions?state=all");
    assert_eq!(asked["items"][0]["state"], "silent", "{asked:#}");

    // What is cleared before it acts is left alone.
    stage.publish(&DISKS.replace("before: 1h", "before: 10m"));
    let usage = |state: &str| {
        json!({ "kind": "disk.usage", "resource": "vm/quill-mail-1", "state": state,
            "severity": "major" })
    };
    stage.send("yard-hypervisor", &usage("raised"));
    let job = job_on(&stage, "vm/quill-mail-1");
    announced(&stage, job);
    stage.send("yard-hypervisor", &usage("cleared"));
    let ended = stage.job_in(job, &["cancelled"]);
    assert_eq!(ended["job"]["failure"], "its alarm was cleared before it changed anything");
    assert_eq!(grown(&stage, "quill-mail-1"), 0);
    let asked = stage.get("/api/v1/decisions?state=all");
    assert_eq!(asked["items"][0]["state"], "withdrawn", "{asked:#}");
}
