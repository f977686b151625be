//! Putting an explanation together: what the core says of the clauses, what the store knows of
//! the verdicts, and what would be dispatched.

use crate::{clock, node::Node, problem::ApiError};
use arvok_api::{AlertWhy, ClauseItem, DispatchGuess, SawItem, VerdictGuess, VerdictItem, Why};
use arvok_core::{
    Alert,
    matcher::{Clause, explain as clauses_of, near, shortfall},
    rule::{Rule, TallyView},
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
    explanation(
        node,
        (rule, version),
        alert,
        verdicts.as_ref().map(|(seq, v)| (*seq, v.as_slice())),
    )
    .await
}

/// What the rules decided about an alert.
async fn verdicts(node: &Node, seq: i64) -> Result<Vec<VerdictItem>, ApiError> {
    Ok(read::alert(&node.pools.questions, seq)
        .await?
        .map_or_else(Vec::new, |detail| detail.verdicts))
}

/// The explanation, with the verdicts that were given about the alert of that number.
async fn explanation(
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
        error: c.error,
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
async fn given_verdict(
    node: &Node,
    why: &mut Why,
    seq: i64,
    verdicts: &[VerdictItem],
) -> Result<(), ApiError> {
    let given = verdicts.iter().find(|v| v.rule == why.rule).cloned();
    let Some(given) = given else {
        if why.matches {
            why.notes.push(
                "it matches now, but the rule decided nothing when the alert came: it \
                was published later, or changed since"
                    .into(),
            );
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
        why.notes.push(format!(
            "decided by version {}; the clauses are those of the published one",
            given.rule_version
        ));
    }
    why.story = read::tally_story(&node.pools.questions, &why.rule, &given.tally, seq).await?;
    why.tally = Some(given.tally);
    why.verdict = Some(VerdictGuess {
        given: true,
        verdict: given.verdict,
        reason: given.reason,
        job: given.job,
    });
    Ok(())
}

/// What would be decided if the alert came at this moment.
async fn foresee(node: &Node, why: &mut Why, rule: &Rule, alert: &Alert) -> Result<(), ApiError> {
    let now = clock::now();
    let published = node.published();
    let proposing = published.proposing.get(&rule.name).map(String::as_str);
    let held = (published.mutes.as_slice(), &published.guards, proposing);
    let (verdict, reason) = intake::preview(&node.pools.questions, rule, alert, held, now).await?;
    why.verdict = Some(VerdictGuess { given: false, verdict, reason, job: None });
    if let (Some(tally), Some(_)) = (&why.tally, why.version) {
        why.story = read::tally_story(&node.pools.questions, &why.rule, tally, i64::MAX).await?;
    }
    Ok(())
}

/// What each entry of `dispatch` would make of the alert.
fn dispatches(node: &Node, rule: &Rule, alert: &Alert) -> Vec<DispatchGuess> {
    let published = node.published();
    let view = TallyView { alerts: 1, since: alert.received, jobs: 0, gathered: vec![alert] };
    let guess = |entry: &arvok_core::rule::Dispatch| {
        let applies = entry.applies(alert) == Ok(true);
        let (inputs, target, error) = match entry.prepared(&*published.catalog, alert, &view) {
            Ok(p) => (Some(Value::Object(p.inputs)), Some(p.target.to_string()), None),
            Err(error) => (None, None, Some(error.to_string())),
        };
        DispatchGuess { runbook: entry.runbook.clone(), applies, inputs, target, error }
    };
    rule.dispatch.iter().map(guess).collect()
}

/// What every rule makes of an alert.
pub(crate) async fn all(node: &Node, alert: Alert, seq: i64) -> Result<AlertWhy, ApiError> {
    let published = node.published();
    let hits = published.matcher.matching(&alert);
    let matching =
        hits.into_iter().filter(|h| h.broken.is_none()).map(|h| (Arc::clone(h.rule), h.version));
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
            explanation(node, (&rule, Some(version)), &alert, Some((seq, &verdicts))).await?
        } else {
            bare(&rule, Some(version), clauses_of(&rule, &alert))
        });
    }
    Ok(answer)
}
