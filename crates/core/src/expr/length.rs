//! Lengths of time of definitions: written out, or made by expressions at the moment at which they
//! are needed.

use super::{Expr, ExprError, Names, Scope, Template, times};
use crate::{Period, document::Checker};
use schemars::JsonSchema;
use serde::{Deserialize, Deserializer, Serialize, Serializer};
use serde_json::Value;
use std::fmt;

/// As written.
#[derive(Clone, Debug, PartialEq, Eq, JsonSchema)]
#[schemars(
    with = "String",
    description = "a length of time such as 90s, 15m, 1h30m or 2d, or a text with ${ ... } that \
        makes one"
)]
pub enum LengthDoc {
    /// A length of time.
    Written(Period),
    /// A text with `${ ... }`.
    Made(String),
}

impl Serialize for LengthDoc {
    fn serialize<S: Serializer>(&self, s: S) -> Result<S::Ok, S::Error> {
        match self {
            Self::Written(period) => period.serialize(s),
            Self::Made(text) => s.serialize_str(text),
        }
    }
}

impl<'de> Deserialize<'de> for LengthDoc {
    fn deserialize<D: Deserializer<'de>>(d: D) -> Result<Self, D::Error> {
        struct Visitor;
        impl serde::de::Visitor<'_> for Visitor {
            type Value = LengthDoc;
            fn expecting(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
                f.write_str("a length of time such as 90s, 15m, 1h30m or 2d")
            }
            fn visit_str<E: serde::de::Error>(self, text: &str) -> Result<LengthDoc, E> {
                if text.contains("${") {
                    return Ok(LengthDoc::Made(text.to_owned()));
                }
                Period::parse(text).map(LengthDoc::Written).map_err(E::custom)
            }
        }
        d.deserialize_str(Visitor)
    }
}

impl From<Period> for LengthDoc {
    fn from(period: Period) -> Self {
        Self::Written(period)
    }
}

/// A checked length of time.
#[derive(Clone, Debug)]
pub enum Length {
    /// As written.
    Written(Period),
    /// Made when it is needed: the text, and the same compiled.
    Made(String, Template),
}

impl Length {
    /// The length, where it is written out.
    pub const fn written(&self) -> Option<Period> {
        match self {
            Self::Written(period) => Some(*period),
            Self::Made(..) => None,
        }
    }

    /// What makes it, where it is not written out.
    pub const fn template(&self) -> Option<&Template> {
        match self {
            Self::Written(_) => None,
            Self::Made(_, template) => Some(template),
        }
    }

    /// How long it is by what is known now. Parts of a millisecond are cut off.
    ///
    /// # Errors
    /// If an expression goes wrong, or what comes out is no length of time, less than none, or more
    /// than ten years.
    pub fn at<'a>(&'a self, scope: &'a dyn Scope<'a>) -> Result<Period, ExprError> {
        let template = match self {
            Self::Written(period) => return Ok(*period),
            Self::Made(_, template) => template,
        };
        let text = template.fill_text(scope)?;
        let span = times::length(&text)?;
        let millis = u64::try_from(span.num_milliseconds());
        let period = millis.ok().map(Period::from_millis).filter(|p| *p <= Period::LONGEST);
        period.ok_or_else(|| {
            let shown = crate::text::cut(&text, 40);
            ExprError::new(format!("`{shown}`: a length of time is from 0s to ten years here"))
        })
    }

    /// Its expressions, each with the JSON pointer of its string below its own place.
    pub fn expressions(&self) -> Vec<(String, &Expr)> {
        self.template().map_or_else(Vec::new, Template::expressions)
    }
}

impl From<Period> for Length {
    fn from(period: Period) -> Self {
        Self::Written(period)
    }
}

impl fmt::Display for Length {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Written(period) => period.fmt(f),
            Self::Made(text, _) => f.write_str(text),
        }
    }
}

impl Checker<'_> {
    /// Compiles a length of time.
    pub fn length(&mut self, pointer: &str, doc: LengthDoc, names: Names<'_>) -> Option<Length> {
        match doc {
            LengthDoc::Written(period) => Some(Length::Written(period)),
            LengthDoc::Made(text) => {
                let template = self.template(pointer, &Value::String(text.clone()), names)?;
                Some(Length::Made(text, template))
            }
        }
    }
}
