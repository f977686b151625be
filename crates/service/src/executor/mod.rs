//! Executes jobs: claims what is due, performs what the machine says.
//!
//! All decisions are the machine's in the core; here its effects are recorded and then performed.
//! The record comes first, always: what may have happened outside is known after any crash. Only
//! executions that are alive in this process have their claims renewed; one that ends in an error
//! or a panic is as after a death.

mod claim_batch;
mod deciding;
mod event;
mod execution;
mod guarded_batches;
mod outside;
mod overdue;
mod record;

pub(crate) use outside::{Link, answer_address};
pub(crate) use overdue::end_overdue;

use crate::{
    clock,
    node::{Alive, Node},
};
use arvok_api::Change;
use arvok_core::{
    JobId,
    job::{Decided, deadlocks},
};
use arvok_store::{
    StoreError,
    jobs::{
        self, Claimed, ClaimedJob, Renewed, Search,
        guards::{self, LetBack},
    },
    outside::{
        children,
        decisions::{self, Decision},
        events,
    },
};
use chrono::TimeDelta;
use claim_batch::NotOpened;
use deciding::{Deciding, DecidingJobs};
use execution::Execution;
use guarded_batches::GuardedBatches;
use std::{
    sync::{
        Arc,
        atomic::{AtomicUsize, Ordering},
    },
    time::{Duration, Instant},
};
use tokio::{
    sync::{OwnedSemaphorePermit, Semaphore, mpsc::UnboundedReceiver},
    task::JoinSet,
};

/// How often due jobs are looked for when nobody calls.
const LOOK: Duration = Duration::from_millis(500);
/// Looks for due jobs between two for jobs that wait for each other.
const DEADLOCKS: u32 = 4;
/// How often leases are renewed, well within their ten seconds.
const RENEW: Duration = Duration::from_secs(2);
/// A claim that takes longer looks through what it may not claim.
const SLOW: Duration = Duration::from_millis(20);
/// How old the times of calendars may be by which guards decide.
const TIMES_ANEW: TimeDelta = TimeDelta::hours(1);
/// Most jobs of one claim.
const TOGETHER: usize = 16;
/// How long jobs may go on when the node stops.
const GRACE: Duration = Duration::from_secs(4);

/// What makes claims and executions of them.
struct Executor {
    node: Arc<Node>,
    room: Arc<Semaphore>,
    /// So many of the next claims are made one by one: several that could not begin together.
    alone: AtomicUsize,
    /// The jobs that nobody has begun and whose first events are decided about here.
    deciding: Arc<DecidingJobs>,
    guarded: GuardedBatches,
}

/// What a job that is executed holds until its execution has ended: its claim's place among those
/// that are renewed, where it hears what is new for it, and its place among the jobs of the node.
struct JobSlot {
    renewed: UnboundedReceiver<Renewed>,
    _alive: Alive,
    _place: OwnedSemaphorePermit,
}

/// Claims and executes jobs until the node stops. Those under way then have a few seconds to end;
/// what is cut off is let go, so that another node takes it up at once.
pub(crate) async fn run(node: Arc<Node>, at_once: usize) {
    let room = Arc::new(Semaphore::new(at_once.max(1)));
    let executor = Arc::new(Executor {
        node: Arc::clone(&node),
        room,
        alone: AtomicUsize::new(0),
        deciding: Arc::default(),
        guarded: GuardedBatches::default(),
    });
    let mut executions = JoinSet::new();
    let mut stopping = node.stopping.clone();
    let mut looks = 0u32;
    let mut from = String::new();
    // Whether guards hold anything, as far as is known: what is not held is not asked for whenever
    // a job has ended.
    let mut is_held = true;
    let mut looking = JoinSet::new();
    let mut look = tokio::time::interval(LOOK);
    look.set_missed_tick_behavior(tokio::time::MissedTickBehavior::Delay);
    loop {
        tokio::select! {
            _ = stopping.changed() => break,
            _ = look.tick() => {
                wake_hearing(&node).await;
                looks += 1;
                is_held = true;
                if looks.is_multiple_of(DEADLOCKS) {
                    untie(&node).await;
                    go_on(&node).await;
                    from = let_back(&node, &from).await;
                    // Beside the claims, which need not wait until all is counted.
                    while looking.try_join_next().is_some() {}
                    if looking.is_empty() {
                        let node = Arc::clone(&node);
                        looking.spawn(async move { look_at_guards(&node).await });
                    }
                    let_back_held(&node, LetBack::All).await;
                }
            }
            () = node.wakeups.jobs.notified() => {}
            Some(_) = executions.join_next() => {}
        }
        // All that have ended: claims are made once for them.
        while executions.try_join_next().is_some() {}
        is_held = is_held && let_back_held(&node, LetBack::InOrder).await;
        claim_all(&executor, &mut executions).await;
    }
    let ending = async { while executions.join_next().await.is_some() {} };
    if tokio::time::timeout(GRACE, ending).await.is_err() {
        let cut_off = node.executions.claims();
        executions.shutdown().await;
        for claim in cut_off {
            let _ = jobs::hand_over(&node.pools.work, claim).await;
        }
    }
}

