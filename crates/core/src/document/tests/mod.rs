//! Documents: places, bounds and the wording of diagnostics.

mod write;

use super::*;
use serde_json::json;

fn one(text: &str) -> Document {
    parse_file("t.yaml", text).expect("reads").remove(0)
}

fn wrong(text: &str) -> String {
    parse_file("t.yaml", text).expect_err("refused").to_string()
}

#[test]
fn scalars_follow_the_core_schema() {
    let d = one("rule: a\nx: [1, -2, 0x1f, 1.5, 1e3, true, yes, ~, '1', 1.2.3, 12:30, \"${a}\"]\n");
    assert_eq!(
        d.value["x"],
        json!([1, -2, 31, 1.5, 1000.0, true, "yes", null, "1", "1.2.3", "12:30", "${a}"])
    );
}

#[test]
fn json_is_yaml() {
    assert_eq!(one(r#"{"rule": "a", "x": {"y": [1, "b"]}}"#).value["x"]["y"][1], "b");
}

#[test]
fn several_documents_keep_their_own_text_and_places() {
    let text = "# first\nrule: a\nx: 1\n---\n# second\nrule: b\ny:\n  - z\n";
    let docs = parse_file("t.yaml", text).expect("reads");
    assert_eq!(docs.len(), 2);
    assert_eq!(docs[0].text, "# first\nrule: a\nx: 1\n");
    assert_eq!(docs[1].text, "# second\nrule: b\ny:\n  - z\n");
    insta::assert_snapshot!(docs[1].problem("/y/0", "is wrong").to_string(), @"
    t.yaml:8:5: is wrong
        8 |   - z
          |     ^
    ");
}

#[test]
fn aliases_are_followed_but_not_without_end() {
    assert_eq!(one("rule: a\nx: &x [1]\ny: *x\n").value["y"], json!([1]));
    let mut bomb = "rule: a\nl0: &l0 [x,x,x,x,x,x,x,x,x,x]\n".to_owned();
    for i in 1..9 {
        bomb += &format!("l{i}: &l{i} [{}]\n", vec![format!("*l{}", i - 1); 10].join(","));
    }
    assert!(wrong(&bomb).contains("more than 4 MiB"));
}

#[test]
fn what_is_no_definition_is_said() {
    let cases = [
        "rule: [\n",
        "- a\n",
        "rule:\n",
        "rule: a\nrule: b\n",
        "rule: a\nx: {[1]: 2}\n",
        "rule: \"a\n",
        "a: b: c\n",
        "\tx: 1\n",
    ];
    let said: Vec<String> = cases.iter().map(|c| wrong(c)).collect();
    insta::assert_snapshot!(said.join("\n"), @r#"
    t.yaml:2:1: is not YAML: while parsing a node, did not find expected node content
        2 | 
          | ^
    t.yaml:1:1: a definition is a map whose first key says what it is
        1 | - a
          | ^
    t.yaml:1:5: `rule:` must be followed by a name
        1 | rule:
          |     ^
    t.yaml:2:1: the key `rule` stands here a second time
        2 | rule: b
          | ^
    t.yaml:2:5: a key must be a plain string
        2 | x: {[1]: 2}
          |     ^
    t.yaml:1:7: is not YAML: while scanning a quoted scalar, found unexpected end of stream
        1 | rule: "a
          |       ^
    t.yaml:1:5: is not YAML: mapping values are not allowed in this context
        1 | a: b: c
          |     ^
    t.yaml:1:5: `x:` must be followed by a name
        1 | 	x: 1
          |     ^
    "#);
    assert!(wrong(&format!("rule: a\nx: {}", "[".repeat(60))).contains("nested deeper than 48"));
    assert!(wrong(&"x".repeat(MAX_FILE + 1)).contains("bytes"));
}

proptest::proptest! {
    #[test]
    fn no_text_panics(text in "[a-z:\\-\\[\\]{}\"'&*!|>%@#,? \n\t]{0,80}") {
        let _ = parse_file("t.yaml", &text);
    }
}

#[test]
fn found_by_fuzzing_lone_carriage_returns_are_lines_to_the_parser_only() {
    let text =
        format!("rule: a\nlisten: {{}}\n---\nrule:{} b\n---\nrule: c\n", "\r\r\r\r\r\r".repeat(3));
    let documents = super::parse_file("odd.yaml", &text);
    assert!(
        documents.is_ok()
            || documents.is_err_and(|p| !p.message.contains("cannot be read as YAML"))
    );
    let many = format!("rule: a\n{}---\nrule: b\n---\nrule: c\n", "#\r".repeat(40));
    let documents = super::parse_file("odd.yaml", &many).expect("reads");
    assert!(documents.iter().all(|d| d.kind == "rule"), "{documents:?}");
}

#[test]
fn aliases_are_paid_for_before_anything_is_copied() {
    let bomb = |long: usize, times: usize| {
        format!("rule: a\nx: &a {}\ny: [{}]\n", "k".repeat(long), vec!["*a"; times].join(","))
    };
    assert!(
        parse_file("t.yaml", &bomb(1000, 1000)).is_ok(),
        "a megabyte of aliases is nobody's harm"
    );
    let wrong = parse_file("t.yaml", &bomb(480_000, 99_000)).expect_err("48 GB").message;
    assert_eq!(wrong, "the file makes more than 4 MiB with its aliases and long keys written out");
    let doubled: String =
        (1..40).map(|n| format!("k{n}: &a{n} [*a{}, *a{}]\n", n - 1, n - 1)).collect();
    assert!(parse_file("t.yaml", &format!("rule: a\nk0: &a0 x\n{doubled}")).is_err());
    let nested = format!("rule: a\nx: &a [{}]", "k".repeat(900_000));
    assert!(parse_file("t.yaml", &nested).is_ok());
}

#[test]
fn the_documents_of_a_file_share_its_bounds() {
    let one =
        format!("rule: a\nx: &a {}\ny: [{}]\n---\n", "k".repeat(4000), vec!["*a"; 900].join(","));
    assert!(parse_file("t.yaml", &one).is_ok());
    assert!(parse_file("t.yaml", &one.repeat(3)).is_err());
}

#[test]
fn a_long_key_over_many_values_is_refused() {
    let text = format!("rule: a\n{}: [{}]\n", "k".repeat(1000), vec!["1"; 50_000].join(","));
    assert!(parse_file("t.yaml", &text).is_err());
}

#[test]
fn long_lines_are_cut_where_they_are_shown() {
    let wrong = parse_file("t.yaml", &format!("rule: a\nx: {}: b\n", "y".repeat(500_000)))
        .expect_err("no YAML");
    assert!(wrong.text.len() < 500, "{} bytes", wrong.text.len());
}

#[test]
fn characters_that_json_writes_as_two_are_one() {
    let ship = one(r#"{"rule": "a", "x": "\ud83d\udea2 \\ud83d \u00e9"}"#);
    assert_eq!(ship.value["x"], "\u{1f6a2} \\ud83d \u{e9}");
    assert!(
        parse_file("t.json", r#"{"rule": "a", "x": "\ud83d"}"#).is_err(),
        "half a character is none"
    );
}

#[test]
fn a_file_that_is_not_utf8_says_where() {
    insta::assert_snapshot!(wrong(&format!("rule: a\nx: gr{NOT_UTF8}n\n")), @r#"
    t.yaml:2:6: is not UTF-8 from here on; save the file as UTF-8
        2 | x: gr￾n
          |      ^
    "#);
}
