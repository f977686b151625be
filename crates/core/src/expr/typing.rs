//! The type of an expression, checked before any alert has come. Only what is wrong for certain is
//! complained about; evaluation checks everything once more.

use super::{
    ExprError, Names,
    functions::{self, Takes},
    node::{Binary, Comprehension, Makes, Node, Op, Rank, Ranked},
    types::{self, Type},
    value::Const,
};
use crate::{Severity, text::nearest};
use std::sync::Arc;

/// Checks a whole expression.
pub(super) fn check(node: &Node, names: Names<'_>) -> Result<Type, ExprError> {
    Env::new(names).node(node)
}

/// Checks that a whole expression can be true or false.
pub(super) fn check_condition(node: &Node, names: Names<'_>) -> Result<(), ExprError> {
    Env::new(names).truth(node).map(|_| ())
}

/// Checks that a whole expression can be a list.
pub(super) fn check_list(node: &Node, names: Names<'_>) -> Result<(), ExprError> {
    Env::new(names).fitting(node, Takes::List)
}

/// The fields that are there for certain if a condition is true, or if it is false: a name and its
/// field.
pub(super) fn guards(node: &Node, truth: bool) -> Vec<(&str, &str)> {
    match (&node.op, truth) {
        (Op::Has(on, field), true) => match &on.op {
            Op::Name(name) => vec![(name, field)],
            Op::Select(of, field) => match &of.op {
                Op::Name(name) => vec![(name, field)],
                _ => Vec::new(),
            },
            _ => Vec::new(),
        },
        (Op::Not(a), truth) => guards(a, !truth),
        (Op::And(a, b), true) => [guards(a, true), guards(b, true)].concat(),
        (Op::Or(a, b), false) => [guards(a, false), guards(b, false)].concat(),
        _ => Vec::new(),
    }
}

struct Env<'a> {
    names: Names<'a>,
    bound: Vec<(&'a str, Type)>,
    /// Fields that are there for certain, though they may be missing elsewhere.
    guarded: Vec<(&'a str, &'a str)>,
}

impl<'a> Env<'a> {
    fn new(names: Names<'a>) -> Self {
        Self { names, bound: Vec::new(), guarded: Vec::new() }
    }

    /// The type of a part that counts only where another is true, or false.
    fn where_it_counts(
        &mut self,
        node: &'a Node,
        test: &'a Node,
        truth: bool,
    ) -> Result<Type, ExprError> {
        let before = self.guarded.len();
        self.guarded.extend(guards(test, truth));
        let found = self.node(node);
        self.guarded.truncate(before);
        found
    }

    /// A field of something; one that may be missing must be asked for first.
    fn field(&mut self, on: &'a Node, field: &str) -> Result<Type, ExprError> {
        let found = select(&self.node(on)?, field)?;
        let Type::Maybe(of) = found else { return Ok(found) };
        let Op::Name(name) = &on.op else { return Ok((*of).clone()) };
        if self.guarded.contains(&(name.as_str(), field)) {
            return Ok((*of).clone());
        }
        Err(ExprError::new(format!(
            "`{name}.{field}` may not be there; ask has({name}.{field}) first"
        )))
    }

    fn node(&mut self, node: &'a Node) -> Result<Type, ExprError> {
        self.op(&node.op).map_err(|e| e.at(node.span))
    }

