//! Scripts of runbooks, as people write and run them, and what is known of them when something
//! breaks.

use crate::kit::{Stage, folder, until};
use serde_json::{Value, json};
use std::fs;

/// How long a script of this run sleeps, by which it is known among all processes.
fn marked(n: u32) -> String {
    format!("8{}.{n}", std::process::id())
}

fn processes(marked: &str) -> usize {
    let all = fs::read_dir("/proc").expect("processes").flatten();
    let lines = all.filter_map(|entry| fs::read_to_string(entry.path().join("cmdline")).ok());
    lines.filter(|line| line.contains("sleep") && line.contains(marked)).count()
}

fn until_processes(marked: &str, count: usize) {
    until(&format!("{count} processes of {marked}"), || (processes(marked) == count).then_some(()));
}

fn launch(stage: &Stage, runbook: &str, inputs: Value) -> i64 {
    let asked = json!({ "runbook": runbook, "inputs": inputs });
    let (status, made) = stage.call(reqwest::Method::POST, "/api/v1/jobs", Some(&asked));
    assert_eq!(status, 201, "{made}");
    made["job"].as_i64().expect("a number")
}

const COUNT: &str = "import json, sys
import sizes

given = json.load(sys.stdin)
print('counting', len(given['sizes']), file=sys.stderr)
print(json.dumps({'total': sizes.total(given['sizes'])}))
";

const RUNBOOK: &str = "runbook: count-sizes
summary: Add sizes up
inputs: { sizes: { type: array, items: { type: integer } } }
target: vm/quill
steps:
  - id: count
    script: python3
    file: count.py
    files: [sizes.py]
    give: { sizes: '${inputs.sizes}' }
    gives: { total: { type: integer } }
    looks: true
outputs: { total: '${steps.count.total}' }
examples:
  - summary: two are added up
    inputs: { sizes: [1, 2] }
    answers: { count: { gives: { total: 3 } } }
    expect: { state: succeeded, outputs: { total: 3 } }
";

#[test]
fn a_script_is_published_with_the_files_beside_its_runbook() {
    let stage = Stage::with_demo();
    let place = folder("script");
    let file = |name: &str, text: &str| fs::write(place.join(name), text).expect("a file");
    file("count.yaml", RUNBOOK);
    let path = place.to_str().expect("a path");
    let checked = stage.arvok(&["check", path]);
    assert_ne!(checked.code, 0);
    assert!(
        checked.all().contains("there is no file `count.py` beside the runbook"),
        "{}",
        checked.all()
    );
    file("count.py", COUNT);
    file("sizes.py", "def total(sizes):\n    return sum(sizes)\n");
    let checked = stage.arvok(&["check", path]);
    assert_eq!(checked.code, 0, "{}", checked.all());
    assert!(checked.out.contains("1 example holds"), "{}", checked.out);
    let published = stage.arvok(&["publish", path, "--yes"]);
    assert_eq!(published.code, 0, "{}", published.all());
    let again = stage.arvok(&["publish", path, "--yes"]);
    assert!(again.all().contains("without a change"), "{}", again.all());

    let done = stage.arvok(&[
        "job",
        "launch",
        "count-sizes",
        "--input",
        "sizes=[4, 5, 33]",
        "--yes",
        "--follow",
    ]);
    assert_eq!(done.code, 0, "{}", done.all());
    let job =
        stage.get("/api/v1/jobs?runbook=count-sizes")["items"][0]["id"].as_i64().expect("a job");
    let whole = stage.get(&format!("/api/v1/jobs/{job}"));
    assert_eq!(whole["outputs"], json!({ "total": 42 }));
    let shown = stage.arvok(&["job", "show", &job.to_string()]);
    assert!(shown.out.contains("SCRIPT python3 count.py"), "{}", shown.out);

    // What is published is what lies there, with its files; a changed file is another version.
    file("sizes.py", "def total(sizes):\n    return 2 * sum(sizes)\n");
    let changed = stage.arvok(&["publish", path, "--yes"]);
    assert!(changed.all().contains("return 2 * sum(sizes)"), "{}", changed.all());
    let job = launch(&stage, "count-sizes", json!({ "sizes": [1] }));
    assert_eq!(stage.job_in(job, &["succeeded"])["outputs"], json!({ "total": 2 }));
    let text = stage.arvok(&["runbook", "show", "count-sizes"]).out;
    assert!(text.contains("counting") && text.contains("2 * sum"), "{text}");

    // A runbook of its own `files` is as good, and has no others put in.
    let own = format!("{RUNBOOK}files: {{ count.py: 'print(1)' }}\n");
    file("count.yaml", &own);
    let checked = stage.arvok(&["check", path]);
    assert!(checked.all().contains("since it has `files` of its own"), "{}", checked.all());
}