/// Claims jobs while there is room for them and some are due, but not for longer than until the
/// next look: who waits for an event is woken however much there is to claim.
async fn claim_all(executor: &Arc<Executor>, executions: &mut JoinSet<()>) {
    let (node, all) = (&executor.node, Instant::now());
    loop {
        if all.elapsed() > LOOK {
            return node.wakeups.jobs.notify_one();
        }
        let (places, alone) = executor.places();
        if places.is_empty() {
            return;
        }
        let (alive, published) = (node.executions.claims(), node.published());
        let deciding: Vec<JobId> = executor.deciding.all();
        let begun = Instant::now();
        let search = Search {
            node: &node.name,
            alive: &alive,
            deciding: &deciding,
            limited: published.limited(),
            several: places.len(),
            alone,
            share: *node.share.load_full(),
        };
        let claimed = jobs::claim(&node.pools.work, search).await;
        if begun.elapsed() > SLOW {
            set_aside(node).await;
        }
        match claimed {
            Ok(Claimed { jobs, more, .. }) if jobs.is_empty() => {
                if !more {
                    return;
                }
            }
            Ok(Claimed { jobs, unbegun, more }) => {
                let slots = places
                    .into_iter()
                    .zip(&jobs)
                    .map(|(place, job)| executor.slot(place, job))
                    .collect();
                let deciding = unbegun.then(|| DecidingJobs::hold(&executor.deciding, &jobs));
                executions.spawn(execute_all(Arc::clone(executor), jobs, slots, deciding));
                if !more {
                    return;
                }
            }
            Err(e) => return complain(&e),
        }
    }
}

impl Executor {
    /// Places for the jobs of one claim, and whether it is one that could not begin with others.
    fn places(&self) -> (Vec<OwnedSemaphorePermit>, bool) {
        let one_less = |alone: usize| alone.checked_sub(1);
        let alone = self.alone.fetch_update(Ordering::Relaxed, Ordering::Relaxed, one_less).is_ok();
        let place = || Arc::clone(&self.room).try_acquire_owned().ok();
        (std::iter::from_fn(place).take(if alone { 1 } else { TOGETHER }).collect(), alone)
    }

    fn slot(&self, place: OwnedSemaphorePermit, job: &ClaimedJob) -> JobSlot {
        let (alive, renewed) = self.node.executions.keep_alive(job.claim);
        JobSlot { renewed, _alive: alive, _place: place }
    }
}

/// Executes jobs that were claimed together, each on its own; those that nobody has begun yet begin
/// together.
async fn execute_all(
    executor: Arc<Executor>,
    jobs: Vec<ClaimedJob>,
    slots: Vec<JobSlot>,
    deciding: Option<Deciding>,
) {
    let (mut executions, all) = (JoinSet::new(), jobs.len());
    let mut spawn = |execution: Execution, slot: JobSlot| {
        let node = Arc::clone(&executor.node);
        executions.spawn(async move {
            let JobSlot { renewed, _alive, _place } = slot;
            execution::execute(&node, execution, renewed).await;
            drop((_alive, _place));
            // Its target is free now, or another of its kind may be waiting.
            node.wakeups.jobs.notify_one();
        });
    };
    match deciding {
        None => jobs
            .into_iter()
            .zip(slots)
            .for_each(|(job, slot)| spawn(Execution::TakenUp(Box::new(job)), slot)),
        Some(deciding) => {
            let begins = (&*executor.node, &executor.guarded);
            match claim_batch::open(begins, jobs, deciding).await {
                // Those that are over leave their slots together, so that the next are claimed
                // together as well.
                Ok(opened) => opened.into_iter().zip(slots).for_each(|(begun, slot)| match begun {
                    Some(begun) if !begun.is_over() => {
                        spawn(Execution::Begun(Box::new(begun)), slot);
                    }
                    begun => begun.iter().for_each(|begun| begun.count_end(&executor.node)),
                }),
                Err(NotOpened(jobs)) => _ = executor.alone.fetch_add(jobs, Ordering::Relaxed),
            }
        }
    }
    // There are places again, and perhaps targets.
    if executions.len() < all {
        executor.node.wakeups.jobs.notify_one();
    }
    while executions.join_next().await.is_some() {}
}

