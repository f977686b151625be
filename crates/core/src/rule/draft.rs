//! A rule to start from, made of an alert.

use crate::{Alert, document::scalar, runbook::Runbook, text::cut};
use serde_json::Value;

/// A rule to start from: it listens to what the alert says and only watches.
pub fn draft<'a>(alert: &Alert, runbooks: impl Iterator<Item = &'a Runbook>) -> String {
    let class = alert.resource.as_str().split('/').next().unwrap_or("vm");
    let name = format!("{}-{class}", alert.kind).replace(['.', '_'], "-").to_lowercase();
    let name = name.trim_start_matches('-');
    let mut lines = vec![
        format!("rule: {}", cut(name, 60)),
        format!("summary: {}", Value::from(alert.summary.as_str())),
        "stance: watch  # records what it would do; then propose, then act".into(),
        "listen:".into(),
        format!("  sources: [{}]", scalar(&alert.source)),
        format!("  kinds: [{}]", scalar(&alert.kind)),
        format!("  severity: {}..", alert.severity),
        format!("  resource: {}  # or a glob such as {class}/**", scalar(alert.resource.as_str())),
    ];
    if let Some((label, value)) = alert.labels.iter().next() {
        lines.push(format!("  # labels: {{ {}: {} }}", scalar(label), scalar(value)));
    }
    if let Some(value) = alert.value {
        lines.push(format!("  # where: alert.value >= {value}"));
    }
    lines.push("settle:".into());
    lines.push("  rest: 15m  # after a dispatch, silent for so long".into());
    lines.push("dispatch:".into());
    match runbooks.into_iter().next() {
        Some(runbook) => {
            lines.push(format!("  runbook: {}", runbook.name));
            let needed: Vec<&String> = runbook
                .inputs
                .properties()
                .keys()
                .filter(|k| runbook.inputs.is_required(k))
                .collect();
            if !needed.is_empty() {
                let inputs: Vec<String> =
                    needed.iter().map(|k| format!("{k}: \"${{alert.resource}}\"")).collect();
                lines.push(format!("  inputs: {{ {} }}", inputs.join(", ")));
            }
        }
        None => lines.push("  runbook: name-of-a-runbook".into()),
    }
    lines.join("\n") + "\n"
}
