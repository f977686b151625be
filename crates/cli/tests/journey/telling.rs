//! Rules that tell of what becomes of other rules' proposals and jobs.

use crate::kit::{Browser, Peer, Stage, until};
use reqwest::Method;
use serde_json::json;

fn definitions(peer: &Peer) -> String {
    format!(
        "{}---
source: yard
intake: {{ webhook: {{ credential: {{ bearer: \"${{secret('yard')}}\" }} }} }}
---
runbook: tell-crew
inputs: {{ about: {{ type: string }}, text: {{ type: string }} }}
target: told/${{inputs.about}}
steps: [ {{ id: say, call: peer.tell, via: peer, give: {{ what: '${{inputs.text}}' }} }} ]
---
runbook: mend
inputs: {{ vm: {{ type: string }} }}
target: ${{inputs.vm}}
steps: [ {{ id: mend, require: 'false', else: nobody can }} ]
---
rule: disk-filling
owner: storage
stance: propose
listen: {{ sources: yard, kinds: disk.usage }}
dispatch: {{ runbook: mend, inputs: {{ vm: '${{alert.resource}}' }} }}
---
rule: storage-told
stance: act
listen: {{ sources: arvok, states: noted, kinds: [proposal.made, job.failed], labels: {{ owner: storage }} }}
dispatch: {{ runbook: tell-crew, inputs: {{ about: '${{alert.resource}}', text: '${{alert.summary}}' }} }}
",
        peer.definitions("safe")
    )
}

fn disk_fills(stage: &Stage, vm: usize) {
    let alert =
        json!({ "kind": "disk.usage", "severity": "major", "resource": format!("vm/{vm}") });
    stage.send("yard", &alert);
}

fn number(stage: &Stage, sql: &str) -> i64 {
    stage.records().rows(sql)[0]["n"].as_i64().expect("a number")
}

const TOLD: &str = "SELECT count(*) AS n FROM job WHERE runbook = 'tell-crew'";

#[test]
fn over_two_nodes_and_a_death_each_proposal_and_each_failure_is_told_once() {
    let mut stage = Stage::bare();
    let peer = Peer::start();
    stage.secret("yard", "yard", &["source/yard"]);
    stage.publish(&definitions(&peer));
    let second = stage.second_node();
    for vm in 0..20 {
        disk_fills(if vm % 2 == 0 { &stage } else { &second }, vm);
        if vm == 10 {
            stage.kill_node();
            stage.start_node();
            stage.until_ready();
        }
    }
    until("each proposal is told", || (number(&second, TOLD) == 20).then_some(()));
    for id in second.get("/api/v1/proposals?state=open&limit=100")["items"]
        .as_array()
        .expect("a list")
        .iter()
        .filter_map(|proposal| proposal["id"].as_i64())
        .take(5)
    {
        let path = format!("/api/v1/proposals/{id}/launch");
        assert_eq!(second.call(Method::POST, &path, Some(&json!({}))).0, 200);
    }
    until("each failure is told", || (number(&second, TOLD) == 25).then_some(()));
    let said = "SELECT count(DISTINCT inputs ->> 'text') AS n FROM job WHERE runbook = 'tell-crew'";
    assert_eq!(number(&second, said), 25);
    until("all is said", || {
        let ended = format!("{TOLD} AND state = 'succeeded'");
        (number(&second, &ended) == 25).then_some(())
    });
    assert_eq!(number(&second, TOLD), 25);
}

#[test]
fn what_tells_of_proposals_does_not_feed_itself_and_a_trial_tells_nobody() {
    let stage = Stage::bare();
    let peer = Peer::start();
    let feeding = "---
rule: proposes-of-proposals
stance: propose
listen: { sources: arvok, states: noted, kinds: proposal.made }
dispatch: { runbook: tell-crew, inputs: { about: '${alert.resource}', text: '${alert.summary}' } }
knowingly: { same-runbook: it is tried whether it feeds itself }
";
    stage.secret("yard", "yard", &["source/yard"]);
    stage.publish(&format!("{}{feeding}", definitions(&peer)));
    disk_fills(&stage, 1);
    let broken = "SELECT count(*) AS n FROM verdicts WHERE rule = 'proposes-of-proposals'
        AND verdict = 'broken' AND reason LIKE '%does not feed itself'";
    until("it is stopped", || (number(&stage, broken) == 1).then_some(()));
    let made = "SELECT count(*) AS n FROM proposal WHERE rule = 'proposes-of-proposals'";
    assert_eq!(number(&stage, made), 5);
    let said = until("it is told for real", || {
        let count = peer.count("proposal");
        (count > 0).then_some(count)
    });

    let trial = ["trial", "yard", "--set", "kind=disk.usage", "--set", "resource=vm/2"];
    let tried = stage.arvok(&trial);
    assert_eq!(tried.code, 0, "{}", tried.all());
    let dry = format!("{TOLD} AND trial = 'dry' AND state = 'succeeded'");
    until("what would be told is worked out", || (number(&stage, &dry) == 1).then_some(()));
    assert_eq!(peer.count("proposal"), said, "and nobody is told");
}

#[test]
fn a_rule_is_shown_with_those_who_follow_it() {
    let stage = Stage::bare();
    let peer = Peer::start();
    stage.secret("yard", "yard", &["source/yard"]);
    stage.publish(&definitions(&peer));
    let shown = stage.get("/api/v1/definitions/rule/disk-filling");
    assert_eq!(shown["followed_by"], json!([{ "kind": "rule", "name": "storage-told" }]));
    let said = stage.arvok(&["rule", "show", "storage-told"]);
    assert!(said.out.contains("Followed by: nobody is told"), "{}", said.all());
    let wrong =
        definitions(&peer).replace("labels: { owner: storage }", "labels: { owner: stroage }");
    let body = json!({ "files": [{ "file": "a.yaml", "text": wrong }], "dry_run": true });
    let (_, planned) = stage.call(Method::POST, "/api/v1/publish", Some(&body));
    let warned: Vec<&str> = planned["warnings"]
        .as_array()
        .expect("a list")
        .iter()
        .filter_map(|warning| warning["message"].as_str())
        .collect();
    assert!(warned.iter().any(|w| w.contains("no other rule is owned by `stroage`")), "{planned}");
    let browser = Browser::open(&stage, false);
    browser.sign_in(&stage.token);
    browser.see("Sign out");
    browser.go("/rules/disk-filling");
    browser.see("followed by");
    browser.click("storage-told");
    browser.see("nobody is told of its proposals and jobs");
    assert_eq!(browser.violations(), Vec::<String>::new());
}
