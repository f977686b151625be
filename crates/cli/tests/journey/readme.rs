//! The README's own first rule must do what the README says.

use crate::kit::{Stage, folder};

const README: &str = include_str!("../../../../README.md");

#[test]
fn the_first_rule_of_the_readme_watches_and_then_acts() {
    let stage = Stage::bare();
    let yaml = README.split("```yaml\n").nth(1).and_then(|r| r.split("```").next()).expect("the file of the README");
    let file = folder("readme").join("first.yaml");
    std::fs::write(&file, yaml).expect("writes");
    let path = file.to_str().expect("a path");
    assert_eq!(stage.arvok(&["check", path]).code, 0);
    assert_eq!(
        stage
            .arvok_with(&["secret", "set", "yard-scripts", "--for", "source/yard-scripts"], &[], "a-long-secret\n")
            .code,
        0
    );
    assert_eq!(stage.arvok(&["publish", path, "--yes"]).code, 0);
    let line = README.lines().find_map(|l| l.strip_prefix("arvok send ")).expect("the line that sends");
    let words: Vec<&str> = std::iter::once("send").chain(line.split_whitespace()).collect();
    assert_eq!(stage.arvok(&words).code, 0);
    assert!(stage.arvok(&["alert", "show", "1"]).out.contains("disk-filling (version 1): watched"));

    std::fs::write(&file, yaml.replace("rule: disk-filling\n", "rule: disk-filling\nstance: act\n")).expect("writes");
    assert_eq!(stage.arvok(&["publish", path, "--yes"]).code, 0);
    let another: Vec<&str> =
        words.iter().map(|w| if w.starts_with("vm/") { "vm/quill-booking-db-2" } else { w }).collect();
    assert_eq!(stage.arvok(&another).code, 0);
    let followed = stage.arvok(&["job", "follow", "1"]);
    assert_eq!(followed.code, 0, "{}", followed.all());
}
