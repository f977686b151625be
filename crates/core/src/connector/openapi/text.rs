//! What was made, as people write it.

use super::{
    credential::credential, description::Description, escaping::written,
    operation::ImportedOperation,
};
use crate::document::{flow, scalar};
use serde_json::{Map, Value};
use std::fmt::Write as _;

/// The file: the connector, and a connection that uses it.
pub(super) fn write(
    description: &Description,
    name: &str,
    made: &[ImportedOperation],
    left_out: &mut Vec<String>,
) -> String {
    let version = Some(description.version())
        .filter(|v| !v.is_empty())
        .map_or_else(String::new, |v| format!(" {v}"));
    let title = line(description.title());
    let mut text = format!(
        "# Made of the description of {title}{version} (OpenAPI {}). It is yours now: change what \
        you like.\n\
         connector: {name}\nsummary: {}\n",
        description.written_in(),
        quoted(&title)
    );
    if let Some(test) = made.iter().find(|one| is_test(one)) {
        let _ =
            writeln!(text, "# By this its connections are tested.\ntest: {}", scalar(&test.name));
    }
    text.push_str("operations:\n");
    made.iter().for_each(|one| text.push_str(&operation(one)));
    let own = made
        .iter()
        .map(|one| &one.security)
        .find(|own| own.as_array().is_some_and(|own| !own.is_empty()));
    let credential = credential(description, own, name, left_out);
    let _ = write!(
        text,
        "---\nconnection: {name}\nsummary: {}\nconnector: {name}\nbase: {}\n",
        quoted(&title),
        scalar(&base(description, name, left_out))
    );
    if let Some(credential) = credential {
        let _ = writeln!(text, "credential: {}", flow(&credential));
    }
    text
}

/// Whether it changes nothing and needs nothing.
fn is_test(made: &ImportedOperation) -> bool {
    let optional = |schema: &Value| schema.get("default").is_some();
    made.request["method"] == "GET" && made.takes.values().all(optional)
}

/// One operation.
pub(super) fn operation(made: &ImportedOperation) -> String {
    let mut text = format!("  {}:\n", scalar(&made.name));
    if let Some(summary) = &made.summary {
        let _ = writeln!(text, "    summary: {}", quoted(summary));
    }
    section(&mut text, "takes", &made.takes);
    section(&mut text, "request", &made.request);
    if let Some(output) = &made.output {
        let _ = writeln!(text, "    output: {}", quoted(output));
    }
    section(&mut text, "gives", &made.gives);
    if let Some(repeat) = made.repeat {
        let _ = writeln!(text, "    repeat: {repeat}");
    }
    if let Some(header) = made.key_header.as_ref().filter(|h| *h != "Idempotency-Key") {
        let _ = writeln!(text, "    key_header: {}", scalar(header));
    }
    if !made.refuses.is_empty() {
        let _ = writeln!(
            text,
            "    # It may refuse with {}.",
            made.refuses.iter().map(|r| line(r)).collect::<Vec<_>>().join("; ")
        );
    }
    text
}

/// A key with a line for each of its fields.
fn section(text: &mut String, key: &str, fields: &Map<String, Value>) {
    if fields.is_empty() {
        return;
    }
    let _ = writeln!(text, "    {key}:");
    for (name, value) in fields {
        let _ = writeln!(text, "      {}: {}", scalar(name), flow(value));
    }
}

/// A text that is read as nothing else, on one line.
fn quoted(text: &str) -> String {
    scalar(&line(text))
}

fn line(text: &str) -> String {
    text.split_whitespace().collect::<Vec<_>>().join(" ")
}

/// Where it is: its first server, with the variables as it says; or a setting.
fn base(description: &Description, name: &str, left_out: &mut Vec<String>) -> String {
    let server = &description.servers()[0];
    let mut address = written(server["url"].as_str().unwrap_or_default());
    for (variable, of) in server["variables"].as_object().into_iter().flatten() {
        let default = written(of["default"].as_str().unwrap_or_default());
        address = address.replace(&format!("{{{variable}}}"), &default);
    }
    if address.starts_with("http://") || address.starts_with("https://") {
        return address.trim_end_matches('/').to_owned();
    }
    let why = if address.is_empty() {
        "no server is told".to_owned()
    } else {
        format!("`{address}` is no whole address")
    };
    left_out.push(format!("where it is: {why}; the connection takes it from the setting `{name}`"));
    format!("${{setting('{name}')}}{}", address.trim_end_matches('/'))
}