/// A runbook with one script, which takes `x`.
fn one(name: &str, code: &str, further: &str) -> String {
    let code: String = code.lines().map(|line| format!("      {line}\n")).collect();
    format!(
        "runbook: {name}\nsummary: s\ninputs: {{ x: {{ type: string, default: a }} }}\ntarget: \
         vm/${{inputs.x}}\nsteps:\n  - id: act\n    script: sh\n    code: |\n{code}{further}"
    )
}

#[test]
fn what_a_node_died_at_is_known_and_nothing_of_it_goes_on() {
    let mut stage = Stage::with_demo();
    let (acts, looks) = (marked(1), marked(2));
    stage.publish(&one("act", &format!("sleep {acts} & exec sleep {acts}"), "    timeout: 5m\n"));
    let once = format!("echo >&2 begun; [ \"$LOOKS\" = once ] || exec sleep {looks}");
    stage.publish(&one("look", &once, "    looks: true\n    timeout: 5m\n    env: { LOOKS: '${alert == null ? \"ever\" : \"once\"}' }\n"));
    let acting = launch(&stage, "act", json!({ "x": "one" }));
    let looking = launch(&stage, "look", json!({ "x": "two" }));
    until_processes(&acts, 2);
    until_processes(&looks, 1);
    let mut second = stage.second_node();
    stage.kill_node();
    // With the node all that its scripts have started is gone at once.
    until_processes(&acts, 0);
    let unsure = second.job_in(acting, &["unsure"]);
    let why = unsure["job"]["failure"].as_str().unwrap_or_default();
    assert!(
        why.contains("a node was lost during step `act`, which must not be done twice"),
        "{why}"
    );
    // What only looks is done again, there.
    until_processes(&looks, 1);
    let resolved = second.arvok(&["job", "resolve", &acting.to_string(), "--as", "done"]);
    assert_eq!(resolved.code, 0, "{}", resolved.all());
    second.job_in(acting, &["succeeded"]);
    second.job_in(looking, &["running"]);
    second.kill_node();
    until_processes(&looks, 0);
}

