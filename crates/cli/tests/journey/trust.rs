//! Secrets, links, keys and tokens: what is shown hides them, what is done is not touched by that,
//! and who may let them go where.

use crate::kit::{Stage, answer, until};
use reqwest::Method;
use serde_json::{Value, json};

/// A secret whose value stands in names all over the place.
const VALUE: &str = "prod-ledger";

const ECHO: &str = "
connector: echo
operations:
  say:
    takes: { text: { type: string } }
    request: { method: POST, path: /channels/echo/messages, body: { text: '${give.text}' } }
    repeat: safe
---
connection: echo
connector: echo
base: \"${setting('crew-chat')}\"
credential: { bearer: \"${secret('crew-chat')}\" }
";

fn launch(stage: &Stage, runbook: &str, inputs: Value) -> i64 {
    let body = json!({ "runbook": runbook, "inputs": inputs });
    let (status, made) = stage.call(Method::POST, "/api/v1/jobs", Some(&body));
    assert_eq!(status, 201, "{made}");
    made["job"].as_i64().expect("a number")
}

/// A stage on which everything said is echoed back, and a secret of another place stands in names.
fn echoing() -> Stage {
    let stage = Stage::with_demo();
    stage.secret("crew-chat", "crew-token", &["connection/crew-chat", "connection/echo"]);
    stage.secret("elsewhere", VALUE, &["connection/elsewhere"]);
    stage.publish(ECHO);
    stage
}

#[test]
fn a_secret_that_stands_in_a_name_changes_nothing_that_is_done() {
    let stage = echoing();
    stage.publish(
        "
runbook: twice
inputs: { vm: { type: string, format: resource } }
target: ${inputs.vm}
steps:
  - { id: first, call: say, via: echo, give: { text: 'about ${inputs.vm}' } }
  - { id: second, call: say, via: echo, give: { text: 'again ${steps.first.text}' } }
  - { id: each, each: '[steps.first.text]', as: text, steps: [ { id: third, set: { it: '${text}' } } ] }
outputs: { text: '${steps.second.text}' }
",
    );
    let vm = format!("vm/{VALUE}-1");
    let id = launch(&stage, "twice", json!({ "vm": vm }));
    let shown = stage.job_in(id, &["succeeded"]);
    let said: Vec<String> = stage.harbour.chat.messages().into_iter().map(|m| m.text).collect();
    let again = format!("again about {vm}");
    assert_eq!(said, [format!("about {vm}"), again.clone()], "what leaves is what was given");
    let rows =
        stage.records().rows(&format!("SELECT inputs, target, outputs FROM job WHERE id = {id}"));
    assert_eq!(
        rows,
        [json!({ "inputs": { "vm": vm }, "target": vm, "outputs": { "text": again } })]
    );
    // And nothing of it is shown, by the API or the command.
    assert_eq!(shown["job"]["target"], "vm/[secret]-1");
    assert_eq!(shown["outputs"]["text"], "again about vm/[secret]-1", "{shown:#}");
    assert!(!shown.to_string().contains(VALUE), "{shown:#}");
    assert!(!stage.get("/api/v1/jobs").to_string().contains(VALUE));
    assert!(!stage.arvok(&["job", "show", &id.to_string(), "--json"]).all().contains(VALUE));
    assert!(!stage.log().contains(VALUE));
    // What was copied from there would be taken for the value.
    let body = json!({ "runbook": "twice", "inputs": { "vm": "vm/[secret]-1" } });
    let (status, said) = stage.call(Method::POST, "/api/v1/jobs", Some(&body));
    assert_eq!(status, 400, "{said}");
    assert!(said["detail"].as_str().is_some_and(|d| d.contains("give the value itself")), "{said}");
}

#[test]
fn a_kept_payload_is_read_again_as_it_came() {
    let stage = Stage::bare();
    stage.secret("elsewhere", "monitoring-key", &["connection/elsewhere"]);
    let source = |severity: &str| {
        format!(
            "source: pier\nintake: {{ webhook: {{ credential: {{ bearer: \"${{secret('pier')}}\" \
            }} }} }}\n\
             read: {{ kind: '\"a.b\"', resource: body.vm, severity: \"{severity}\" }}\n"
        )
    };
    stage.secret("pier", "pier-sender-token", &["source/pier"]);
    stage.publish(&source("body.missing"));
    let payload = json!({ "vm": "vm/a", "monitoring-key": { "level": "warning" } });
    let request =
        stage.request(Method::POST, "/in/pier").bearer_auth("pier-sender-token").json(&payload);
    assert_eq!(answer(request).0, 422);
    let kept = stage.get("/api/v1/unreadable?source=pier");
    assert!(!kept.to_string().contains("monitoring-key"), "{kept}");
    stage.publish(&source("body['monitoring-key'].level"));
    let (status, read) =
        stage.call(Method::POST, "/api/v1/unreadable/retry", Some(&json!({ "source": "pier" })));
    assert_eq!((status, &read["read"]), (200, &json!(1)), "{read}");
    assert_eq!(stage.get("/api/v1/alerts")["items"][0]["severity"], "warning");
}

/// Tells of its question with a link, and lets the other side echo it.
fn asks(by_link: &str) -> String {
    format!(
        "
runbook: asks
inputs: {{ on: {{ type: string }} }}
target: ${{inputs.on}}
steps:
  - id: agree
    ask:
      to: {{ role: author }}
      text: 'Restart ${{inputs.on}}?'
      choices: {{ restart: Restart it, leave: Leave it }}
      within: 5m
      {by_link}
      tell: {{ call: say, via: echo, give: {{ text: '${{decision.link}} ${{decision.link}}' }} }}
outputs: {{ by: '${{steps.agree.by}}' }}
"
    )
}

/// The sealed part of the link that was said about something.
fn link(stage: &Stage) -> String {
    until("the message", || {
        let said = stage.harbour.chat.messages();
        let text = said.iter().rev().find(|m| m.text.contains("/decide#"))?.text.clone();
        Some(text.rsplit("/decide#").next()?.to_owned())
    })
}

#[test]
fn a_link_in_an_answer_is_in_no_record_and_no_page() {
    let stage = echoing();
    stage.publish(&asks("by_link: true"));
    let id = launch(&stage, "asks", json!({ "on": "vm/a" }));
    let sealed = link(&stage);
    let shown = until("the answer", || {
        let job = stage.get(&format!("/api/v1/jobs/{id}"));
        job.to_string().contains("\"status\":201").then_some(job)
    });
    assert!(!shown.to_string().contains(&sealed), "{shown:#}");
    let rows = stage.records().rows(&format!("SELECT * FROM attempt WHERE job_id = {id}"));
    assert!(!format!("{rows:?}").contains(&sealed), "{rows:#?}");
    assert!(!stage.log().contains(&sealed));
}

#[test]
fn a_link_asks_for_signing_in_unless_the_author_says_otherwise_and_says_what_it_was() {
    let stage = echoing();
    stage.publish(&asks(""));
    let id = launch(&stage, "asks", json!({ "on": "vm/a" }));
    let sealed = link(&stage);
    let post = |path: &str, token: Option<&str>, body: Value| {
        let request = stage.request(Method::POST, path).json(&body);
        answer(match token {
            Some(token) => request.bearer_auth(token),
            None => request,
        })
    };
    let open = |token: Option<&str>, link: &str| {
        post("/api/v1/decisions/link", token, json!({ "link": link }))
    };
    let take = |token: Option<&str>, link: &str, name: &str| {
        let body = json!({ "link": link, "choice": "leave", "name": name });
        post("/api/v1/decisions/link/take", token, body)
    };
    assert_eq!(
        (open(None, &sealed).0, open(None, &sealed).1["code"].clone()),
        (401, json!("sign-in-needed"))
    );
    assert_eq!(take(None, &sealed, "admin").1["code"], "sign-in-needed");
    let (_, made) = stage.call(
        Method::POST,
        "/api/v1/tokens",
        Some(&json!({ "name": "kim", "role": "responder" })),
    );
    let kim = made["token"].as_str().expect("a token");
    assert_eq!(
        take(Some(kim), &sealed, "admin").1["code"],
        "role-too-low",
        "signed in, and still not one of those asked"
    );
    let (status, context) = open(Some(&stage.token), &sealed);
    assert_eq!((status, &context["signed_in"]), (200, &json!("admin")), "{context}");
    let (status, taken) = take(Some(&stage.token), &sealed, "somebody else");
    assert_eq!((status, &taken["by"]), (200, &json!("token/admin")), "{taken}");
    stage.job_in(id, &["succeeded"]);

    stage.publish(&asks("by_link: true"));
    let id = launch(&stage, "asks", json!({ "on": "vm/b" }));
    let sealed = until("another message", || Some(link(&stage)).filter(|l| *l != sealed));
    assert_eq!(open(None, &sealed).0, 200);
    let (status, taken) = take(None, &sealed, "admin");
    assert_eq!((status, &taken["by"], &taken["how"]), (200, &json!("link/admin"), &json!("link")));
    let job = stage.job_in(id, &["succeeded"]);
    assert_eq!(job["outputs"]["by"], "admin (by link, not signed in)");
    let (status, used) = open(None, &sealed);
    assert_eq!((status, &used["code"]), (410, &json!("link-used")), "{used}");
    assert!(!used.to_string().contains("vm/b") && !used.to_string().contains("leave"), "{used}");
    assert_eq!(open(Some(&stage.token), &sealed).0, 200, "who is signed in sees what became of it");
}

#[test]
fn a_secret_goes_where_an_admin_said_and_not_where_the_version_before_did() {
    let stage = Stage::with_demo();
    let (_, made) = stage.call(
        Method::POST,
        "/api/v1/tokens",
        Some(&json!({ "name": "ada", "role": "author" })),
    );
    let ada = made["token"].as_str().expect("a token");
    let publish = |token: &str, base: &str, credential: &str| {
        let text = format!("connection: office\nconnector: crew-chat\nbase: {base}\n{credential}");
        let body = json!({ "files": [{ "file": "a.yaml", "text": text }] });
        stage.call_as(token, Method::POST, "/api/v1/publish", Some(&body))
    };
    stage.secret("office", "office-token-1", &["connection/office"]);
    let shows = "credential: { bearer: \"${secret('office')}\" }\n";
    // First without the credential, so that the version before names no secret; then with it.
    assert_eq!(publish(ada, "http://thief", "").0, 200);
    let (status, refused) = publish(ada, "http://thief", shows);
    assert_eq!((status, &refused["code"]), (403, &json!("address-with-secret")), "{refused}");
    assert_eq!(publish(&stage.token, "http://office/v1", shows).0, 200, "an admin says where");
    assert_eq!(
        publish(ada, "http://office/v1", &format!("{shows}timeout: 5s\n")).0,
        200,
        "the same place is nothing new"
    );
    assert_eq!(publish(ada, "http://office/v1", "").0, 200);
    assert_eq!(publish(ada, "http://office/v1", shows).0, 200, "and stays approved");
    assert_eq!(publish(ada, "http://thief", shows).0, 403);
    let by_path = "base: \"http://thief/${secret('office')}\"\n";
    let text = format!("connection: office\nconnector: crew-chat\n{by_path}");
    let body = json!({ "files": [{ "file": "a.yaml", "text": text }] });
    assert_eq!(
        stage.call_as(ada, Method::POST, "/api/v1/publish", Some(&body)).0,
        403,
        "a path is a place as well"
    );
    assert_eq!(
        stage.call(Method::POST, "/api/v1/publish", Some(&body)).0,
        200,
        "hooks with a secret path have a way"
    );
    let shown = stage.get("/api/v1/connections/office");
    assert!(!shown.to_string().contains("office-token-1"), "{shown}");
    let acts = stage.get("/api/v1/audit?act=secret.approved")["items"].to_string();
    assert!(
        acts.contains("http://office/v1") && acts.contains("secret office, connection office"),
        "{acts}"
    );
}

#[test]
fn a_session_is_opened_as_an_admin_said_and_not_as_another_connector_does() {
    let stage = Stage::with_demo();
    let (_, made) = stage.call(
        Method::POST,
        "/api/v1/tokens",
        Some(&json!({ "name": "ada", "role": "author" })),
    );
    let ada = made["token"].as_str().expect("a token");
    let publish = |token: &str, text: &str| {
        let body = json!({ "files": [{ "file": "a.yaml", "text": text }] });
        stage.call_as(token, Method::POST, "/api/v1/publish", Some(&body))
    };
    stage.secret("office", "office-token-1", &["connection/office"]);
    let connector = |path: &str, about: &str| {
        format!(
            "connector: controller\nsummary: {about}\nsession:\n  login:\n    takes: {{ word: {{ type: \
             string }} }}\n    request: {{ method: POST, path: {path}, body: {{ word: \
             \"${{give.word}}\" }} }}\n    output: response.body\n  headers: {{ X-Token: \
             \"${{session}}\" }}\noperations: {{ show: {{ request: {{ method: GET, path: /x }} }} }}\n"
        )
    };
    let connection = "connection: office\nconnector: controller\nbase: http://office\ncredential: { \
                      session: { word: \"${secret('office')}\" } }\n";
    let both = format!("{}---\n{connection}", connector("/sessions", "a"));
    let (status, refused) = publish(ada, &both);
    assert_eq!((status, &refused["code"]), (403, &json!("address-with-secret")), "{refused}");
    assert_eq!(publish(&stage.token, &both).0, 200, "an admin says how");
    assert_eq!(
        publish(ada, &connector("/sessions", "b")).0,
        200,
        "the same session is nothing new"
    );
    let (status, refused) = publish(ada, &connector("/notes", "b"));
    assert_eq!((status, &refused["code"]), (403, &json!("address-with-secret")), "{refused}");
    assert_eq!(publish(&stage.token, &connector("/notes", "b")).0, 200, "an admin says how");
    assert_eq!(publish(ada, &connector("/sessions", "b")).0, 200, "and that stays approved");
}

#[test]
fn the_last_admin_stays_and_a_revoked_name_is_not_made_again() {
    let mut stage = Stage::bare();
    let revoke = |stage: &Stage, name: &str| stage.arvok(&["token", "revoke", name]);
    let last = revoke(&stage, "admin");
    assert!(last.code != 0 && last.err.contains("the last token of role admin"), "{}", last.all());
    let make = |stage: &Stage, name: &str| stage.arvok(&["token", "make", name, "--role", "admin"]);
    assert_eq!(make(&stage, "second").code, 0);
    assert_eq!(revoke(&stage, "second").code, 0);
    let again = make(&stage, "second");
    assert!(
        again.code != 0 && again.err.contains("is revoked; it is not made again"),
        "{}",
        again.all()
    );
    let wrong = stage.request(Method::POST, "/api/v1/session").json(&json!({ "token": "guess" }));
    assert_eq!(answer(wrong).0, 401);
    let listed = until("the audit", || {
        let listed = stage.arvok(&["audit", "list"]);
        listed.out.contains("sign-in.refused").then_some(listed)
    });
    for line in ["token.made", "token.revoked", "127.0.0.1 (stranger)", "retention"] {
        assert!(listed.out.contains(line), "{line}: {}", listed.all());
    }
    // Whoever holds the machine comes in again, and it is told.
    stage.records().run("DELETE FROM token");
    stage.restart_with(&["--recover"]);
    let who = stage.get("/api/v1/me");
    assert!(who["name"].as_str().is_some_and(|n| n.starts_with("recovered-")), "{who}");
    assert!(stage.log().contains("a token of role admin was made by --recover"), "{}", stage.log());
}

#[test]
fn a_node_with_another_key_does_no_work_and_says_why() {
    let stage = Stage::with_demo();
    let wrong = stage.node_with_key("0".repeat(64).as_str());
    let missing = stage.node_with_key("");
    for (node, why) in [
        (&wrong, "is not that of this installation's secrets"),
        (&missing, "secrets.key is missing"),
    ] {
        let said = until("the node to answer", || {
            let (status, said) = answer(node.request(Method::GET, "/readyz"));
            (status == 503).then_some(said)
        });
        assert!(said["detail"].as_str().is_some_and(|d| d.contains(why)), "{said}");
        let token = &stage
            .harbour
            .secrets()
            .iter()
            .find(|s| s.2.starts_with("source/"))
            .expect("a source")
            .1;
        let sent =
            node.request(Method::POST, "/in/yard-hypervisor").bearer_auth(token).json(&json!({}));
        assert_eq!(answer(sent).0, 503, "the sender keeps it and tries again");
        let listed = node.arvok(&["secret", "list"]);
        assert!(listed.out.contains("cannot be opened with this node's key"), "{}", listed.all());
        let set = node.arvok_with(&["secret", "set", "crew-chat"], &[], "another-value");
        assert!(set.code != 0, "{}", set.all());
    }
    assert!(
        !missing.has_file("secrets.key"),
        "no key is made that would be taken for the right one"
    );
    stage.publish("runbook: drill\ntarget: vm/a\nsteps: [ { id: done, set: { it: 1 } } ]\n");
    let job = launch(&stage, "drill", json!({}));
    stage.job_in(job, &["succeeded"]);
}

/// What comes in pieces, and what is asked of alerts, is hidden as well.
#[test]
fn no_answer_shows_a_secret_that_an_alert_carries() {
    let stage = echoing();
    let vm = format!("vm/{VALUE}-7");
    let seq = stage.send(
        "yard-hypervisor",
        &json!({ "kind": "a.b", "resource": vm, "summary": format!("about {VALUE}") }),
    );
    let rule = "rule: any\nlisten: { kinds: a.b }\ndispatch: { runbook: grow-disk, inputs: { \
        vm: \"${alert.resource}\" } }\n";
    let rehearsed =
        stage.rehearse(&json!({ "file": { "file": "a.yaml", "text": rule }, "since": "1h" }));
    assert!(
        rehearsed.to_string().contains("[secret]") && !rehearsed.to_string().contains(VALUE),
        "{rehearsed}"
    );
    for path in [
        "/api/v1/alerts",
        "/api/v1/alarms",
        &format!("/api/v1/alerts/{seq}"),
        &format!("/api/v1/alerts/{seq}/why"),
        &format!("/api/v1/alerts/{seq}/example"),
        "/api/v1/watch",
    ] {
        let (status, shown) = stage.call(Method::GET, path, None);
        assert!(status < 500 && !shown.to_string().contains(VALUE), "{path}: {shown}");
    }
    let rows =
        stage.records().rows(&format!("SELECT resource, summary FROM alerts WHERE seq = {seq}"));
    assert_eq!(rows, [json!({ "resource": vm, "summary": format!("about {VALUE}") })]);
}
