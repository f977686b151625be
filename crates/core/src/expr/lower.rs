//! From text to our own tree. The only place that knows the parsing crate.
//!
//! Length and nesting are bounded before the parser sees the text. Short and flat texts are
//! parsed on the spot; the others on a thread with a stack of its own, so that no text can
//! overflow the stack of a node. A panic of the parser is a diagnostic like any other.

use super::{
    ExprError, MAX_DEPTH, MAX_TEXT, Names, functions,
    node::{Binary, Fold, Node, Op, Rank, Ranked},
    typing,
    value::{Const, TYPES, Val},
};
use crate::{Severity, glob::Glob, text::nearest};
use cel::common::ast::{
    CallExpr, EntryExpr, Expr as Ast, IdedExpr, LiteralValue, SourceInfo, operators as op,
};
use std::panic::{AssertUnwindSafe, catch_unwind};

const STACK: usize = 32 << 20;
/// Bytes and brackets that any thread's stack can take.
const SMALL: (usize, u16) = (256, 6);
/// Deepest tree; evaluation walks it on the stack of a node.
const MAX_TREE: u16 = 100;

pub(super) fn parse(text: &str, names: Names<'_>) -> Result<Node, ExprError> {
    let depth = check_size(text)?;
    let unreadable = || ExprError::new("cannot be read as an expression");
    let node = if text.len() <= SMALL.0 && depth <= SMALL.1 {
        catch_unwind(AssertUnwindSafe(|| parse_here(text, names)))
            .unwrap_or_else(|_| Err(unreadable()))?
    } else {
        std::thread::scope(|s| {
            let worker = std::thread::Builder::new()
                .stack_size(STACK)
                .spawn_scoped(s, || parse_here(text, names));
            worker.ok().and_then(|w| w.join().ok()).unwrap_or_else(|| Err(unreadable()))
        })?
    };
    typing::check(&node, names)?;
    Ok(node)
}

/// The deepest nesting of brackets.
fn check_size(text: &str) -> Result<u16, ExprError> {
    if text.trim().is_empty() {
        return Err(ExprError::new("is empty; an expression was expected"));
    }
    if text.len() > MAX_TEXT {
        return Err(ExprError::new(format!(
            "has {} bytes; an expression may have {MAX_TEXT}",
            text.len()
        )));
    }
    let (mut depth, mut deepest): (u16, u16) = (0, 0);
    let mut unary: u16 = 0;
    for c in text.chars() {
        match c {
            '(' | '[' | '{' => depth += 1,
            ')' | ']' | '}' => depth = depth.saturating_sub(1),
            _ => {}
        }
        unary = if matches!(c, '!' | '-') { unary + 1 } else { 0 };
        deepest = deepest.max(depth).max(unary);
        if deepest > MAX_DEPTH {
            return Err(ExprError::new(format!("is nested deeper than {MAX_DEPTH} levels")));
        }
    }
    Ok(deepest)
}

fn parse_here(text: &str, names: Names<'_>) -> Result<Node, ExprError> {
    let parser = cel::parser::Parser::default().enable_ident_escape_syntax(true);
    let (ast, info) =
        parser.parse_with_source_info(text).map_err(|errors| first_error(&errors, text))?;
    let mut lower = Lower { text, info: &info, names, bound: Vec::new(), depth: 0 };
    lower.node(&ast)
}

fn first_error(errors: &cel::ParseErrors, text: &str) -> ExprError {
    let syntax = errors.errors.iter().find(|e| e.msg.starts_with("Syntax error"));
    let kept = errors.errors.iter().find(|e| e.msg.contains("reserved"));
    let Some(e) = kept.or(syntax).or(errors.errors.first()) else {
        return ExprError::new("cannot be read as an expression");
    };
    // The parser counts characters in what it cannot read, as we do in what is told; in between it
    // is bytes.
    let line_start: usize = text
        .split_inclusive('\n')
        .take(usize::try_from(e.pos.0 - 1).unwrap_or(0))
        .map(str::len)
        .sum();
    let column = usize::try_from(e.pos.1 - 1).unwrap_or(0);
    let at =
        text[line_start..].char_indices().nth(column).map_or(text.len(), |(n, _)| line_start + n);
    let (message, from, to) = worded(&e.msg, text, at);
    let place = |n: usize| text[..n].chars().count().try_into().unwrap_or(0);
    let (from, to): (u32, u32) = (place(from), place(to));
    ExprError::new(message).at(Some((from, to.max(from + 1))))
}