/// Lets go on what a halt paused that is lifted.
async fn go_on(node: &Node) {
    match jobs::let_go_on(&node.pools.work).await {
        Ok(0) => {}
        Ok(_) => node.wakeups.jobs.notify_one(),
        Err(e) => complain(&e),
    }
}

/// Sets aside what claims look through in vain.
async fn set_aside(node: &Node) {
    match jobs::set_aside(&node.pools.work, &node.published().at_once).await {
        Ok(0) => {}
        Ok(jobs) => tracing::debug!(jobs, "set aside until what stands in their way has ended"),
        Err(e) => complain(&e),
    }
}

/// Lets back what nothing stands in the way of any more; where to go on the next time.
async fn let_back(node: &Node, from: &str) -> String {
    let next = jobs::let_back(&node.pools.work, &node.published().at_once, from).await;
    next.inspect_err(complain).ok().flatten().unwrap_or_default()
}

/// Lets back what guards hold, as far as there is room; whether any of them holds something.
async fn let_back_held(node: &Node, which: LetBack) -> bool {
    let published = node.published();
    if published.guards.is_empty() {
        return false;
    }
    let back = guards::let_back_held(&node.pools.work, &published.guards, which).await;
    back.inspect_err(complain).map_or(true, |back| back.guards > 0)
}

/// Opens circuits of guards whose jobs have failed too often, counts anew for guards that were
/// changed, and frees what is held by those that are not there any more.
async fn look_at_guards(node: &Node) {
    let published = node.published();
    let looked = async {
        // Times of calendars are worked out for two days.
        if clock::now() - published.loaded_at > TIMES_ANEW && !published.guards.is_empty() {
            node.reload().await?;
        }
        if guards::look_at(&node.pools.work, &published.guards).await? {
            node.announcer.tell(Change { definitions: true, ..Change::default() });
            node.reload().await?;
        }
        guards::free(&node.pools.work, &published.guards, published.generation).await
    };
    match looked.await {
        Ok(0) => {}
        Ok(_) => node.wakeups.jobs.notify_one(),
        // Another node knows more.
        Err(StoreError::Stale(_)) => {}
        Err(e) => complain(&e),
    }
}

/// Wakes the jobs for which alerts came that may be what they wait for.
async fn wake_hearing(node: &Node) {
    match events::wake(&node.pools.work).await {
        Ok(woken) if woken.is_empty() => {}
        Ok(_) => {
            node.wakeups.jobs.notify_one();
            hear(node).await;
        }
        Err(e) => complain(&e),
    }
}

/// Of jobs that wait for each other's targets for ever the youngest gives way.
async fn untie(node: &Node) {
    let untied = async {
        for (one, behind) in deadlocks(&children::waiting(&node.pools.work).await?) {
            let why = format!(
                "it waits for its target, which job {behind} holds, and that one waits for what \
                job {} holds; of the two \
                this is the younger and gives way",
                one.root
            );
            if jobs::fail_queued(&node.pools.work, one.job, &why).await? {
                tracing::warn!(
                    job = one.job.0,
                    behind = behind.0,
                    "two jobs waited for each other's targets"
                );
                node.announcer.tell(Change { jobs: vec![one.job.0], ..Change::default() });
                node.wakeups.jobs.notify_one();
            }
        }
        Ok::<(), StoreError>(())
    };
    if let Err(e) = untied.await {
        complain(&e);
    }
}

/// Renews the claims of the executions that are alive here, until the node stops.
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

/// Takes a decision, and lets its job and everybody who follows know; whether it was still open.
pub(crate) async fn take_decision(
    node: &Node,
    decision: &Decision,
    decided: &Decided,
) -> Result<bool, StoreError> {
    let (id, job) = (decision.id, decision.job_id);
    if !decisions::decide(&node.pools.questions, id, decided).await? {
        return Ok(false);
    }
    node.announcer.tell(Change { jobs: vec![job], decisions: true, ..Change::default() });
    node.wakeups.jobs.notify_one();
    hear(node).await;
    let (choice, how) = (&decided.choice, &decided.how);
    tracing::info!(decision = id, job, choice, how, "a decision was taken");
    Ok(true)
}

/// Renews the claims of the executions that are alive here, and brings them what people say to
/// their jobs.
pub(crate) async fn hear(node: &Node) {
    match jobs::renew(&node.pools.work, &node.executions.claims()).await {
        Ok(renewed) => renewed.into_iter().for_each(|renewed| node.executions.tell(renewed)),
        Err(e) => complain(&e),
    }
}

fn complain(e: &StoreError) {
    tracing::error!("jobs: {e}");
}
