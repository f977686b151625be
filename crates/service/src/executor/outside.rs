//! What an execution does for what its job waits for outside: makes and stops jobs of its steps,
//! and links to decisions.

use crate::{calls::replace, clock, node::Node, retry::retry};
use arvok_api::Change;
use arvok_core::{
    JobId,
    connector::{CallEnd, Failure, Repeat},
    job::{Event, Launching, Place, Recall, StepEvent},
    runbook::{ANSWER_TO, LINK, MAX_GENERATIONS, Runbook},
};
use arvok_store::{
    StoreError,
    jobs::ClaimedJob,
    outside::{
        children::{self, NewChild},
        decisions,
    },
};
use serde_json::Value;
use std::time::Duration;

/// Makes the job of a step, unless it was made before.
pub(super) async fn launch(
    node: &Node,
    held: &ClaimedJob,
    launching: Launching,
) -> Result<Event, StoreError> {
    let Launching { place, runbook, give } = launching;
    let made = match prepared(node, held, &runbook, give) {
        Ok((version, inputs, target)) => {
            let child = NewChild {
                parent: held.id,
                place: &place,
                runbook: &runbook,
                version,
                inputs,
                target,
            };
            retry("the job of a step", || {
                children::launch(&node.pools.work, child.clone(), clock::now())
            })
            .await?
        }
        // A node that is gone may have made it while it could be made.
        Err(why) => match retry("the job of a step", || {
            children::job_of_step(&node.pools.work, held.id, &place)
        })
        .await?
        {
            None => return Ok(failed(place, why)),
            before => before,
        },
    };
    let Some(job) = made else { return Err(StoreError::BrokenOff("the making of a step's job")) };
    node.announcer.tell(Change { jobs: vec![job.0], ..Change::default() });
    node.wakeups.jobs.notify_one();
    Ok(Event::Step { place, attempt: 1, what: StepEvent::Launched(job) })
}

fn prepared(
    node: &Node,
    held: &ClaimedJob,
    name: &str,
    give: serde_json::Map<String, Value>,
) -> Result<(i32, Value, String), String> {
    if usize::try_from(held.depth).unwrap_or(0) + 1 >= MAX_GENERATIONS {
        return Err(format!("jobs stand at most {MAX_GENERATIONS} deep below each other"));
    }
    let published = node.published();
    let (runbook, version) = published
        .catalog
        .get::<Runbook>(name)
        .ok_or_else(|| format!("there is no runbook `{name}` any more"))?;
    let prepared = runbook.prepare(give, &*published.catalog);
    let prepared = prepared.map_err(|e| format!("runbook `{name}`: {e}"))?;
    Ok((version, Value::Object(prepared.inputs), prepared.target.to_string()))
}

fn failed(place: Place, why: String) -> Event {
    let what = StepEvent::Broke {
        failure: Failure::lasting(CallEnd::NotSent, why),
        repeat: Repeat::Never,
    };
    Event::Step { place, attempt: 1, what }
}

/// Tells the job of a step to stop, as soon as it can be told.
pub(super) async fn recall(node: &Node, recall: Recall) -> Result<Event, StoreError> {
    let Recall { place, job: JobId(job), undo, words } = recall;
    while !retry("recalling a job", || children::recall(&node.pools.work, JobId(job), undo, &words))
        .await?
    {
        tokio::time::sleep(Duration::from_millis(500)).await;
    }
    node.announcer.tell(Change { jobs: vec![job], ..Change::default() });
    node.wakeups.jobs.notify_one();
    Ok(Event::Step { place, attempt: 1, what: StepEvent::Recalled })
}

/// What a link to a decision is sealed for, and what the code of an address for answers is for.
const SEALED_FOR: &str = "link to a decision";
const CODED_FOR: &str = "address for answers to a decision";

/// A link with which whoever has it decides: sealed by this installation, good while the question
/// stands.
#[derive(Debug)]
pub(crate) struct Link;

impl Link {
    /// The link to a decision.
    fn to(node: &Node, one: &decisions::Decision) -> Result<String, String> {
        let link =
            node.calls.vault.seal_link(SEALED_FOR, &Self::of(one)).map_err(|e| e.to_string())?;
        Ok(format!("{}/decide#{link}", node.public_url()))
    }

    /// The code by which an address for answers is known as one of a decision.
    pub fn code(node: &Node, decision: &decisions::Decision) -> String {
        node.calls.vault.code_of(CODED_FOR, &Self::of(decision))
    }

    /// Numbers come again when a backup is restored; with the moment of the question they do not.
    fn of(decision: &decisions::Decision) -> String {
        format!("{} {}", decision.id, decision.asked_at.timestamp_micros())
    }

    /// The decision that a link leads to; none if it is not one of ours.
    pub async fn open(node: &Node, link: &str) -> Result<Option<decisions::Decision>, StoreError> {
        let Some(opened) = node.calls.vault.open_link(SEALED_FOR, link) else { return Ok(None) };
        let id = opened.split(' ').next().and_then(|id| id.parse().ok());
        let Some(id) = id else { return Ok(None) };
        Ok(decisions::one(&node.pools.questions, id).await?.filter(|d| Self::of(d) == opened))
    }
}

/// The address for answers to a question; none where nobody answers by mail.
pub(crate) fn answer_address(node: &Node, decision: &decisions::Decision) -> Option<String> {
    let (local, domain) = node.answers.parts()?;
    Some(format!("{local}+{}.{}@{domain}", decision.id, Link::code(node, decision)))
}

/// Puts the link to a decision, and the address for answers, into a message that tells of it; what
/// is put in is hidden behind what stood for it.
pub(super) async fn put_ways(
    node: &Node,
    job: JobId,
    place: &Place,
    mut give: Value,
    hidden: &mut Vec<(String, &'static str)>,
) -> Result<Value, String> {
    let Some(asks) = place.asks() else { return Ok(give) };
    let written = give.to_string();
    let [wants_link, wants_address] = [LINK, ANSWER_TO].map(|stands| written.contains(stands));
    if !wants_link && !wants_address {
        return Ok(give);
    }
    let all = decisions::of_job(&node.pools.work, job).await.map_err(|e| e.to_string())?;
    let one = all.iter().find(|d| d.place == asks).ok_or("the question does not stand any more")?;
    if wants_link {
        let link = Link::to(node, one)?;
        give = replace(give, LINK, &link);
        hidden.push((link, LINK));
    }
    if wants_address {
        let address = answer_address(node, one).ok_or(
            "this node takes no answers by mail: `answers.address` is not set, and the message \
             has `decision.answer_to`",
        )?;
        give = replace(give, ANSWER_TO, &address);
        hidden.push((address, ANSWER_TO));
    }
    Ok(give)
}
