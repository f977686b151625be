//! One runbook for several sites: its connections are worked out, and are those that it lists.

use crate::kit::{Peer, Stage, until};
use reqwest::Method;
use serde_json::{Value, json};
use std::time::Duration;

fn definitions(quill: &Peer, brack: &Peer, desk: &Peer) -> String {
    let connection = |name: &str, peer: &Peer| {
        format!("---\nconnection: {name}\nconnector: yard\nbase: '{}'\ntimeout: 30s\n", peer.url)
    };
    format!(
        "
source: sites
intake: {{ webhook: {{ credential: {{ bearer: \"${{secret('sites')}}\" }} }} }}
---
connector: yard
operations:
  vm.wake:
    takes: {{ vm: {{ type: string }} }}
    request: {{ method: POST, path: /wake, body: {{ vm: '${{give.vm}}' }} }}
    repeat: keyed
{}{}{}---
runbook: wake
summary: Wake a VM of any yard
inputs: {{ vm: {{ type: string, format: resource }}, site: {{ type: string }} }}
target: ${{inputs.vm}}
steps:
  - id: wake
    call: vm.wake
    via: ${{inputs.site}}-yard
    connections: ['*-yard']
    give: {{ vm: '${{inputs.vm}}' }}
    retry: {{ times: 5, wait: 200ms }}
---
rule: wake
stance: act
listen: {{ sources: sites, kinds: vm.asleep }}
dispatch: {{ runbook: wake, inputs: {{ vm: '${{alert.resource}}', site: '${{alert.labels.site}}' }} }}
",
        connection("quill-yard", quill),
        connection("brack-yard", brack),
        connection("ticket-desk", desk),
    )
}

fn asleep(stage: &Stage, vm: &str, site: &str) -> i64 {
    let labels = json!({ "site": site });
    let alert = json!({ "kind": "vm.asleep", "resource": vm, "severity": "major",
        "labels": labels });
    stage.send("sites", &alert)
}

fn job_on(stage: &Stage, target: &str, state: &str) -> Value {
    until(&format!("a job on {target} that {state}"), || {
        let page = stage.get(&format!("/api/v1/jobs?target={target}"));
        page["items"].as_array()?.iter().find(|job| job["state"] == state).cloned()
    })
}

#[test]
fn one_runbook_serves_all_sites_and_no_alert_turns_it_elsewhere() {
    let stage = Stage::bare();
    let (quill, brack, desk) = (Peer::start(), Peer::start(), Peer::start());
    stage.secret("sites", "skerrow", &["source/sites"]);
    stage.publish(&definitions(&quill, &brack, &desk));
    asleep(&stage, "vm/quill-app-1", "quill");
    asleep(&stage, "vm/brack-app-1", "brack");
    let job = job_on(&stage, "vm/quill-app-1", "succeeded");
    job_on(&stage, "vm/brack-app-1", "succeeded");
    assert_eq!((quill.count("quill-app-1"), quill.told().len()), (1, 1));
    assert_eq!((brack.count("brack-app-1"), brack.told().len()), (1, 1));
    let shown = stage.arvok(&["job", "show", &job["id"].to_string()]);
    assert!(shown.out.contains(", via quill-yard"), "{}", shown.out);

    // Where nothing is listed, and where nothing stands.
    asleep(&stage, "vm/desk-1", "ticket");
    let refused = until("the job to be refused", || {
        stage.get("/api/v1/jobs?state=refused")["items"].as_array()?.first().cloned()
    });
    let words = refused["failure"].as_str().unwrap_or_default();
    assert!(words.contains("there is no connection `ticket-yard`"), "{refused:#}");
    let launch = |site: &str| {
        let inputs = json!({ "vm": "vm/desk-1", "site": site });
        let body = json!({ "runbook": "wake", "inputs": inputs });
        stage.call(Method::POST, "/api/v1/jobs", Some(&body))
    };
    let (status, refused) = launch("../ticket-desk?");
    assert_eq!(status, 400, "{refused}");
    assert!(refused.to_string().contains("is none of `*-yard`"), "{refused}");
    assert_eq!(desk.told().len(), 0);

    // The form offers what there is.
    let form = stage.get("/api/v1/runbooks/wake");
    assert_eq!(form["inputs"]["site"]["enum"], json!(["brack", "quill"]), "{form:#}");
    // The pages of the connections tell who may call them.
    let uses = |name: &str| stage.get(&format!("/api/v1/connections/{name}"))["used_by"].clone();
    assert_eq!((uses("brack-yard"), uses("ticket-desk")), (json!(["wake"]), json!([])));
    let late = "connector: bare\noperations: { ping: { request: { method: GET, path: / } } }\n---\n\
        connection: hjelm-yard\nconnector: bare\nbase: http://127.0.0.1:9\n";
    let files = json!({ "files": [{ "file": "late.yaml", "text": late }], "dry_run": true });
    let (status, checked) = stage.call(Method::POST, "/api/v1/publish", Some(&files));
    assert!(
        checked.to_string().contains("there is no operation `vm.wake` of connector `bare`"),
        "{status} {checked:#}"
    );
}

#[test]
fn a_call_whose_node_dies_is_made_again_through_the_same_connection() {
    let mut stage = Stage::bare();
    let (quill, brack, desk) = (Peer::start(), Peer::start(), Peer::start());
    stage.secret("sites", "skerrow", &["source/sites"]);
    stage.publish(&definitions(&quill, &brack, &desk));
    brack.delay(Duration::from_secs(20));
    asleep(&stage, "vm/brack-app-2", "brack");
    until("the call to be out", || (brack.count("brack-app-2") == 1).then_some(()));
    brack.delay(Duration::ZERO);
    stage.kill_node();
    stage.start_node();
    job_on(&stage, "vm/brack-app-2", "succeeded");
    let keys: Vec<_> = brack.told().into_iter().map(|told| told.key).collect();
    assert!(keys.len() == 2 && keys[0].is_some() && keys[0] == keys[1], "{keys:?}");
    assert_eq!(quill.told().len() + desk.told().len(), 0, "nothing went another way");
}