    fn op(&mut self, op: &'a Op) -> Result<Type, ExprError> {
        Ok(match op {
            Op::Const(c) => constant(c),
            Op::Name(name) => self.name(name),
            Op::Select(on, field) => self.field(on, field)?,
            Op::Has(on, field) => {
                select(&self.node(on)?, field)?;
                Type::Bool
            }
            Op::Index(on, at) => self.index(on, at)?,
            Op::Not(a) => self.truth(a)?,
            Op::Negate(a) => self.wanted(a, &[Type::Number])?,
            Op::And(a, b) | Op::Or(a, b) => {
                // Whichever side decides, the other's error does not count.
                let truth = matches!(op, Op::And(..));
                for (side, test) in [(a, b), (b, a)] {
                    let found = self.where_it_counts(side, test, truth)?;
                    is_truth(found).map_err(|e| e.at(side.span))?;
                }
                Type::Bool
            }
            Op::Choose(test, a, b) => {
                self.truth(test)?;
                let first = self.where_it_counts(a, test, true)?;
                first.join(self.where_it_counts(b, test, false)?)
            }
            Op::Binary(op, a, b) => self.binary(*op, a, b)?,
            Op::List(items) => {
                let mut all =
                    items.iter().map(|i| self.node(i)).collect::<Result<Vec<_>, _>>()?.into_iter();
                let first = all.next().unwrap_or(Type::Any);
                Type::List(Arc::new(all.fold(first, Type::join)))
            }
            Op::Map(entries) => {
                let mut named = true;
                for (key, value) in entries {
                    named &=
                        self.wanted(key, &[Type::Text, Type::Number, Type::Bool])? == Type::Text;
                    self.node(value)?;
                }
                // Of what has other keys than names nothing is known.
                if named { Type::Map(Arc::new(Type::Any)) } else { Type::Any }
            }
            Op::Call(name, args) => self.call(name, args)?,
            Op::Glob(on, _) | Op::Matches(on, _) => {
                self.wanted(on, &[Type::Text])?;
                Type::Bool
            }
            Op::Comprehension(c) => self.comprehension(c)?,
            Op::Ranked(ranked) => self.ranked(ranked)?,
        })
    }

    fn name(&self, name: &str) -> Type {
        if let Some((_, t)) = self.bound.iter().rev().find(|(n, _)| *n == name) {
            return t.clone();
        }
        match (self.names.types.iter().find(|(n, _)| *n == name), name) {
            (Some((_, t)), _) => t.clone(),
            (None, "alert") => types::alert(),
            (None, "tally") => types::tally(),
            _ => Type::Any,
        }
    }

    fn truth(&mut self, node: &'a Node) -> Result<Type, ExprError> {
        is_truth(self.node(node)?).map_err(|e| e.at(node.span))
    }

    fn wanted(&mut self, node: &'a Node, wanted: &[Type]) -> Result<Type, ExprError> {
        let found = self.node(node)?;
        if found == Type::Any || wanted.contains(&found) {
            return Ok(found);
        }
        let wanted: Vec<_> = wanted.iter().map(Type::kind).collect();
        Err(ExprError::new(format!("is {}; {} was expected", found.kind(), wanted.join(" or ")))
            .at(node.span))
    }

    /// Whether a value fits where a function takes it.
    fn fitting(&mut self, node: &'a Node, takes: Takes) -> Result<(), ExprError> {
        match (takes, takes.types()) {
            (Takes::List, _) => match self.node(node)? {
                Type::List(_) | Type::Any => Ok(()),
                other => Err(ExprError::new(format!("is {}; a list was expected", other.kind()))
                    .at(node.span)),
            },
            (_, types) if types.is_empty() => self.node(node).map(|_| ()),
            (_, types) => self.wanted(node, &types).map(|_| ()),
        }
    }

    fn index(&mut self, on: &'a Node, at: &'a Node) -> Result<Type, ExprError> {
        if let Op::Const(Const::Str(field)) = &at.op
            && matches!(self.node(on)?, Type::Record(_) | Type::Map(_))
        {
            return self.field(on, field);
        }
        let (on, key) = (self.node(on)?, self.node(at)?);
        match (on, key) {
            (Type::List(of), Type::Number | Type::Any)
            | (Type::Map(of), Type::Text | Type::Any) => Ok((*of).clone()),
            (Type::Any | Type::Record(_), _) => Ok(Type::Any),
            (on, key) => {
                Err(ExprError::new(format!("cannot take {} as a key of {}", key.kind(), on.kind())))
            }
        }
    }

