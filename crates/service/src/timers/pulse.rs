//! Connections by which somebody outside hears that Arvok does its work. One node calls at each
//! time; a node that is not ready does not, and leaves it to another.

use super::{
    Handled,
    asking::{self, AskedOperation},
};
use crate::{
    api::fault,
    clock,
    node::{Node, Published},
    own_alarms,
};
use arvok_core::connector::{Connection, Pulse};
use arvok_store::timers::{Timer, WantedTimer};
use chrono::{DateTime, Utc};
use std::sync::Arc;
use tokio::task::spawn_blocking;

/// Each at once, when it is new or what it is called through has changed.
pub(super) fn wanted(published: &Published, now: DateTime<Utc>) -> Vec<WantedTimer> {
    let timer = |(connection, _): (&Connection, i32)| {
        connection.pulse.as_ref()?;
        let spec = asking::versions(published, &connection.name);
        Some(WantedTimer { key: connection.name.clone(), spec, due: now })
    };
    published.catalog.all::<Connection>().filter_map(timer).collect()
}

/// Whether this node does its work, so that it may say so.
pub(super) fn is_ready(node: &Node) -> bool {
    node.vitals.fault().or_else(|| fault(node)).is_none()
}

/// Calls once, unless something stands in the way.
pub(super) async fn handle(node: &Node, timer: &Timer) -> Result<Handled, String> {
    let published = node.published();
    let found = published.catalog.get::<Connection>(&timer.key);
    let pulse = found.and_then(|(connection, _)| connection.pulse.clone());
    let pulse = pulse.filter(|_| asking::versions(&published, &timer.key) == timer.spec);
    let Some(pulse) = pulse.map(Arc::new) else { return Ok(Handled::Unwanted) };
    let next = next(&pulse, timer.due, clock::now());
    let alarms = own_alarms::shown(&node.pools.work).await;
    let alarms = alarms.map_err(|_| "the records cannot be read at the moment")?;
    if let Some(first) = pulse.held_by(&alarms).first() {
        tracing::info!(connection = timer.key, "no pulse is sent: {}", first.summary);
        return Ok(Handled::GoesOn(next));
    }
    let (of, name) = (Arc::clone(&pulse), node.name.clone());
    let given = spawn_blocking(move || of.give(&name, &alarms)).await;
    let given = given.map_err(|_| "to work out what is given ended unexpectedly")?;
    let given = given.map_err(|e| format!("`give`: {e}"))?;
    let asked = AskedOperation {
        via: &timer.key,
        operation: &pulse.operation,
        give: &given,
        key: &format!("pulse-{}-{}", timer.key, timer.due.timestamp_micros()),
    };
    asking::called(node, asked).await?;
    Ok(Handled::GoesOn(next))
}

/// In step with the time that has come; what was missed is not made up for.
fn next(pulse: &Pulse, due: DateTime<Utc>, now: DateTime<Utc>) -> DateTime<Utc> {
    let every = pulse.every.delta();
    if due + every > now { due + every } else { now + every }
}
