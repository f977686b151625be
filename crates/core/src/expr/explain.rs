//! Why a condition holds or not: its parts, each with its truth and the values that it saw.

use super::{
    Scope,
    demands::children,
    eval::eval,
    node::{Node, Op},
    value::{Const, Val},
};
use crate::text::cut;
use serde_json::{Map, Value};

/// Longest value that is shown, in bytes.
const SHOWN: usize = 64;

/// A part that must hold.
#[derive(Clone, Debug, PartialEq)]
pub struct ExplainedPart {
    /// As written.
    pub text: String,
    /// Whether it holds; none when that cannot be said.
    pub holds: Option<bool>,
    /// What went wrong, if something did.
    pub error: Option<String>,
    /// The fields it looked at, and what they held; none where they are missing.
    pub saw: Vec<(String, Option<String>)>,
}

/// The parts of a chain of `&&`, or the whole where it is none.
pub(super) fn parts<'a>(
    text: &str,
    node: &'a Node,
    scope: &'a dyn Scope<'a>,
) -> Vec<ExplainedPart> {
    let mut nodes = Vec::new();
    flatten(node, &mut nodes);
    let mut texts = Vec::new();
    split(text.trim(), &mut texts);
    if texts.len() != nodes.len() {
        (nodes, texts) = (vec![node], vec![text.trim().to_owned()]);
    }
    nodes.into_iter().zip(texts).map(|(node, text)| part(text, node, scope)).collect()
}

/// What something looks at, and what that holds; null where it is missing. Numbers, texts and
/// truths as they are, anything larger as the beginning of its text.
pub(super) fn saw<'a>(node: &'a Node, scope: &'a dyn Scope<'a>) -> Map<String, Value> {
    let mut saw = Vec::new();
    fields(node, scope, &mut saw);
    let shown = |value: &Val<'a>| match value.to_json() {
        Value::String(text) => Value::String(cut(&text, SHOWN).to_owned()),
        small @ (Value::Null | Value::Bool(_) | Value::Number(_)) => small,
        large => Value::String(cut(&large.to_string(), SHOWN).to_owned()),
    };
    saw.into_iter().map(|(path, value)| (path, value.as_ref().map_or(Value::Null, shown))).collect()
}

fn part<'a>(text: String, node: &'a Node, scope: &'a dyn Scope<'a>) -> ExplainedPart {
    let (holds, error) = match eval(node, scope) {
        Ok(Val::Bool(b)) => (Some(b), None),
        Ok(other) => (None, Some(format!("is {}, not true or false", other.kind()))),
        Err(e) if e.missing => (Some(false), Some(e.message)),
        Err(e) => (None, Some(e.message)),
    };
    let mut saw = Vec::new();
    fields(node, scope, &mut saw);
    let shown = |value: Val<'a>| {
        let text = match &value {
            Val::Str(s) => format!("{:?}", cut(s, 60)),
            other => other.text(),
        };
        cut(&text, SHOWN).to_owned()
    };
    let saw = saw.into_iter().map(|(path, value)| (path, value.map(shown))).collect();
    ExplainedPart { text, holds, error, saw }
}

fn flatten<'a>(node: &'a Node, into: &mut Vec<&'a Node>) {
    match &node.op {
        Op::And(a, b) => {
            flatten(a, into);
            flatten(b, into);
        }
        _ => into.push(node),
    }
}

/// Splits at every `&&` that stands outside of brackets and strings, also within brackets around
/// a whole part, as long as nothing there binds looser.
fn split(text: &str, into: &mut Vec<String>) {
    let (mut depth, mut quote, mut escaped) = (0i32, None, false);
    let (mut cuts, mut looser, mut closes) = (vec![], false, 0usize);
    let bytes = text.as_bytes();
    for (i, c) in text.char_indices() {
        let next = bytes.get(i + 1).copied();
        match (quote, c) {
            _ if escaped => escaped = false,
            (Some(_), '\\') => escaped = true,
            (Some(q), c) if c == q => quote = None,
            (Some(_), _) => {}
            (None, '"' | '\'' | '`') => quote = Some(c),
            (None, '(' | '[' | '{') => depth += 1,
            (None, ')' | ']' | '}') => {
                depth -= 1;
                closes += usize::from(depth == 0);
            }
            (None, '|') if depth == 0 && next == Some(b'|') => looser = true,
            (None, '?') if depth == 0 => looser = true,
            (None, '&') if depth == 0 && next == Some(b'&') => cuts.push(i),
            _ => {}
        }
    }
    if !looser && !cuts.is_empty() {
        let mut from = 0;
        for cut in cuts.into_iter().chain([text.len()]) {
            split(text[from..cut].trim(), into);
            from = (cut + 2).min(text.len());
        }
    } else if text.starts_with('(') && text.ends_with(')') && closes == 1 {
        let before = into.len();
        split(text[1..text.len() - 1].trim(), into);
        if into.len() == before + 1 {
            into[before] = text.to_owned();
        }
    } else {
        into.push(text.to_owned());
    }
}

/// The longest chains of fields that start at a name.
fn fields<'a>(node: &'a Node, scope: &'a dyn Scope<'a>, into: &mut Vec<(String, Option<Val<'a>>)>) {
    if into.len() >= 8 {
        return;
    }
    let asked = match &node.op {
        // What is only asked for may be missing.
        Op::Has(on, field) => chain(on).map(|c| format!("{c}.{field}")),
        _ => chain(node),
    };
    let Some(path) = asked.filter(|c| c.contains('.')) else {
        return children(&node.op).into_iter().for_each(|c| fields(c, scope, into));
    };
    let value = match &node.op {
        Op::Has(on, field) => eval(on, scope).ok().and_then(|v| v.field(field)),
        _ => eval(node, scope).ok(),
    };
    if !into.iter().any(|(p, _)| *p == path) {
        into.push((path, value));
    }
}

fn chain(node: &Node) -> Option<String> {
    match &node.op {
        Op::Name(name) => Some(name.clone()),
        Op::Select(on, field) => Some(format!("{}.{field}", chain(on)?)),
        Op::Index(on, at) => match &at.op {
            Op::Const(Const::Str(key)) => Some(format!("{}.{key}", chain(on)?)),
            Op::Const(Const::Int(i)) => Some(format!("{}[{i}]", chain(on)?)),
            _ => None,
        },
        _ => None,
    }
}