#[test]
fn scripts_are_tried_again_found_out_about_and_taken_back_like_calls() {
    let stage = Stage::with_demo();
    // Refused at first, then not: by what it is given, for it keeps nothing.
    stage.publish(&one(
        "again",
        "read given; echo \"$given\" >&2; exit 4",
        "    retry: { times: 2, wait: 100ms }\n    retry_on: [4]\n",
    ));
    let job = launch(&stage, "again", json!({ "x": "again" }));
    let failed = stage.job_in(job, &["failed"]);
    let why = failed["job"]["failure"].as_str().unwrap_or_default();
    assert!(why.contains("failed after 3 tries: ended with status 4"), "{why}");

    stage.publish(&format!(
        "{}    undo: {{ script: sh, code: 'cat >&2', give: {{ name: '${{steps.act.name}}' }} }}\n  - {{ id: no, require: 'false', else: no }}\n",
        one("back", "echo '{\"name\": \"it\\u0027s $(id)\"}'", "    gives: { name: { type: string } }\n")
    ));
    let job = launch(&stage, "back", json!({ "x": "back" }));
    let failed = stage.job_in(job, &["failed"]);
    let taken_back = failed.to_string();
    assert!(taken_back.contains("act.undo") && taken_back.contains("it's $(id)"), "{taken_back}");

    // Whether it was done is found out by an operation, and by a person where none is named.
    stage.publish(&one("killed", "kill -KILL $$", "    probe: { call: vm.inspect, via: yard-hypervisor, give: { vm: vm/brack-kiosk-3 }, done: 'result.cpus > 0' }\n"));
    let job = launch(&stage, "killed", json!({ "x": "killed" }));
    let found = stage.job_in(job, &["succeeded", "failed", "unsure"]);
    assert_eq!(found["job"]["state"], "succeeded", "{found}");

    // What it says that it changes is on the record, and what is no resource is not run.
    let touches = "    touches: ['host/${inputs.x}', vm/brack-kiosk-3]\n";
    stage.publish(&one("touching", "true", touches));
    let job = launch(&stage, "touching", json!({ "x": "quill-hv-2" }));
    let touched = stage.job_in(job, &["succeeded"])["touched"].to_string();
    let both = ["host/quill-hv-2", "vm/brack-kiosk-3"];
    assert!(both.iter().all(|resource| touched.contains(resource)), "{touched}");
    let touches = touches.replace("host/", "ho st/");
    stage.publish(&one("touching", "true", &touches));
    let job = launch(&stage, "touching", json!({ "x": "quill-hv-2" }));
    let failed = stage.job_in(job, &["failed"]);
    let why = failed["job"]["failure"].as_str().unwrap_or_default();
    assert!(why.contains("`ho st/quill-hv-2` is not a resource path"), "{why}");

    // What is not allowed here says how it would be.
    let other = one("perl", "print 1", "").replace("script: sh", "script: perl");
    stage.publish(&other);
    let job = launch(&stage, "perl", json!({ "x": "perl" }));
    let failed = stage.job_in(job, &["failed"]);
    let why = failed["job"]["failure"].as_str().unwrap_or_default();
    assert!(why.contains("no scripts of `perl`, but of sh, python3"), "{why}");
}

#[test]
fn only_so_many_run_at_once_and_the_others_wait_for_their_turn() {
    let stage = Stage::with_demo();
    let mark = marked(3);
    // A name for each, so that none is taken for a fraction of another.
    stage.publish(&one("brief", &format!("sleep 0.4 {mark}e-9"), "    looks: true\n"));
    let jobs: Vec<i64> =
        (0..12).map(|n| launch(&stage, "brief", json!({ "x": format!("n{n}") }))).collect();
    let mut most = 0;
    until("all of them", || {
        most = most.max(processes(&mark));
        let left = stage.get("/api/v1/jobs?runbook=brief&state=succeeded&limit=50");
        (left["items"].as_array().map(Vec::len) == Some(12)).then_some(())
    });
    assert!((1..=4).contains(&most), "{most} at once");
    for job in jobs {
        stage.job_in(job, &["succeeded"]);
    }
    let left = stage
        .records()
        .rows("SELECT count(*) AS n FROM call_slot WHERE connection LIKE 'scripts of %'");
    assert_eq!(left[0]["n"], 0);
    let queue = stage
        .records()
        .rows("SELECT count(*) AS n FROM call_queue WHERE connection LIKE 'scripts of %'");
    assert_eq!(queue[0]["n"], 0);
}

