//! Putting an explanation together: what the core says of the clauses, what the store knows of
//! the verdicts, and what would be dispatched. Also the texts that are made from an alert.

use crate::{clock, node::Node, problem::ApiError};
use arvok_api::{AlertWhy, ClauseItem, DispatchGuess, SawItem, VerdictGuess, VerdictItem, Why};
use arvok_core::{
    Alert,
    matcher::{Clause, explain as clauses_of, near, shortfall},
    rule::{ExampleDoc, Rule, TallyView},
    runbook::Runbook,
};
use arvok_store::{intake, read};
use serde_json::Value;
use std::sync::Arc;

/// Most rules that nearly match.
const NEAR: usize = 20;
/// Most matching rules whose verdicts and dispatches are told; of the others only that they match.
const TOLD: usize = 100;

/// Why a rule matches an alert or not, and what it decided or would decide.
pub(crate) async fn explain(
    node: &Node,
    rule: &Rule,
    version: Option<i32>,
    alert: &Alert,
    seq: Option<i64>,
) -> Result<Why, ApiError> {
    let verdicts = match (seq, version) {
        (Some(seq), Some(_)) => Some((seq, verdicts(node, seq).await?)),
        _ => None,
    };
    told(node, (rule, version), alert, verdicts.as_ref().map(|(seq, v)| (*seq, v.as_slice()))).await
}

/// What the rules decided about an alert.
async fn verdicts(node: &Node, seq: i64) -> Result<Vec<VerdictItem>, ApiError> {
    Ok(read::alert(&node.db, seq).await?.map_or_else(Vec::new, |detail| detail.verdicts))
}

/// The explanation, with the verdicts that were given about the alert of that number.
async fn told(
    node: &Node,
    (rule, version): (&Rule, Option<i32>),
    alert: &Alert,
    verdicts: Option<(i64, &[VerdictItem])>,
) -> Result<Why, ApiError> {
    let mut why = bare(rule, version, clauses_of(rule, alert));
    why.tally = rule.keys(alert).ok().map(|k| k.tally).filter(|_| why.matches);
    if let Some((seq, verdicts)) = verdicts {
        given_verdict(node, &mut why, seq, verdicts).await?;
    }
    if why.matches {
        why.dispatches = dispatches(node, rule, alert);
        if why.verdict.is_none() {
            foresee(node, &mut why, rule, alert).await?;
        }
    }
    Ok(why)
}

fn bare(rule: &Rule, version: Option<i32>, clauses: Vec<Clause>) -> Why {
    let short = shortfall(&clauses);
    let item = |c: Clause| ClauseItem {
        line: c.line.to_owned(),
        text: c.text,
        holds: c.holds,
        wrong: c.wrong,
        saw: c.saw.into_iter().map(|(field, value)| SawItem { field, value }).collect(),
    };
    Why {
        rule: rule.name.clone(),
        version,
        stance: rule.stance,
        matches: short == 0,
        short,
        clauses: clauses.into_iter().map(item).collect(),
        tally: None,
        verdict: None,
        story: Vec::new(),
        dispatches: Vec::new(),
        notes: Vec::new(),
    }
}

/// The verdict that was really given, and how the tally came to it.
async fn given_verdict(node: &Node, why: &mut Why, seq: i64, verdicts: &[VerdictItem]) -> Result<(), ApiError> {
    let given = verdicts.iter().find(|v| v.rule == why.rule).cloned();
    let Some(given) = given else {
        if why.matches {
            why.notes.push("it matches now, but the rule decided nothing when the alert came: it was published later, or changed since".into());
        }
        return Ok(());
    };
    if !why.matches {
        let note = format!(
            "version {} of the rule matched when the alert came; the published one does not",
            given.rule_version
        );
        why.notes.push(note);
    } else if Some(given.rule_version) != why.version {
        why.notes
            .push(format!("decided by version {}; the clauses are those of the published one", given.rule_version));
    }
    why.story = read::tally_story(&node.db, &why.rule, &given.tally, seq).await?;
    why.tally = Some(given.tally);
    why.verdict = Some(VerdictGuess { given: true, verdict: given.verdict, reason: given.reason, job: given.job });
    Ok(())
}

/// What would be decided if the alert came at this moment.
async fn foresee(node: &Node, why: &mut Why, rule: &Rule, alert: &Alert) -> Result<(), ApiError> {
    let now = clock::now();
    let (verdict, reason) = intake::preview(&node.db, rule, alert, now).await?;
    why.verdict = Some(VerdictGuess { given: false, verdict, reason, job: None });
    if let (Some(tally), Some(_)) = (&why.tally, why.version) {
        why.story = read::tally_story(&node.db, &why.rule, tally, i64::MAX).await?;
    }
    Ok(())
}

/// What each entry of `dispatch` would make of the alert.
fn dispatches(node: &Node, rule: &Rule, alert: &Alert) -> Vec<DispatchGuess> {
    let published = node.published();
    let view = TallyView { alerts: 1, since: alert.received, jobs: 0, gathered: vec![alert] };
    let guess = |entry: &arvok_core::rule::Dispatch| {
        let applies = entry.applies(alert);
        let (inputs, target, wrong) = match entry.prepared(&*published.catalog, alert, &view) {
            Ok(p) => (Some(Value::Object(p.inputs)), Some(p.target.to_string()), None),
            Err(wrong) => (None, None, Some(wrong)),
        };
        DispatchGuess { runbook: entry.runbook.clone(), applies, inputs, target, wrong }
    };
    rule.dispatch.iter().map(guess).collect()
}

