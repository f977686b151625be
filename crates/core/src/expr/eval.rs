//! The walk over a compiled program, counting every step.

use super::{
    BUDGET, ExprError, functions,
    parse::{Binary, Fold, Node, Op},
    value::{Scope, Val},
};
use std::{borrow::Cow, cmp::Ordering, rc::Rc};

type Outcome<'a> = Result<Val<'a>, ExprError>;

pub(super) fn eval<'a>(node: &'a Node, scope: &'a dyn Scope<'a>) -> Outcome<'a> {
    Walk { scope, left: BUDGET, bound: Vec::new() }.node(node)
}

struct Walk<'a> {
    scope: &'a dyn Scope<'a>,
    left: u32,
    bound: Vec<(&'a str, Val<'a>)>,
}

impl<'a> Walk<'a> {
    fn spend(&mut self, steps: usize) -> Result<(), ExprError> {
        let steps = u32::try_from(steps).unwrap_or(u32::MAX);
        self.left = self.left.checked_sub(steps).ok_or_else(|| {
            self.left = 0;
            ExprError::new(format!("takes more than {BUDGET} steps and was stopped; make it simpler"))
        })?;
        Ok(())
    }

    fn node(&mut self, node: &'a Node) -> Outcome<'a> {
        self.spend(1)?;
        let value = self.op(&node.op).map_err(|e| e.at(node.span))?;
        self.spend(value.weight() / 64)?;
        Ok(value)
    }

    fn op(&mut self, op: &'a Op) -> Outcome<'a> {
        match op {
            Op::Const(c) => Ok(Val::constant(c)),
            Op::Name(name) => self.name(name),
            Op::Select(on, field) => self.select(on, field),
            Op::Has(on, field) => Ok(Val::Bool(self.node(on)?.field(field).is_some())),
            Op::Index(on, at) => self.index(on, at),
            Op::Not(a) => self.truth(a).map(|b| Val::Bool(!b)),
            Op::Negate(a) => negate(&self.node(a)?),
            Op::And(a, b) => self.both(a, b, false),
            Op::Or(a, b) => self.both(a, b, true),
            Op::Choose(test, a, b) => {
                if self.truth(test)? {
                    self.node(a)
                } else {
                    self.node(b)
                }
            }
            Op::Binary(op, a, b) => self.binary(*op, a, b),
            Op::List(items) => {
                let items = items.iter().map(|i| self.node(i)).collect::<Result<Vec<_>, _>>()?;
                Ok(Val::List(Rc::new(items)))
            }
            Op::Map(entries) => self.map(entries),
            Op::Call(name, args) => self.call(name, args),
            Op::Glob(on, glob) => {
                let text = self.text(on, "glob")?;
                Ok(Val::Bool(glob.matches(&text)))
            }
            Op::Matches(on, regex) => {
                let text = self.text(on, "matches")?;
                Ok(Val::Bool(regex.is_match(&text)))
            }
            Op::Fold(fold) => self.fold(fold),
        }
    }

    fn text(&mut self, node: &'a Node, function: &str) -> Result<Cow<'a, str>, ExprError> {
        match self.node(node)? {
            Val::Str(text) => {
                self.spend(text.len() / 64)?;
                Ok(text)
            }
            other => Err(ExprError::new(format!("{function}() cannot take {} and a string", other.kind()))),
        }
    }

    fn name(&self, name: &'a str) -> Outcome<'a> {
        if let Some((_, v)) = self.bound.iter().rev().find(|(n, _)| *n == name) {
            return Ok(v.clone());
        }
        self.scope.name(name).ok_or_else(|| ExprError::missing(format!("there is no `{name}`")))
    }

    fn truth(&mut self, node: &'a Node) -> Result<bool, ExprError> {
        match self.node(node)? {
            Val::Bool(b) => Ok(b),
            other => Err(ExprError::new(format!("is {}, not true or false", other.kind())).at(node.span)),
        }
    }

    /// `&&` and `||` as the language defines them: one side that settles it outweighs an error
    /// of the other.
    fn both(&mut self, a: &'a Node, b: &'a Node, settles: bool) -> Outcome<'a> {
        let first = self.truth(a);
        if first.as_ref() == Ok(&settles) {
            return Ok(Val::Bool(settles));
        }
        match (first, self.truth(b)) {
            (_, Ok(second)) if second == settles => Ok(Val::Bool(settles)),
            (Err(e), _) | (_, Err(e)) => Err(e),
            _ => Ok(Val::Bool(!settles)),
        }
    }

    fn select(&mut self, on: &'a Node, field: &str) -> Outcome<'a> {
        let value = self.node(on)?;
        if let Some(found) = value.field(field) {
            return Ok(found);
        }
        Err(match value {
            Val::Json(_) | Val::Map(_) | Val::Labels(_) | Val::Alert(_)
                if value.entries().is_none() || value.is_map() =>
            {
                ExprError::missing(format!("there is no field `{field}`"))
            }
            other => ExprError::missing(format!("there is no field `{field}` in {}", other.kind())),
        })
    }

    fn index(&mut self, on: &'a Node, at: &'a Node) -> Outcome<'a> {
        let (value, key) = (self.node(on)?, self.node(at)?);
        match &key {
            Val::Str(k) => value.field(k).ok_or_else(|| ExprError::missing(format!("there is no field `{k}`"))),
            Val::Int(i) => value.element(*i).ok_or_else(|| ExprError::missing(format!("there is no element {i}"))),
            other => Err(ExprError::new(format!("cannot take {} as a key", other.kind()))),
        }
    }

    fn binary(&mut self, op: Binary, a: &'a Node, b: &'a Node) -> Outcome<'a> {
        let (x, y) = (self.node(a)?, self.node(b)?);
        let ordered = |test: fn(Ordering) -> bool| match x.order(&y) {
            Some(o) => Ok(Val::Bool(test(o))),
            None => Err(ExprError::new(format!("cannot compare {} with {}", x.kind(), y.kind()))),
        };
        match op {
            Binary::Equal => Ok(Val::Bool(x.equal(&y))),
            Binary::Differ => Ok(Val::Bool(!x.equal(&y))),
            Binary::Less => ordered(Ordering::is_lt),
            Binary::LessEqual => ordered(Ordering::is_le),
            Binary::Greater => ordered(Ordering::is_gt),
            Binary::GreaterEqual => ordered(Ordering::is_ge),
            Binary::In => self.contains(&x, &y),
            Binary::Add => self.add(&x, &y),
            Binary::Subtract | Binary::Multiply | Binary::Divide | Binary::Modulo => arithmetic(op, &x, &y),
        }
    }

    fn contains(&mut self, x: &Val<'a>, y: &Val<'a>) -> Outcome<'a> {
        if let (Val::Str(key), true) = (x, y.is_map()) {
            return Ok(Val::Bool(y.field(key).is_some()));
        }
        let entries =
            y.entries().ok_or_else(|| ExprError::new(format!("cannot look for {} in {}", x.kind(), y.kind())))?;
        self.spend(entries.len())?;
        Ok(Val::Bool(entries.iter().any(|(_, v)| x.equal(v))))
    }

    fn add(&mut self, x: &Val<'a>, y: &Val<'a>) -> Outcome<'a> {
        match (x, y) {
            (Val::Str(a), Val::Str(b)) => Ok(Val::Str(Cow::Owned(format!("{a}{b}")))),
            (Val::Str(_), Val::Severity(_)) | (Val::Severity(_), Val::Str(_)) => {
                Ok(Val::Str(Cow::Owned(x.text() + &y.text())))
            }
            (Val::Time(t), Val::Span(d)) | (Val::Span(d), Val::Time(t)) => shifted(*t, *d),
            (Val::Span(a), Val::Span(b)) => a.checked_add(b).map(Val::Span).ok_or_else(too_large),
            _ if !x.is_map() && !y.is_map() && x.entries().is_some() && y.entries().is_some() => {
                let both: Vec<_> = [x, y].into_iter().filter_map(Val::entries).flatten().map(|(_, v)| v).collect();
                Ok(Val::List(Rc::new(both)))
            }
            _ => arithmetic(Binary::Add, x, y),
        }
    }

