//! Files that lie beside a document, those of scripts and the events of a calendar: put
//! into it, so that they are checked and published with it and there is one text of one version.

use crate::error::CliError;
use arvok_core::{
    Kind,
    document::{Document, block, parse_file, scalar},
};
use serde_json::Value;
use std::{collections::BTreeSet, fs, path::Path};

/// Largest file that is put in, in bytes.
const MOST: u64 = 512 << 10;

/// The text of a file of definitions with what it needs from beside it. What cannot be read as
/// definitions stays as it is: the check says why.
pub(super) fn with_files(path: &Path, text: String) -> Result<String, CliError> {
    let wrong = |why: String| CliError::Here(format!("{}: {why}", path.display()));
    let Ok(documents) = parse_file("", &text) else { return Ok(text) };
    let folder = path.parent().unwrap_or(Path::new(""));
    let beside: BTreeSet<String> = documents
        .iter()
        .filter(|document| [Kind::Runbook, Kind::Step].map(Kind::as_str).contains(&&*document.kind))
        .flat_map(missing)
        .filter(|name| is_plain(name) && folder.join(name).is_file())
        .collect();
    let events: Vec<&str> = documents
        .iter()
        .filter(|document| document.value.get("events").is_none())
        .filter(|document| document.kind == Kind::Calendar.as_str())
        .filter_map(|document| document.value.get("events_from")?.as_str())
        .filter(|name| is_plain(name) && folder.join(name).is_file())
        .collect();
    if let Some(name) = events.first() {
        if documents.len() > 1 || text.trim_start().starts_with('{') {
            let why = "a calendar whose events lie beside it stands in a file of its own, in YAML";
            return Err(wrong(why.to_owned()));
        }
        // Lines of iCalendar end in CR LF (RFC 5545, section 3.1); those of YAML need not.
        let events = content(&folder.join(name))?.replace("\r\n", "\n");
        return Ok(format!("{}\nevents: {}\n", text.trim_end_matches('\n'), block(&events, 0)));
    }
    if beside.is_empty() {
        return Ok(text);
    }
    let [document] = &documents[..] else {
        let why = "a definition whose scripts have files beside it stands in a file of its own";
        return Err(wrong(why.to_owned()));
    };
    if document.value.get("files").is_some() || text.trim_start().starts_with('{') {
        let names = beside.into_iter().collect::<Vec<_>>().join(", ");
        return Err(wrong(format!(
            "{names} beside it cannot be put in, since it has `files` of its own or is JSON; put \
            all of them under `files`, or leave that out"
        )));
    }
    let mut whole = text;
    if !whole.ends_with('\n') {
        whole.push('\n');
    }
    whole.push_str("files:\n");
    for name in beside {
        let content = content(&folder.join(&name))?;
        whole.push_str(&format!("  {}: {}\n", scalar(&name), block(&content, 2)));
    }
    Ok(whole)
}

/// What a file holds.
fn content(file: &Path) -> Result<String, CliError> {
    let unreadable = |why: String| CliError::Here(format!("{}: {why}", file.display()));
    let size = fs::metadata(file).map_err(|e| unreadable(e.to_string()))?.len();
    if size > MOST {
        return Err(unreadable(format!("has {size} bytes; {MOST} are allowed")));
    }
    let content = fs::read(file).map_err(|e| unreadable(e.to_string()))?;
    let no_text = "is no text in UTF-8; only text is put into a document";
    String::from_utf8(content).map_err(|_| unreadable(no_text.to_owned()))
}

/// The files that the scripts of a runbook name and that it does not have itself.
fn missing(document: &Document) -> Vec<String> {
    let mut named = Vec::new();
    gather(&document.value, &mut named);
    let own = document.value.get("files").and_then(Value::as_object);
    named.retain(|name| own.is_none_or(|own| !own.contains_key(name)));
    named
}

fn gather(value: &Value, named: &mut Vec<String>) {
    match value {
        Value::Object(map) => {
            if map.get("script").is_some_and(Value::is_string) {
                let files = map.get("files").and_then(Value::as_array);
                let all = map.get("file").into_iter().chain(files.into_iter().flatten());
                named.extend(all.filter_map(Value::as_str).map(str::to_owned));
            }
            map.values().for_each(|inner| gather(inner, named));
        }
        Value::Array(items) => items.iter().for_each(|inner| gather(inner, named)),
        _ => {}
    }
}

/// Whether a name is that of a file in the same folder.
fn is_plain(name: &str) -> bool {
    !name.is_empty() && !name.contains('/') && name != "." && name != ".."
}
