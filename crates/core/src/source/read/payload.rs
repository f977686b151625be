//! Reading one payload by the lines of its source.

use super::{Lines, MAX_ALERTS, SeverityRead, time::TimeRead};
use crate::{
    Alert, AlertState, NewAlert, Severity, TraceContext,
    alert::{AlertError, Received},
    expr::{BUDGET, Expr, ExprError, Scope, Val, truth},
};
use chrono::{DateTime, Utc};
use serde_json::Value;
use std::{
    cell::{Cell, RefCell},
    collections::BTreeMap,
};

/// One message as its source's lines see it.
#[derive(Clone, Copy, Debug)]
pub(in crate::source) struct Payload<'a> {
    /// What its alert carries as its body.
    pub body: &'a Value,
    /// What the intake offers to expressions, by name; no credentials.
    pub names: &'a [(&'static str, &'a Value)],
    /// Our clock.
    pub received: DateTime<Utc>,
    /// Unique by the caller's care; the base of ids that the sender did not give.
    pub fallback_id: &'a str,
    /// Whether the sender says that the body is in the normal form, whatever the source's lines.
    pub normal: bool,
    /// What is left of the steps for the whole delivery.
    pub left: &'a Cell<u32>,
}

/// What came of a delivery.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct ReadOutcome {
    /// Its alerts.
    pub alerts: Vec<Alert>,
    /// Items that `keep` left out.
    pub left_out: usize,
    /// How often an optional line of `read` gave nothing that could be used, by the line.
    pub absent: BTreeMap<&'static str, u64>,
    /// What cannot be read. It is kept aside; whatever else of the delivery can be read is taken.
    pub unreadable: Vec<Unread>,
}

/// A part of a delivery that cannot be read.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Unread {
    /// Which message of several, or which item of `each`.
    pub item: Option<usize>,
    /// Why.
    pub reason: String,
    /// What is kept of it; none for the whole delivery.
    pub part: Option<String>,
    /// Whether that is an item of `each`, of whose message nothing else is known any more.
    pub of_each: bool,
    /// Whether it is caught: its source does not say yet how it is read.
    pub caught: bool,
}

impl ReadOutcome {
    /// Adds what came of one message of several; what is kept of it where it cannot be read.
    pub(in crate::source) fn join(
        &mut self,
        other: Self,
        item: Option<usize>,
        part: Option<String>,
    ) {
        self.alerts.extend(other.alerts);
        self.left_out += other.left_out;
        for (line, times) in other.absent {
            *self.absent.entry(line).or_default() += times;
        }
        for unread in other.unreadable {
            let part = unread.part.or_else(|| part.clone());
            self.unreadable.push(Unread { item: item.or(unread.item), part, ..unread });
        }
    }

    /// The same, its alerts as parts of a trace.
    pub(in crate::source) fn within(mut self, trace: Option<TraceContext>) -> Self {
        for alert in &mut self.alerts {
            alert.trace = trace;
        }
        self
    }
}

impl Unread {
    /// A message that its source does not say yet how to read.
    pub(in crate::source) fn caught(why: &str) -> Self {
        let reason = format!("{why}; kept until `read` says what an alert is made of");
        Self { caught: true, ..Self::whole(reason) }
    }

    /// The whole delivery.
    pub(in crate::source) fn whole(reason: String) -> Self {
        Self { item: None, reason, part: None, of_each: false, caught: false }
    }
}

/// Why a message, or one item of it, cannot be read.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
#[error("{}`{line}`: {reason}", .item.map_or_else(String::new, |i| format!("item {i}, ")))]
pub(in crate::source) struct Unreadable {
    /// Which item, where `each` is used.
    pub item: Option<usize>,
    /// The line of `read`, or the field of the normal form.
    pub line: String,
    /// What is wrong.
    pub reason: String,
}

/// Most steps of all expressions over one delivery: as many as two hundred of the largest take.
pub(in crate::source) const MAX_STEPS: u32 = 200 * BUDGET;

