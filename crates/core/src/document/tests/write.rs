//! Whatever is written is read back as the same value.

use super::*;
use proptest::prelude::*;

fn values() -> impl Strategy<Value = Value> {
    let texts = prop_oneof![
        "[a-zA-Z0-9._/-]{0,12}",
        "[ -~\n\t\u{e9}\u{2028}\u{85}]{0,12}",
        proptest::sample::select(
            &["yes", "No", "null", "~", "1e3", "0x1f", "15m", "1_000", ".5", "true", "# a"][..]
        )
        .prop_map(str::to_owned),
    ];
    let leaf = prop_oneof![
        Just(Value::Null),
        any::<bool>().prop_map(Value::from),
        any::<i64>().prop_map(Value::from),
        (-1e12..1e12f64).prop_map(Value::from),
        texts.prop_map(Value::from),
    ];
    leaf.prop_recursive(4, 40, 5, |inner| {
        prop_oneof![
            proptest::collection::vec(inner.clone(), 0..5).prop_map(Value::from),
            proptest::collection::btree_map("[ -~]{1,8}", inner, 0..5)
                .prop_map(|m| m.into_iter().collect()),
        ]
    })
}

proptest! {
    #[test]
    fn a_value_on_one_line_is_the_same_value(value in values()) {
        let line = flow(&value);
        prop_assert!(!line.contains('\n'), "{}", line);
        let document = parse_file("t.yaml", &format!("rule: a\nx: {line}\n"));
        prop_assert_eq!(document.map(|d| d[0].value["x"].clone()).map_err(|e| e.to_string()),
            Ok(value), "{}", line);
    }
}

#[test]
fn words_are_quoted_where_they_could_be_taken_for_something_else() {
    let written = |texts: &[&str]| texts.iter().map(|t| scalar(t)).collect::<Vec<_>>().join(" ");
    let plain = ["vm/quill-booking-db-1", "disk.usage", "15m", "1h30m"];
    assert_eq!(written(&plain), plain.join(" "));
    assert_eq!(
        written(&["no", "Null", "-a", "5", "a b", "a: b", ""]),
        r#""no" "Null" "-a" "5" "a b" "a: b" """#
    );
}
