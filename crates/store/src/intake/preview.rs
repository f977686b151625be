//! What a rule would decide about an alert at this moment, without deciding it.

use super::{alarms, rule_state};
use crate::StoreError;
use arvok_core::{
    Alert, AlertState, Verdict,
    guard::Guards,
    mute::{self, Mute},
    rule::{Placed, Rule, Stance},
    settle::{AlarmTransition, Effect, Event, Machine, Matched, Suspension},
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
    let muting = |_: &str, _, now: DateTime<Utc>| {
        let mute = mute::longest(mutes, rule, Some(alert), now).map(Suspension::Mute);
        let freeze = Some(guards)
            .filter(|_| acts)
            .and_then(|guards| guards.freeze_of(rule, alert.resource.as_str(), now))
            .map(Suspension::Freeze);
        [mute, freeze].into_iter().flatten().max_by_key(Suspension::until)
    };
    let machine = Machine::new(rule, rule.stance, &mut memory, &mut number).suspended_by(&muting);
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