struct View<'a> {
    payload: Payload<'a>,
    item: Option<&'a Value>,
    /// Optional lines that gave nothing.
    absent: &'a RefCell<BTreeMap<&'static str, u64>>,
}

impl<'a> View<'a> {
    fn eval(&'a self, expr: &'a Expr) -> Result<Val<'a>, ExprError> {
        expr.eval_within(self, self.payload.left)
    }

    /// Notes that an optional line gave nothing that could be used.
    fn absent<T>(&self, line: &'static str) -> Option<T> {
        *self.absent.borrow_mut().entry(line).or_default() += 1;
        None
    }

    /// The value of an optional line: none where it is missing, null, or goes wrong by a missing
    /// field.
    fn optional(
        &'a self,
        line: &'static str,
        expr: Option<&'a Expr>,
    ) -> Result<Option<Val<'a>>, Unreadable> {
        match expr.map(|e| self.eval(e)) {
            None => Ok(None),
            Some(Ok(Val::Null)) => Ok(self.absent(line)),
            Some(Err(e)) if e.missing => Ok(self.absent(line)),
            Some(Ok(value)) => Ok(Some(value)),
            Some(Err(e)) => Err(unreadable(line, e)),
        }
    }
}

impl<'a> Scope<'a> for View<'a> {
    fn name(&'a self, name: &str) -> Option<Val<'a>> {
        match name {
            "item" => self.item.map(Val::json),
            other => self
                .payload
                .names
                .iter()
                .find(|(name, _)| *name == other)
                .map(|(_, value)| Val::json(value)),
        }
    }
}

fn unreadable(line: &str, reason: impl ToString) -> Unreadable {
    Unreadable { item: None, line: line.to_owned(), reason: reason.to_string() }
}

fn misread(e: AlertError) -> Unreadable {
    Unreadable { item: None, line: e.field, reason: e.reason }
}

impl Payload<'_> {
    /// Its alerts, as alerts of a source with these lines.
    pub(in crate::source) fn read(
        self,
        source: &str,
        lines: Option<&Lines>,
    ) -> Result<ReadOutcome, Unreadable> {
        match lines {
            Some(lines) if !self.normal => self.by_lines(source, lines),
            _ => self.normal_form(source),
        }
    }

    /// The alert of one item, alone.
    pub(in crate::source) fn read_item(
        self,
        source: &str,
        lines: Option<&Lines>,
    ) -> Result<ReadOutcome, Unreadable> {
        let Some(lines) = lines.filter(|l| l.each.is_some()) else {
            return self.read(source, lines);
        };
        let absent = &RefCell::default();
        // Of the message it stood in nothing is known: for the lines that look at it, there is
        // none.
        let names: Vec<_> = self
            .names
            .iter()
            .map(|(n, v)| (*n, if *v == self.body { &Value::Null } else { *v }))
            .collect();
        let alone = Payload { body: &Value::Null, names: &names, ..self };
        let item = |item: &Value| one(lines, &View { payload: alone, item: Some(item), absent });
        alone.collect(source, &[self.body], true, item)
    }

    fn normal_form(self, source: &str) -> Result<ReadOutcome, Unreadable> {
        let items = match self.body {
            Value::Array(items) => items.iter().collect(),
            one => vec![one],
        };
        self.collect(source, &items, matches!(self.body, Value::Array(_)), |item| {
            NewAlert::from_value(item).map(Some).map_err(misread)
        })
    }

    fn by_lines(self, source: &str, lines: &Lines) -> Result<ReadOutcome, Unreadable> {
        let absent = &RefCell::default();
        let whole = View { payload: self, item: None, absent };
        let listed = match &lines.each {
            None => None,
            Some(each) => Some(list(whole.eval(each)).map_err(|r| unreadable("each", r))?),
        };
        let many = listed.is_some();
        let items = listed.unwrap_or_else(|| vec![Value::Null]);
        let items: Vec<&Value> = items.iter().collect();
        let one =
            |item: &Value| one(lines, &View { payload: self, item: many.then_some(item), absent });
        let mut outcome = self.collect(source, &items, many, one)?;
        outcome.absent = absent.take();
        Ok(outcome)
    }

    fn collect(
        &self,
        source: &str,
        items: &[&Value],
        many: bool,
        mut one: impl FnMut(&Value) -> Result<Option<NewAlert>, Unreadable>,
    ) -> Result<ReadOutcome, Unreadable> {
        if items.len() > MAX_ALERTS {
            return Err(unreadable(
                "each",
                format!("the payload holds {} alerts; {MAX_ALERTS} are allowed", items.len()),
            ));
        }
        let (mut outcome, mut first) = (ReadOutcome::default(), None);
        for (i, item) in items.iter().enumerate() {
            let made = one(item).and_then(|new| {
                let Some(new) = new else { return Ok(None) };
                let fallback_id = if many {
                    format!("{}-{i}", self.fallback_id)
                } else {
                    self.fallback_id.to_owned()
                };
                let delivery =
                    Received { source, received: self.received, fallback_id: &fallback_id };
                new.complete(delivery).map(Some).map_err(misread)
            });
            match made {
                Ok(Some(alert)) => outcome.alerts.push(alert),
                Ok(None) => outcome.left_out += 1,
                Err(e) => {
                    let why = Unreadable { item: many.then_some(i), ..e };
                    if first.is_none() {
                        first = Some(why.clone());
                    }
                    let (reason, part) = (why.to_string(), Some(item.to_string()));
                    outcome.unreadable.push(Unread {
                        item: why.item,
                        part,
                        of_each: true,
                        ..Unread::whole(reason)
                    });
                }
            }
        }
        match first {
            Some(first) if outcome.alerts.is_empty() && outcome.left_out == 0 => Err(first),
            _ => Ok(outcome),
        }
    }
}