/// What other languages write, and how it is written here.
const ELSEWHERE: [(&str, &str); 10] = [
    ("=", "=="),
    ("and", "&&"),
    ("or", "||"),
    ("not", "!"),
    ("<>", "!="),
    ("===", "=="),
    ("!==", "!="),
    ("&", "&&"),
    ("|", "||"),
    ("is", "=="),
];

/// Words that the language keeps for later.
const KEPT: [&str; 17] = [
    "as",
    "break",
    "const",
    "continue",
    "else",
    "for",
    "function",
    "if",
    "import",
    "let",
    "loop",
    "namespace",
    "package",
    "return",
    "var",
    "void",
    "while",
];

/// The name or the sign around a place in a text: from where to where.
fn token(text: &str, at: usize) -> (usize, usize) {
    let name = |c: char| c.is_alphanumeric() || c == '_';
    let sign = |c: char| "=<>!&|".contains(c);
    let Some(first) = text.get(at..).and_then(|rest| rest.chars().next()) else { return (at, at) };
    let same: fn(char) -> bool = match first {
        c if name(c) => |c| c.is_alphanumeric() || c == '_',
        c if sign(c) => |c| "=<>!&|".contains(c),
        c => return (at, at + c.len_utf8()),
    };
    let to = text[at..].find(|c| !same(c)).map_or(text.len(), |n| at + n);
    let from = text[..at]
        .rfind(|c| !same(c))
        .map_or(0, |n| n + text[n..].chars().next().map_or(1, char::len_utf8));
    (if sign(first) { from } else { at }, to)
}

/// The parser's diagnostic in words of this language, and what it is about: from where to where.
fn worded(said: &str, text: &str, at: usize) -> (String, usize, usize) {
    let (from, to) = token(text, at);
    let found = &text[from..to];
    let elsewhere =
        |word: &str| ELSEWHERE.iter().find(|(there, _)| *there == word).map(|(_, here)| *here);
    let meant =
        |word: &str, here: &str| format!("`{word}` has no meaning here; did you mean `{here}`?");
    if let Some(here) = elsewhere(found) {
        return (meant(found, here), from, to);
    }
    let before = text[..from].trim_end();
    let begins = before.rfind(|c: char| !c.is_alphanumeric()).map_or(0, |n| n + 1);
    if let Some(here) = before.get(begins..).filter(|w| *w == "not").and_then(elsewhere) {
        return (meant("not", here), begins, before.len());
    }
    if let Some(form) = said.split("unsupported syntax ").nth(1) {
        return (
            format!("`{}` is no form of the language here", form.trim_matches('\'')),
            from,
            to,
        );
    }
    let odd = |q: char| text.matches(q).count() % 2 == 1;
    if found.starts_with(['"', '\'']) && (odd('"') || odd('\'')) {
        return (
            format!("a text begins here and does not end; the closing {found} is missing"),
            from,
            to,
        );
    }
    let said = said.split(" expecting").next().unwrap_or(said);
    if found.is_empty() || said.contains("<EOF>") {
        let pairs = [('(', ')'), ('[', ']'), ('{', '}'), ('?', ':')];
        let open = pairs
            .iter()
            .find(|(open, close)| text.matches(*open).count() > text.matches(*close).count());
        let missing = open.map_or_else(
            || "something more was expected".to_owned(),
            |(_, c)| format!("a `{c}` is missing"),
        );
        let end = text.trim_end().len();
        return (format!("the expression ends here, and {missing}"), end, end);
    }
    if let Some(word) = before.get(begins..).into_iter().chain([found]).find(|w| KEPT.contains(w)) {
        return (
            format!("`{word}` is a word that the language keeps for itself; it cannot be a name"),
            from,
            to,
        );
    }
    (format!("`{found}` cannot stand here"), from, to)
}

