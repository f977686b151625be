//! An event of one's own: told with the record, so that none is lost or told twice.

use crate::{
    ResourcePath,
    alert::{MAX_LABEL, MAX_LABELS, MAX_SUMMARY},
    job::{
        Effect, Emitted, Place,
        execution::{Around, Execution, StepEnd},
    },
    runbook::Emit,
    text::cut,
};
use serde_json::{Value, json};
use std::collections::BTreeMap;

pub(in crate::job) fn run<'m>(
    execution: &mut Execution<'m>,
    emit: &'m Emit,
    place: &Place,
    around: &Around<'m>,
) -> StepEnd {
    let made = execution.see(around, |scope| emit.values.fill(scope)).map_err(|e| e.to_string());
    execution.started(place, 1, made.as_ref().map_or(Value::Null, Clone::clone));
    match made.and_then(|values| event(execution, emit, place, &values)) {
        Ok(event) => {
            let gave = json!({ "kind": event.kind, "resource": event.resource });
            if !execution.facts.dry {
                execution.effects.push(Effect::Emit(event));
            }
            StepEnd::Done(gave)
        }
        Err(e) => StepEnd::failed(format!("emit: {e}")),
    }
}

fn event(
    execution: &Execution<'_>,
    emit: &Emit,
    place: &Place,
    values: &Value,
) -> Result<Emitted, String> {
    let resource =
        values.get("resource").and_then(Value::as_str).unwrap_or(&execution.facts.target);
    let resource = ResourcePath::parse(resource).map_err(|e| format!("resource: {e}"))?;
    let labels: BTreeMap<String, String> = match values.get("labels") {
        Some(Value::Object(labels)) if labels.len() <= MAX_LABELS => labels
            .iter()
            .map(|(name, value)| {
                let text = value.as_str().map_or_else(|| value.to_string(), str::to_owned);
                (cut(name, MAX_LABEL).to_owned(), cut(&text, MAX_LABEL).to_owned())
            })
            .collect(),
        Some(_) => return Err(format!("labels: at most {MAX_LABELS} names and values")),
        None => BTreeMap::new(),
    };
    let say = values.get("say").and_then(Value::as_str);
    let say = say.map_or_else(
        || format!("{} {resource}", emit.kind),
        |say| cut(say, MAX_SUMMARY).to_owned(),
    );
    Ok(Emitted {
        place: place.clone(),
        id: format!("{}-{place}", execution.facts.key),
        kind: emit.kind.clone(),
        severity: emit.severity,
        state: emit.state,
        resource,
        say,
        labels,
        give: values.get("give").cloned().unwrap_or(Value::Null),
    })
}
