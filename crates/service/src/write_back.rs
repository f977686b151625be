//! What people do about alarms, done at their senders as well, by the operations that their sources
//! name.
//!
//! Any node does it; what one has taken no other takes for a minute. A sender that does not answer
//! is asked again for a day, at growing times, and keeps none of another source waiting. What may
//! have been done and is not harmless to do twice is not done again: a person sees to it.

use crate::{
    calls::{self, Outgoing},
    clock,
    node::{Node, Published},
    retry::Backoff,
};
use arvok_api::{Change, WriteBackState};
use arvok_core::{
    Period,
    connector::{CallEnd, Failure},
    source::{DoneAlarmAct, Source},
    text::cut,
};
use arvok_store::{
    Class,
    calls::Caller,
    write_back::{self as store, TakenAct, WriteBackTry},
};
use chrono::TimeDelta;
use serde_json::{Map, Value};
use std::{sync::Arc, time::Duration};
use tokio::task::JoinSet;

/// How often is looked for acts when nobody tells of one.
const LOOK: Duration = Duration::from_secs(1);
/// Acts that this node does at once.
const AT_ONCE: usize = 32;
/// How long one call may take: less than an act is held.
const TIMEOUT: Period = Period::from_secs(20);
/// How long what was begun may take when the node stops.
const DRAIN: Duration = Duration::from_secs(5);
/// Times between the tries of an act; the last goes on.
const AGAIN: [u64; 6] = [5, 30, 120, 600, 1_800, 3_600];
/// How long it is tried.
const LONGEST: TimeDelta = TimeDelta::days(1);
/// Longest reason that is kept, in bytes.
const LONGEST_REASON: usize = 500;

/// Does what is due until the node stops.
pub(crate) async fn run(node: Arc<Node>) {
    let (mut stopping, mut generation) = (node.stopping.clone(), node.generation());
    let mut under_way = JoinSet::new();
    let mut look = tokio::time::interval(LOOK);
    look.set_missed_tick_behavior(tokio::time::MissedTickBehavior::Delay);
    loop {
        tokio::select! {
            _ = stopping.changed() => break,
            _ = look.tick() => {}
            () = node.wakeups.write_back.notified() => {}
            _ = generation.changed() => {
                // What failed may have been mended: nobody waits an hour for that.
                if let Err(e) = store::hasten(&node.pools.work).await {
                    tracing::warn!("what people did about alarms waits for its time: {e}");
                }
            }
            Some(_) = under_way.join_next() => {}
        }
        if under_way.len() >= AT_ONCE {
            continue;
        }
        match store::take(&node.pools.work).await {
            Ok(taken) => {
                for act in taken {
                    let (node, act) = (Arc::clone(&node), Arc::new(act));
                    under_way.spawn(async move { tell(&node, &act).await });
                }
            }
            Err(e) => tracing::warn!("what people did about alarms cannot be sent: {e}"),
        }
    }
    // What was begun is not known to be done unless it ends.
    let end = async { while under_way.join_next().await.is_some() {} };
    let _ = tokio::time::timeout(DRAIN, end).await;
}

/// Does one act at its sender, and writes down what came of it.
async fn tell(node: &Node, taken: &Arc<TakenAct>) {
    let came_of_it = done(node, taken).await;
    if let WriteBackTry::Ended(_, why) | WriteBackTry::Again(_, why) = &came_of_it {
        tracing::info!(source = taken.source, act = %taken.act, "its sender was not told: {why}");
    }
    // What is done and not written down would be done again, or not be known to be done.
    let mut backoff = Backoff::new();
    loop {
        match store::end(&node.pools.work, taken, &came_of_it).await {
            Ok(true) => {
                let change = Change { alarms: vec![taken.alarm], ..Change::default() };
                return node.announcer.tell(change);
            }
            Ok(false) => return,
            Err(e) if e.class() == Class::Lasting => {
                return tracing::error!("what came of an act at its sender is not kept: {e}");
            }
            Err(_) => backoff.back_off().await,
        }
    }
}

/// An operation, and what it is given for an act.
struct PlannedCall {
    via: String,
    operation: String,
    give: Map<String, Value>,
    is_harmless: bool,
}

fn planned(published: &Published, taken: &TakenAct) -> Result<PlannedCall, String> {
    let source = published.catalog.get::<Source>(&taken.source).map(|(source, _)| source);
    let back = source.and_then(|source| source.write_back.as_ref());
    let (back, call) = back
        .and_then(|back| Some((back, back.call(taken.act)?)))
        .ok_or("its source does not say any more how")?;
    let alert = taken.alert.as_ref().ok_or("its alerts are not kept any more")?;
    let by = taken.by.to_string();
    let give = call
        .give(DoneAlarmAct { alert, by: &by, text: &taken.text })
        .map_err(|e| format!("what `{}` is given: {e}", call.operation))?;
    let found = published.catalog.operation(&back.via, &call.operation);
    let is_harmless = found.is_ok_and(|(_, operation)| operation.repeat.is_harmless());
    let (via, operation) = (back.via.clone(), call.operation.clone());
    Ok(PlannedCall { via, operation, give, is_harmless })
}

async fn done(node: &Node, taken: &Arc<TakenAct>) -> WriteBackTry {
    let failed = |why: String| WriteBackTry::Ended(WriteBackState::Failed, why);
    let unknown = |why: &str| {
        let why = format!(
            "{why}; whether it was done is not known, and doing it twice may not be harmless"
        );
        WriteBackTry::Ended(WriteBackState::Unknown, why)
    };
    let published = node.published();
    // What authors write is not evaluated on the workers that answer requests.
    let (of, act) = (Arc::clone(&published), Arc::clone(taken));
    let planned = tokio::task::spawn_blocking(move || planned(&of, &act)).await;
    let planned = match planned.unwrap_or_else(|e| Err(e.to_string())) {
        Ok(planned) => planned,
        Err(why) => return failed(why),
    };
    if taken.was_under_way && !planned.is_harmless {
        return unknown("the node that had begun with it is gone");
    }
    let out = Outgoing {
        via: &planned.via,
        operation: &planned.operation,
        give: &planned.give,
        key: &format!("write-back {}", taken.id),
        timeout: Some(TIMEOUT),
        callback: None,
        caller: Caller::Person(taken.by.clone()),
        hidden: &[],
        trace: None,
    };
    let (result, _) = calls::call(node, out).await;
    let Err(Failure { message, end, lasting, retry_after }) = result.ended().called else {
        return WriteBackTry::Done;
    };
    let message = published.redactor.text(&message);
    let message = cut(&message, LONGEST_REASON).to_owned();
    match end {
        // It was done; what came back does not matter here.
        CallEnd::Done => WriteBackTry::Done,
        CallEnd::Unknown if !planned.is_harmless => unknown(&message),
        _ if lasting => failed(message),
        _ if clock::now() - taken.at >= LONGEST => {
            failed(format!("{message}; it was tried for a day"))
        }
        _ => {
            let n = usize::try_from(taken.tries - 1).unwrap_or(0).min(AGAIN.len() - 1);
            let asked = retry_after.map_or(0, |wait| wait.millis() / 1_000);
            let wait = AGAIN[n].max(asked.min(AGAIN[AGAIN.len() - 1]));
            WriteBackTry::Again(Duration::from_secs(wait), message)
        }
    }
}
