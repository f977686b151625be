//! Lines of `read` to start from, suggested from payloads that were caught, each with the reason.
//!
//! Fields are judged by their names and by what stands in them; which names are common is in
//! [`words`]. What is suggested is tried on the same payloads, so that it is known how many of them
//! it reads.

mod fields;
mod line;
mod words;

pub use line::SuggestedLine;

use super::{
    Delivery, Source,
    intake::{Message, MessageBody},
};
use crate::{
    definition::Defined,
    document::parse_file,
    shape::{Masks, Shape},
};
use chrono::{DateTime, Utc};
use fields::Guess;
use serde_json::{Map, Value};

/// Most payloads that are looked at.
pub const MAX_PAYLOADS: usize = 100;

/// What is suggested for a source.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Suggestion {
    /// The lines, in the order in which they are written.
    pub lines: Vec<SuggestedLine>,
    /// `read` with these lines as YAML.
    pub read: String,
    /// How many payloads it was made from.
    pub payloads: usize,
    /// How many of them it reads.
    pub readable: usize,
}

/// Suggests how payloads of a source are read; none where nothing can be said of them.
///
/// `received` is when they came, by and large.
pub fn suggest(source: &Source, payloads: &[&[u8]], received: DateTime<Utc>) -> Option<Suggestion> {
    let payloads = &payloads[..payloads.len().min(MAX_PAYLOADS)];
    let (format, of_intake) = MessageBody::guess(payloads)?;
    let decoded = payloads.iter().filter_map(|raw| format.decode(raw).ok()).flatten();
    let bodies: Vec<Value> =
        decoded.filter_map(|message| message.ok().map(|Message { body, .. }| body)).collect();
    let each = fields::list(&bodies);
    let items: Vec<Value> = match &each {
        Some(list) => bodies.iter().flat_map(|body| list.of(body)).collect(),
        None => bodies,
    };
    let mut shape = Shape::new(received);
    for item in &items {
        shape.note_payload(item, received, &Masks::default());
    }
    let root = if each.is_some() { "item" } else { "body" };
    let mut lines = Vec::new();
    if !of_intake.is_empty() {
        let why = "by what the payloads look like; it belongs to the intake".to_owned();
        lines.push(SuggestedLine { line: "intake", text: of_intake.to_owned(), why });
    }
    lines.extend(each.map(|list| list.line));
    lines.extend(Guess::new(&shape, root, &source.name).lines());
    let written = lines.iter().filter(|line| line.line != "intake");
    let written: Vec<String> =
        written.map(|line| format!("  {}: {}", line.line, line.text)).collect();
    let read = format!("read:\n{}\n", written.join("\n"));
    let readable = readable(&read, of_intake, payloads, received);
    Some(Suggestion { lines, read, payloads: payloads.len(), readable })
}

/// How many payloads these lines read.
fn readable(read: &str, of_intake: &str, payloads: &[&[u8]], received: DateTime<Utc>) -> usize {
    let text = format!(
        "source: suggested\nintake: {{ webhook: {{ credential: {{ bearer: \"${{secret('x')}}\" }}, {of_intake} }} }}\n\
        {read}"
    );
    let documents = parse_file("suggested", &text).unwrap_or_default();
    let Some(Ok(source)) = documents.first().map(Source::check) else { return 0 };
    let is_read = |raw: &&&[u8]| {
        let outcome = source.read(&Delivery {
            raw,
            properties: &Map::new(),
            received,
            fallback_id: "suggested",
            normal: false,
        });
        outcome.unreadable.is_empty()
    };
    payloads.iter().filter(is_read).count()
}