/// What every rule makes of an alert.
pub(crate) async fn all(node: &Node, alert: Alert, seq: i64) -> Result<AlertWhy, ApiError> {
    let published = node.published();
    let hits = published.matcher.matching(&alert);
    let matching = hits.into_iter().filter(|h| h.broken.is_none()).map(|h| (Arc::clone(h.rule), h.version));
    let matching: Vec<(Arc<Rule>, i32)> = matching.collect();
    let all = published.matcher.rules();
    let mut near: Vec<(usize, Why)> = all
        .filter_map(|(rule, version)| {
            let clauses = near(rule, &alert)?;
            Some((clauses.len(), bare(rule, Some(version), clauses)))
        })
        .collect();
    near.sort_by(|a, b| (b.0, &a.1.rule).cmp(&(a.0, &b.1.rule)));
    let near: Vec<Why> = near.into_iter().take(NEAR).map(|(_, why)| why).collect();
    let asked = published.matcher.rules().count();
    let mut answer = AlertWhy { matching: Vec::new(), near, asked };
    let verdicts = verdicts(node, seq).await?;
    for (i, (rule, version)) in matching.into_iter().enumerate() {
        answer.matching.push(if i < TOLD {
            told(node, (&rule, Some(version)), &alert, Some((seq, &verdicts))).await?
        } else {
            bare(&rule, Some(version), clauses_of(&rule, &alert))
        });
    }
    Ok(answer)
}

/// An example as it is written in a rule's file.
pub(crate) fn yaml(rule: &Rule, example: &ExampleDoc) -> String {
    let mut lines = vec![format!("# For rule {}, played as if it acted.", rule.name), "examples:".to_owned()];
    lines.push("  - given:".into());
    lines.extend(
        example.given.iter().map(|g| format!("      - {}", flow(&serde_json::to_value(g).unwrap_or_default()))),
    );
    if !example.of.is_empty() {
        lines.push(format!("    of: {}", flow(&Value::Object(example.of.clone()))));
    }
    if example.expect.is_empty() {
        lines.push("    expect: []".into());
    } else {
        lines.push("    expect:".into());
        lines.extend(
            example.expect.iter().map(|e| format!("      - {}", flow(&serde_json::to_value(e).unwrap_or_default()))),
        );
    }
    lines.join("\n") + "\n"
}

/// A value on one line, as people write YAML: names without quotes where that is safe.
fn flow(value: &Value) -> String {
    match value {
        Value::Object(map) if map.is_empty() => "{}".into(),
        Value::Object(map) => {
            let fields: Vec<String> = map.iter().map(|(k, v)| format!("{}: {}", word(k), flow(v))).collect();
            format!("{{ {} }}", fields.join(", "))
        }
        Value::Array(items) => format!("[{}]", items.iter().map(flow).collect::<Vec<_>>().join(", ")),
        Value::String(text) => word(text),
        other => other.to_string(),
    }
}

/// A string, quoted unless it can be taken for nothing else.
pub(crate) fn word(text: &str) -> String {
    let plain = |c: char| c.is_ascii_alphanumeric() || matches!(c, '-' | '_' | '.' | '/');
    let first = text.chars().next().is_some_and(|c| c.is_ascii_alphabetic());
    let taken = ["true", "false", "null", "yes", "no", "on", "off"].contains(&text.to_lowercase().as_str());
    // Lengths of time are read as strings however they are written.
    let period = arvok_core::Period::parse(text).is_ok();
    if (first && !taken && text.chars().all(plain)) || period { text.to_owned() } else { Value::from(text).to_string() }
}

/// A rule to start from: it listens to what the alert says and only watches.
pub(crate) fn draft<'a>(alert: &Alert, runbooks: impl Iterator<Item = &'a Runbook>) -> String {
    let class = alert.resource.as_str().split('/').next().unwrap_or("vm");
    let name: String = format!("{}-{class}", alert.kind).replace(['.', '_'], "-").to_lowercase();
    let mut lines = vec![
        format!("rule: {}", arvok_core::text::cut(&name, 60)),
        format!("summary: {}", Value::from(alert.summary.as_str())),
        "stance: watch  # records what it would do; then propose, then act".into(),
        "listen:".into(),
        format!("  sources: [{}]", word(&alert.source)),
        format!("  kinds: [{}]", word(&alert.kind)),
        format!("  severity: {}..", alert.severity),
        format!("  resource: {}  # or a glob such as {class}/**", word(alert.resource.as_str())),
    ];
    if let Some((label, value)) = alert.labels.iter().next() {
        lines.push(format!("  # labels: {{ {}: {} }}", word(label), word(value)));
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
            let needed: Vec<&String> =
                runbook.inputs.properties().keys().filter(|k| runbook.inputs.is_required(k)).collect();
            if !needed.is_empty() {
                let inputs: Vec<String> = needed.iter().map(|k| format!("{k}: \"${{alert.resource}}\"")).collect();
                lines.push(format!("  inputs: {{ {} }}", inputs.join(", ")));
            }
        }
        None => lines.push("  runbook: name-of-a-runbook".into()),
    }
    lines.join("\n") + "\n"
}