fn list(value: Result<Val<'_>, ExprError>) -> Result<Vec<Value>, String> {
    match value.map_err(|e| e.to_string())?.to_json() {
        Value::Array(items) => Ok(items),
        _ => Err("is not a list".into()),
    }
}

fn one(read: &Lines, view: &View<'_>) -> Result<Option<NewAlert>, Unreadable> {
    if let Some(keep) = &read.keep
        && !view.eval(keep).and_then(truth).map_err(|e| unreadable("keep", e))?
    {
        return Ok(None);
    }
    let trial = match &read.trial {
        Some(trial) => view.eval(trial).and_then(truth).map_err(|e| unreadable("trial", e))?,
        None => false,
    };
    let text = |line: &str, e: &Expr| match view.eval(e) {
        Ok(Val::Null) => Err(unreadable(line, "is null")),
        Ok(v) => Ok(v.text()),
        Err(e) => Err(unreadable(line, e)),
    };
    let maybe = |line: &str, e: &Option<Expr>| e.as_ref().map(|e| text(line, e)).transpose();
    let summary = view.optional("summary", read.summary.as_ref())?.map(|v| v.text());
    let state = match maybe("state", &read.state)? {
        None => AlertState::Raised,
        Some(word) => AlertState::parse(&word).ok_or_else(|| {
            unreadable(
                "state",
                format!("`{}` is not raised, cleared or noted", crate::text::cut(&word, 40)),
            )
        })?,
    };
    let mut labels = match view.optional("labels_of", read.labels_of.as_ref())? {
        Some(all) => {
            gathered_labels(&all.to_json()).map_err(|wrong| unreadable("labels_of", wrong))?
        }
        None => BTreeMap::new(),
    };
    for (name, expr) in &read.labels {
        match view.eval(expr) {
            Ok(Val::Null) => {}
            Ok(value) => {
                labels.insert(name.clone(), value.text());
            }
            Err(e) if e.missing => {}
            Err(e) => return Err(unreadable(&format!("labels.{name}"), e)),
        }
    }
    Ok(Some(NewAlert {
        id: maybe("id", &read.id)?,
        kind: text("kind", &read.kind)?,
        severity: severity(&read.severity, view)?,
        state,
        resource: text("resource", &read.resource)?,
        time: time(read.time.as_ref(), view)?,
        summary,
        value: value(read.value.as_ref(), view)?,
        labels,
        body: view.item.unwrap_or(view.payload.body).clone(),
        trial,
    }))
}

