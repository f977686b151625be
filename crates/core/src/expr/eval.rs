//! The walk over a compiled program, counting every step.

use super::{
    BUDGET, ExprError, functions,
    node::{Binary, Comprehension, Makes, Node, Op, Rank, Ranked},
    times,
    value::{Scope, Val},
};
use crate::bounds::depth_diagnostic;
use std::{borrow::Cow, cmp::Ordering, rc::Rc};

type Outcome<'a> = Result<Val<'a>, ExprError>;

/// Largest result, in bytes of memory, once all that it shares is written out.
pub(super) const MAX_RESULT: usize = 2 << 20;

/// The value within the budget of one evaluation.
pub(super) fn eval<'a>(node: &'a Node, scope: &'a dyn Scope<'a>) -> Outcome<'a> {
    eval_within(node, scope, BUDGET).0
}

/// The value, and how many of the steps are left.
pub(super) fn eval_within<'a>(
    node: &'a Node,
    scope: &'a dyn Scope<'a>,
    steps: u32,
) -> (Outcome<'a>, u32) {
    let mut walk = Walk { scope, left: steps, bound: Vec::new() };
    let value = walk.node(node).and_then(bounded);
    (value, walk.left)
}

/// A result that is neither too large nor too deep.
fn bounded(value: Val<'_>) -> Outcome<'_> {
    if matches!(value, Val::List(_) | Val::Map(_)) {
        let (bytes, deep) = value.measure(MAX_RESULT);
        if bytes > MAX_RESULT {
            return Err(ExprError::new("the result is too large"));
        }
        if deep {
            return Err(ExprError::new(format!("the result {}", depth_diagnostic())));
        }
    }
    Ok(value)
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
            ExprError::new(format!(
                "takes more than {BUDGET} steps and was stopped; make it simpler"
            ))
        })?;
        Ok(())
    }

    /// Pays for looking at all of a value before it is looked at.
    fn spend_whole(&mut self, value: &Val<'a>) -> Result<(), ExprError> {
        self.spend(value.measure(self.left as usize * 64).0 / 64)
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
            Op::Comprehension(c) => self.comprehension(c),
            Op::Ranked(ranked) => self.ranked(ranked),
        }
    }

    fn text(&mut self, node: &'a Node, function: &str) -> Result<Cow<'a, str>, ExprError> {
        match self.node(node)? {
            Val::Str(text) => {
                self.spend(text.len() / 64)?;
                Ok(text)
            }
            other => Err(ExprError::new(format!(
                "{function}() cannot take {} and a string",
                other.kind()
            ))),
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
            other => {
                Err(ExprError::new(format!("is {}, not true or false", other.kind())).at(node.span))
            }
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
        self.spend(searched(&value))?;
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
        self.spend(searched(&value))?;
        let found = match key.whole().map(i64::try_from) {
            Some(Ok(i)) if !value.is_map() => value.element(i),
            _ => value.under(&key),
        };
        found.ok_or_else(|| match &key {
            Val::Str(k) => ExprError::missing(format!("there is no field `{k}`")),
            Val::Int(_) | Val::UInt(_) | Val::Data(_) | Val::Double(_) | Val::Bool(_) => {
                ExprError::missing(format!("there is no element {}", key.text()))
            }
            other => ExprError::new(format!("cannot take {} as a key", other.kind())),
        })
    }

    fn binary(&mut self, op: Binary, a: &'a Node, b: &'a Node) -> Outcome<'a> {
        let (x, y) = (self.node(a)?, self.node(b)?);
        self.spend(x.text_steps(&y))?;
        let ordered = |test: fn(Ordering) -> bool| match x.order(&y) {
            Some(o) => Ok(Val::Bool(test(o))),
            // What is no number at all is neither less nor more than any.
            None if x.number().is_some() && y.number().is_some() => Ok(Val::Bool(false)),
            None => Err(ExprError::new(format!("cannot compare {} with {}", x.kind(), y.kind()))),
        };
        match op {
            Binary::Equal => self.equal(&x, &y).map(Val::Bool),
            Binary::Differ => self.equal(&x, &y).map(|same| Val::Bool(!same)),
            Binary::Less => ordered(Ordering::is_lt),
            Binary::LessEqual => ordered(Ordering::is_le),
            Binary::Greater => ordered(Ordering::is_gt),
            Binary::GreaterEqual => ordered(Ordering::is_ge),
            Binary::In => self.contains(&x, &y),
            Binary::Add => self.add(&x, &y),
            Binary::Subtract | Binary::Multiply | Binary::Divide | Binary::Modulo => {
                arithmetic(op, &x, &y)
            }
        }
    }

    fn contains(&mut self, x: &Val<'a>, y: &Val<'a>) -> Outcome<'a> {
        if y.is_map() {
            self.spend(searched(y))?;
            return Ok(Val::Bool(y.under(x).is_some()));
        }
        let entries = y.entries().ok_or_else(|| {
            ExprError::new(format!("cannot look for {} in {}", x.kind(), y.kind()))
        })?;
        for (_, item) in entries {
            self.spend(1)?;
            if self.equal(x, &item)? {
                return Ok(Val::Bool(true));
            }
        }
        Ok(Val::Bool(false))
    }

    /// Equality part by part, each paid for.
    fn equal(&mut self, x: &Val<'a>, y: &Val<'a>) -> Result<bool, ExprError> {
        let (Some(count), Some(other)) = (x.len(), y.len()) else {
            self.spend(x.text_steps(y))?;
            return Ok(match (x, y) {
                (Val::Alert(a), Val::Alert(b)) => a.source == b.source && a.id == b.id,
                _ => x.same_scalar(y),
            });
        };
        if count != other || x.is_map() != y.is_map() {
            return Ok(false);
        }
        for (key, value) in x.entries().into_iter().flatten() {
            self.spend(1)?;
            let counterpart = match &key {
                key if x.is_map() => {
                    self.spend(searched(y) + key.text_steps(key))?;
                    y.under(key)
                }
                Val::Int(at) => y.element(*at),
                _ => None,
            };
            match counterpart {
                Some(counterpart) if self.equal(&value, &counterpart)? => {}
                _ => return Ok(false),
            }
        }
        Ok(true)
    }

    fn add(&mut self, x: &Val<'a>, y: &Val<'a>) -> Outcome<'a> {
        match (x, y) {
            (Val::Str(a), Val::Str(b)) => {
                self.spend((a.len() + b.len()) / 64)?;
                Ok(Val::Str(Cow::Owned(format!("{a}{b}"))))
            }
            (Val::Str(_), Val::Severity(_)) | (Val::Severity(_), Val::Str(_)) => {
                Ok(Val::Str(Cow::Owned(x.text() + &y.text())))
            }
            (Val::Time(t), Val::Span(d)) | (Val::Span(d), Val::Time(t)) => shifted(*t, *d),
            (Val::Span(a), Val::Span(b)) => {
                a.checked_add(b).ok_or_else(too_large).and_then(times::bounded).map(Val::Span)
            }
            (Val::Bytes(a), Val::Bytes(b)) => {
                self.spend((a.len() + b.len()) / 64)?;
                Ok(Val::Bytes([&a[..], &b[..]].concat().into()))
            }
            _ if !x.is_map() && !y.is_map() && x.len().is_some() && y.len().is_some() => {
                self.spend(x.len().unwrap_or(0) + y.len().unwrap_or(0))?;
                let both: Vec<_> =
                    [x, y].into_iter().filter_map(Val::entries).flatten().map(|(_, v)| v).collect();
                Ok(Val::List(Rc::new(both)))
            }
            _ => arithmetic(Binary::Add, x, y),
        }
    }

    fn map(&mut self, entries: &'a [(Node, Node)]) -> Outcome<'a> {
        let mut made: Vec<(Val<'a>, Val<'a>)> = Vec::with_capacity(entries.len());
        for (at, value) in entries {
            let key = self.node(at)?;
            if !matches!(
                key,
                Val::Str(_) | Val::Int(_) | Val::UInt(_) | Val::Data(_) | Val::Bool(_)
            ) {
                let wrong = format!(
                    "a key must be a string, a whole number, true or false, not {}",
                    key.kind()
                );
                return Err(ExprError::new(wrong).at(at.span));
            }
            self.spend(made.len() / 8)?;
            if made.iter().any(|(k, _)| k.same_scalar(&key)) {
                return Err(
                    ExprError::new(format!("the key `{}` is there twice", key.text())).at(at.span)
                );
            }
            made.push((key, self.node(value)?));
        }
        Ok(Val::Map(Rc::new(made)))
    }

    fn call(&mut self, name: &'a str, args: &'a [Node]) -> Outcome<'a> {
        let args = args.iter().map(|a| self.node(a)).collect::<Result<Vec<_>, _>>()?;
        for arg in &args {
            match (name, arg) {
                ("size" | "type" | "dyn", arg) if arg.len().is_some() => {}
                ("sort", arg) => self.spend(2 * arg.measure(self.left as usize * 64).0 / 64)?,
                ("distinct", arg) => self.spend(arg.len().map_or(0, |n| n * n / 64))?,
                // A pattern that is not written out is compiled each time.
                ("matches" | "glob", Val::Str(text)) => self.spend(PATTERN + text.len() / 8)?,
                ("split", Val::Str(text)) => self.spend(text.len() / 4)?,
                _ => self.spend_whole(arg)?,
            }
        }
        if let Some(result) = self.scope.call(name, &args) {
            return result.map_err(ExprError::new);
        }
        functions::call(name, &args)
    }

    /// A list or the keys of a map, gone through. For `all` and `exists` an element that settles
    /// it outweighs an error at another, before or after it.
    fn comprehension(&mut self, c: &'a Comprehension) -> Outcome<'a> {
        let range = self.node(&c.range)?;
        let keys = range.is_map();
        let entries = range.entries().ok_or_else(|| {
            ExprError::new(format!(
                "cannot go through {}; a list or a map was expected",
                range.kind()
            ))
            .at(c.range.span)
        })?;
        let items = entries.map(|(key, value)| if keys { key } else { value });
        match &c.makes {
            Makes::All(test) => self.settled(c, items, test, false),
            Makes::Exists(test) => self.settled(c, items, test, true),
            Makes::ExistsOne(test) => {
                let mut found = 0;
                for item in items {
                    found += usize::from(self.bound_to(c, item, |walk| walk.truth(test))?);
                }
                Ok(Val::Bool(found == 1))
            }
            Makes::Filter(test) => {
                let mut kept = Vec::new();
                for item in items {
                    if self.bound_to(c, item.clone(), |walk| walk.truth(test))? {
                        kept.push(item);
                    }
                }
                Ok(Val::List(Rc::new(kept)))
            }
            Makes::Map(test, element) => {
                let mut made = Vec::new();
                for item in items {
                    made.extend(self.bound_to(c, item, |walk| {
                        let wanted = test.as_ref().map_or(Ok(true), |test| walk.truth(test))?;
                        if wanted { walk.node(element).map(Some) } else { Ok(None) }
                    })?);
                }
                Ok(Val::List(Rc::new(made)))
            }
        }
    }

    /// Whether one of the items makes a condition what settles the whole.
    fn settled(
        &mut self,
        c: &'a Comprehension,
        items: impl Iterator<Item = Val<'a>>,
        test: &'a Node,
        settles: bool,
    ) -> Outcome<'a> {
        let mut first_error = None;
        for item in items {
            match self.bound_to(c, item, |walk| walk.truth(test)) {
                Ok(found) if found == settles => return Ok(Val::Bool(settles)),
                Err(e) if self.left == 0 => return Err(e),
                Err(e) => first_error = first_error.or(Some(e)),
                Ok(_) => {}
            }
        }
        first_error.map_or(Ok(Val::Bool(!settles)), Err)
    }

    /// Evaluates with the name of a comprehension bound to an item, which is paid for.
    fn bound_to<T>(
        &mut self,
        c: &'a Comprehension,
        item: Val<'a>,
        evaluate: impl FnOnce(&mut Self) -> Result<T, ExprError>,
    ) -> Result<T, ExprError> {
        self.spend(1 + item.weight() / 64)?;
        self.bound.push((&c.item, item));
        let found = evaluate(self);
        self.bound.pop();
        found
    }

    /// The elements of a list by what each gives, or the first of the least or greatest.
    fn ranked(&mut self, ranked: &'a Ranked) -> Outcome<'a> {
        let range = self.node(&ranked.range)?;
        let name = ranked.rank.name();
        let entries = range.entries().filter(|_| !range.is_map()).ok_or_else(|| {
            let wrong = format!("{name}() cannot take {}; a list was expected", range.kind());
            ExprError::new(wrong).at(ranked.range.span)
        })?;
        let mut keyed: Vec<(Val<'a>, Val<'a>)> = Vec::with_capacity(range.len().unwrap_or(0));
        for (_, value) in entries {
            self.spend(1 + value.weight() / 64)?;
            self.bound.push((&ranked.item, value.clone()));
            let key = self.node(&ranked.key);
            self.bound.pop();
            keyed.push((key?, value));
        }
        // Each comparison is paid for before the first is made.
        let longest = keyed.iter().map(|(key, _)| key.text_steps(key)).max().unwrap_or(0);
        let rounds = if ranked.rank == Rank::Order {
            keyed.len().checked_ilog2().unwrap_or(0) as usize + 1
        } else {
            1
        };
        self.spend(keyed.len() * rounds * (1 + 8 * longest) / 8)?;
        let odd = keyed.windows(2).find(|w| !w[0].0.ranks_with(&w[1].0));
        if let Some([(a, _), (b, _)]) = odd {
            return Err(ExprError::new(format!(
                "{name}() cannot compare {} with {}",
                a.kind(),
                b.kind()
            )));
        }
        let compare = |a: &(Val<'a>, Val<'a>), b: &(Val<'a>, Val<'a>)| {
            a.0.order(&b.0).unwrap_or(Ordering::Equal)
        };
        let one = match ranked.rank {
            Rank::Order => {
                keyed.sort_by(compare);
                return Ok(Val::List(Rc::new(keyed.into_iter().map(|(_, value)| value).collect())));
            }
            Rank::Least => keyed.into_iter().min_by(compare),
            // Of equal ones the first, too.
            Rank::Most => keyed.into_iter().rev().max_by(compare),
        };
        let one = one.map(|(_, value)| value);
        one.ok_or_else(|| ExprError::missing(format!("{name}() of a list without elements")))
    }
}

