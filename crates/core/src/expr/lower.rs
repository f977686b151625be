//! From the tree of a text to the program that is evaluated: which names and functions there are,
//! which calls are macros, and patterns that are written out, compiled once.

use super::{
    ExprError, MAX_TEXT, Names, functions,
    node::{Comprehension, Makes, Node, Op, Rank, Ranked},
    syntax::{self, Form, Tree},
    typing,
    value::{Const, TYPES, Val},
};
use crate::{Severity, glob::Glob, text::nearest};

/// Deepest tree; evaluation goes through it on the stack of a node.
const MAX_TREE: u16 = 100;

/// Parses and checks.
pub(super) fn compile(text: &str, names: Names<'_>) -> Result<Node, ExprError> {
    if text.trim().is_empty() {
        return Err(ExprError::new("is empty; an expression was expected"));
    }
    if text.len() > MAX_TEXT {
        return Err(ExprError::new(format!(
            "has {} bytes; an expression may have {MAX_TEXT}",
            text.len()
        )));
    }
    let tree = syntax::parse(text)?;
    let node = Lower { text, names, bound: Vec::new(), depth: 0 }.node(tree)?;
    typing::check(&node, names)?;
    Ok(node)
}

struct Lower<'a> {
    text: &'a str,
    names: Names<'a>,
    bound: Vec<String>,
    depth: u16,
}

impl Lower<'_> {
    fn node(&mut self, tree: Tree) -> Result<Node, ExprError> {
        let span = syntax::characters(self.text, tree.at);
        self.depth += 1;
        if self.depth > MAX_TREE {
            return Err(ExprError::new(format!(
                "is a chain of more than {MAX_TREE} parts; split it"
            ))
            .at(span));
        }
        let op = self.op(tree.form).map_err(|err| err.at(span))?;
        self.depth -= 1;
        Ok(Node { op, span })
    }

    fn boxed(&mut self, tree: Tree) -> Result<Box<Node>, ExprError> {
        self.node(tree).map(Box::new)
    }

    fn op(&mut self, form: Form) -> Result<Op, ExprError> {
        Ok(match form {
            Form::Literal(value) => Op::Const(value),
            Form::Name(name) => self.name(&name)?,
            Form::Select(on, field) => match type_named(&on, &field) {
                Some(name) => Op::Const(Const::Type(name)),
                None => Op::Select(self.boxed(*on)?, field),
            },
            Form::Index(on, at) => Op::Index(self.boxed(*on)?, self.boxed(*at)?),
            Form::List(items) => Op::List(self.nodes(items)?),
            Form::Map(entries) => Op::Map(
                entries
                    .into_iter()
                    .map(|(key, value)| Ok((self.node(key)?, self.node(value)?)))
                    .collect::<Result<_, ExprError>>()?,
            ),
            Form::Not(inner) => Op::Not(self.boxed(*inner)?),
            Form::Negate(inner) => Op::Negate(self.boxed(*inner)?),
            Form::Operation(operator, a, b) => {
                Op::Binary(operator, self.boxed(*a)?, self.boxed(*b)?)
            }
            Form::All(parts) => self.chain(parts, Op::And)?,
            Form::Any(parts) => self.chain(parts, Op::Or)?,
            Form::Choose(parts) => {
                let [test, then, otherwise] = *parts;
                Op::Choose(self.boxed(test)?, self.boxed(then)?, self.boxed(otherwise)?)
            }
            Form::Call(on, name, args) => self.call(on, name, args)?,
        })
    }

    fn nodes(&mut self, trees: Vec<Tree>) -> Result<Vec<Node>, ExprError> {
        trees.into_iter().map(|tree| self.node(tree)).collect()
    }

    /// A chain of `&&` or `||`, halved again and again: so wide a condition is not deep.
    fn chain(
        &mut self,
        mut parts: Vec<Tree>,
        op: fn(Box<Node>, Box<Node>) -> Op,
    ) -> Result<Op, ExprError> {
        let right = parts.split_off(parts.len().div_ceil(2));
        Ok(op(Box::new(self.half(parts, op)?), Box::new(self.half(right, op)?)))
    }

    fn half(
        &mut self,
        mut parts: Vec<Tree>,
        op: fn(Box<Node>, Box<Node>) -> Op,
    ) -> Result<Node, ExprError> {
        match (parts.len(), parts.first(), parts.last()) {
            (2.., Some(first), Some(last)) => {
                let span = syntax::characters(self.text, (first.at.0, last.at.1));
                Ok(Node { op: self.chain(parts, op)?, span })
            }
            _ => match parts.pop() {
                Some(one) => self.node(one),
                None => Err(ExprError::new("an operand is missing")),
            },
        }
    }

    fn name(&self, name: &str) -> Result<Op, ExprError> {
        if let Some(severity) = Severity::parse(name) {
            return Ok(Op::Const(Const::Severity(severity)));
        }
        if self.bound.iter().any(|b| b == name) || self.names.roots.contains(&name) {
            return Ok(Op::Name(name.to_owned()));
        }
        if let Some(name) = TYPES.into_iter().find(|t| *t == name) {
            return Ok(Op::Const(Const::Type(name)));
        }
        let known = self.names.roots.iter().copied().chain(self.bound.iter().map(String::as_str));
        let hint = match nearest(name, known) {
            Some(n) => format!("; did you mean `{n}`?"),
            None if self.names.roots.is_empty() => "; nothing is, write a plain value".to_owned(),
            None => format!("; known here: {}", self.names.roots.join(", ")),
        };
        Err(ExprError::new(format!("`{name}` is not known here{hint}")))
    }

    fn call(
        &mut self,
        on: Option<Box<Tree>>,
        name: String,
        args: Vec<Tree>,
    ) -> Result<Op, ExprError> {
        if let Some(rank) = Rank::named(&name) {
            let (range, item, [key]) = self.macro_of(on, &name, args)?;
            let [key] = self.within(&item, [key])?;
            return Ok(Op::Ranked(Box::new(Ranked { rank, range, item, key })));
        }
        match (on, args.len()) {
            (None, 1) if name == "has" => self.has(args),
            (Some(on), 2 | 3) if MACROS.contains(&name.as_str()) => {
                self.comprehension(on, &name, args)
            }
            (on, count) => {
                let count = count + usize::from(on.is_some());
                let on = on.map(|on| self.node(*on)).transpose()?;
                let mut all: Vec<Node> = on.into_iter().collect();
                all.extend(self.nodes(args)?);
                functions::check(&name, count, self.names.functions)?;
                let written: Vec<Val<'_>> = all.iter().filter_map(constant).collect();
                if written.len() == all.len() {
                    functions::try_constant(&name, &written)?;
                }
                pattern(&name, all)
            }
        }
    }

    fn has(&mut self, mut args: Vec<Tree>) -> Result<Op, ExprError> {
        match args.pop().map(|arg| arg.form) {
            Some(Form::Select(on, field)) => Ok(Op::Has(self.boxed(*on)?, field)),
            _ => Err(ExprError::new("has() asks for a field, such as has(alert.labels.site)")),
        }
    }

    fn comprehension(
        &mut self,
        on: Box<Tree>,
        name: &str,
        args: Vec<Tree>,
    ) -> Result<Op, ExprError> {
        let (range, item, makes) = if name == "map" && args.len() == 3 {
            let (range, item, [test, element]) = self.macro_of(Some(on), name, args)?;
            let [test, element] = self.within(&item, [test, element])?;
            (range, item, Makes::Map(Some(test), element))
        } else {
            let (range, item, [body]) = self.macro_of(Some(on), name, args)?;
            let [body] = self.within(&item, [body])?;
            let makes = match name {
                "all" => Makes::All(body),
                "exists" => Makes::Exists(body),
                "filter" => Makes::Filter(body),
                "map" => Makes::Map(None, body),
                _ => Makes::ExistsOne(body),
            };
            (range, item, makes)
        };
        Ok(Op::Comprehension(Box::new(Comprehension { range, item, makes })))
    }

    /// The list that a macro goes through, the name that it gives to each, and the rest.
    fn macro_of<const N: usize>(
        &mut self,
        on: Option<Box<Tree>>,
        name: &str,
        mut args: Vec<Tree>,
    ) -> Result<(Node, String, [Tree; N]), ExprError> {
        let wrong =
            || ExprError::new(format!("is written as `list.{name}(item, ...)`, with any name"));
        let on = on.ok_or_else(wrong)?;
        if args.len() != N + 1 {
            return Err(wrong());
        }
        let Form::Name(item) = args.remove(0).form else { return Err(wrong()) };
        let rest = <[Tree; N]>::try_from(args).map_err(|_| wrong())?;
        Ok((self.node(*on)?, item, rest))
    }

    /// What is evaluated for each item, which has a name there.
    fn within<const N: usize>(
        &mut self,
        item: &str,
        trees: [Tree; N],
    ) -> Result<[Node; N], ExprError> {
        self.bound.push(item.to_owned());
        let nodes = self.nodes(trees.into());
        self.bound.pop();
        nodes?.try_into().map_err(|_| ExprError::new("an operand is missing"))
    }
}

