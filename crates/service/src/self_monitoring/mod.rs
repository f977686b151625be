//! What Arvok tells of itself: each node's heartbeat, and alarms of the source `arvok` about what
//! keeps it from its work. They are alerts like any others: listed, and there for rules.

mod flood;
mod silence;

use crate::{
    admission::NotTaken,
    api::fault,
    clock, heartbeats,
    intake::deliver,
    metrics::{SourceLabel, SubscriberLabel},
    node::Node,
    own_alarms,
};
use arvok_api::{AlarmItem, Backlog, ListenerState, NodeItem, RunnerItem};
use arvok_core::{
    NewAlert,
    alert::{Alert, Received},
    halt::HaltLines,
    source::OWN,
    subscriber::Subscriber,
};
use arvok_store::{
    StoreError,
    intake::Payload,
    jobs::guards,
    nodes::{self, Beat},
    outside::subscribers::{self, Failing},
    over_limit, runners, timers,
};
use chrono::{DateTime, TimeDelta, Timelike, Utc};
use serde_json::json;
use std::{collections::BTreeMap, net::SocketAddr, sync::Arc, time::Duration};

/// Time between two beats.
const BEAT: Duration = Duration::from_secs(2);
/// How long the beats may wait for an alarm to be recorded: intake that stands still is the very
/// time at which they are needed.
const PATIENCE: Duration = Duration::from_millis(if cfg!(test) { 100 } else { 2_000 });
/// Beats between two looks at what is wrong.
const LOOK: u32 = 5;
/// After how many seconds of silence a node or a runner is missed.
const MISSED: f64 = 30.0;
/// How many seconds a delivery may wait, and a due time may have passed.
const SLOW: f64 = 10.0;
/// How far a node's clock may be off before somebody should set it right, in seconds.
const OFF: f64 = 5.0;

/// How long a certificate still holds when somebody should renew it.
const RENEWAL: TimeDelta = TimeDelta::days(14);

/// After how many tries in a row that failed a subscriber is told of.
const FAILING: i32 = 5;

/// Something that is wrong: the kind and the resource of the alarm, and the words.
type Troubles = BTreeMap<(String, String), String>;

/// Beats until the node stops.
pub(crate) async fn run(node: Arc<Node>, address: SocketAddr) {
    let mut stopping = node.stopping.clone();
    let since = clock::now();
    let mut steady = since;
    let host =
        std::fs::read_to_string("/proc/sys/kernel/hostname").unwrap_or_default().trim().to_owned();
    let mut tick = tokio::time::interval(BEAT);
    tick.set_missed_tick_behavior(tokio::time::MissedTickBehavior::Delay);
    for beat in 0u32.. {
        tokio::select! {
            _ = stopping.changed() => break,
            _ = tick.tick() => {}
            () = node.listeners.changed.notified() => {}
        }
        if let Err(e) = send_beat(&node, (&host, address), since).await {
            tracing::warn!("the heartbeat: {e}");
            steady = clock::now();
            continue;
        }
        if beat % LOOK == LOOK - 1 {
            if let Err(e) = look(&node, steady).await {
                tracing::warn!("looking at what is wrong: {e}");
            }
            let looked = tokio::time::timeout(PATIENCE, heartbeats::look(&node, steady)).await;
            if let Ok(Err(e)) = looked {
                tracing::warn!("looking at who is missing: {e}");
            }
        }
    }
    let _ = nodes::leave(&node.pools.work, &node.name).await;
}

async fn send_beat(
    node: &Node,
    (host, address): (&str, SocketAddr),
    since: DateTime<Utc>,
) -> Result<(), StoreError> {
    let beat = Beat {
        name: node.name.clone(),
        host: host.to_owned(),
        address: address.to_string(),
        build: env!("CARGO_PKG_VERSION").to_owned(),
        since,
        generation: node.published().generation,
        clock_offset: clock::offset().as_seconds_f64(),
        intake_bytes: node.admission.bytes(),
        oldest_seconds: node.admission.oldest().as_secs_f64(),
        commit_seconds: node.metrics.intake.commit_of_late.get(),
        fault: fault(node),
        answers_fault: node.answers_fault.reasons(),
        certificate_until: node.tls.as_ref().map(|tls| tls.until()),
        listeners: node.listeners.items(&format!("{host} {address}")),
    };
    node.metrics.intake.oldest_delivery.set(beat.oldest_seconds);
    nodes::beat(&node.pools.work, &beat).await?;
    write_over_limit(node).await?;
    node.share.store(Arc::new(nodes::share(&node.pools.work, &node.name).await?));
    node.vitals.committed();
    Ok(())
}

