//! From an alert to a proven effect, told by the command.

use crate::kit::{ARVOK, Said, Stage, folder, until};
use arvok_standins::Faults;
use std::process::{Command, Stdio};

fn run(args: &[&str]) -> Said {
    let output =
        Command::new(ARVOK).args(args).stdin(Stdio::null()).output().expect("the command runs");
    Said {
        code: output.status.code().unwrap_or(-1),
        out: String::from_utf8_lossy(&output.stdout).into_owned(),
        err: String::from_utf8_lossy(&output.stderr).into_owned(),
    }
}

/// Snapshots without what differs from run to run: times, durations, percentages, counts of
/// repeats, and ids.
fn settings() -> insta::Settings {
    let mut settings = insta::Settings::clone_current();
    settings.set_omit_expression(true);
    for (pattern, to) in [
        (r"\d{4}-\d\d-\d\dT\d\d:\d\d:\d\d(\.\d+)?Z", "[time]"),
        (r"\d\d:\d\d:\d\dZ", "[time]"),
        (r"\(?\d+(\.\d+)? (ms|s|min)( \d+ s)? ago\)?", "[ago]"),
        (r"\d+(\.\d+)? (ms|s)\b", "[span]"),
        (r"127\.0\.0\.1:\d+", "[address]"),
        (r"\d+(\.\d+)? % full, \d+\.\d of", "[n] % full, [n] of"),
        (r"\d+ repeats", "[n] repeats"),
        (r"\d+ (ticket )?mails", "[n] ${1}mails"),
        (r"\d+ wait for", "[n] wait for"),
        (r"\d{13}-\d+", "[id]"),
        (r"value     \d+(\.\d+)?", "value     [n]"),
        (r#""(used_gib|percent|at|run|number)": ?[\d.]+"#, "\"$1\": [n]"),
        // Columns are as wide as what stands in them, and ages differ in width.
        (r"(\S) {2,}", "$1  "),
        (r"step, never p\w*…", "step…"),
        (r" +\n", "\n"),
    ] {
        settings.add_filter(pattern, to);
    }
    settings
}

#[test]
fn a_filling_disk_becomes_one_job_on_one_vm() {
    let stage = Stage::with_demo();
    stage.harbour.yard.set_faults(Faults { delay_ms: 300, ..Faults::default() });
    stage.harbour.yard.with(|c| c.fill("quill-booking-db-1", "data", 88.0, 0.0));
    stage.job_in(1, &["succeeded"]);
    stage.harbour.yard.with(|c| c.fill("quill-booking-db-1", "data", 70.0, 0.0));
    assert_eq!(
        stage.harbour.yard.with(|c| c.vms["quill-booking-db-1"].grown),
        1,
        "grown once, whatever was repeated"
    );
    assert_eq!(stage.harbour.chat.messages().len(), 1);
    settings().bind(|| {
        insta::assert_snapshot!("alert-show", stage.arvok(&["alert", "show", "1"]).out);
        insta::assert_snapshot!("job-list", stage.arvok(&["job", "list"]).out);
        insta::assert_snapshot!("job-show", stage.arvok(&["job", "show", "1"]).out);
        insta::assert_snapshot!("job-follow", stage.arvok(&["job", "follow", "1"]).all());
        insta::assert_snapshot!("alarm-list", stage.arvok(&["alarm", "list"]).all());
        // How much of a summary there is room for depends on how long ago the last job was.
        let listed = stage.arvok(&["runbook", "list"]).all();
        let at = listed.lines().find_map(|line| line.find("SUMMARY")).expect("a column");
        let begin =
            |line: &str| line.chars().take(at + 20).collect::<String>().trim_end().to_owned();
        insta::assert_snapshot!(
            "runbook-list",
            listed.lines().map(begin).collect::<Vec<_>>().join("\n")
        );
        insta::assert_snapshot!("connection-list", stage.arvok(&["connection", "list"]).all());
    });
    for list in [
        ["alert", "list"],
        ["alarm", "list"],
        ["rule", "list"],
        ["job", "list"],
        ["source", "list"],
    ] {
        let said = stage.arvok_with(&list, &[("COLUMNS", "100")], "");
        let widest = said.out.lines().map(|l| l.chars().count()).max().unwrap_or(0);
        assert!(widest <= 100, "{list:?} has a line of {widest} columns:\n{}", said.out);
        let json = stage.arvok(&[list[0], list[1], "--json"]);
        assert!(serde_json::from_str::<serde_json::Value>(&json.out).is_ok(), "{list:?} --json");
    }
    assert!(
        stage.arvok(&["rule", "list"]).out.contains("booking-disk-filling"),
        "names are never cut"
    );
}

#[test]
fn a_node_killed_in_the_middle_of_a_job_goes_on_where_it_was() {
    let mut stage = Stage::with_demo();
    stage.harbour.yard.set_faults(Faults { delay_ms: 1500, ..Faults::default() });
    stage.harbour.yard.with(|c| c.fill("quill-booking-db-1", "data", 88.0, 0.0));
    until("the disk to be growing", || {
        let job = stage.get("/api/v1/jobs")["items"][0].clone();
        (job["steps_done"] == 2).then_some(())
    });
    stage.kill_node();
    stage.start_node();
    let job = stage.job_in(1, &["succeeded", "failed", "unsure"]);
    assert_eq!(job["job"]["state"], "succeeded", "{job:#}");
    assert_eq!(job["job"]["effect"], "confirmed");
    assert_eq!(
        stage.harbour.yard.with(|c| (
            c.vms["quill-booking-db-1"].grown,
            c.vms["quill-booking-db-1"].disks[1].size_gib
        )),
        (1, 44.0)
    );
    assert_eq!(stage.harbour.chat.messages().len(), 1);
    assert_eq!(
        job["steps"][2]["attempts"].as_array().map(Vec::len),
        Some(2),
        "the step was tried again with the same key"
    );
}

#[test]
fn the_demo_tells_its_story_and_a_killed_node_changes_nothing() {
    let data = folder("demo");
    let data = data.to_str().expect("a path");
    settings().bind(|| {
        let said = run(&["demo", "--once", "--port", "0", "--data", data]);
        insta::assert_snapshot!("demo-once", said.out);
        assert_eq!(said.code, 0);
        // The very same snapshot: the report must not tell the difference.
        let first = ["--scene", "disk-fills", "--port", "0", "--data", data];
        for kill in [&[][..], &["--kill-node"]] {
            let said = run(&[&["demo", "--once"][..], kill, &first].concat());
            assert_eq!(
                (said.code, said.err.contains("the node was killed")),
                (0, !kill.is_empty()),
                "{}",
                said.err
            );
            insta::assert_snapshot!("demo-disk", said.out);
        }
    });
}

#[test]
fn the_demo_reaches_this_machines_own_servers() {
    let data = folder("real");
    let data = data.to_str().expect("a path");
    settings().bind(|| {
        for scene in ["unit-fails", "guest-resized"] {
            let said = run(&["demo", "--once", "--scene", scene, "--port", "0", "--data", data]);
            assert_eq!(said.code, 0, "{}", said.all());
            insta::assert_snapshot!(format!("demo-{scene}"), said.out);
        }
    });
}

/// Processes whose command line or environment names a folder.
fn processes_of(folder: &str) -> Vec<String> {
    let entries = std::fs::read_dir("/proc").expect("the process list");
    let mentions = |pid: &str| {
        ["cmdline", "environ"].iter().any(|f| {
            let bytes = std::fs::read(format!("/proc/{pid}/{f}")).unwrap_or_default();
            String::from_utf8_lossy(&bytes).contains(folder)
        })
    };
    entries
        .filter_map(|e| e.ok()?.file_name().into_string().ok())
        .filter(|n| n.bytes().all(|b| b.is_ascii_digit()) && mentions(n))
        .collect()
}

#[test]
fn a_killed_demo_leaves_no_process_and_starts_again() {
    let data = folder("killed");
    let data = data.to_str().expect("a path");
    let mut demo = Command::new(ARVOK)
        .args(["demo", "--once", "--port", "0", "--data", data])
        .stdout(Stdio::null())
        .stderr(Stdio::null())
        .spawn()
        .expect("the demo starts");
    until("database and node to run", || (processes_of(data).len() >= 3).then_some(()));
    demo.kill().expect("killed");
    demo.wait().expect("gone");
    until("everything to end with it", || processes_of(data).is_empty().then_some(()));
    let said = run(&[
        "demo",
        "--once",
        "--json",
        "--scene",
        "vm-switched-off",
        "--port",
        "0",
        "--data",
        data,
    ]);
    assert_eq!(said.code, 0, "{}", said.all());
    let told: serde_json::Value = serde_json::from_str(&said.out).expect("a list");
    assert_eq!(
        (&told[0]["scene"], &told[0]["well"]),
        (&"vm-switched-off".into(), &true.into()),
        "{told}"
    );
    assert!(
        told[0]["seconds"].is_number()
            && told[0]["jobs"].as_array().is_some_and(|jobs| jobs.len() == 1),
        "{told}"
    );
    assert!(processes_of(data).is_empty(), "a demo that ended leaves nothing");
}