/// Macros that go through a list, besides those that rank it.
const MACROS: [&str; 6] = ["all", "exists", "exists_one", "existsOne", "filter", "map"];

fn constant(node: &Node) -> Option<Val<'_>> {
    if let Op::Const(c) = &node.op { Some(Val::constant(c)) } else { None }
}

/// The types whose names have dots.
fn type_named(on: &Tree, kind: &str) -> Option<&'static str> {
    let Form::Select(root, package) = &on.form else { return None };
    let Form::Name(root) = &root.form else { return None };
    let name = format!("{root}.{package}.{kind}");
    TYPES.into_iter().find(|t| *t == name)
}

/// A call; a pattern written out is compiled here, once.
fn pattern(name: &str, mut args: Vec<Node>) -> Result<Op, ExprError> {
    let text = match (name, args.as_slice()) {
        ("glob" | "matches", [_, Node { op: Op::Const(Const::Str(text)), .. }]) => text.clone(),
        _ => return Ok(Op::Call(name.to_owned(), args)),
    };
    args.truncate(1);
    let Some(on) = args.pop().map(Box::new) else { return Ok(Op::Call(name.to_owned(), args)) };
    if name == "glob" {
        return Ok(Op::Glob(on, Glob::parse(&text).map_err(ExprError::new)?));
    }
    Ok(Op::Matches(on, functions::regex(&text)?))
}
