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
    nodes.into_iter().map(|node| part(written(text, node), node, scope)).collect()
}

/// A part as it stands in the text.
fn written(text: &str, node: &Node) -> String {
    let Some((from, to)) = node.span else { return text.trim().to_owned() };
    text.chars().skip(from as usize).take((to - from) as usize).collect()
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