    fn map(&mut self, entries: &'a [(Node, Node)]) -> Outcome<'a> {
        let mut made = Vec::with_capacity(entries.len());
        for (key, value) in entries {
            match self.node(key)? {
                Val::Str(k) => made.push((k.into_owned(), self.node(value)?)),
                other => {
                    return Err(ExprError::new(format!("a key must be a string, not {}", other.kind())).at(key.span));
                }
            }
        }
        Ok(Val::Map(Rc::new(made)))
    }

    fn call(&mut self, name: &'a str, args: &'a [Node]) -> Outcome<'a> {
        let args = args.iter().map(|a| self.node(a)).collect::<Result<Vec<_>, _>>()?;
        self.spend(args.iter().map(|a| if let Val::Str(s) = a { s.len() / 64 } else { 0 }).sum())?;
        if let Some(result) = self.scope.call(name, &args) {
            return result.map_err(ExprError::new);
        }
        functions::call(name, &args)
    }

    fn fold(&mut self, fold: &'a Fold) -> Outcome<'a> {
        let range = self.node(&fold.range)?;
        let keys = range.is_map();
        let entries = range.entries().ok_or_else(|| {
            ExprError::new(format!("cannot go through {}; a list or a map was expected", range.kind()))
                .at(fold.range.span)
        })?;
        let accu = self.node(&fold.init)?;
        let base = self.bound.len();
        self.bound.push((&fold.accu, accu));
        for (key, value) in entries {
            match &fold.item2 {
                Some(second) => self.bound.extend([(fold.item.as_str(), key), (second.as_str(), value)]),
                None => self.bound.push((&fold.item, if keys { key } else { value })),
            }
            // An error while deciding whether to go on means that nothing is settled yet.
            let go_on = !matches!(self.node(&fold.go_on), Ok(Val::Bool(false)));
            let step = if go_on { Some(self.node(&fold.step)) } else { None };
            self.bound.truncate(base + 1);
            match step {
                None => break,
                Some(value) => self.bound[base].1 = value?,
            }
        }
        let result = self.node(&fold.result);
        self.bound.truncate(base);
        result
    }
}

fn too_large() -> ExprError {
    ExprError::new("the result is too large")
}

fn shifted<'a>(t: chrono::DateTime<chrono::Utc>, d: chrono::TimeDelta) -> Outcome<'a> {
    t.checked_add_signed(d).map(Val::Time).ok_or_else(too_large)
}

fn negate<'a>(value: &Val<'a>) -> Outcome<'a> {
    match value {
        Val::Int(i) => i.checked_neg().map(Val::Int).ok_or_else(too_large),
        Val::Double(d) => Ok(Val::Double(-d)),
        other => Err(ExprError::new(format!("cannot negate {}", other.kind()))),
    }
}

