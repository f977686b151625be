//! From a document to a typed definition; serde's complaints get a place and a better wording.

use super::{Document, Problem};
use crate::text::nearest;
use serde::de::DeserializeOwned;

impl Document {
    /// The typed form, or the first complaint of the types.
    pub fn decode<T: DeserializeOwned>(&self) -> Result<T, Problem> {
        self.decode_part("", &self.value)
    }

    /// The typed form of a part that stands at a JSON pointer.
    pub(super) fn decode_part<T: DeserializeOwned>(&self, at: &str, value: &serde_json::Value) -> Result<T, Problem> {
        serde_path_to_error::deserialize(value).map_err(|e| {
            let below: String = e.path().iter().map(segment).collect();
            self.reword(&format!("{at}{below}"), &e.inner().to_string())
        })
    }

    fn reword(&self, pointer: &str, message: &str) -> Problem {
        if let Some((name, known)) = unknown(message) {
            let at = if pointer.rsplit('/').next() == Some(&name) {
                pointer.to_owned()
            } else {
                format!("{pointer}/{name}")
            };
            let what = if message.starts_with("unknown field") { "unknown key" } else { "unknown value" };
            let hint = match nearest(&name, known.iter().map(String::as_str)) {
                Some(n) => format!("did you mean `{n}`?"),
                None => format!("known here: {}", known.join(", ")),
            };
            let text = format!("{what} `{name}`; {hint}");
            return if what == "unknown key" { self.key_problem(&at, text) } else { self.problem(pointer, text) };
        }
        if let Some(name) = message.strip_prefix("missing field ") {
            return self.key_problem(pointer, format!("the key {name} is missing here"));
        }
        self.problem(pointer, message.to_owned())
    }
}

fn segment(s: &serde_path_to_error::Segment) -> String {
    match s {
        serde_path_to_error::Segment::Seq { index } => format!("/{index}"),
        serde_path_to_error::Segment::Map { key } => format!("/{}", key.replace('~', "~0").replace('/', "~1")),
        serde_path_to_error::Segment::Enum { variant } => format!("/{variant}"),
        serde_path_to_error::Segment::Unknown => String::new(),
    }
}

/// Name and known names of "unknown field `x`, expected one of `a`, `b`".
fn unknown(message: &str) -> Option<(String, Vec<String>)> {
    let rest = message.strip_prefix("unknown field ").or_else(|| message.strip_prefix("unknown variant "))?;
    let mut quoted = rest.split('`').skip(1).step_by(2).map(str::to_owned);
    let name = quoted.next()?;
    Some((name, quoted.collect()))
}
