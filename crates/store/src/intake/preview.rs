//! What a rule would decide about an alert at this moment, without deciding it.

use super::{alarms, rule_state, suspensions::longest};
use crate::{StoreError, touches};
use arvok_core::{
    Alert, AlertState, Verdict,
    guard::Guards,
    mute::Mute,
    rule::{Placed, Rule, Stance},
    settle::{AlarmTransition, Effect, Event, Machine, Matched},
    touch::covering,
};
use chrono::{DateTime, Utc};
use sea_orm::DatabaseConnection;

/// The verdict and its reason.
pub async fn preview(
    db: &DatabaseConnection,
    rule: &Rule,
    alert: &Alert,
    (mutes, guards, proposing): (&[Mute], &Guards, Option<&str>),
    now: DateTime<Utc>,
) -> Result<(Verdict, String), StoreError> {
    let Placed { keys, entries } = match rule.place(alert) {
        Ok(placed) => placed,
        Err(e) => return Ok((Verdict::Broken, e.to_string())),
    };
    let mut memory = rule_state::peek(db, &rule.name, &keys).await?;
    let (alarm, anew) = alarms::standing(db, alert).await?;
    let standing = match alert.state {
        AlertState::Raised => AlarmTransition::Raised { alarm, anew },
        _ => AlarmTransition::None,
    };
    let matched = Matched {
        alert: None,
        keys: &keys,
        happened: alert.happened().min(now),
        severity: alert.severity,
        standing,
        entries,
        cause: None,
    };
    let mut number = || None;
    let acts = rule.stance == Stance::Act && proposing.is_none();
    let touches = match rule.settle.untouched {
        None => None,
        Some(_) => Some(touches::latest(db, covering(alert.resource.as_str())).await?),
    };
    let guards = Some(guards).filter(|_| acts);
    let suspending = |_: &str, _, now: DateTime<Utc>| {
        longest((rule, Some(alert)), mutes, guards, touches.as_ref(), now)
    };
    let machine =
        Machine::new(rule, rule.stance, &mut memory, &mut number).suspended_by(&suspending);
    let machine = match proposing {
        Some(why) => machine.proposing(why),
        None => machine,
    };
    let effects = machine.handle(now, Event::Matched(matched));
    let own = effects.into_iter().rev().find_map(|e| match e {
        Effect::Verdict { alert: None, verdict, reason, .. } => Some((verdict, reason.to_string())),
        _ => None,
    });
    Ok(own.unwrap_or_else(|| (Verdict::Broken, "nothing was decided".to_owned())))
}