    fn binary(&mut self, op: Binary, a: &'a Node, b: &'a Node) -> Result<Type, ExprError> {
        let (x, y) = (self.node(a)?, self.node(b)?);
        match op {
            Binary::Equal | Binary::Differ => {
                if !x.may_equal(&y) {
                    return Err(ExprError::new(format!(
                        "{} is never equal to {}",
                        x.kind(),
                        y.kind()
                    )));
                }
                severity_words(&x, &y, a, b)?;
                Ok(Type::Bool)
            }
            Binary::Less | Binary::LessEqual | Binary::Greater | Binary::GreaterEqual => {
                let ordered = [
                    Type::Number,
                    Type::Text,
                    Type::Bytes,
                    Type::Severity,
                    Type::Time,
                    Type::Span,
                    Type::Bool,
                ];
                let one = |t: &Type| *t == Type::Any || ordered.contains(t);
                let alike = x == y
                    || x == Type::Any
                    || y == Type::Any
                    || (x == Type::Severity && y == Type::Text);
                if !(one(&x) && one(&y) && alike) {
                    return Err(ExprError::new(format!(
                        "cannot compare {} with {}",
                        x.kind(),
                        y.kind()
                    )));
                }
                severity_words(&x, &y, a, b)?;
                Ok(Type::Bool)
            }
            Binary::In => match &y {
                Type::List(of) if !x.may_equal(of) => Err(ExprError::new(format!(
                    "{} is never in this list, which holds {}",
                    x.kind(),
                    of.kind()
                ))),
                Type::Any | Type::List(_) | Type::Map(_) | Type::Record(_) => Ok(Type::Bool),
                other => {
                    Err(ExprError::new(format!("cannot look for {} in {}", x.kind(), other.kind())))
                }
            },
            Binary::Add => add(&x, &y),
            Binary::Subtract | Binary::Multiply | Binary::Divide | Binary::Modulo => {
                calculate(op, &x, &y)
            }
        }
    }

    fn call(&mut self, name: &'a str, args: &'a [Node]) -> Result<Type, ExprError> {
        let Some(function) = functions::find(name) else {
            // Those of the place: a name in, a text out.
            args.iter().try_for_each(|arg| self.wanted(arg, &[Type::Text]).map(|_| ()))?;
            return Ok(Type::Text);
        };
        for (arg, takes) in args.iter().zip(function.takes) {
            self.fitting(arg, *takes)?;
        }
        Ok(function.gives.as_type())
    }

    fn ranked(&mut self, ranked: &'a Ranked) -> Result<Type, ExprError> {
        let range = self.node(&ranked.range)?;
        let item = match &range {
            Type::List(of) => (**of).clone(),
            Type::Any => Type::Any,
            other => {
                let wrong = format!(
                    "{}() cannot take {}; a list was expected",
                    ranked.rank.name(),
                    other.kind()
                );
                return Err(ExprError::new(wrong).at(ranked.range.span));
            }
        };
        self.bound.push((&ranked.item, item.clone()));
        let key = self.node(&ranked.key);
        self.bound.pop();
        key?;
        Ok(if ranked.rank == Rank::Order { Type::List(Arc::new(item)) } else { item })
    }

    fn comprehension(&mut self, c: &'a Comprehension) -> Result<Type, ExprError> {
        let item = match self.node(&c.range)? {
            Type::List(of) => (*of).clone(),
            // Of a map the keys.
            Type::Map(_) | Type::Record(_) => Type::Text,
            Type::Any => Type::Any,
            other => {
                let wrong =
                    format!("cannot go through {}; a list or a map was expected", other.kind());
                return Err(ExprError::new(wrong).at(c.range.span));
            }
        };
        self.bound.push((&c.item, item));
        let made = match &c.makes {
            Makes::All(test) | Makes::Exists(test) | Makes::ExistsOne(test) => self.truth(test),
            Makes::Filter(test) => self.truth(test).map(|_| Type::List(Arc::new(Type::Any))),
            Makes::Map(test, element) => test
                .iter()
                .try_for_each(|test| self.truth(test).map(|_| ()))
                .and_then(|()| self.node(element))
                .map(|_| Type::List(Arc::new(Type::Any))),
        };
        self.bound.pop();
        made
    }
}