/// Writes which sources came too fast.
async fn write_over_limit(node: &Node) -> Result<(), StoreError> {
    let over = node.source_limits.take_over();
    if over.is_empty() {
        return Ok(());
    }
    if let Err(e) = over_limit::count(&node.pools.work, &over).await {
        node.source_limits.give_back(over);
        return Err(e);
    }
    for (source, over) in over {
        let over = u64::try_from(over).unwrap_or(0);
        node.metrics.intake.over_limit.get_or_create(&SourceLabel { source }).inc_by(over);
    }
    Ok(())
}

/// Counts what waits to be told and to leave.
async fn tell_leaving(node: &Node) -> Result<(), StoreError> {
    let (outbox, leaving) = subscribers::waiting(&node.pools.work).await?;
    let work = &node.metrics.work;
    work.outbox.set(outbox);
    // Whoever is not named any more has nothing that waits.
    for (subscriber, _) in node.published().catalog.all::<Subscriber>() {
        let waits = leaving.iter().find(|waits| waits.subscriber == subscriber.name);
        let label = SubscriberLabel { subscriber: subscriber.name.clone() };
        work.leaving.get_or_create(&label).set(waits.map_or(0, |waits| waits.events));
        work.leaving_oldest.get_or_create(&label).set(waits.map_or(0.0, |waits| waits.oldest));
    }
    Ok(())
}

/// Raises and clears the alarms about what is wrong. Any node may do it: what several see at once
/// is told once. `steady` is since when this node has taken what came.
pub(crate) async fn look(node: &Node, steady: DateTime<Utc>) -> Result<(), StoreError> {
    let (all, backlog) =
        (nodes::all(&node.pools.work).await?, nodes::backlog(&node.pools.work).await?);
    node.metrics.intake.aside.set(backlog.aside);
    node.metrics.intake.overdue.set(backlog.overdue);
    node.metrics.own.lock_waits.set(backlog.lock_waits);
    node.metrics.work.queued.set(backlog.queued);
    node.metrics.work.halted.set(i64::from(backlog.halt.is_some()));
    tell_leaving(node).await?;
    let failing = subscribers::failing(&node.pools.work, FAILING).await?;
    let runners = runners::all(&node.pools.work).await?;
    let mut troubles = troubles((&all, &runners), &backlog, &failing, clock::now());
    for t in timers::failing(&node.pools.work, FAILING).await? {
        let words =
            format!("the {} {} was tried {} times: {}", t.kind.0, t.key, t.failures, t.failure);
        troubles.insert(
            ("timer.failing".into(), format!("timer/{}/{}", t.kind.0, name(&t.key))),
            words,
        );
    }
    let published = node.published();
    let has_circuit =
        |name: &str| published.guards.get(name).is_some_and(|g| g.guard.circuit.is_some());
    let open = guards::circuits(&node.pools.work).await?;
    for open in open.into_iter().filter(|open| has_circuit(&open.guard)) {
        let resource = format!("guard/{}/{}", name(&open.guard), name(&open.runbook));
        troubles.insert(("guard.circuit".into(), resource), open.in_words());
    }
    let standing = own_alarms::standing(&node.pools.work).await?;
    let now = clock::now();
    let about = (&standing[..], steady);
    silence::add(&node.pools.work, &published, about, &mut troubles, now).await?;
    flood::add(&node.pools.work, &published, &mut troubles).await?;
    let alerts: Vec<Alert> = changes(&troubles, &standing, now)
        .into_iter()
        .filter_map(|new| {
            new.complete(Received { source: OWN, received: now, fallback_id: "" }).ok()
        })
        .collect();
    if alerts.is_empty() {
        return Ok(());
    }
    // If there is no room, the next look finds the same.
    let Some(admission) = node.admission.admit(OWN, alerts.len() * 512) else { return Ok(()) };
    let payload = Payload {
        source: OWN.to_owned(),
        received: now,
        alerts,
        malformed: Vec::new(),
        is_past: false,
    };
    match tokio::time::timeout(PATIENCE, deliver(node, payload, admission)).await {
        Ok(Ok(_)) => {}
        Ok(Err(e)) => tracing::warn!("an alarm about this node itself was not taken: {e}"),
        Err(_) => tracing::warn!("an alarm about this node itself waits in its own queue"),
    }
    Ok(())
}