fn arithmetic<'a>(op: Binary, x: &Val<'a>, y: &Val<'a>) -> Outcome<'a> {
    match (x, y) {
        (Val::Int(a), Val::Int(b)) => whole(op, *a, *b),
        (Val::Int(a), Val::Double(b)) => Ok(Val::Double(fraction(op, *a as f64, *b))),
        (Val::Double(a), Val::Int(b)) => Ok(Val::Double(fraction(op, *a, *b as f64))),
        (Val::Double(a), Val::Double(b)) => Ok(Val::Double(fraction(op, *a, *b))),
        (Val::Time(a), Val::Time(b)) if op == Binary::Subtract => Ok(Val::Span(*a - *b)),
        (Val::Time(a), Val::Span(b)) if op == Binary::Subtract => shifted(*a, -*b),
        _ => Err(ExprError::new(format!("cannot calculate with {} and {}", x.kind(), y.kind()))),
    }
}

fn whole<'a>(op: Binary, a: i64, b: i64) -> Outcome<'a> {
    if b == 0 && matches!(op, Binary::Divide | Binary::Modulo) {
        return Err(ExprError::new("division by zero"));
    }
    let result = match op {
        Binary::Add => a.checked_add(b),
        Binary::Subtract => a.checked_sub(b),
        Binary::Multiply => a.checked_mul(b),
        Binary::Divide => a.checked_div(b),
        _ => a.checked_rem(b),
    };
    result.map(Val::Int).ok_or_else(too_large)
}

fn fraction(op: Binary, a: f64, b: f64) -> f64 {
    match op {
        Binary::Add => a + b,
        Binary::Subtract => a - b,
        Binary::Multiply => a * b,
        Binary::Divide => a / b,
        _ => a % b,
    }
}
