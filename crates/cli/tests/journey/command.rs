//! The command by itself: help, exit codes, files, questions.

use crate::kit::{DEMO, LIBRARY, Stage, arvok, folder};
use reqwest::Method;
use serde_json::json;
use std::fs;

#[test]
fn help_teaches() {
    insta::assert_snapshot!("help", arvok(&["--help"], &[], "").out);
    insta::assert_snapshot!("help-send", arvok(&["send", "--help"], &[], "").out);
    let (serve, guide) = (
        arvok(&["serve", "--help"], &[], "").out,
        include_str!("../../../../docs/guide/running.md"),
    );
    for name in arvok_service::variables() {
        assert!(serve.contains(name) && guide.contains(name), "{name} is explained in both");
    }
    for shell in ["bash", "zsh", "fish"] {
        assert!(arvok(&["completions", shell], &[], "").out.contains("arvok"), "{shell}");
    }
}

#[test]
fn exit_codes_tell_what_happened() {
    let stage = Stage::with_demo();
    let nowhere = [("ARVOK_SERVER", "http://127.0.0.1:9"), ("ARVOK_TOKEN", "x")];
    let at =
        |token: &'static str| [("ARVOK_SERVER", stage.address.as_str()), ("ARVOK_TOKEN", token)];
    stage.publish("runbook: over\ntarget: vm/a\nsteps: [ { id: done, set: { it: 1 } } ]\n");
    let faulty = folder("faulty").join("f.yaml");
    std::fs::write(&faulty, "rule: a\ndispach: {}\n").expect("writes");
    let faulty = faulty.to_str().expect("a path");
    let launched = stage.call(Method::POST, "/api/v1/jobs", Some(&json!({ "runbook": "over" })));
    stage.job_in(launched.1["job"].as_i64().expect("a job"), &["succeeded"]);
    let codes = [
        ("done", stage.arvok(&["alert", "list"]).code),
        ("faults found", arvok(&["check", faulty], &[], "").code),
        ("wrong words", arvok(&["alert", "lst"], &[], "").code),
        ("no server", arvok(&["alert", "list"], &nowhere, "").code),
        ("wrong token", arvok(&["alert", "list"], &at("wrong"), "").code),
        ("not there", stage.arvok(&["alert", "show", "99"]).code),
        ("refused", stage.arvok(&["job", "pause", "1"]).code),
        ("no such file", arvok(&["check", "/nonexistent"], &[], "").code),
    ];
    let lines: Vec<String> = codes.iter().map(|(what, code)| format!("{code} {what}")).collect();
    insta::assert_snapshot!(lines.join("\n"), @"
    0 done
    1 faults found
    2 wrong words
    3 no server
    4 wrong token
    5 not there
    6 refused
    7 no such file
    ");
    let said = arvok(&["alert", "list"], &nowhere, "");
    insta::assert_snapshot!(said.err, @"arvok: http://127.0.0.1:9 does not answer; is `arvok serve` running there? Name another with --server");
}

#[test]
fn check_needs_no_server_and_marks_the_place() {
    let said = arvok(&["check", DEMO, LIBRARY], &[], "");
    assert_eq!(said.code, 0, "{}", said.all());
    assert!(
        said.out.contains("93 definitions in 69 files are good; ")
            && said.out.contains(" examples hold"),
        "{}",
        said.out
    );
    let place = folder("check");
    std::fs::write(
        place.join("rule.yaml"),
        "rule: a\nlisten:\n  sevrity: major\ndispatch: { runbook: none }\n",
    )
    .expect("writes");
    std::fs::write(
        place.join("b.json"),
        "{\"rule\": \"b\", \"dispatch\": {\"runbook\": \"none\"}}",
    )
    .expect("writes");
    let said = arvok(&["check", place.to_str().expect("a path")], &[], "");
    let shown = said.err.replace(place.to_str().expect("a path"), "[folder]");
    insta::assert_snapshot!(shown, @"
    [folder]/rule.yaml:3:3: unknown key `sevrity`; did you mean `severity`?
        3 |   sevrity: major
          |   ^^^^^^^
    1 problem
    ");
}

#[test]
fn publish_shows_asks_and_can_be_told_not_to() {
    let stage = Stage::with_demo();
    let place = folder("publish");
    let file = place.join("disks.yaml");
    let text = std::fs::read_to_string(format!("{DEMO}/rules/disks.yaml")).expect("the demo");
    std::fs::write(&file, text.replace("rest: 30s", "rest: 15m")).expect("writes");
    let path = file.to_str().expect("a path");
    let asked = stage.arvok(&["publish", path]);
    insta::assert_snapshot!(asked.all(), @"
    exit 2
    changed    rule booking-disk-filling, version 2
        -   rest: 30s
        +   rest: 15m
    2 without a change
    acts       rule booking-disk-filling through crew-chat, yard-hypervisor
    arvok: nobody can be asked here; say --yes to do it, or --dry-run to only look
    ");
    assert_eq!(stage.get("/api/v1/definitions/rule/booking-disk-filling")["item"]["version"], 1);
    assert_eq!(stage.arvok(&["publish", path, "--dry-run"]).code, 0);
    assert_eq!(stage.arvok(&["publish", path, "--yes"]).code, 0);
    assert_eq!(stage.get("/api/v1/definitions/rule/booking-disk-filling")["item"]["version"], 2);
    assert_eq!(stage.arvok(&["publish", path, "--yes"]).out.trim(), "3 without a change");
}

#[test]
fn send_takes_flags_a_file_or_an_input() {
    let stage = Stage::with_demo();
    let flags = [
        "send",
        "yard-hypervisor",
        "--kind",
        "disk.usage",
        "--resource",
        "vm/oldhithe-kiosk-1",
        "--severity",
        "minor",
        "--value",
        "91",
        "--label",
        "tier=bronze",
        "--id",
        "a1",
    ];
    let with_credential = [("ARVOK_CREDENTIAL", "monitor-token")];
    assert_eq!(stage.arvok_with(&flags, &with_credential, "").out.trim(), "alert 1 taken (a1)");
    assert_eq!(
        stage.arvok(&[&flags[..], &["--for-real"]].concat()).out.trim(),
        "a1 had come before; nothing changed"
    );
    let payload = r#"{"run": 7, "at": 1770000000, "reading": {"number": 3, "check": "disk", "level": "high", "vm": "a", "part": "data", "percent": 90, "text": "t", "tier": "gold"}}"#;
    assert_eq!(
        stage.arvok_with(&["send", "yard-hypervisor", "-", "--for-real"], &[], payload).out.trim(),
        "alert 3 taken (7-3)"
    );
    let alert = stage.get("/api/v1/alerts/3");
    assert_eq!(alert["alert"]["time"], "2026-02-02T02:40:00Z");
    let bad = stage.arvok_with(&["send", "yard-hypervisor", "-"], &[], "{}");
    assert_eq!(bad.code, 6);
    assert!(bad.err.contains("kept as unreadable 1"), "{}", bad.err);
    let none = stage.arvok(&["send", "yard-hypervisor"]);
    assert_eq!(none.code, 2, "{}", none.all());
}

#[test]
fn login_is_remembered_for_this_user_only() {
    use std::os::unix::fs::PermissionsExt;
    let stage = Stage::bare();
    let home = folder("home");
    let home_path = home.to_str().expect("a path");
    let environment = [("XDG_CONFIG_HOME", home_path)];
    let said = arvok(&["login", &stage.address], &environment, &format!("{}\n", stage.token));
    assert_eq!(said.code, 0, "{}", said.all());
    let mode =
        std::fs::metadata(home.join("arvok/login.toml")).expect("a file").permissions().mode();
    assert_eq!(mode & 0o777, 0o600);
    assert_eq!(arvok(&["alert", "list"], &environment, "").out.trim(), "No alerts.");
    assert_eq!(arvok(&["token", "list"], &environment, "").code, 0);
    let elsewhere = [("XDG_CONFIG_HOME", home_path), ("ARVOK_SERVER", "http://127.0.0.1:9")];
    assert_eq!(
        arvok(&["alert", "list"], &elsewhere, "").code,
        3,
        "and the token goes nowhere else"
    );
}

#[test]
fn servers_have_names_and_one_does_not_take_the_place_of_another() {
    let stage = Stage::bare();
    let home = folder("home");
    let home = home.to_str().expect("a path");
    let with = |args: &[&str], input: &str| arvok(args, &[("XDG_CONFIG_HOME", home)], input);
    let other = stage.address.replace("127.0.0.1", "localhost");
    assert_eq!(with(&["login", &stage.address], &stage.token).code, 0);
    let taken = with(&["login", &other], &stage.token);
    assert!(
        taken.code == 2 && taken.err.contains("`default` is http://127.0.0.1"),
        "{}",
        taken.all()
    );
    assert_eq!(with(&["login", &other, "--name", "quill"], &stage.token).code, 0);
    let listed = with(&["profile", "list"], "").out;
    let lines: Vec<Vec<&str>> =
        listed.lines().skip(1).map(|l| l.split_whitespace().collect()).collect();
    assert_eq!(
        lines,
        [vec!["default", &stage.address], vec!["quill", &other, "meant"]],
        "{listed}"
    );
    assert!(with(&["status"], "").out.contains("server   http://localhost"));
    assert!(
        with(&["status", "--profile", "default"], "").out.contains("server   http://127.0.0.1")
    );
    let unknown = with(&["status", "--profile", "tern"], "");
    assert!(
        unknown.code == 2 && unknown.err.contains("known here: default, quill"),
        "{}",
        unknown.all()
    );
    assert_eq!(with(&["profile", "use", "default"], "").code, 0);
    assert!(with(&["status"], "").out.contains("server   http://127.0.0.1"));
    assert!(with(&["logout", "quill"], "").out.contains("`quill`, http://localhost"));
    assert_eq!(with(&["alert", "list", "--server", &other], "").code, 4, "its token is gone");
    assert_eq!(with(&["alert", "list"], "").code, 0);
}

#[test]
fn lists_are_given_whole_as_lines_and_as_csv() {
    let stage = Stage::with_demo();
    for n in 0..37 {
        let (resource, summary) = (format!("vm/{n}"), format!("=1+{n}, \"full\""));
        stage.send(
            "yard-hypervisor",
            &json!({ "kind": "test.many", "resource": resource, "summary": summary }),
        );
    }
    let lines = stage
        .arvok(&["alert", "list", "--kind", "test.many", "--limit", "all", "--as", "lines"])
        .out;
    let items: Vec<serde_json::Value> =
        lines.lines().map(|l| serde_json::from_str(l).expect("JSON")).collect();
    assert_eq!(
        (items.len(), &items[0]["resource"], &items[36]["resource"]),
        (37, &json!("vm/36"), &json!("vm/0"))
    );
    let csv =
        stage.arvok(&["alert", "list", "--kind", "test.many", "--limit", "33", "--as", "csv"]).out;
    let records: Vec<&str> = csv.split("\r\n").collect();
    assert_eq!(records.len(), 1 + 33 + 1, "{csv}");
    assert!(records[0].starts_with("seq,"), "{}", records[0]);
    assert!(records[1].contains("\"'=1+36, \"\"full\"\"\""), "{}", records[1]);
    let columns = records[0].split(',').count();
    assert!(columns > 8, "{}", records[0]);
    let whole =
        stage.arvok(&["alert", "list", "--kind", "test.many", "--limit", "all", "--json"]).out;
    let page: serde_json::Value = serde_json::from_str(&whole).expect("JSON");
    assert_eq!((page["items"].as_array().map(Vec::len), &page["next"]), (Some(37), &json!(null)));
    let none =
        stage.arvok(&["alert", "list", "--source", "arvok", "--kind", "none", "--as", "csv"]).out;
    assert_eq!(none.trim_end(), records[0], "the names alone");
    assert_eq!(stage.arvok(&["alert", "list", "--limit", "0"]).code, 2);
    assert_eq!(stage.arvok(&["audit", "list", "--as", "lines"]).code, 0);
}

#[test]
fn wrong_words_end_with_2_whoever_finds_them() {
    let stage = Stage::bare();
    stage.publish("runbook: drill\ntarget: vm/a\nsteps: [ { id: done, set: { it: 1 } } ]\n");
    for words in [
        &["job", "list", "--state", "broken"][..],
        &["job", "list", "--effect", "good"],
        &["alert", "list", "--severity", "bad"],
        &["alert", "list", "--verdict", "bad"],
        &["alarm", "list", "--since", "yesterday"],
        &["job", "launch", "drill", "--deadline", "soon", "--yes"],
        &["withdraw", "rulez", "a", "--yes"],
        &["proposal", "list", "--state", "gone"],
        &["help", "jbo"],
    ] {
        let said = stage.arvok(words);
        assert_eq!(said.code, 2, "{words:?}: {}", said.all());
    }
}

#[test]
fn what_is_no_more_in_a_folder_is_withdrawn_where_that_is_wished() {
    let stage = Stage::bare();
    let home = folder("definitions");
    let (a, b) = (home.join("a.yaml"), home.join("b.yaml"));
    let runbook = |name: &str| {
        format!("runbook: {name}\ntarget: vm/a\nsteps: [ {{ id: done, set: {{ it: 1 }} }} ]\n")
    };
    std::fs::write(&a, runbook("first")).expect("writes");
    std::fs::write(&b, runbook("second")).expect("writes");
    let home = home.to_str().expect("a path");
    stage.publish(&runbook("elsewhere"));
    assert_eq!(stage.arvok(&["publish", home, "--yes"]).code, 0);
    let rule = "rule: uses\ndispatch: { runbook: first }\n";
    assert_eq!(
        stage.arvok_with(&["check", "-"], &[], rule).code,
        1,
        "by itself it names what is not there"
    );
    let beside = stage.arvok_with(&["check", "-", "--against", "published"], &[], rule);
    assert_eq!(
        beside.out.trim_end(),
        "1 definition in 1 file are good beside what is published",
        "{}",
        beside.all()
    );
    std::fs::remove_file(&b).expect("removes");
    assert_eq!(stage.arvok(&["publish", home, "--yes"]).code, 0);
    assert_eq!(stage.arvok(&["runbook", "show", "second"]).code, 0, "without --prune it stays");
    let would = stage.arvok(&["publish", home, "--prune", "--dry-run"]);
    assert!(would.out.contains("second") && !would.out.contains("elsewhere"), "{}", would.all());
    assert!(would.err.contains("1 definition came from elsewhere"), "{}", would.all());
    let dotted = format!("{home}/./");
    assert_eq!(stage.arvok(&["publish", &dotted, "--prune", "--yes"]).code, 0);
    assert_eq!(stage.arvok(&["runbook", "show", "second"]).code, 5);
    assert_eq!(stage.arvok(&["runbook", "show", "elsewhere"]).code, 0);
    let file = stage.arvok(&["publish", a.to_str().expect("a path"), "--prune", "--yes"]);
    assert!(file.code == 2 && file.err.contains("is no folder"), "{}", file.all());
}

#[test]
fn a_definition_is_edited_where_it_stands_and_nothing_typed_is_lost() {
    let stage = Stage::bare();
    stage.publish(
        "# The drill of the pier.\nrunbook: drill\ntarget: vm/a\nsteps: [ { id: done, \
        set: { it: 1 } } ]\n",
    );
    let edit = |editor: &str| {
        stage.arvok_with(&["runbook", "edit", "drill", "--yes"], &[("EDITOR", editor)], "")
    };
    let same = edit("true");
    assert_eq!((same.code, same.out.trim_end()), (0, "nothing was changed"), "{}", same.all());
    let changed = edit("sed -i 's/it: 1/it: 2/'");
    assert_eq!(changed.code, 0, "{}", changed.all());
    let shown = stage.get("/api/v1/definitions/runbook/drill");
    assert!(
        shown["text"].as_str().is_some_and(|t| t.starts_with("# The drill") && t.contains("it: 2")),
        "{shown}"
    );
    let wrong = edit("sed -i 's/target/tarket/'");
    let kept = wrong
        .err
        .lines()
        .find_map(|l| l.strip_prefix("your text is in "))
        .expect("says where")
        .to_owned();
    assert!(
        wrong.code == 1 && std::fs::read_to_string(&kept).is_ok_and(|t| t.contains("tarket")),
        "{}",
        wrong.all()
    );
    assert_eq!(edit("false").code, 7);
    let fallen = edit("sed -i 's/it: 2/it: 4/' \"$1\"; false");
    let kept = fallen
        .err
        .lines()
        .find_map(|l| l.strip_prefix("your text is in "))
        .expect("says where")
        .to_owned();
    assert!(
        fallen.code == 7 && std::fs::read_to_string(&kept).is_ok_and(|t| t.contains("it: 4")),
        "{}",
        fallen.all()
    );
    // Somebody else publishes while it is edited.
    let script = folder("editor").join("editor.sh");
    let other = "runbook: drill\ntarget: vm/a\nsteps: [ { id: done, set: { it: 3 } } ]\n";
    let publish = format!("{} publish - --yes", env!("CARGO_BIN_EXE_arvok"));
    std::fs::write(&script, format!("sed -i 's/it: 2/it: 9/' \"$1\"\n{publish} <<'E'\n{other}E\n"))
        .expect("writes");
    let late = edit(&format!("sh {}", script.display()));
    assert!(late.code == 6 && late.err.contains("while you edited version 2"), "{}", late.all());
    let shown = stage.get("/api/v1/definitions/runbook/drill");
    assert!(shown["text"].as_str().is_some_and(|t| t.contains("it: 3")), "{shown}");
}

#[test]
fn help_and_pages_for_man_come_from_the_same_words() {
    let said = |words: &[&str]| arvok(words, &[], "");
    let help = said(&["help", "job", "launch"]).out;
    assert!(help.contains("--dry-run") && help.contains("arvok job launch"), "{help}");
    let page = said(&["help", "--man", "job", "launch"]).out;
    assert!(
        page.contains(".TH") && page.contains("dry") && page.contains("Launch a runbook"),
        "{page}"
    );
    let unknown = said(&["help", "job", "lunch"]);
    assert!(
        unknown.code == 2 && unknown.err.contains("did you mean `launch`?"),
        "{}",
        unknown.all()
    );
    let into = folder("man");
    let written = said(&["help", "--into", into.to_str().expect("a path")]);
    assert_eq!(written.code, 0, "{}", written.all());
    for name in ["arvok.1", "arvok-job.1", "arvok-job-launch.1"] {
        assert!(std::fs::metadata(into.join(name)).is_ok_and(|m| m.len() > 300), "{name}");
    }
}

#[test]
fn status_says_who_one_is_and_what_waits_and_logout_forgets() {
    let stage = Stage::bare();
    let home = crate::kit::folder("home");
    let home = home.to_str().expect("a path");
    let with = |args: &[&str], input: &str| {
        let environment = [("XDG_CONFIG_HOME", home), ("ARVOK_SERVER", stage.address.as_str())];
        arvok(args, &environment, input)
    };
    assert_eq!(with(&["logout"], "").out.trim(), "nothing is remembered");
    assert_eq!(with(&["login", &stage.address], &stage.token).code, 0);
    let said = with(&["status"], "");
    assert_eq!(said.code, 0, "{}", said.all());
    for line in [
        "as admin with the role admin",
        "node     ready",
        "nodes    1",
        "alarms   0 open",
        "nobody",
    ] {
        assert!(said.out.contains(line), "{line}: {}", said.all());
    }
    let json: serde_json::Value =
        serde_json::from_str(&with(&["status", "--json"], "").out).expect("JSON");
    assert_eq!((&json["ready"], &json["role"]), (&true.into(), &"admin".into()), "{json}");
    assert!(with(&["logout"], "").out.contains("is forgotten"));
    assert_eq!(with(&["status"], "").code, 4, "nobody is known any more");
}

#[test]
fn lists_know_a_window_of_time_and_definitions_come_on_standard_input() {
    let stage = Stage::bare();
    let runbook = "runbook: drill\ntarget: vm/a\nsteps: [ { id: done, set: { it: 1 } } ]\n";
    let checked = stage.arvok_with(&["check", "-"], &[], runbook);
    assert_eq!(checked.code, 0, "{}", checked.all());
    let wrong = stage.arvok_with(&["check", "-"], &[], "runbook: drill\nstepz: []\n");
    assert!(
        wrong.code != 0 && wrong.err.contains("standard input:2:1: unknown key `stepz`"),
        "{}",
        wrong.all()
    );
    assert_eq!(stage.arvok_with(&["publish", "-", "--yes"], &[], runbook).code, 0);
    assert_eq!(stage.arvok(&["job", "launch", "drill", "--yes"]).code, 0);
    let listed = |window: &[&str]| stage.arvok(&[&["job", "list"], window].concat());
    assert!(listed(&["--since", "1h"]).out.contains("drill"));
    assert!(!listed(&["--until", "1h"]).out.contains("drill"));
    assert!(!listed(&["--since", "2100-01-01T00:00:00Z"]).out.contains("drill"));
    let odd = listed(&["--since", "yesterday"]);
    assert_eq!(odd.code, 2, "{}", odd.all());
    assert!(odd.err.contains("is not a time such as"), "{}", odd.err);
    assert_eq!(stage.arvok(&["alert", "list", "--since", "1h"]).code, 0);
}

#[test]
fn a_launch_takes_inputs_of_files_and_follows_and_lists_take_severities_as_rules_do() {
    let stage = Stage::with_demo();
    let place = folder("inputs");
    let file = place.join("rows.json");
    fs::write(&file, "[1, 2, 3]\n").expect("writes");
    let runbook = "runbook: rows\ninputs: { rows: { type: array }, at: { type: string } }\ntarget: \
        group/rows\n\
                   steps: [ { id: many, require: 'size(inputs.rows) == 3' } ]\noutputs: { at: \
                   '${inputs.at}' }\n";
    stage.publish(runbook);
    let rows = format!("rows=@{}", file.display());
    let said = stage.arvok(&[
        "job",
        "launch",
        "rows",
        "--input",
        &rows,
        "--input",
        "at=@@home",
        "--yes",
        "--follow",
    ]);
    assert!(
        said.code == 0 && said.out.contains("succeeded. Effect: not checked"),
        "{}",
        said.all()
    );
    assert_eq!(stage.get("/api/v1/jobs/1")["outputs"], json!({ "at": "@home" }));
    let gone = stage.arvok(&["job", "launch", "rows", "--input", "rows=@/nonexistent", "--yes"]);
    assert_eq!(gone.code, 7, "{}", gone.all());
    for (n, severity) in ["minor", "major", "critical"].into_iter().enumerate() {
        stage.send(
            "yard-hypervisor",
            &json!({ "kind": "test.one", "resource": format!("vm/s{n}"), "severity": severity }),
        );
    }
    let listed = |what: &str, severity: &str| {
        let said = stage.arvok(&[what, "list", "--severity", severity, "--json"]);
        let page: serde_json::Value =
            serde_json::from_str(&said.out).unwrap_or_else(|_| panic!("{}", said.all()));
        page["items"].as_array().expect("items").len()
    };
    for what in ["alert", "alarm"] {
        let counts =
            ["major", "major..", "..major", "minor..major"].map(|severity| listed(what, severity));
        assert_eq!(counts, [1, 2, 2, 2], "{what}");
    }
    let wrong = stage.arvok(&["alert", "list", "--severity", "grave"]);
    assert!(wrong.code == 2 && wrong.err.contains("`grave` is not a severity"), "{}", wrong.all());
    let since = stage.arvok(&["alarm", "list", "--until", "2020-01-01T00:00:00Z"]);
    assert!(since.out.contains("No alarm"), "{}", since.all());
    // Of many warnings of one kind ten are shown.
    let rule = |n: usize| {
        format!("rule: r{n:02}\nlisten: {{ kinds: k.one }}\ndispatch: {{ runbook: note }}\n")
    };
    let note = "runbook: note\ntarget: vm/a\nsteps: [ { id: fine, require: 'true' } ]\n".to_owned();
    let text = [note].into_iter().chain((0..14).map(rule)).collect::<Vec<_>>().join("---\n");
    let said = stage.arvok_with(&["check", "-"], &[], &text);
    assert!(
        said.err.contains("and 4 more of `same-runbook`; --all-warnings shows them"),
        "{}",
        said.all()
    );
    assert_eq!(said.err.matches("warning (same-runbook)").count(), 10);
    let all = stage.arvok_with(&["check", "-", "--all-warnings"], &[], &text);
    assert_eq!(all.err.matches("warning (same-runbook)").count(), 14);
}
