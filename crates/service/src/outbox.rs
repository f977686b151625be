//! Events of Arvok's own, from the outbox into the intake: what jobs and decisions tell enters as
//! alerts of the source `arvok`, and is kept for those to whom it leaves.

use crate::{admission::NotTaken, clock, intake::deliver, node::Node, subscribers::leaving};
use arvok_core::{
    Catalog, Kind, NewAlert, TraceContext,
    alert::{Alert, AlertError, Received},
    rule::{RULE_LABEL, Rule},
    source::OWN,
};
use arvok_store::{
    StoreError,
    intake::Payload,
    outside::{
        outbox::{self, OutboxEvent},
        subscribers::{self, Leaving},
    },
};
use futures_util::future::join_all;
use std::{sync::Arc, time::Duration};

/// How often the outbox is looked at when nobody tells of something.
const LOOK: Duration = Duration::from_millis(250);
/// Events that enter at once.
const AT_ONCE: i64 = 500;
/// About what an event weighs, in bytes.
const WEIGHT: usize = 2_048;

/// Lets events enter until the node stops.
pub(crate) async fn run(node: Arc<Node>) {
    let mut stopping = node.stopping.clone();
    let mut look = tokio::time::interval(LOOK);
    look.set_missed_tick_behavior(tokio::time::MissedTickBehavior::Delay);
    loop {
        tokio::select! {
            _ = stopping.changed() => break,
            _ = look.tick() => {}
        }
        loop {
            match enter(&node).await {
                Ok(true) => {}
                Ok(false) => break,
                Err(e) => {
                    tracing::warn!("the outbox: {e}");
                    break;
                }
            }
        }
    }
    // Otherwise another waits until this node's turn is over.
    let _ = outbox::leave(&node.pools.work, &node.name).await;
}

/// Lets the next events enter; whether there may be more.
pub(crate) async fn enter(node: &Node) -> Result<bool, StoreError> {
    let events = outbox::claim(&node.pools.work, &node.name, AT_ONCE).await?;
    if events.is_empty() {
        return Ok(false);
    }
    let more = events.len() as i64 == AT_ONCE;
    let received = clock::now();
    let published = node.published();
    let alerts = events.iter().filter_map(|told| match alert(told, received) {
        Ok(alert) => Some(labelled(alert, &published.catalog)),
        Err(e) => {
            tracing::error!(job = told.job_id, "an event is left out: {e}");
            None
        }
    });
    let alerts: Vec<Alert> = alerts.collect();
    // Of what was made up nobody outside is told.
    let real: Vec<Alert> = alerts.iter().filter(|a| a.trial.is_none()).cloned().collect();
    let out = chosen(node, &real).await;
    // Each by itself, so that none is anybody else's problem.
    let entering = alerts.into_iter().map(|alert| async {
        let admission = node.admission.admit(OWN, WEIGHT)?;
        let payload =
            Payload { source: OWN.to_owned(), received, alerts: vec![alert], ..Payload::default() };
        // One that cannot be recorded is kept with the reason.
        match deliver(node, payload, admission).await {
            Err(NotTaken::Store) => None,
            Ok(_) | Err(NotTaken::Malformed { .. }) => Some(()),
        }
    });
    let all_in = join_all(entering).await.into_iter().all(|entered| entered.is_some());
    if !all_in {
        return Ok(false);
    }
    subscribers::keep(&node.pools.work, &events, &out).await?;
    if !out.is_empty() {
        node.wakeups.events.notify_one();
    }
    Ok(more)
}

/// What leaves of these events. The conditions are strangers', and are not evaluated on the workers
/// that answer requests.
async fn chosen(node: &Node, events: &[Alert]) -> Vec<Leaving> {
    let published = node.published();
    if published.catalog.entries(Kind::Subscriber).next().is_none() {
        return Vec::new();
    }
    let (installation, events) = (node.installation.clone(), events.to_vec());
    let out =
        tokio::task::spawn_blocking(move || leaving(&published, &installation, &events, None))
            .await;
    // What cannot be told of one of them must not hold up the others for ever.
    out.unwrap_or_else(|e| {
        tracing::error!("events leave to nobody: {e}");
        Vec::new()
    })
}

/// The event with the labels that its rule gives, where that stands.
fn labelled(mut event: Alert, catalog: &Catalog) -> Alert {
    let rule = event.labels.get(RULE_LABEL).and_then(|name| catalog.get::<Rule>(name));
    for (name, value) in rule.map(|(rule, _)| rule.event_labels()).into_iter().flatten() {
        event.labels.entry(name).or_insert(value);
    }
    event
}

/// An event as an alert. What it is about may be no resource, where a job never had one: then it is
/// the job.
fn alert(told: &OutboxEvent, received: chrono::DateTime<chrono::Utc>) -> Result<Alert, AlertError> {
    let new = NewAlert {
        id: Some(told.id.clone()),
        time: Some(told.at),
        ..NewAlert::from_value(&told.alert)?
    };
    let complete =
        |new: NewAlert| new.complete(Received { source: OWN, received, fallback_id: &told.id });
    let alert = complete(new.clone())
        .or_else(|_| complete(NewAlert { resource: format!("job/{}", told.job_id), ..new }))?;
    let trace = told.trace.as_deref().and_then(TraceContext::parse);
    let trial = told.trial.map(|trial| trial.0);
    Ok(Alert { trace, trial, ..alert })
}
