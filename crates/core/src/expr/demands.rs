//! What a condition demands of an alert, told without evaluating it.
//!
//! A condition is a chain of parts that must all hold. Some parts demand something simple of one
//! field: a name out of a few, a beginning, a severity, a range of values. The matcher's index is
//! built from these, and a rule whose demands contradict each other can be found out.

use super::{
    node::{Binary, Makes, Node, Op, Span},
    value::Const,
};
use crate::{Severity, glob::Glob};
use std::fmt;

/// A field of an alert that demands are made of.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum Path {
    /// `alert.source`
    Source,
    /// `alert.kind`
    Kind,
    /// `alert.state`
    State,
    /// `alert.resource`
    Resource,
    /// `alert.summary`
    Summary,
    /// `alert.labels.<name>`
    Label(String),
    /// `alert.body.<name>...`
    Body(Vec<String>),
}

impl fmt::Display for Path {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Source => f.write_str("alert.source"),
            Self::Kind => f.write_str("alert.kind"),
            Self::State => f.write_str("alert.state"),
            Self::Resource => f.write_str("alert.resource"),
            Self::Summary => f.write_str("alert.summary"),
            Self::Label(name) => write!(f, "alert.labels.{name}"),
            Self::Body(path) => write!(f, "alert.body.{}", path.join(".")),
        }
    }
}

/// One demand; an alert that does not meet it is not matched.
#[derive(Clone, Debug, PartialEq)]
pub enum Demand {
    /// One of these texts.
    OneOf(Path, Vec<String>),
    /// A text of this form.
    Like(Path, Glob),
    /// This text somewhere in it.
    Holds(Path, String),
    /// A severity of this set: bit 0 is indeterminate, bit 4 critical.
    Severity(u8),
    /// A value within these bounds, both belonging.
    Value(f64, f64),
    /// Nothing meets it.
    Never,
}

/// Whether any part looks at the payload. An alert used as a whole counts as well.
pub(super) fn reads_body(node: &Node) -> bool {
    match &node.op {
        Op::Select(on, field) | Op::Has(on, field)
            if matches!(&on.op,
            Op::Name(n) if n == "alert") =>
        {
            field == "body"
        }
        Op::Name(name) => name == "alert",
        other => children(other).into_iter().any(reads_body),
    }
}

/// Whether any part may look at the payloads of the alerts that were gathered: it names a field
/// `body`, or uses such an alert, or their list, as a whole.
pub(super) fn reads_gathered_bodies(node: &Node) -> bool {
    fn list(node: &Node) -> bool {
        matches!(&node.op, Op::Select(on, field) if field == "gathered" && matches!(&on.op,
            Op::Name(n) if n == "tally"))
    }
    fn within<'a>(node: &'a Node, alerts: &mut Vec<&'a str>) -> bool {
        match &node.op {
            _ if list(node) => true,
            Op::Select(_, field) | Op::Has(_, field) if field == "body" => true,
            // One field of an alert, or how many there are.
            Op::Select(on, _) | Op::Has(on, _)
                if matches!(&on.op,
                Op::Name(n) if alerts.contains(&n.as_str())) =>
            {
                false
            }
            Op::Select(on, _) if matches!(&on.op, Op::Index(of, _) if list(of)) => false,
            Op::Call(name, args) if name == "size" && args.iter().all(list) => false,
            Op::Index(_, key)
                if matches!(&key.op,
                Op::Const(Const::Str(field)) if field == "body") =>
            {
                true
            }
            Op::Name(name) => name == "tally" || alerts.contains(&name.as_str()),
            // What is kept of the list are whole alerts.
            Op::Comprehension(c) if list(&c.range) && matches!(c.makes, Makes::Filter(_)) => true,
            Op::Comprehension(c) if list(&c.range) => {
                alerts.push(&c.item);
                let found = c.makes.parts().into_iter().any(|n| within(n, alerts));
                alerts.pop();
                found
            }
            // What comes out are whole alerts.
            Op::Ranked(ranked) if list(&ranked.range) => true,
            Op::Select(on, _) if matches!(&on.op, Op::Name(_)) => false,
            other => children(other).into_iter().any(|n| within(n, alerts)),
        }
    }
    within(node, &mut Vec::new())
}

/// Whether any part starts from this name.
pub(super) fn reads(node: &Node, name: &str) -> bool {
    matches!(&node.op, Op::Name(n) if n == name)
        || children(&node.op).into_iter().any(|n| reads(n, name))
}

