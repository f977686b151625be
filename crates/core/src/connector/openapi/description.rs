//! The description as it was read, and what its references lead to.

use super::error::ImportError;
use crate::text::cut;
use serde_json::Value;
use std::{
    cell::{Cell, RefCell},
    collections::BTreeSet,
};

/// References that lead to references.
const MOST_STEPS: usize = 20;

/// Values that all schemas of a description together may become: references make much of little.
const MOST_MADE: usize = 400_000;

/// A description of an API.
#[derive(Debug)]
pub(super) struct Description {
    document: Value,
    made: Cell<usize>,
    /// References that lead nowhere within the document.
    dangling: RefCell<BTreeSet<String>>,
}

static NOTHING: Value = Value::Null;

impl Description {
    pub fn parse(document: Value) -> Result<Self, ImportError> {
        match document["openapi"].as_str() {
            Some(version) if version.starts_with("3.0") || version.starts_with("3.1") => {}
            Some(version) => {
                return Err(ImportError::Other(format!("its version is {}", cut(version, 20))));
            }
            None if document.get("swagger").is_some() => {
                return Err(ImportError::Other("it is of version 2; bring it to 3 first".into()));
            }
            None => return Err(ImportError::Other("the key `openapi` is missing".into())),
        }
        if !document["paths"].is_object() {
            return Err(ImportError::Other("the key `paths` is missing".into()));
        }
        Ok(Self { document, made: Cell::new(0), dangling: RefCell::default() })
    }

    /// Counts one more value that is made of it; whether there may be any more.
    pub fn spend(&self) -> bool {
        self.made.set(self.made.get() + 1);
        !self.is_spent()
    }

    /// Whether more has been made of it than may be.
    pub fn is_spent(&self) -> bool {
        self.made.get() > MOST_MADE
    }

    pub fn title(&self) -> &str {
        self.document["info"]["title"].as_str().unwrap_or("an API without a title")
    }

    pub fn version(&self) -> &str {
        self.document["info"]["version"].as_str().unwrap_or_default()
    }

    /// The version of OpenAPI.
    pub fn written_in(&self) -> &str {
        self.document["openapi"].as_str().unwrap_or_default()
    }

    /// A name made of the title.
    pub fn name(&self) -> String {
        let plain: String = self
            .title()
            .to_lowercase()
            .chars()
            .map(|c| if c.is_ascii_alphanumeric() { c } else { '-' })
            .collect();
        let words: Vec<&str> = plain.split('-').filter(|word| !word.is_empty()).collect();
        let name = words.join("-");
        let name = cut(&name, 48).trim_end_matches('-');
        if name.is_empty() { "imported".into() } else { name.to_owned() }
    }

    pub fn paths(&self) -> impl Iterator<Item = (&str, &Value)> {
        let paths = self.document["paths"].as_object().into_iter().flatten();
        paths.filter(|(path, _)| path.starts_with('/')).map(|(path, item)| (path.as_str(), item))
    }

    pub fn servers(&self) -> &Value {
        &self.document["servers"]
    }

    pub fn security(&self) -> &Value {
        &self.document["security"]
    }

    pub fn scheme(&self, name: &str) -> &Value {
        self.resolved(&self.document["components"]["securitySchemes"][name])
    }

    /// A value, or what it refers to within the document; nothing where that leads nowhere.
    pub fn resolved<'d>(&'d self, value: &'d Value) -> &'d Value {
        let mut value = value;
        for _ in 0..MOST_STEPS {
            let Some(reference) = value.get("$ref").and_then(Value::as_str) else { return value };
            value = self.at(reference).unwrap_or(&NOTHING);
        }
        &NOTHING
    }

    /// What a reference within the document leads to (RFC 6901, section 6).
    pub fn at(&self, reference: &str) -> Option<&Value> {
        let found = reference.strip_prefix('#').and_then(|pointer| {
            let decoded = percent_encoding::percent_decode_str(pointer).decode_utf8().ok()?;
            self.document.pointer(&decoded)
        });
        if found.is_none() {
            self.dangling.borrow_mut().insert(cut(reference, 200).to_owned());
        }
        found
    }

    /// Whether something is told elsewhere, in a document that is not at hand.
    pub fn is_elsewhere(&self, value: &Value) -> bool {
        value.get("$ref").is_some() && self.resolved(value).is_null()
    }

    /// References that were followed and lead nowhere.
    pub fn dangling(&self) -> Vec<String> {
        self.dangling.borrow().iter().cloned().collect()
    }
}