/// Tells of something that happened and has no lasting state, once for each `id`.
pub(crate) async fn note(
    node: &Node,
    kind: &str,
    resource: &str,
    id: &str,
    summary: &str,
) -> Result<(), NotTaken> {
    let received = clock::now();
    let new: Option<NewAlert> = serde_json::from_value(json!({
        "id": format!("{kind} {resource} {id}"), "kind": kind, "resource": resource,
        "severity": "warning", "state": "noted", "summary": summary,
    }))
    .ok();
    let received_by = Received { source: OWN, received, fallback_id: "" };
    let alert = new.and_then(|new| new.complete(received_by).ok()).ok_or(NotTaken::Store)?;
    let admission = node.admission.admit(OWN, summary.len()).ok_or(NotTaken::Store)?;
    let payload = Payload {
        source: OWN.to_owned(),
        received,
        alerts: vec![alert],
        malformed: Vec::new(),
        is_past: false,
    };
    deliver(node, payload, admission).await.map(drop)
}

fn troubles(
    (nodes, runners): (&[NodeItem], &[RunnerItem]),
    backlog: &Backlog,
    failing: &[Failing],
    now: DateTime<Utc>,
) -> Troubles {
    let mut found = Troubles::new();
    let mut say = |kind: &str, resource: String, words: String| {
        drop(found.insert((kind.to_owned(), resource), words))
    };
    for n in nodes {
        let resource = || format!("node/{}", name(&format!("{}-{}", n.host, n.address)));
        if n.lag > MISSED {
            say(
                "node.missing",
                resource(),
                format!("node {} was last heard of {:.0} s ago", n.address, n.lag),
            );
            continue;
        }
        if let Some(fault) = &n.fault {
            say("node.faulty", resource(), format!("node {} is not ready: {fault}", n.address));
        }
        if let Some(fault) = &n.answers_fault {
            let words = format!("no answers by mail come to node {}: {fault}", n.address);
            say("answers.failed", resource(), words);
        }
        if let Some(until) = n.certificate_until.filter(|until| *until - now < RENEWAL) {
            let words = format!(
                "the certificate of node {} holds until {}; renew it",
                n.address,
                until.format("%Y-%m-%d %H:%M UTC")
            );
            say("node.certificate", resource(), words);
        }
        for l in n.listeners.iter().filter(|l| l.state == ListenerState::Failed) {
            let words = format!(
                "source {} cannot be listened for at {} of node {}: {}",
                l.source,
                l.address,
                n.address,
                l.reason.as_deref().unwrap_or_default()
            );
            say("listener.failed", format!("source/{}", name(&l.source)), words);
        }
        if n.clock_offset.abs() > OFF {
            let words = format!(
                "the clock of node {} is {:.1} s off the database's",
                n.address, n.clock_offset
            );
            say("node.clock", resource(), words);
        }
        if n.oldest_delivery > SLOW {
            let words = format!(
                "a delivery has been waiting for {:.0} s at node {}",
                n.oldest_delivery, n.address
            );
            say("node.intake", resource(), words);
        }
    }
    for r in runners {
        let (resource, name) = (format!("runner/{}", name(&r.name)), &r.name);
        // One that never came is waited for by whoever has made it known.
        let Some(lag) = r.lag else { continue };
        if lag > MISSED {
            let words = format!("runner {name} was last heard of {lag:.0} s ago");
            say("runner.missing", resource, words);
        } else if r.clock_offset.is_some_and(|off| off.abs() > OFF) {
            let off = r.clock_offset.unwrap_or_default();
            let words = format!("the clock of runner {name} is {off:.1} s off the database's");
            say("runner.clock", resource, words);
        }
    }
    for s in failing {
        let words =
            format!("subscriber {} took nothing at {} tries: {}", s.name, s.failures, s.failure);
        say("subscriber.failing", format!("subscriber/{}", name(&s.name)), words);
    }
    if let Some(halt) = &backlog.halt {
        say(
            "jobs.halted",
            "arvok/jobs".into(),
            format!("jobs are halted by {}: {}", halt.by.shown(), halt.reason),
        );
    }
    for halt in &backlog.halts {
        let covers = HaltLines::from(halt.covers.clone());
        let words = format!("jobs of {covers} are halted by {}: {}", halt.by.shown(), halt.reason);
        say("jobs.halted", format!("arvok/halt-{}", halt.id), words);
    }
    if backlog.overdue > SLOW {
        let words =
            format!("a due time passed {:.0} s ago and nobody has looked at it", backlog.overdue);
        say("due.late", "arvok/due".into(), words);
    }
    if let Some(first) = backlog.set_aside.first() {
        let words = format!(
            "{} due times are set aside; rule {}: {}",
            backlog.aside, first.rule, first.reason
        );
        say("due.aside", "arvok/due".into(), words);
    }
    found
}