fn is_truth(found: Type) -> Result<Type, ExprError> {
    match found {
        Type::Bool | Type::Any => Ok(Type::Bool),
        other => Err(ExprError::new(format!("is {}, not true or false", other.kind()))),
    }
}

fn constant(c: &Const) -> Type {
    match c {
        Const::Null | Const::Type(_) => Type::Any,
        Const::Bool(_) => Type::Bool,
        Const::Int(_) | Const::UInt(_) | Const::Double(_) => Type::Number,
        Const::Str(_) => Type::Text,
        Const::Bytes(_) => Type::Bytes,
        Const::Severity(_) => Type::Severity,
    }
}

fn select(on: &Type, field: &str) -> Result<Type, ExprError> {
    match on {
        Type::Any => Ok(Type::Any),
        Type::Map(of) => Ok((**of).clone()),
        Type::Record(fields) => fields.get(field).cloned().ok_or_else(|| {
            let known = fields.keys().map(String::as_str);
            let hint = match nearest(field, known.clone()) {
                Some(n) => format!("did you mean `{n}`?"),
                None if fields.is_empty() => "there are none here".into(),
                None => format!("known here: {}", known.collect::<Vec<_>>().join(", ")),
            };
            ExprError::new(format!("there is no field `{field}`; {hint}"))
        }),
        other => Err(ExprError::new(format!("there is no field `{field}` in {}", other.kind()))),
    }
}

/// A severity is compared with a word that is one.
fn severity_words(x: &Type, y: &Type, a: &Node, b: &Node) -> Result<(), ExprError> {
    let word = match (x, y, &a.op, &b.op) {
        (Type::Severity, Type::Text, _, Op::Const(Const::Str(word)))
        | (Type::Text, Type::Severity, Op::Const(Const::Str(word)), _) => word,
        _ => return Ok(()),
    };
    if Severity::parse(word).is_some() {
        return Ok(());
    }
    let names = Severity::ALL.map(Severity::as_str);
    let hint = match nearest(word, names) {
        Some(n) => format!("did you mean `{n}`?"),
        None => format!("the severities are {}", names.join(", ")),
    };
    Err(ExprError::new(format!("`{}` is not a severity; {hint}", crate::text::cut(word, 40))))
}

fn add(x: &Type, y: &Type) -> Result<Type, ExprError> {
    use Type::{Any, List, Number, Severity, Span, Text, Time};
    Ok(match (x, y) {
        (Any, _) | (_, Any) => Any,
        (Text, Text | Severity) | (Severity, Text) => Text,
        (Time, Span) | (Span, Time) => Time,
        (Span, Span) => Span,
        (Type::Bytes, Type::Bytes) => Type::Bytes,
        (Number, Number) => Number,
        (List(a), List(b)) => List(Arc::new((**a).clone().join((**b).clone()))),
        (x, y) => {
            let hint = if *x == Text || *y == Text {
                "; put string( ) around what is no string"
            } else {
                ""
            };
            return Err(ExprError::new(format!("cannot add {} and {}{hint}", x.kind(), y.kind())));
        }
    })
}

fn calculate(op: Binary, x: &Type, y: &Type) -> Result<Type, ExprError> {
    use Type::{Any, Number, Span, Time};
    Ok(match (x, y) {
        (Any, _) | (_, Any) => Any,
        (Number, Number) => Number,
        (Time, Time) if op == Binary::Subtract => Span,
        (Time, Span) if op == Binary::Subtract => Time,
        (Span, Span) if op == Binary::Subtract => Span,
        (x, y) => {
            return Err(ExprError::new(format!(
                "cannot calculate with {} and {}",
                x.kind(),
                y.kind()
            )));
        }
    })
}
