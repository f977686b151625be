//! Sources with a schedule: a message at each of their times goes the one way in.

use super::{Handled, message::take};
use crate::{
    clock,
    node::{Node, Published},
    self_monitoring,
};
use arvok_core::{
    schedule::{Occurrence, Schedule},
    source::{Intake, Source, schedule_message},
};
use arvok_store::timers::{Timer, WantedTimer};
use chrono::{DateTime, SecondsFormat, Utc};

/// The next time of each source that has a schedule.
pub(super) fn wanted(published: &Published, now: DateTime<Utc>) -> Vec<WantedTimer> {
    let timer = |(source, _): (&Source, i32)| {
        let schedule = schedule(source)?;
        let due = schedule.next(now)?;
        Some(WantedTimer { key: source.name.clone(), spec: schedule.fingerprint(), due })
    };
    published.catalog.all::<Source>().filter_map(timer).collect()
}

fn schedule(source: &Source) -> Option<&Schedule> {
    if let Intake::Schedule(schedule) = &source.intake { Some(schedule) } else { None }
}

/// Sends the message of a time that has come. Its id is made of that time, so that it is taken once
/// however often it is sent.
pub(super) async fn handle(node: &Node, timer: &Timer) -> Result<Handled, String> {
    let published = node.published();
    let source = published.catalog.get::<Source>(&timer.key).map(|(source, _)| source);
    let known = source.and_then(|source| Some((source, schedule(source)?)));
    let Some((source, schedule)) = known.filter(|(_, s)| s.fingerprint() == timer.spec) else {
        return Ok(Handled::Unwanted);
    };
    // By the database's clock it has come.
    let now = clock::now().max(timer.due);
    let occurrence = schedule.occurrence(timer.due, now).ok_or("has no further time")?;
    if occurrence.sends {
        send(node, &published, (source, schedule), &occurrence).await?;
    } else {
        tell_missed(node, source, &occurrence).await?;
    }
    Ok(Handled::GoesOn(occurrence.next))
}

async fn send(
    node: &Node,
    published: &Published,
    (source, schedule): (&Source, &Schedule),
    occurrence: &Occurrence,
) -> Result<(), String> {
    let raw = schedule_message(schedule, &source.name, occurrence).to_string();
    let key = occurrence.due.to_rfc3339_opts(SecondsFormat::Secs, true);
    take(node, (published, source), raw.as_bytes(), key).await
}

async fn tell_missed(node: &Node, source: &Source, occurrence: &Occurrence) -> Result<(), String> {
    let due = occurrence.due.to_rfc3339_opts(SecondsFormat::Secs, true);
    let times = if occurrence.missed == 1 { "time" } else { "times" };
    let summary = format!(
        "{} {times} of source {} passed while no node ran, the last at {due}, and are not made up \
        for",
        occurrence.missed, source.name
    );
    self_monitoring::note(
        node,
        "schedule.missed",
        &format!("source/{}", source.name),
        &due,
        &summary,
    )
    .await
    .map_err(|_| "that a time was missed cannot be recorded at the moment".into())
}
