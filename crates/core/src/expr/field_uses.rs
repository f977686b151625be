//! Which fields of a name an expression uses, and with what it compares them.

use super::{
    demands::children,
    node::{Binary, Node, Op, Span},
    types::Type,
    value::Const,
};
use crate::text::field_path;

/// One use of a field.
#[derive(Clone, Debug, PartialEq)]
pub struct FieldUse {
    /// Its path below the name, such as `body.disks[].name`; `[]` stands for any element.
    pub path: String,
    /// Where it stands in the text: characters, from and to.
    pub span: Span,
    /// The type of what it is compared with, where that is written out.
    pub compared: Option<Type>,
    /// Whether the expression asks with `has` if it is there.
    pub is_asked_for: bool,
}

/// The uses of the fields of a name.
pub(super) fn uses(node: &Node, name: &str) -> Vec<FieldUse> {
    let mut walk = Walk { name, bound: Vec::new(), found: Vec::new(), asked: Vec::new() };
    walk.node(node, None);
    let Walk { mut found, asked, .. } = walk;
    for field in &mut found {
        let is_it = |asked: &String| {
            let below = field.path.strip_prefix(asked.as_str());
            below.is_some_and(|rest| rest.is_empty() || rest.starts_with(['.', '[']))
        };
        field.is_asked_for = asked.iter().any(is_it);
    }
    found
}

struct Walk<'n> {
    name: &'n str,
    /// Names of macros, and the paths of what each stands for.
    bound: Vec<(&'n str, Option<String>)>,
    found: Vec<FieldUse>,
    asked: Vec<String>,
}

impl<'n> Walk<'n> {
    fn node(&mut self, node: &'n Node, compared: Option<Type>) {
        if let Some(path) = self.path(node) {
            // A name of a macro by itself may be the key of a map.
            if !path.is_empty() && !matches!(node.op, Op::Name(_)) {
                self.found.push(FieldUse { path, span: node.span, compared, is_asked_for: false });
            }
            return;
        }
        match &node.op {
            Op::Has(on, field) => match self.path(on) {
                Some(path) => self.asked.push(field_path(&path, field)),
                None => self.node(on, None),
            },
            Op::Binary(op, a, b) => {
                let calculates = matches!(
                    op,
                    Binary::Add
                        | Binary::Subtract
                        | Binary::Multiply
                        | Binary::Divide
                        | Binary::Modulo
                );
                let of = |other: &Node| constant(other).filter(|_| !calculates);
                self.node(a, of(b));
                self.node(b, of(a));
            }
            Op::Glob(on, _) | Op::Matches(on, _) => self.node(on, Some(Type::Text)),
            Op::Comprehension(c) => {
                self.each(&c.range, &c.item, c.makes.parts());
            }
            Op::Ranked(ranked) => self.each(&ranked.range, &ranked.item, vec![&ranked.key]),
            other => children(other).into_iter().for_each(|child| self.node(child, None)),
        }
    }

    fn each(&mut self, range: &'n Node, item: &'n str, parts: Vec<&'n Node>) {
        self.node(range, None);
        let path = self.path(range).filter(|path| !path.is_empty());
        self.bound.push((item, path.map(|path| path + "[]")));
        parts.into_iter().for_each(|part| self.node(part, None));
        self.bound.pop();
    }

    /// The path of a field of the name; empty for the name itself.
    fn path(&self, node: &Node) -> Option<String> {
        match &node.op {
            Op::Name(name) => match self.bound.iter().rev().find(|(bound, _)| bound == name) {
                Some((_, path)) => path.clone(),
                None => (name == self.name).then(String::new),
            },
            Op::Select(on, field) => Some(field_path(&self.path(on)?, field)),
            Op::Index(on, at) => match &at.op {
                Op::Const(Const::Str(field)) => Some(field_path(&self.path(on)?, field)),
                Op::Const(Const::Int(_)) => Some(self.path(on)? + "[]"),
                _ => None,
            },
            _ => None,
        }
    }
}

/// The type of what is written out; of a list that of its elements.
fn constant(node: &Node) -> Option<Type> {
    match &node.op {
        Op::Const(Const::Str(_)) => Some(Type::Text),
        Op::Const(Const::Int(_) | Const::UInt(_) | Const::Double(_)) => Some(Type::Number),
        Op::Const(Const::Bool(_)) => Some(Type::Bool),
        Op::Negate(of) => constant(of),
        Op::List(items) => {
            let mut types = items.iter().map(constant);
            let first = types.next()??;
            types.all(|of| of.as_ref() == Some(&first)).then_some(first)
        }
        _ => None,
    }
}