/// The fields of a name that any part reads; none where it is used as a whole.
pub(super) fn fields<'a>(node: &'a Node, name: &str, found: &mut Vec<Option<&'a str>>) {
    let is_it = |node: &Node| matches!(&node.op, Op::Name(n) if n == name);
    match &node.op {
        Op::Select(on, field) | Op::Has(on, field) if is_it(on) => found.push(Some(field)),
        Op::Index(on, key) if is_it(on) && text(key).is_some() => {
            if let Op::Const(Const::Str(field)) = &key.op {
                found.push(Some(field));
            }
        }
        Op::Name(n) if n == name => found.push(None),
        other => children(other).into_iter().for_each(|child| fields(child, name, found)),
    }
}

/// What must equal a field of a name, or be among what it may be: the field, as `kind` or
/// `labels.site`, and what it must be, where that does not read the name itself.
pub(super) fn equalities<'a>(node: &'a Node, name: &str, found: &mut Vec<(String, &'a Node)>) {
    let field = |node: &Node| {
        let (on, field) = match &node.op {
            Op::Select(on, field) => (on, field.clone()),
            Op::Index(on, at) => (on, text(at)?),
            _ => return None,
        };
        match &on.op {
            Op::Name(n) if n == name => Some(field),
            Op::Select(root, labels)
                if labels == "labels" && matches!(&root.op, Op::Name(n) if n == name) =>
            {
                Some(format!("labels.{field}"))
            }
            _ => None,
        }
    };
    match &node.op {
        Op::And(a, b) => [a, b].into_iter().for_each(|part| equalities(part, name, found)),
        Op::Binary(Binary::Equal, a, b) => {
            for (one, other) in [(a, b), (b, a)] {
                if let (Some(field), false) = (field(one), reads(other, name)) {
                    found.push((field, other));
                }
            }
        }
        Op::Binary(Binary::In, a, b) => {
            if let (Some(field), false) = (field(a), reads(b, name)) {
                found.push((field, b));
            }
        }
        _ => {}
    }
}

/// The arguments of every call of a function.
pub(super) fn calls<'a>(node: &'a Node, function: &str, found: &mut Vec<&'a [Node]>) {
    if let Op::Call(name, args) = &node.op
        && name == function
    {
        found.push(args);
    }
    for child in children(&node.op) {
        calls(child, function, found);
    }
}

/// Divisions of two integers that are written out, where something is cut off: what is divided by
/// what, and where.
pub(super) fn cut_off(node: &Node, found: &mut Vec<(i64, i64, Span)>) {
    if let Op::Binary(Binary::Divide, a, b) = &node.op
        && let (Op::Const(Const::Int(a)), Op::Const(Const::Int(b))) = (&a.op, &b.op)
        && a.checked_rem(*b).is_some_and(|rest| rest != 0)
    {
        found.push((*a, *b, node.span));
    }
    children(&node.op).into_iter().for_each(|child| cut_off(child, found));
}

/// The parts of an operation.
pub(super) fn children(op: &Op) -> Vec<&Node> {
    match op {
        Op::Const(_) | Op::Name(_) => vec![],
        Op::Select(a, _)
        | Op::Has(a, _)
        | Op::Not(a)
        | Op::Negate(a)
        | Op::Glob(a, _)
        | Op::Matches(a, _) => vec![a],
        Op::Index(a, b) | Op::And(a, b) | Op::Or(a, b) | Op::Binary(_, a, b) => vec![a, b],
        Op::Choose(a, b, c) => vec![a, b, c],
        Op::List(items) | Op::Call(_, items) => items.iter().collect(),
        Op::Map(entries) => entries.iter().flat_map(|(k, v)| [k, v]).collect(),
        Op::Ranked(r) => vec![&r.range, &r.key],
        Op::Comprehension(c) => [&c.range].into_iter().chain(c.makes.parts()).collect(),
    }
}

/// The demands of all parts that must hold.
pub(super) fn demands_of(node: &Node) -> Vec<Demand> {
    match &node.op {
        Op::And(a, b) => demands_of(a).into_iter().chain(demands_of(b)).collect(),
        Op::Const(Const::Bool(false)) => vec![Demand::Never],
        Op::Binary(op, a, b) => compared(*op, a, b).into_iter().collect(),
        Op::Glob(on, glob) => path(on).map(|p| Demand::Like(p, glob.clone())).into_iter().collect(),
        Op::Call(name, args) => called(name, args).into_iter().collect(),
        Op::Or(a, b) => either(demands_of(a), demands_of(b)).into_iter().collect(),
        _ => vec![],
    }
}

/// What both sides demand: the same field out of the names of either.
fn either(a: Vec<Demand>, b: Vec<Demand>) -> Option<Demand> {
    match (<[Demand; 1]>::try_from(a).ok()?, <[Demand; 1]>::try_from(b).ok()?) {
        ([Demand::OneOf(p, mut x)], [Demand::OneOf(q, y)]) if p == q => {
            x.extend(y);
            Some(Demand::OneOf(p, x))
        }
        ([Demand::Severity(x)], [Demand::Severity(y)]) => Some(Demand::Severity(x | y)),
        _ => None,
    }
}