/// A name as a resource path takes it.
fn name(text: &str) -> String {
    text.chars()
        .map(|c| if c.is_ascii_alphanumeric() || "._-".contains(c) { c } else { '-' })
        .collect()
}

/// What is new and what is over. The ids name the minute, so that of several nodes that tell the
/// same one is heard.
fn changes(troubles: &Troubles, standing: &[AlarmItem], now: DateTime<Utc>) -> Vec<NewAlert> {
    let minute = now.with_second(0).and_then(|t| t.with_nanosecond(0)).unwrap_or(now).timestamp();
    let alert = |kind: &str, resource: &str, state: &str, summary: &str| {
        let summary: String = summary.chars().take(300).collect();
        serde_json::from_value(json!({
            "id": format!("{kind} {resource} {state} {minute}"), "kind": kind, "resource": resource,
            "severity": "major", "state": state, "summary": summary,
        }))
        .ok()
    };
    let stands =
        |key: &(String, String)| standing.iter().any(|a| a.kind == key.0 && a.resource == key.1);
    let raised = troubles.iter().filter(|(key, _)| !stands(key));
    let raised =
        raised.filter_map(|((kind, resource), words)| alert(kind, resource, "raised", words));
    let over =
        standing.iter().filter(|a| !troubles.contains_key(&(a.kind.clone(), a.resource.clone())));
    let over = over.filter_map(|a| alert(&a.kind, &a.resource, "cleared", "it is over"));
    raised.chain(over).collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    fn node(address: &str, lag: f64) -> NodeItem {
        let at = DateTime::UNIX_EPOCH;
        NodeItem {
            name: "node-1".into(),
            host: "quill-ops-1".into(),
            address: address.into(),
            build: "1".into(),
            since: at,
            seen: at,
            lag,
            leases: 0,
            clock_offset: 0.0,
            generation: 1,
            intake_bytes: 0,
            oldest_delivery: 0.0,
            commit: 0.0,
            fault: None,
            answers_fault: None,
            certificate_until: None,
            listeners: Vec::new(),
        }
    }

    fn runner(name: &str, lag: Option<f64>, clock_offset: f64) -> RunnerItem {
        RunnerItem {
            name: name.into(),
            labels: BTreeMap::new(),
            added_at: DateTime::UNIX_EPOCH,
            added_by: arvok_core::Principal::token("admin"),
            seen: None,
            lag,
            serves: None,
            build: None,
            at_once: None,
            clock_offset: Some(clock_offset),
            calls: 0,
            connections: Vec::new(),
        }
    }

    #[test]
    fn what_is_wrong_is_told_with_its_place_and_over_when_it_is_over() {
        let mut nodes = [node("[::1]:8470", 1.0), node("10.0.0.2:8470", 40.0)];
        let now = DateTime::UNIX_EPOCH;
        nodes[0].certificate_until = Some(now + TimeDelta::days(13));
        let backlog = Backlog { overdue: 11.0, ..Backlog::default() };
        let board = Failing {
            name: "harbour board".into(),
            failures: 7,
            failure: "it answered 500".into(),
        };
        let runners = [
            runner("pier 3", Some(31.0), 9.0),
            runner("quill", Some(1.0), -9.0),
            runner("new", None, 0.0),
            runner("well", Some(1.0), 0.0),
        ];
        let troubles = troubles((&nodes, &runners), &backlog, &[board], now);
        let keys: Vec<_> =
            troubles.keys().map(|(kind, resource)| format!("{kind} {resource}")).collect();
        assert_eq!(
            keys,
            [
                "due.late arvok/due",
                "node.certificate node/quill-ops-1----1--8470",
                "node.missing node/quill-ops-1-10.0.0.2-8470",
                "runner.clock runner/quill",
                "runner.missing runner/pier-3",
                "subscriber.failing subscriber/harbour-board"
            ]
        );
        let raised = changes(&troubles, &[], now);
        assert_eq!(raised.len(), 6);
        for new in raised {
            new.complete(Received { source: OWN, received: now, fallback_id: "" })
                .expect("is an alert");
        }
        nodes[0].certificate_until = Some(now + TimeDelta::days(15));
        let well = (&nodes[..1], &runners[2..]);
        assert!(self::troubles(well, &Backlog::default(), &[], now).is_empty());
    }
}
