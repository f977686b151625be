//! An alarm that is cleared without its sender: by an alert of its source, so that all follows
//! which follows any clearing. By hand, and of trials, whose alarms end by themselves.

use super::deliver;
use crate::{clock, node::Node, random};
use arvok_api::{AlarmFilter, AlarmItem};
use arvok_core::{
    AlertState, NewAlert,
    alert::{AlertError, Received},
    text::cut,
};
use arvok_store::{StoreError, intake::Payload, read};
use chrono::{DateTime, TimeDelta, Utc};
use std::collections::BTreeMap;

/// How long the alarm of a trial stands at most.
const TRIAL: TimeDelta = TimeDelta::hours(1);
/// Alarms of trials that are ended at once.
const AT_ONCE: u64 = 100;

/// Why an alarm was not cleared.
#[derive(Debug)]
pub(crate) enum NotCleared {
    /// No alert can say it.
    Impossible(AlertError),
    /// There is no room at the moment.
    Busy,
}

/// Takes in an alert that clears an alarm, as if its source had sent it; not before `sent`, what
/// that has sent last, whatever the clocks say.
pub(crate) async fn clear_alarm(
    node: &Node,
    alarm: &AlarmItem,
    labels: BTreeMap<String, String>,
    sent: Option<DateTime<Utc>>,
    summary: &str,
) -> Result<(), NotCleared> {
    let received = clock::now();
    let new = NewAlert {
        id: Some(format!("cleared here {}", random::id())),
        kind: alarm.kind.clone(),
        severity: alarm.severity,
        state: AlertState::Cleared,
        resource: alarm.resource.clone(),
        time: sent.map(|sent| sent.max(received)),
        summary: Some(cut(summary, 1_000).to_owned()),
        value: None,
        labels,
        body: serde_json::Value::Null,
        trial: alarm.trial,
    };
    let source = alarm.source.clone();
    let alert = new
        .complete(Received { source: &source, received, fallback_id: "" })
        .map_err(NotCleared::Impossible)?;
    let admission = node.admission.admit(&source, summary.len()).ok_or(NotCleared::Busy)?;
    let payload =
        Payload { source, received, alerts: vec![alert], malformed: Vec::new(), is_past: false };
    deliver(node, payload, admission).await.map(drop).map_err(|_| NotCleared::Busy)
}

/// Ends alarms of trials that have stood for long: nobody clears what was made up.
pub(crate) async fn end_trials(node: &Node) -> Result<(), StoreError> {
    let filter = AlarmFilter {
        trial: Some(true),
        state: Some(AlertState::Raised),
        until: Some(clock::now() - TRIAL),
        limit: Some(AT_ONCE),
        ..AlarmFilter::default()
    };
    for alarm in read::alarms(&node.pools.work, filter).await?.items {
        let ended = clear_alarm(node, &alarm, BTreeMap::new(), None, "the trial is over").await;
        if let Err(NotCleared::Busy) = ended {
            break;
        }
    }
    Ok(())
}
