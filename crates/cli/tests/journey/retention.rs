//! How long things are kept: said once for all nodes, changed by a command that shows what goes.

use crate::kit::{Stage, block, until};
use arvok_store::{Purpose, days};
use chrono::{TimeDelta, Utc};
use serde_json::json;

const KIND: &str = "test.kept";

#[test]
fn how_long_things_are_kept_is_changed_for_all_nodes_and_what_goes_is_shown_first() {
    let stage = Stage::with_demo();
    let other = stage.second_node();
    for n in 0..3 {
        stage.send("yard-hypervisor", &json!({ "kind": KIND, "resource": format!("vm/k{n}") }));
    }
    let db = block(arvok_store::connect(&stage.database, 1, Purpose::Work)).expect("connects");
    assert!(block(days::begin(&db, Utc::now() + TimeDelta::days(1))).expect("begins"));
    stage.records().run(
        "UPDATE alert_day SET begun_at = begun_at - interval '4 days';
        UPDATE unreadable SET received = received - interval '4 days'",
    );
    let keep = |args: &[&str]| stage.arvok(&[&["storage", "keep"], args].concat());

    for (args, why) in [
        (&["--alerts", "1d", "--yes"][..], "alerts is 1d; that is kept for 2d at least"),
        (
            &["--source", "yard-hypervisor=36h", "--yes"],
            "sources.yard-hypervisor is 1d12h; that is kept for 2d at least",
        ),
        (&["--attempts", "soon", "--yes"], "attempts: "),
        (&["--yes"], "nothing is to change"),
        (&["--alerts", "3d"], "nobody can be asked here"),
    ] {
        let said = keep(args);
        assert!(said.code == 2 && said.err.contains(why), "{args:?}: {}", said.all());
    }
    let shown = keep(&["--alerts", "3d", "--source", "roomy=90d", "--dry-run"]);
    assert!(
        shown.out.contains("Alerts and verdicts") && shown.out.contains("30d"),
        "{}",
        shown.all()
    );
    assert!(
        shown.out.contains("Those of roomy") && shown.out.contains("like others"),
        "{}",
        shown.all()
    );
    assert!(
        shown.out.contains("3 alerts"),
        "of the day that roomy keeps, the others' go: {}",
        shown.all()
    );
    assert!(
        stage.arvok(&["storage", "show"]).out.contains("verdicts are kept for 30d"),
        "nothing has changed"
    );

    let done = keep(&["--alerts", "3d", "--yes"]);
    assert!(done.code == 0 && done.out.contains("(1 whole days)"), "{}", done.all());
    for node in [&stage, &other] {
        assert!(
            node.arvok(&["storage", "show"]).out.contains("verdicts are kept for 3d"),
            "all nodes say the same"
        );
    }
    until("the old day to go", || {
        let left =
            stage.get(&format!("/api/v1/alerts?kind={KIND}"))["items"].as_array().map(Vec::len);
        (left == Some(0)).then_some(())
    });
    let again = keep(&["--alerts", "3d", "--dry-run"]);
    assert!(again.out.contains("It is kept so already"), "{}", again.all());
    let audit = stage.arvok(&["audit", "list", "--act", "retention"]);
    assert!(
        audit.out.contains("alerts 3d") && audit.out.contains("at the first start"),
        "{}",
        audit.all()
    );
    let token = stage.arvok(&["token", "make", "pat", "--role", "author"]).out;
    let refused = stage.arvok_with(
        &["storage", "keep", "--alerts", "9d", "--yes"],
        &[("ARVOK_TOKEN", token.trim())],
        "",
    );
    assert!(refused.code != 0 && refused.err.contains("admin"), "{}", refused.all());
}

#[test]
fn a_node_that_was_told_otherwise_keeps_to_what_stands_and_says_so() {
    let mut stage = Stage::bare();
    stage.restart_with_env(&[("ARVOK_RETENTION_ALERTS", "9d")]);
    assert!(stage.arvok(&["storage", "show"]).out.contains("verdicts are kept for 30d"));
    let log = stage.log();
    assert!(
        log.contains(
            "retention.alerts is set for this node, but counts only for a new installation"
        ),
        "{log}"
    );
}