fn severity(read: &SeverityRead, view: &View<'_>) -> Result<Severity, Unreadable> {
    let word = |e: &Expr| view.eval(e).map(|v| v.text()).map_err(|e| unreadable("severity", e));
    match read {
        SeverityRead::Unknown => Ok(Severity::Indeterminate),
        // Where there is an `else`, a sender that says nothing means that as well.
        SeverityRead::Words { of, otherwise: Some(otherwise), words } => {
            let word = view.optional("severity", Some(of))?.map(|v| v.text());
            Ok(word.and_then(|w| words.get(&w).copied()).unwrap_or(*otherwise))
        }
        SeverityRead::Expr(e) => {
            let word = word(e)?;
            Severity::parse(&word).ok_or_else(|| {
                unreadable(
                    "severity",
                    format!("`{}` is not a severity", crate::text::cut(&word, 40)),
                )
            })
        }
        SeverityRead::Words { of, words, otherwise: None } => {
            let word = word(of)?;
            words.get(&word).copied().ok_or_else(|| {
                unreadable(
                    "severity",
                    format!(
                        "`{}` has no translation and there is no `else`",
                        crate::text::cut(&word, 40)
                    ),
                )
            })
        }
    }
}

/// What was measured. A text that begins with a number is that; whatever else is none, such as
/// `"nan"`, is nothing that was measured.
fn value(read: Option<&Expr>, view: &View<'_>) -> Result<Option<f64>, Unreadable> {
    let Some(value) = view.optional("value", read)? else { return Ok(None) };
    let number = match &value {
        Val::Str(text) => leading_number(text),
        other => other.number(),
    };
    Ok(number.filter(|n: &f64| n.is_finite()).or_else(|| view.absent("value")))
}

/// When it happened. A time that is none is not made up for by the reception: it would put the
/// alert in a wrong place.
fn time(read: Option<&TimeRead>, view: &View<'_>) -> Result<Option<DateTime<Utc>>, Unreadable> {
    let Some(read) = read else { return Ok(None) };
    let Some(value) = view.optional("time", Some(&read.of))? else { return Ok(None) };
    let time = read.time(&value, view.payload.received);
    time.map(Some).map_err(|wrong| unreadable("time", wrong))
}

/// The number that a text begins with, as of `91.5 %`.
fn leading_number(text: &str) -> Option<f64> {
    let text = text.trim();
    if let Ok(number) = text.parse() {
        return Some(number);
    }
    let is_of_number = |c: char| c.is_ascii_digit() || matches!(c, '.' | '-' | '+');
    let end = text.find(|c| !is_of_number(c)).unwrap_or(text.len());
    text[..end].parse().ok()
}

/// Labels that stand together: a map, texts such as `name=value`, or maps with a name and a value.
fn gathered_labels(value: &Value) -> Result<BTreeMap<String, String>, String> {
    let text = |value: &Value| match value {
        Value::Null => None,
        Value::String(text) => Some(text.clone()),
        other => Some(other.to_string()),
    };
    let items = match value {
        Value::Object(map) => {
            let named = map.iter().filter_map(|(name, value)| Some((name.clone(), text(value)?)));
            return Ok(named.collect());
        }
        Value::Array(items) => items,
        _ => return Err("is neither a map nor a list".into()),
    };
    let mut labels = BTreeMap::new();
    for item in items {
        let named = match item {
            Value::String(pair) => {
                let pair = pair.split_once('=').or_else(|| pair.split_once(':'));
                pair.map(|(name, value)| (name.trim().to_owned(), value.trim().to_owned()))
            }
            Value::Object(map) => {
                let name = map.get("name").or_else(|| map.get("key")).and_then(Value::as_str);
                name.zip(map.get("value").and_then(text))
                    .map(|(name, value)| (name.to_owned(), value))
            }
            _ => None,
        };
        let (name, value) = named.ok_or("is a list of what are no names with values")?;
        labels.insert(name, value);
    }
    Ok(labels)
}
