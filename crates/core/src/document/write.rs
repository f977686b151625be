//! Values as people write YAML: on one line, without quotes where that is safe. Whatever is written
//! is read back as the same value.

use crate::Period;
use serde_json::Value;

/// A value on one line, as people write YAML: names without quotes where that is safe.
pub fn flow(value: &Value) -> String {
    match value {
        Value::Object(map) if map.is_empty() => "{}".into(),
        Value::Object(map) => {
            let fields: Vec<String> =
                map.iter().map(|(k, v)| format!("{}: {}", scalar(k), flow(v))).collect();
            format!("{{ {} }}", fields.join(", "))
        }
        Value::Array(items) => {
            format!("[{}]", items.iter().map(flow).collect::<Vec<_>>().join(", "))
        }
        Value::String(text) => scalar(text),
        other => other.to_string(),
    }
}

/// A string, quoted unless it can be taken for nothing else.
pub fn scalar(text: &str) -> String {
    let plain = |c: char| c.is_ascii_alphanumeric() || matches!(c, '-' | '_' | '.' | '/');
    let first = text.chars().next().is_some_and(|c| c.is_ascii_alphabetic());
    let taken =
        ["true", "false", "null", "yes", "no", "on", "off"].contains(&text.to_lowercase().as_str());
    // Lengths of time are read as strings however they are written.
    let period = text.chars().all(|c| c.is_ascii_alphanumeric()) && Period::parse(text).is_ok();
    if (first && !taken && text.chars().all(plain)) || period {
        text.to_owned()
    } else {
        Value::from(text).to_string()
    }
}
/// The lines of a text as they are, behind a key that stands so many spaces deep (YAML 1.2.2,
/// section 8.1); one that cannot be written so is quoted.
pub fn block(text: &str, deep: usize) -> String {
    let odd = |c: char| {
        (c.is_control() && c != '\n' && c != '\t')
            || matches!(c, '\u{85}' | '\u{2028}' | '\u{2029}' | '\u{feff}')
    };
    if text.trim().is_empty() || text.contains(odd) {
        return Value::from(text).to_string();
    }
    let ends = match (text.ends_with('\n'), text.ends_with("\n\n")) {
        (false, _) => "-",
        (true, false) => "",
        (true, true) => "+",
    };
    let lines = text.strip_suffix('\n').unwrap_or(text).split('\n').map(|line| match line {
        "" => String::new(),
        line => format!("{:within$}{line}", "", within = deep + 2),
    });
    format!("|2{ends}\n{}", lines.collect::<Vec<_>>().join("\n"))
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::document::parse_value;
    use proptest::prelude::*;

    fn read_back(text: &str) -> Value {
        let written =
            format!("files:\n  a.py: {}\n  b.py: x\ntop: {}\n", block(text, 2), block(text, 0));
        let read = parse_value("f.yaml", &written).unwrap_or_else(|e| panic!("{e}\n{written}"));
        assert_eq!(read["files"]["b.py"], "x", "{written}");
        assert_eq!(read["top"], read["files"]["a.py"], "{written}");
        read["files"]["a.py"].clone()
    }

    #[test]
    fn a_block_of_code_is_written_as_it_is() {
        let code = "def f(x):\n    if x:\n\t\treturn '#: | --- '\n\n\nprint(f(1))\n";
        let written = block(code, 2);
        assert!(written.starts_with("|2\n    def f(x):\n        if x:\n"), "{written}");
        for text in [
            code,
            "x",
            "x\n",
            "x\n\n",
            "\n x",
            "  x\n y",
            "---\n...\n",
            "",
            "\n",
            "a\r\nb",
            "a\u{7}",
        ] {
            assert_eq!(read_back(text), text);
        }
    }

    proptest! {
        #[test]
        fn whatever_is_written_is_read_back(text in "[ -~\\n\\téß🚢\\u{85}\\r#:|]{0,60}") {
            prop_assert_eq!(read_back(&text), text);
        }
    }
}