/// Steps that finding a key takes: maps that an expression made are searched from end to end.
fn searched(value: &Val<'_>) -> usize {
    if let Val::Map(entries) = value { entries.len() / 8 } else { 0 }
}

/// Steps of compiling a pattern.
const PATTERN: usize = 100;

fn too_large() -> ExprError {
    ExprError::new("the result is too large")
}

fn shifted<'a>(t: chrono::DateTime<chrono::Utc>, d: chrono::TimeDelta) -> Outcome<'a> {
    t.checked_add_signed(d).ok_or_else(times::beyond).and_then(times::within)
}

fn negate<'a>(value: &Val<'a>) -> Outcome<'a> {
    match value {
        Val::Int(i) => i.checked_neg().map(Val::Int).ok_or_else(too_large),
        Val::Data(i) => Ok(i.checked_neg().map_or(Val::Double(-(*i as f64)), Val::Data)),
        Val::UInt(u) => {
            Err(ExprError::new(format!("cannot negate {u}u, which can never be negative")))
        }
        Val::Double(d) => Ok(Val::Double(-d)),
        other => Err(ExprError::new(format!("cannot negate {}", other.kind()))),
    }
}

fn arithmetic<'a>(op: Binary, x: &Val<'a>, y: &Val<'a>) -> Outcome<'a> {
    match (x, y) {
        (Val::Int(a), Val::Int(b)) => whole(op, *a, *b),
        (Val::UInt(a), Val::UInt(b)) => {
            let made = calculated(op, i128::from(*a), i128::from(*b))?;
            u64::try_from(made).map(Val::UInt).map_err(|_| too_large())
        }
        (Val::Int(_) | Val::UInt(_), Val::Int(_) | Val::UInt(_)) => {
            let (a, b) = (x.whole().unwrap_or_default(), y.whole().unwrap_or_default());
            i64::try_from(calculated(op, a, b)?).map(Val::Int).map_err(|_| too_large())
        }
        (Val::Data(_), Val::Data(_) | Val::Int(_) | Val::UInt(_))
        | (Val::Int(_) | Val::UInt(_), Val::Data(_)) => of_data(op, x, y),
        (Val::Time(a), Val::Time(b)) if op == Binary::Subtract => Ok(Val::Span(*a - *b)),
        (Val::Time(a), Val::Span(b)) if op == Binary::Subtract => shifted(*a, -*b),
        (Val::Span(a), Val::Span(b)) if op == Binary::Subtract => {
            a.checked_sub(b).ok_or_else(too_large).and_then(times::bounded).map(Val::Span)
        }
        _ => match (x.number(), y.number()) {
            (Some(a), Some(b)) => Ok(Val::Double(fraction(op, a, b))),
            _ => {
                Err(ExprError::new(format!("cannot calculate with {} and {}", x.kind(), y.kind())))
            }
        },
    }
}

/// What two whole numbers give of which one is of data: exactly, as long as that has room, and
/// divided as doubles. By zero nothing is divided: what a double would give for it can be in no
/// record.
fn of_data<'a>(op: Binary, x: &Val<'a>, y: &Val<'a>) -> Outcome<'a> {
    let (a, b) = (x.whole().unwrap_or_default(), y.whole().unwrap_or_default());
    let double = || {
        Val::Double(fraction(op, x.number().unwrap_or(f64::NAN), y.number().unwrap_or(f64::NAN)))
    };
    if op == Binary::Divide && b != 0 {
        return Ok(double());
    }
    Ok(i64::try_from(calculated(op, a, b)?).map_or_else(|_| double(), Val::Data))
}

/// What two whole numbers give, before it is known whether it has room.
fn calculated(op: Binary, a: i128, b: i128) -> Result<i128, ExprError> {
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
    result.ok_or_else(too_large)
}

fn whole<'a>(op: Binary, a: i64, b: i64) -> Outcome<'a> {
    let made = calculated(op, i128::from(a), i128::from(b))?;
    i64::try_from(made).map(Val::Int).map_err(|_| too_large())
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
