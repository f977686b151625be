//! One text or a list of them, wherever a document takes either.

use schemars::JsonSchema;
use serde::{Deserialize, Deserializer, Serialize};

/// The two forms of [`Texts`], for the schema.
#[derive(JsonSchema)]
#[serde(untagged)]
#[expect(dead_code, reason = "only its schema is used")]
enum OneOrMany {
    One(String),
    Many(Vec<String>),
}

/// One text or a list of them.
#[derive(Clone, Debug, Default, Serialize, JsonSchema)]
#[schemars(with = "OneOrMany")]
#[serde(transparent)]
pub struct Texts(pub Vec<String>);

impl<'de> Deserialize<'de> for Texts {
    fn deserialize<D: Deserializer<'de>>(d: D) -> Result<Self, D::Error> {
        struct Visitor;
        impl<'de> serde::de::Visitor<'de> for Visitor {
            type Value = Texts;
            fn expecting(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
                f.write_str("a text or a list of texts")
            }
            fn visit_str<E>(self, text: &str) -> Result<Texts, E> {
                Ok(Texts(vec![text.to_owned()]))
            }
            fn visit_seq<A: serde::de::SeqAccess<'de>>(
                self,
                mut seq: A,
            ) -> Result<Texts, A::Error> {
                let mut texts = Vec::new();
                while let Some(text) = seq.next_element()? {
                    texts.push(text);
                }
                Ok(Texts(texts))
            }
        }
        d.deserialize_any(Visitor)
    }
}

impl Texts {
    /// Each with its pointer below that of the whole.
    pub fn placed<'a>(
        &'a self,
        pointer: &'a str,
        one: bool,
    ) -> impl Iterator<Item = (String, &'a String)> {
        let at = move |i: usize| if one { pointer.to_owned() } else { format!("{pointer}/{i}") };
        self.0.iter().enumerate().map(move |(i, text)| (at(i), text))
    }
}
