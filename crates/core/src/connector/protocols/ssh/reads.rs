//! How what a machine wrote is read, and how much of it is kept.

use crate::{document::Checker, expr::Type};
use serde_json::Value;
use std::sync::Arc;

/// Most of what a command writes, or a file holds, that is kept: what is written, and at most.
pub(super) const USUAL_OUTPUT: u32 = 64 << 10;
pub(super) const MAX_OUTPUT: u32 = 200 << 10;

crate::words! {
    /// How what a machine wrote is read.
    #[derive(Default, schemars::JsonSchema)]
    pub enum Reads("way to read") {
        /// As text, without the line ends at its end.
        #[default]
        Text = "text",
        /// As the list of its lines.
        Lines = "lines",
        /// As JSON.
        Json = "json",
    }
}

impl Reads {
    pub(super) fn as_type(self) -> Type {
        match self {
            Self::Text => Type::Text,
            Self::Lines => Type::List(Arc::new(Type::Text)),
            Self::Json => Type::Any,
        }
    }

    /// Reads bytes. What is no UTF-8 becomes U+FFFD.
    ///
    /// # Errors
    /// Why it is no JSON.
    pub(super) fn read(self, bytes: &[u8], left_out: u64) -> Result<Value, String> {
        let text = String::from_utf8_lossy(bytes);
        match self {
            Self::Text => Ok(text.trim_end_matches(['\r', '\n']).into()),
            Self::Lines => Ok(text.lines().map(Value::from).collect()),
            Self::Json if left_out > 0 => {
                Err(format!("it is longer than the {} bytes that are read of it", bytes.len()))
            }
            Self::Json => serde_json::from_str(&text).map_err(|e| format!("it is no JSON: {e}")),
        }
    }
}

/// The type of a response with these fields.
pub(super) fn response(fields: impl IntoIterator<Item = (&'static str, Type)>) -> Type {
    Type::Record(Arc::new(fields.into_iter().map(|(name, t)| (name.to_owned(), t)).collect()))
}

/// How much is kept, as written.
pub(super) fn bound(check: &mut Checker<'_>, at: &str, written: Option<u32>) -> u32 {
    let at_most = written.unwrap_or(USUAL_OUTPUT);
    if !(1..=MAX_OUTPUT).contains(&at_most) {
        check.fail(&format!("{at}/at_most"), format!("is from 1 to {MAX_OUTPUT} bytes"));
    }
    at_most
}
