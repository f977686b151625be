//! What jobs wait for outside of them, and what they tell: decisions of people, events, jobs of
//! their own, and the outbox through which their events enter as alerts, and leave to subscribers.
//!
//! All of it is written with the record that tells of it. What has come for a job is counted on the
//! job's row; whoever executes it reads what that is, and answers the machine by it.

pub mod callbacks;
mod candidates;
pub mod children;
pub mod decisions;
pub mod events;
pub mod outbox;
pub mod subscribers;

use crate::{StoreError, calls, jobs::Looked};
use arvok_core::{
    JobId,
    job::{Outside, Place, StepEvent},
};
use sea_orm::ConnectionTrait;

/// What has come for a job.
#[derive(Debug, Default)]
pub struct Inbox {
    /// Step by step.
    pub posts: Vec<(Place, StepEvent)>,
    /// What was read of alerts; to be passed over with the record.
    pub read: Vec<i64>,
    /// Whether it is to be looked at again soon: events that are recorded at this moment are not
    /// seen yet.
    pub again: bool,
    /// How far was looked for waits; to be kept with the record, so that a death before it loses
    /// nothing of what was seen.
    pub looked: Vec<Looked>,
    /// Whether more has come already than was read: what is in time may be behind it.
    pub unread: bool,
}

/// What has come for the steps of a job that are open.
pub async fn come(
    db: &impl ConnectionTrait,
    job: JobId,
    open: &[(Place, Outside)],
) -> Result<Inbox, StoreError> {
    let places = |which: fn(&Outside) -> bool| -> Vec<String> {
        open.iter().filter(|(_, waits)| which(waits)).map(|(place, _)| place.to_string()).collect()
    };
    let mut come = Inbox::default();
    let asking = places(|w| *w == Outside::Decision);
    if !asking.is_empty() {
        come.posts.extend(decisions::answers(db, job, asking).await?);
    }
    let children: Vec<(Place, JobId)> = open
        .iter()
        .filter_map(|(place, waits)| match waits {
            Outside::Job(child) => Some((place.clone(), *child)),
            Outside::Decision | Outside::Event | Outside::Turn => None,
        })
        .collect();
    if !children.is_empty() {
        come.posts.extend(children::ends(db, children).await?);
    }
    let queued = places(|w| *w == Outside::Turn);
    if !queued.is_empty() {
        let told = calls::permits_given(db, job, queued).await?.into_iter();
        come.posts.extend(told.map(|place| (Place::new(place), StepEvent::Turn)));
    }
    if open.iter().any(|(_, waits)| *waits == Outside::Event) {
        events::come(db, job, &mut come).await?;
    }
    Ok(come)
}
