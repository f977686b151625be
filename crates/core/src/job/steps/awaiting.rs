//! An event that is waited for: over when one comes for which the condition holds, or its time is
//! over.

use crate::{
    Alert,
    expr::Template,
    glob::Glob,
    job::{
        Doing, Effect, EventSelector, EventWait, Open, Place, StepEvent,
        execution::{Around, Execution, StepEnd},
        sample,
    },
    runbook::{Await, JobScope, Since},
};
use serde_json::{Value, json};

pub(in crate::job) fn begin<'m>(
    execution: &mut Execution<'m>,
    event: &'m Await,
    place: &Place,
    open: &mut Open,
    around: &Around<'m>,
) -> Option<StepEnd> {
    let chosen = execution.see(around, |scope| chosen(event, scope));
    execution.started(
        place,
        1,
        chosen.as_ref().map_or(Value::Null, |chosen| json!({ "await": chosen })),
    );
    let chosen = match chosen.and_then(|c| c.diagnostic().map_or(Ok(c), Err)) {
        Ok(chosen) => chosen,
        Err(e) => return Some(StepEnd::failed(format!("await: {e}"))),
    };
    if execution.facts.dry {
        return Some(StepEnd::Done(sample::event(execution.runbook, place, &chosen)));
    }
    let since = match event.since {
        Since::Step => execution.now,
        Since::Job => execution.facts.created,
    };
    execution.effects.push(Effect::Listen(EventWait {
        place: place.clone(),
        chosen: chosen.clone(),
        since,
    }));
    open.doing =
        Doing::Awaiting { until: execution.now + open.within(&event.within).delta(), chosen };
    None
}

fn chosen(event: &Await, scope: &JobScope<'_>) -> Result<EventSelector, String> {
    let texts = |key: &str, template: &Template| -> Result<Vec<String>, String> {
        let one = |value: Value| match value {
            Value::String(text) => Ok(text),
            Value::Number(n) => Ok(n.to_string()),
            other => Err(format!("{key}: `{other}` is not a text")),
        };
        match template.fill(scope).map_err(|e| format!("{key}: {e}"))? {
            Value::Array(all) if !all.is_empty() => all.into_iter().map(one).collect(),
            Value::Array(_) => Err(format!("{key}: the list is empty: nothing could ever come")),
            other => Ok(vec![one(other)?]),
        }
    };
    let line =
        |key: &str, of: &Option<Template>| of.as_ref().map_or(Ok(Vec::new()), |t| texts(key, t));
    let labels = event.labels.iter().map(|(name, t)| Ok((name.clone(), texts(name, t)?)));
    let mut chosen = EventSelector {
        sources: line("sources", &event.sources)?,
        kinds: line("kinds", &event.kinds)?,
        resource: line("resource", &event.resource)?,
        states: event.states.clone(),
        labels: labels.collect::<Result<_, String>>()?,
    };
    for (field, value) in event.condition.iter().flat_map(|c| c.equalities("event", scope)) {
        narrow(&mut chosen, &field, value);
    }
    Ok(chosen)
}

/// Takes in what the condition asks of a field, if no line does: so that only alerts are looked at
/// that may be the one.
fn narrow(chosen: &mut EventSelector, field: &str, value: Value) {
    let texts = match value {
        Value::String(text) => vec![text],
        Value::Array(all) => {
            match all.into_iter().map(|v| v.as_str().map(str::to_owned)).collect::<Option<Vec<_>>>()
            {
                Some(texts) if !texts.is_empty() && texts.len() <= MOST_TEXTS => texts,
                _ => return,
            }
        }
        _ => return,
    };
    // A text that would be taken for a pattern is left to the condition.
    if texts.iter().any(|text| Glob::parse(text).ok().is_none_or(|glob| glob.exact().is_none())) {
        return;
    }
    let line = match field.strip_prefix("labels.") {
        Some(label) => chosen.labels.entry(label.to_owned()).or_default(),
        None => match field {
            "source" => &mut chosen.sources,
            "kind" => &mut chosen.kinds,
            "resource" => &mut chosen.resource,
            _ => return,
        },
    };
    if line.is_empty() {
        *line = texts;
    }
}

/// Most texts of a list that is taken over from a condition.
const MOST_TEXTS: usize = 50;

pub(in crate::job) fn go_on<'m>(
    execution: &mut Execution<'m>,
    event: &'m Await,
    place: &Place,
    open: &Open,
    around: &Around<'m>,
) -> Option<StepEnd> {
    let Doing::Awaiting { until, chosen } = &open.doing else { return Some(StepEnd::Halted) };
    let came = match execution.news_of(place, open.attempt) {
        Some(StepEvent::Heard(alerts)) => alerts,
        _ => Vec::new(),
    };
    let is_it = |alert: &&Alert| {
        let in_time = alert.received <= *until || execution.now < *until;
        let holds = |c| {
            execution
                .see_event(around, alert, |scope| crate::expr::Expr::holds(c, scope) == Ok(true))
        };
        in_time && chosen.matches(alert) && event.condition.as_ref().is_none_or(holds)
    };
    let end = match came.iter().find(is_it) {
        Some(alert) => StepEnd::Done(serde_json::to_value(alert).unwrap_or(Value::Null)),
        None if around.halt => StepEnd::Halted,
        // The time is judged when all that came in it was read.
        None if execution.now < *until || execution.paused || execution.unread => return None,
        None => StepEnd::failed(match &event.otherwise {
            Some(text) => execution
                .see(around, |scope| text.fill_text(scope).unwrap_or_else(|e| e.to_string())),
            None => format!("no such event came within {}", open.within(&event.within)),
        }),
    };
    execution.effects.push(Effect::Withdraw(place.clone()));
    Some(end)
}
