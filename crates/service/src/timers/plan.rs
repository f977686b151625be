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
    plans::{self, OmittedRun, RunLaunched},
    timers::{Timer, WantedTimer},
};
use chrono::{DateTime, SecondsFormat, TimeZone, Utc};

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
    times.fingerprint(calendar.map_or(0, |(_, version)| version))
}

/// Launches the run for a time that has come. It has a key that is made of that time, so that it is
/// launched once however often that is done.
pub(super) async fn handle(node: &Node, timer: &Timer) -> Result<Handled, String> {
    let published = node.published();
    let found = published.catalog.get::<Plan>(&timer.key);
    let known = found.and_then(|(plan, version)| Some((plan, version, plan.at.as_ref()?)));
    let known = known.filter(|(_, _, times)| fingerprint(&published, times) == timer.spec);
    let Some((plan, version, times)) = known else { return Ok(Handled::Unwanted) };
    // By the database's clock it has come.
    let now = clock::now().max(timer.due);
    let Some(due) = times.due(&*published.catalog, timer.due, now) else {
        return Ok(Handled::GoesOn(timer.due));
    };
    if due.missed > 0 {
        missed(node, plan, timer.due, &due).await?;
    }
    if due.runs {
        run(node, &published, (plan, version), due.due, now).await?;
    }
    Ok(Handled::GoesOn(due.next.unwrap_or_else(never)))
}

async fn missed(
    node: &Node,
    plan: &Plan,
    first: DateTime<Utc>,
    due: &DueRun,
) -> Result<(), String> {
    let times = if due.missed == 1 { "time" } else { "times" };
    let made_up = if due.runs { "one run makes up for them" } else { "not made up for" };
    let reason = format!("{} {times} passed while no node ran, {made_up}", due.missed);
    // Where the last of them is made up for, it has a run of its own.
    let at = if due.runs { first } else { due.due };
    tell(node, plan, (at, Omission::Missed), &reason).await
}

async fn run(
    node: &Node,
    published: &Published,
    (plan, version): (&Plan, i32),
    due: DateTime<Utc>,
    now: DateTime<Utc>,
) -> Result<(), String> {
    let inputs = match plan.inputs(&*published.catalog, &published.mutes, (Some(due), now)) {
        Ok(inputs) => inputs,
        Err(none) => return tell(node, plan, (due, none.omission()), &none.to_string()).await,
    };
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
    plans::omit(&node.pools.work, &omitted).await.map_err(|_| UNRECORDED)?;
    let summary = format!("plan {} did not run for {}: {reason}", plan.name, text(due));
    let resource = plan::job_name(&plan.name);
    self_monitoring::note(node, &format!("plan.{why}"), &resource, &text(due), &summary)
        .await
        .map_err(|_| UNRECORDED.into())
}

fn text(at: DateTime<Utc>) -> String {
    at.to_rfc3339_opts(SecondsFormat::Secs, true)
}
