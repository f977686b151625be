//! Walking jobs through their steps: claims what is due, performs what the machine says.
//!
//! All decisions are the machine's in the core; here its effects are recorded and then
//! performed. The record comes first, always: what may have happened outside is known after any
//! crash. Only walks that are alive in this process have their claims renewed; one that ends in an
//! error or a panic is as after a death.

mod outside;
mod record;
mod walk;

pub(crate) use outside::Link;

use crate::node::Node;
use arvok_api::Change;
use arvok_core::job::knots;
use arvok_store::{
    StoreError, jobs,
    outside::{children, events},
};
use futures_util::{FutureExt, StreamExt, stream::FuturesUnordered};
use std::{sync::Arc, time::Duration};
use tokio::{
    sync::{OwnedSemaphorePermit, Semaphore},
    task::JoinSet,
};

/// How often due jobs are looked for when nobody calls.
const LOOK: Duration = Duration::from_millis(500);
/// Looks for due jobs between two for jobs that wait for each other.
const KNOTS: u32 = 4;
/// How often leases are renewed, well within their ten seconds.
const RENEW: Duration = Duration::from_secs(2);
/// Most claims at once.
const CLAIMS: usize = 4;
/// How long jobs may go on when the node stops.
const GRACE: Duration = Duration::from_secs(4);

/// Claims and walks jobs until the node stops. Those under way then have a few seconds to end;
/// what is cut off is let go, so that another node takes it up at once.
pub(crate) async fn run(node: Arc<Node>, at_once: usize) {
    let room = Arc::new(Semaphore::new(at_once.max(1)));
    let mut walks = JoinSet::new();
    let mut stopping = node.stopping.clone();
    let mut looks = 0u32;
    let mut look = tokio::time::interval(LOOK);
    look.set_missed_tick_behavior(tokio::time::MissedTickBehavior::Delay);
    loop {
        tokio::select! {
            _ = stopping.changed() => break,
            _ = look.tick() => {
                end_overdue(&node).await;
                wake_hearing(&node).await;
                looks += 1;
                if looks.is_multiple_of(KNOTS) {
                    untie(&node).await;
                }
            }
            () = node.work.notified() => {}
            Some(_) = walks.join_next() => {}
        }
        // All that have ended: claims are made once for them.
        while walks.try_join_next().is_some() {}
        claim_all(&node, &room, &mut walks).await;
    }
    let ending = async { while walks.join_next().await.is_some() {} };
    if tokio::time::timeout(GRACE, ending).await.is_err() {
        let cut_off = node.alive();
        walks.shutdown().await;
        for claim in cut_off {
            let _ = jobs::let_go(&node.work_db, claim, "its node stopped").await;
        }
    }
}

/// Claims jobs while there is room for them and some are due: the first by itself, then several at once.
async fn claim_all(node: &Arc<Node>, room: &Arc<Semaphore>, walks: &mut JoinSet<()>) {
    let (mut at_once, mut more) = (1, true);
    while more {
        let places = std::iter::from_fn(|| Arc::clone(room).try_acquire_owned().ok());
        let places: Vec<OwnedSemaphorePermit> = places.take(at_once).collect();
        let alive = node.alive();
        let published = node.published();
        let claim =
            |place| jobs::claim(&node.work_db, &node.name, &alive, &published.at_once).map(|claimed| (place, claimed));
        let mut claims: FuturesUnordered<_> = places.into_iter().map(claim).collect();
        more = !claims.is_empty();
        // Whoever is back goes on at once: what a claim holds until its first record, another may be waiting for.
        while let Some((place, claimed)) = claims.next().await {
            match claimed {
                Ok(Some((held, opening))) => {
                    let node = Arc::clone(node);
                    let (alive, renewed) = node.keep_alive(held.claim);
                    walks.spawn(async move {
                        walk::walk(&node, held, opening, renewed).await;
                        drop((alive, place));
                        // Its target is free now, or another of its kind may be waiting.
                        node.work.notify_one();
                    });
                }
                Ok(None) => more = false,
                Err(e) => {
                    complain(&e);
                    more = false;
                }
            }
        }
        at_once = CLAIMS;
    }
}

/// Ends what may not be started any more, and what nobody gets any further with.
async fn end_overdue(node: &Node) {
    for ended in [jobs::expire(&node.work_db).await, jobs::give_up(&node.work_db).await] {
        match ended {
            Ok(ended) => {
                let jobs = ended.into_iter().map(|job| job.0).collect();
                node.announcer.tell(Change { jobs, ..Change::default() });
            }
            Err(e) => complain(&e),
        }
    }
}

/// Wakes the jobs for which alerts came that may be what they wait for.
async fn wake_hearing(node: &Node) {
    match events::wake(&node.work_db).await {
        Ok(woken) if woken.is_empty() => {}
        Ok(_) => {
            node.work.notify_one();
            hear(node).await;
        }
        Err(e) => complain(&e),
    }
}

/// Of jobs that wait for each other's targets for ever the youngest gives way.
async fn untie(node: &Node) {
    let untied = async {
        for (one, behind) in knots(&children::waiting(&node.work_db).await?) {
            let why = format!(
                "it waits for its target, which job {behind} holds, and that one waits for what job {} holds; of the two \
                this is the younger and gives way",
                one.root
            );
            if children::fail_queued(&node.work_db, one.job, &why).await? {
                tracing::warn!(job = one.job.0, behind = behind.0, "two jobs waited for each other's targets");
                node.announcer.tell(Change { jobs: vec![one.job.0], ..Change::default() });
                node.work.notify_one();
            }
        }
        Ok::<(), StoreError>(())
    };
    if let Err(e) = untied.await {
        complain(&e);
    }
}

/// Renews the claims of the walks that are alive here, until the node stops.
pub(crate) async fn renew(node: Arc<Node>) {
    let mut stopping = node.stopping.clone();
    let mut tick = tokio::time::interval(RENEW);
    tick.set_missed_tick_behavior(tokio::time::MissedTickBehavior::Delay);
    loop {
        tokio::select! {
            _ = stopping.changed() => return,
            _ = tick.tick() => hear(&node).await,
        }
    }
}

/// Renews the claims of the walks that are alive here, and brings them what people say to their jobs.
pub(crate) async fn hear(node: &Node) {
    match jobs::renew(&node.work_db, &node.alive()).await {
        Ok(renewed) => renewed.into_iter().for_each(|renewed| node.tell_walk(renewed)),
        Err(e) => complain(&e),
    }
}

fn complain(e: &StoreError) {
    tracing::error!("jobs: {e}");
}