struct Lower<'a> {
    text: &'a str,
    info: &'a SourceInfo,
    names: Names<'a>,
    bound: Vec<String>,
    depth: u16,
}

impl Lower<'_> {
    fn node(&mut self, e: &IdedExpr) -> Result<Node, ExprError> {
        let span = self
            .info
            .offset_for(e.id)
            .map(|(from, to)| (self.characters(from), self.characters(to)));
        self.depth += 1;
        if self.depth > MAX_TREE {
            return Err(ExprError::new(format!(
                "is a chain of more than {MAX_TREE} parts; split it"
            ))
            .at(span));
        }
        let op = self.op(&e.expr).map_err(|err| err.at(span))?;
        self.depth -= 1;
        Ok(Node { op, span })
    }

    /// How many characters stand before a byte.
    fn characters(&self, byte: u32) -> u32 {
        let before = self.text.get(..byte as usize).filter(|_| !self.text.is_ascii());
        before.and_then(|before| before.chars().count().try_into().ok()).unwrap_or(byte)
    }

    fn boxed(&mut self, e: &IdedExpr) -> Result<Box<Node>, ExprError> {
        self.node(e).map(Box::new)
    }

    fn op(&mut self, e: &Ast) -> Result<Op, ExprError> {
        Ok(match e {
            Ast::Unspecified => return Err(ExprError::new("is empty; an expression was expected")),
            Ast::Literal(value) => Op::Const(literal(value)?),
            Ast::Ident(name) => self.name(name)?,
            Ast::Select(s) if s.test => Op::Has(self.boxed(&s.operand)?, s.field.clone()),
            Ast::Select(s) => match type_named(e) {
                Some(name) => Op::Const(Const::Type(name)),
                None => Op::Select(self.boxed(&s.operand)?, s.field.clone()),
            },
            Ast::List(list) => {
                Op::List(list.elements.iter().map(|e| self.node(e)).collect::<Result<_, _>>()?)
            }
            Ast::Map(map) => {
                Op::Map(map.entries.iter().map(|e| self.entry(&e.expr)).collect::<Result<_, _>>()?)
            }
            Ast::Struct(s) => {
                return Err(ExprError::new(format!(
                    "makes a `{}`; only lists and maps can be made here",
                    s.type_name
                )));
            }
            Ast::Call(call) if Rank::named(&call.func_name).is_some() => self.ranked(call)?,
            Ast::Call(call) => {
                let mut args = Vec::with_capacity(call.args.len() + 1);
                for arg in call.target.as_deref().into_iter().chain(&call.args) {
                    args.push(self.node(arg)?);
                }
                self.call(&call.func_name, args)?
            }
            Ast::Comprehension(c) => self.fold(c)?,
        })
    }

    fn name(&self, name: &str) -> Result<Op, ExprError> {
        // With a dot before it, it can only be one of the place's own.
        let name = name.strip_prefix('.').unwrap_or(name);
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
            None => format!("; known here: {}", self.names.roots.join(", ")),
        };
        Err(ExprError::new(format!("`{name}` is not known here{hint}")))
    }

    fn entry(&mut self, e: &EntryExpr) -> Result<(Node, Node), ExprError> {
        match e {
            EntryExpr::MapEntry(m) => Ok((self.node(&m.key)?, self.node(&m.value)?)),
            EntryExpr::StructField(_) => {
                Err(ExprError::new("only lists and maps can be made here"))
            }
        }
    }

    fn call(&self, name: &str, args: Vec<Node>) -> Result<Op, ExprError> {
        let count = args.len();
        let mut args = args.into_iter().map(Box::new);
        let mut next = || args.next().ok_or_else(|| ExprError::new("an operand is missing"));
        let binary = match name {
            op::ADD => Binary::Add,
            op::SUBSTRACT => Binary::Subtract,
            op::MULTIPLY => Binary::Multiply,
            op::DIVIDE => Binary::Divide,
            op::MODULO => Binary::Modulo,
            op::EQUALS => Binary::Equal,
            op::NOT_EQUALS => Binary::Differ,
            op::LESS => Binary::Less,
            op::LESS_EQUALS => Binary::LessEqual,
            op::GREATER => Binary::Greater,
            op::GREATER_EQUALS => Binary::GreaterEqual,
            op::IN => Binary::In,
            op::LOGICAL_AND => return Ok(Op::And(next()?, next()?)),
            op::LOGICAL_OR => return Ok(Op::Or(next()?, next()?)),
            op::LOGICAL_NOT => return Ok(Op::Not(next()?)),
            op::NEGATE => return Ok(Op::Negate(next()?)),
            op::CONDITIONAL => return Ok(Op::Choose(next()?, next()?, next()?)),
            op::INDEX => return Ok(Op::Index(next()?, next()?)),
            op::NOT_STRICTLY_FALSE => return next().map(|n| n.op),
            _ => {
                functions::check(name, count, self.names.functions)?;
                let args: Vec<Node> = args.map(|b| *b).collect();
                let written: Vec<Val<'_>> = args.iter().filter_map(constant).collect();
                if written.len() == args.len() {
                    functions::try_constant(name, &written)?;
                }
                return pattern(name, args);
            }
        };
        Ok(Op::Binary(binary, next()?, next()?))
    }

    /// `list.minBy(item, key)` and its like, which the parser takes for calls.
    fn ranked(&mut self, call: &CallExpr) -> Result<Op, ExprError> {
        let name = call.func_name.as_str();
        let wrong = || ExprError::new(format!("is written as `list.{name}(item, item.field)`"));
        let (Some(range), [item, key]) = (call.target.as_deref(), &call.args[..]) else {
            return Err(wrong());
        };
        let (Ast::Ident(item), Some(rank)) = (&item.expr, Rank::named(name)) else {
            return Err(wrong());
        };
        let range = self.node(range)?;
        self.bound.push(item.clone());
        let key = self.node(key);
        self.bound.pop();
        Ok(Op::Ranked(Box::new(Ranked { rank, range, item: item.clone(), key: key? })))
    }

    fn fold(&mut self, c: &cel::common::ast::ComprehensionExpr) -> Result<Op, ExprError> {
        let range = self.node(&c.iter_range)?;
        let init = self.node(&c.accu_init)?;
        let before = self.bound.len();
        self.bound.push(c.accu_var.clone());
        self.bound.push(c.iter_var.clone());
        self.bound.extend(c.iter_var2.clone());
        let fold = Fold {
            range,
            item: c.iter_var.clone(),
            item2: c.iter_var2.clone(),
            accu: c.accu_var.clone(),
            init,
            go_on: self.node(&c.loop_cond)?,
            step: self.node(&c.loop_step)?,
            result: self.node(&c.result)?,
        };
        self.bound.truncate(before);
        Ok(Op::Fold(Box::new(fold)))
    }
}

fn constant(node: &Node) -> Option<Val<'_>> {
    if let Op::Const(c) = &node.op { Some(Val::constant(c)) } else { None }
}

/// The types whose names have dots.
fn type_named(e: &Ast) -> Option<&'static str> {
    let Ast::Select(kind) = e else { return None };
    let Ast::Select(package) = &kind.operand.expr else { return None };
    let Ast::Ident(root) = &package.operand.expr else { return None };
    let name = format!("{root}.{}.{}", package.field, kind.field);
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

fn literal(value: &LiteralValue) -> Result<Const, ExprError> {
    Ok(match value {
        LiteralValue::Boolean(b) => Const::Bool(*b.inner()),
        LiteralValue::Double(d) => Const::Double(*d.inner()),
        LiteralValue::Int(i) => Const::Int(*i.inner()),
        LiteralValue::UInt(u) => Const::UInt(*u.inner()),
        LiteralValue::String(s) => Const::Str(s.inner().to_string()),
        LiteralValue::Null => Const::Null,
        LiteralValue::Bytes(b) => Const::Bytes(b.inner().into()),
    })
}