#[test]
fn what_is_written_is_seen_while_it_is_written_from_every_node() {
    let stage = Stage::with_demo();
    let second = stage.second_node();
    stage.secret("lamp", "sesame-open-lamp", &["connection/yard-hypervisor"]);
    let code = "for n in 1 2 3 4 5 6 7 8; do\n  echo \"line $n of sesame-open-lamp\"\n  printf '\\033[32mpart \\000'\n  \
        sleep 0.4\ndone\necho >&2 over\nsleep 1.5";
    stage.publish(&one("talks", code, "    looks: true\n"));
    let job = launch(&stage, "talks", json!({ "x": "talks" }));
    let path = format!("/api/v1/jobs/{job}");
    // Also where another node does the work, and without what is secret.
    for node in [&stage, &second] {
        until("its lines", || {
            let detail = node.get(&path);
            let live = &detail["steps"][0]["attempts"][0]["live"];
            let lines = live["lines"].as_str()?.to_owned();
            assert!(!lines.contains("sesame-open-lamp"), "{lines}");
            lines.contains("line 2 of [secret]").then_some(())
        });
    }
    let followed = second.arvok(&["job", "follow", &job.to_string()]);
    assert_eq!(followed.code, 0, "{}", followed.all());
    let lines: Vec<&str> =
        followed.out.lines().filter(|l| l.contains(" | ")).map(str::trim).collect();
    assert_eq!(lines.iter().filter(|l| l.contains("| part line 8")).count(), 1, "{}", followed.out);
    assert!(
        lines.contains(&"| part over") || lines.iter().any(|l| l.ends_with("over")),
        "{lines:?}"
    );
    // What is over has its answer with its try.
    let detail = stage.job_in(job, &["succeeded"]);
    let attempt = &detail["steps"][0]["attempts"][0];
    assert!(attempt["live"].is_null(), "{attempt}");
    assert!(attempt["answer"]["body"].as_str().is_some_and(|body| body.contains("line 8")));
    assert_eq!(attempt["answer"]["headers"]["stderr"], "over\n");
    let left = stage.records().rows("SELECT count(*) AS n FROM live_output");
    assert_eq!(left[0]["n"], 0);
}

#[test]
fn a_secret_goes_to_the_script_that_an_admin_has_seen_and_to_no_other() {
    let stage = Stage::with_demo();
    let asked = json!({ "name": "an-author", "role": "author" });
    let (_, made) = stage.call(reqwest::Method::POST, "/api/v1/tokens", Some(&asked));
    let author = made["token"].as_str().expect("a token").to_owned();
    let publish_as = |token: &str, text: &str| {
        let body = json!({ "files": [{ "file": "lamp.yaml", "text": text }] });
        stage.call_as(token, reqwest::Method::POST, "/api/v1/publish", Some(&body))
    };
    let secrets = "    secrets: { LAMP: \"${secret('lamp')}\" }\n    looks: true\n";
    let text = one("light-lamp", "cat \"$ARVOK_SECRET_LAMP\" | wc -c", secrets);
    let (status, problem) = publish_as(&author, &text);
    assert_eq!(status, 422, "{problem}");
    let said = problem.to_string();
    assert!(said.contains("arvok secret set lamp --for runbook/light-lamp"), "{said}");
    stage.secret("lamp", "sesame-open-lamp", &["runbook/light-lamp"]);
    // Whoever writes the code has the secret, so an admin says that it may have it.
    let (status, problem) = publish_as(&author, &text);
    assert_eq!((status, &problem["code"]), (403, &json!("address-with-secret")), "{problem}");
    stage.publish(&text);
    let job = launch(&stage, "light-lamp", json!({ "x": "lamp" }));
    let done = stage.job_in(job, &["succeeded"]);
    assert_eq!(done["steps"][0]["attempts"][0]["output"], 16, "{done}");
    // The same once more, and what is around it, needs no admin; other code does.
    let summary = text.replace("summary: s", "summary: Lights the lamp");
    assert_eq!(publish_as(&author, &summary).0, 200);
    for other in [
        text.replace("wc -c", "cat"),
        text.replace("looks: true", "looks: true\n    network: true"),
        text.replace("script: sh", "script: python3"),
        text.replace("looks: true", "files: [a]") + "files: { a: x }\n",
        text.replace("looks: true", "env: { http_proxy: 'http://127.0.0.1:9' }"),
        text.replace("looks: true", "give: { to: '${inputs.x}' }"),
    ] {
        let (status, problem) = publish_as(&author, &other);
        assert_eq!((status, &problem["code"]), (403, &json!("address-with-secret")), "{problem}");
    }
    let audit = stage.get("/api/v1/audit?act=secret.approved");
    assert!(audit.to_string().contains("runbook/light-lamp"), "{audit}");
}
