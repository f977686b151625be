//! Plans: a run is launched at each of their times, unless it was skipped or the run before is not
//! over.

use super::Handled;
use crate::{
    clock,
    node::{Node, Published},
    plan_runs::PlanRun,
    self_monitoring,
};
use arvok_core::{
    Kind, Principal,
    calendar::NamedCalendar,
    plan::{self, DueRun, Omission, Plan, Times},
};
use arvok_store::{
    plans::{self, OmittedRun, RunLaunched, RunOmitted},
    timers::{Timer, WantedTimer},
};
use chrono::{DateTime, SecondsFormat, TimeZone, Utc};
use serde_json::{Map, Value};
use std::sync::Arc;
use tokio::task::spawn_blocking;

/// The year in which a plan is due that has no further time.
const NEVER: i32 = 9999;
/// Why a time is handled again.
const UNRECORDED: &str = "the records cannot be written at the moment";

/// The next time of each plan that has one. One time alone is not due again once it has passed when
/// the plan is published.
pub(super) fn wanted(published: &Published, now: DateTime<Utc>) -> Vec<WantedTimer> {
    let timer = |(plan, _): (&Plan, i32)| {
        let times = plan.at.as_ref()?;
        let stamp = published.stamps.get(&(Kind::Plan, plan.name.clone()));
        let due = match (times.once(), stamp) {
            (Some(once), Some(stamp)) if once > stamp.at => once,
            (Some(_), _) => return None,
            (None, _) => times.next(&*published.catalog, now)?,
        };
        Some(WantedTimer { key: plan.name.clone(), spec: fingerprint(published, times), due })
    };
    published.catalog.all::<Plan>().filter_map(timer).collect()
}

fn fingerprint(published: &Published, times: &Times) -> String {
    let calendar = times.calendar();
    let calendar = calendar.and_then(|name| published.catalog.get::<NamedCalendar>(name));
    let stands = calendar.map_or_else(String::new, |(named, version)| match named.read_at {
        Some(at) => format!("{version} {}", at.timestamp_micros()),
        None => version.to_string(),
    });
    times.fingerprint(&stands)
}

/// Launches the run for a time that has come. It has a key that is made of that time, so that it is
/// launched once however often that is done.
pub(super) async fn handle(node: &Node, timer: &Timer) -> Result<Handled, String> {
    let published = node.published();
    // By the database's clock it has come.
    let now = clock::now().max(timer.due);
    let (of, waited) = (Arc::clone(&published), timer.clone());
    // Calendars, and what authors wrote, are worked out where nobody waits.
    let found = spawn_blocking(move || {
        let (plan, _) = of.catalog.get::<Plan>(&waited.key)?;
        let times = plan.at.as_ref().filter(|times| fingerprint(&of, times) == waited.spec)?;
        let due = times.due(&*of.catalog, waited.due, now)?;
        let inputs = plan.inputs(&*of.catalog, &of.mutes, (Some(due.due), now));
        Some((due, inputs))
    });
    let found = found.await.map_err(|_| "the next time cannot be worked out".to_owned())?;
    let plan = published.catalog.get::<Plan>(&timer.key);
    let Some(((due, inputs), (plan, version))) = found.zip(plan) else {
        return Ok(Handled::Unwanted);
    };
    if due.missed > 0 {
        missed(node, plan, timer.due, &due).await?;
    }
    match inputs {
        _ if !due.runs => {}
        Ok(inputs) => run(node, (plan, version), inputs, due.due, now).await?,
        Err(none) => tell(node, plan, (due.due, none.omission()), &none.to_string()).await?,
    }
    Ok(Handled::GoesOn(due.next.unwrap_or_else(never)))
}

/// Tells of times that passed. The first may have its run, if whoever launched it died then.
async fn missed(
    node: &Node,
    plan: &Plan,
    first: DateTime<Utc>,
    due: &DueRun,
) -> Result<(), String> {
    let ran = plans::run_for(&node.pools.work, &plan.name, first).await.map_err(|_| UNRECORDED)?;
    let count = due.missed - u32::from(ran.is_some());
    if count == 0 {
        return Ok(());
    }
    let times = if count == 1 { "time" } else { "times" };
    let made_up = if due.runs { "one run makes up for them" } else { "not made up for" };
    let reason = format!("{count} {times} passed while no node ran, {made_up}");
    // Where the last of them is made up for, it has a run of its own.
    let at = if due.runs { first } else { due.due };
    tell(node, plan, (at, Omission::Missed), &reason).await
}

async fn run(
    node: &Node,
    (plan, version): (&Plan, i32),
    inputs: Map<String, Value>,
    due: DateTime<Utc>,
    now: DateTime<Utc>,
) -> Result<(), String> {
    let run = PlanRun {
        plan,
        version,
        due: Some(due),
        inputs,
        deadline: Some(now + plan.begin_within.delta()),
        by: &Principal::plan(&plan.name),
        key: Some(&plans::key_of(due)),
        reason: format!("plan {}, due at {}", plan.name, text(due)),
        trace: None,
    };
    match run.launch(node, now).await.map_err(|_| UNRECORDED)? {
        Ok(RunLaunched::UnderWay(job)) => {
            let reason = format!("the run before is not over: job {job}");
            tell(node, plan, (due, Omission::Overlapped), &reason).await
        }
        Ok(_) => Ok(()),
        Err(wrong) => tell(node, plan, (due, Omission::Refused), &wrong.to_string()).await,
    }
}

fn never() -> DateTime<Utc> {
    Utc.with_ymd_and_hms(NEVER, 1, 1, 0, 0, 0).single().unwrap_or(DateTime::<Utc>::MAX_UTC)
}

/// Writes down that a plan does not run at a time, and tells of it.
async fn tell(
    node: &Node,
    plan: &Plan,
    (due, why): (DateTime<Utc>, Omission),
    reason: &str,
) -> Result<(), String> {
    let by = Principal::plan(&plan.name);
    let omitted = OmittedRun { plan: &plan.name, due, why, reason, by: &by };
    match plans::omit(&node.pools.work, &omitted).await.map_err(|_| UNRECORDED)? {
        // Somebody has said so before, or it has a run all the same.
        RunOmitted::Known(other) if other != why => return Ok(()),
        RunOmitted::Ran(_) if why != Omission::Missed => return Ok(()),
        _ => {}
    }
    let summary = format!("plan {} did not run for {}: {reason}", plan.name, text(due));
    let resource = plan::job_name(&plan.name);
    self_monitoring::note(node, &format!("plan.{why}"), &resource, &text(due), &summary)
        .await
        .map_err(|_| UNRECORDED.into())
}

fn text(at: DateTime<Utc>) -> String {
    at.to_rfc3339_opts(SecondsFormat::Secs, true)
}
