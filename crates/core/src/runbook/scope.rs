//! What the expressions of a running job see.

use crate::{
    Alert,
    alarm::Alarm,
    expr::{Scope, Val},
};
use serde_json::Value;
use std::{cell::Cell, rc::Rc};

/// What the expressions of a running job see.
#[derive(Debug)]
pub struct JobScope<'a> {
    /// The job's inputs.
    pub inputs: &'a Value,
    /// Outputs of the steps that can be seen from here, by their ids.
    pub steps: Vec<(&'a str, &'a Value)>,
    /// `id`, `runbook`, `target`, `failure`, `failed_step`, `state`, `effect`, `errors`.
    pub job: &'a Value,
    /// What set it off.
    pub alert: Option<&'a Alert>,
    /// The alarm of that alert as it stands.
    pub alarm: Option<&'a Alarm>,
    /// What runs before have remembered.
    pub memory: &'a Value,
    /// An event that may be the one that is waited for.
    pub event: Option<&'a Alert>,
    /// The items of the loops around, and the result that is looked at, by their names.
    pub bound: Vec<(&'a str, &'a Value)>,
    /// How many steps all that is evaluated here may take together.
    pub left: Cell<u32>,
}

impl<'a> Scope<'a> for JobScope<'a> {
    fn name(&'a self, name: &str) -> Option<Val<'a>> {
        if let Some((_, value)) = self.bound.iter().rev().find(|(n, _)| *n == name) {
            return Some(Val::json(value));
        }
        match name {
            "inputs" => Some(Val::json(self.inputs)),
            "steps" => Some(map(self.steps.iter().map(|(id, output)| (*id, Val::json(output))))),
            "job" => Some(Val::json(self.job)),
            "alert" => Some(self.alert.map_or(Val::Null, Val::Alert)),
            "memory" => Some(Val::json(self.memory)),
            "event" => self.event.map(Val::Alert),
            "alarm" => Some(self.alarm.map_or(Val::Null, alarm)),
            _ => None,
        }
    }

    fn allowance(&self) -> Option<&Cell<u32>> {
        Some(&self.left)
    }
}

fn map<'a>(fields: impl IntoIterator<Item = (&'a str, Val<'a>)>) -> Val<'a> {
    Val::Map(Rc::new(fields.into_iter().map(|(name, value)| (Val::str(name), value)).collect()))
}

/// An alarm's fields; its value only where it has one.
fn alarm(alarm: &Alarm) -> Val<'_> {
    let value = alarm.value.map(|value| ("value", Val::Double(value)));
    let fields = [
        ("state", Val::str(if alarm.raised { "raised" } else { "cleared" })),
        ("severity", Val::Severity(alarm.severity)),
        ("summary", Val::str(&alarm.summary)),
        ("count", Val::Int(alarm.count)),
        ("since", Val::Time(alarm.raised_at)),
    ];
    map(fields.into_iter().chain(value))
}
