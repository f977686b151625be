//! The turns of calls: a connection may allow so many at once, and so many within a time, over all
//! nodes; a node so many scripts at once.

use crate::{clock, node::Node, random, retry::retry};
use arvok_api::Change;
use arvok_core::connector::{CallEnd, Connection, Failure};
use arvok_store::calls::{self, Allowed, Caller, Slot};
use chrono::{DateTime, TimeDelta, Utc};
use std::time::{Duration, Instant};

/// How long a person's call waits for its turn. A step's waits as long as its job has time for it.
const PATIENCE: Duration = Duration::from_secs(60);
/// Time between two looks for a person's turn.
const LOOK: Duration = Duration::from_millis(100);

/// Whether the turn of a call has come.
pub(super) enum Permit {
    /// It has; to be given back when the call is over.
    Granted(Option<Slot>),
    /// Others come first: the job rests meanwhile, and asks again then.
    Queued(DateTime<Utc>),
}

/// Where calls take turns: those of a connection, or the scripts of a node.
#[derive(Clone, Copy, Debug)]
pub(super) struct Turns<'a> {
    pub name: &'a str,
    pub allowed: Allowed,
}

impl<'a> From<&'a Connection> for Turns<'a> {
    fn from(connection: &'a Connection) -> Self {
        let rate = connection.rate;
        let rate = rate.map(|rate| (rate.calls, Duration::from_millis(rate.per.millis())));
        Self { name: &connection.name, allowed: Allowed { at_once: connection.at_once, rate } }
    }
}

/// Asks for the turn of a call; a person waits for it.
pub(super) async fn permit(
    node: &Node,
    Turns { name, allowed }: Turns<'_>,
    caller: &Caller,
    longest: Duration,
) -> Result<Permit, Failure> {
    if allowed.at_once.is_none() && allowed.rate.is_none() {
        return Ok(Permit::Granted(None));
    }
    // A little longer than the call, so that no turn of a living call is given away.
    let longest = longest + Duration::from_secs(5);
    let (begun, mark) = (Instant::now(), random::id());
    loop {
        let permit = retry("the turn of a call", || {
            calls::permit(&node.pools.work, name, allowed, (caller, &mark), longest)
        })
        .await;
        let permit = permit.map_err(|e| not_sent(format!("its turn cannot be asked for: {e}")))?;
        match (permit, caller) {
            (calls::Permit::Granted(slot, wait), _) => {
                tokio::time::sleep(wait).await;
                return Ok(Permit::Granted(slot));
            }
            (calls::Permit::Queued(again), Caller::Step { .. }) => {
                let again = TimeDelta::from_std(again).unwrap_or(TimeDelta::minutes(1));
                return Ok(Permit::Queued(clock::now() + again));
            }
            (calls::Permit::Queued(_), Caller::Person(_)) if begun.elapsed() > PATIENCE => {
                let message =
                    format!("its turn at `{name}` has not come within {} s", PATIENCE.as_secs());
                return Err(not_sent(message));
            }
            (calls::Permit::Queued(again), Caller::Person(_)) => {
                tokio::time::sleep(LOOK.min(again)).await
            }
        }
    }
}

fn not_sent(message: String) -> Failure {
    Failure::new(CallEnd::NotSent, message)
}

/// Gives a turn back; whose turn it is then is told.
pub(super) async fn over(node: &Node, slot: Option<Slot>) {
    let Some(slot) = slot else { return };
    match calls::give_back(&node.pools.work, &slot).await {
        Ok(told) if told.is_empty() => {}
        Ok(told) => {
            node.announcer.tell(Change {
                jobs: told.into_iter().map(|job| job.0).collect(),
                ..Change::default()
            });
            node.wakeups.jobs.notify_one();
        }
        Err(e) => tracing::warn!("the turn of a call ends by itself later: {e}"),
    }
}
