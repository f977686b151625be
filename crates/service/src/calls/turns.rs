//! The turns of calls: a connection may allow so many at once, and so many within a time, over all nodes.

use crate::{insist::insist, node::Node};
use arvok_core::connector::{CallEnd, Connection, Failure};
use arvok_store::calls::{self, Slot};
use std::time::{Duration, Instant};

/// How long a call waits for its turn; what has not been sent by then is refused, and its step may try again.
const PATIENCE: Duration = Duration::from_secs(60);
/// Time between two looks for a turn.
const LOOK: Duration = Duration::from_millis(100);

/// Waits for the turn of a call; to be given back when it is over.
pub(super) async fn turn(node: &Node, connection: &Connection, longest: Duration) -> Result<Option<Slot>, Failure> {
    let name = &connection.name;
    let away =
        |e: arvok_store::StoreError| Failure::new(CallEnd::NotSent, format!("its turn cannot be asked for: {e}"));
    let begun = Instant::now();
    if let Some(rate) = connection.rate {
        let per = Duration::from_millis(rate.per.millis());
        let wait = insist(|| calls::reserve(&node.work_db, name, rate.calls, per, PATIENCE)).await.map_err(away)?;
        let Some(wait) = wait else {
            let (calls, per, most) = (rate.calls, rate.per, PATIENCE.as_secs());
            let message =
                format!("`{name}` allows {calls} calls in {per}, and those of the next {most} s are spoken for");
            return Err(Failure::new(CallEnd::NotSent, message));
        };
        tokio::time::sleep(wait).await;
    }
    let Some(most) = connection.at_once else { return Ok(None) };
    loop {
        // A little longer than the call, so that no turn of a living call is given away.
        let longest = longest + Duration::from_secs(5);
        let slot = insist(|| calls::take_turn(&node.work_db, name, most, longest)).await.map_err(away)?;
        if slot.is_some() {
            return Ok(slot);
        }
        if begun.elapsed() > PATIENCE {
            let message =
                format!("`{name}` allows {most} calls at once, and all of them were out for {} s", PATIENCE.as_secs());
            return Err(Failure::new(CallEnd::NotSent, message));
        }
        tokio::time::sleep(LOOK).await;
    }
}

/// Gives a turn back.
pub(super) async fn over(node: &Node, slot: Option<Slot>) {
    if let Some(slot) = slot
        && let Err(e) = calls::give_back(&node.work_db, slot).await
    {
        tracing::warn!("the turn of a call ends by itself later: {e}");
    }
}