fn called(name: &str, args: &[Node]) -> Option<Demand> {
    let [on, Node { op: Op::Const(Const::Str(text)), .. }] = args else { return None };
    let path = path(on)?;
    let plain = !text.is_empty() && !text.contains(['*', '?']);
    match name {
        "contains" if !text.is_empty() => Some(Demand::Holds(path, text.clone())),
        "startsWith" if plain => {
            Glob::parse(&format!("{text}**")).ok().map(|g| Demand::Like(path, g))
        }
        "endsWith" if plain => {
            Glob::parse(&format!("**{text}")).ok().map(|g| Demand::Like(path, g))
        }
        _ => None,
    }
}

fn compared(op: Binary, a: &Node, b: &Node) -> Option<Demand> {
    if let (Op::Const(_), true) = (&a.op, op != Binary::In) {
        // Two constants demand nothing of an alert; turning them round for ever would find nothing.
        return if matches!(b.op, Op::Const(_)) { None } else { compared(turned(op), b, a) };
    }
    if let (Binary::In, Op::List(items)) = (op, &b.op) {
        let texts: Option<Vec<String>> = items.iter().map(text).collect();
        return match field(a) {
            Some("severity") => Some(Demand::Severity(
                items.iter().filter_map(severity).fold(0, |m, s| m | s.bit()),
            )),
            _ => Some(Demand::OneOf(path(a)?, texts?)),
        };
    }
    match field(a) {
        Some("severity") => {
            let than = severity(b)?;
            let holds = |s: &Severity| match op {
                Binary::Equal => *s == than,
                Binary::Differ => *s != than,
                Binary::Less => *s < than,
                Binary::LessEqual => *s <= than,
                Binary::Greater => *s > than,
                Binary::GreaterEqual => *s >= than,
                _ => true,
            };
            Some(Demand::Severity(
                Severity::ALL.into_iter().filter(holds).fold(0, |m, s| m | s.bit()),
            ))
        }
        Some("value") => {
            let (number, exact) = match &b.op {
                Op::Const(Const::Int(i)) => (*i as f64, *i as f64 as i128 == i128::from(*i)),
                Op::Const(Const::UInt(u)) => (*u as f64, *u as f64 as i128 == i128::from(*u)),
                Op::Const(Const::Double(d)) => (*d, true),
                _ => return None,
            };
            match op {
                Binary::Equal => Some(Demand::Value(number, number)),
                Binary::Less if exact => Some(Demand::Value(f64::NEG_INFINITY, number.next_down())),
                Binary::Greater if exact => Some(Demand::Value(number.next_up(), f64::INFINITY)),
                Binary::Less | Binary::LessEqual => Some(Demand::Value(f64::NEG_INFINITY, number)),
                Binary::Greater | Binary::GreaterEqual => {
                    Some(Demand::Value(number, f64::INFINITY))
                }
                _ => None,
            }
        }
        _ if op == Binary::Equal => Some(Demand::OneOf(path(a)?, vec![text(b)?])),
        _ => None,
    }
}

fn turned(op: Binary) -> Binary {
    match op {
        Binary::Less => Binary::Greater,
        Binary::LessEqual => Binary::GreaterEqual,
        Binary::Greater => Binary::Less,
        Binary::GreaterEqual => Binary::LessEqual,
        other => other,
    }
}

pub(super) fn text(node: &Node) -> Option<String> {
    match &node.op {
        Op::Const(Const::Str(s)) => Some(s.clone()),
        _ => None,
    }
}

fn severity(node: &Node) -> Option<Severity> {
    match &node.op {
        Op::Const(Const::Severity(s)) => Some(*s),
        Op::Const(Const::Str(s)) => Severity::parse(s),
        _ => None,
    }
}

/// The name of a field directly of the alert.
fn field(node: &Node) -> Option<&str> {
    match &node.op {
        Op::Select(on, field) if matches!(&on.op, Op::Name(n) if n == "alert") => Some(field),
        _ => None,
    }
}

fn path(node: &Node) -> Option<Path> {
    if let Some(field) = field(node) {
        return match field {
            "source" => Some(Path::Source),
            "kind" => Some(Path::Kind),
            "state" => Some(Path::State),
            "resource" => Some(Path::Resource),
            "summary" => Some(Path::Summary),
            _ => None,
        };
    }
    let (on, name) = match &node.op {
        Op::Select(on, name) => (on, name.clone()),
        Op::Index(on, at) => (on, text(at)?),
        _ => return None,
    };
    if field(on) == Some("labels") {
        return Some(Path::Label(name));
    }
    if field(on) == Some("body") {
        return Some(Path::Body(vec![name]));
    }
    match path(on)? {
        Path::Body(mut path) => {
            path.push(name);
            Some(Path::Body(path))
        }
        _ => None,
    }
}
