//! How much of what others ask for a node does at once.

use super::{Followers, questions::Questions};
use crate::problem::ApiError;
use arvok_api::Who;
use arvok_store::StoreError;
use futures_util::FutureExt;
use std::{sync::Arc, time::Duration};
use tokio::sync::Semaphore;

/// Rehearsals that may run at once on a node.
const REHEARSALS: usize = 2;
/// Refusals that may wait to be recorded on a node, which happens one after the other.
const REFUSALS: usize = 64;
/// Publications that may be checked at once on a node.
const PUBLICATIONS: usize = 2;
/// Events of jobs that may be decided about at once on a node.
const DECIDING: usize = 8;

/// How long a question waits for its turn.
const PATIENCE: Duration = Duration::from_secs(5);

/// The capacity of a node, by what it is for: none of it takes from another.
#[derive(Debug)]
pub(crate) struct Capacity {
    /// For rehearsals.
    pub rehearsals: Arc<Semaphore>,
    /// For those who follow changes.
    pub followers: Followers,
    /// For refusals that wait to be recorded.
    pub refusals: Arc<Semaphore>,
    /// For the one that is being recorded.
    pub recorded_refusal: Semaphore,
    /// For questions that evaluate expressions.
    questions: Questions,
    /// For what is to be published.
    publications: Arc<Semaphore>,
    /// For events of jobs that are decided about.
    deciding: Arc<Semaphore>,
}

impl Default for Capacity {
    fn default() -> Self {
        let semaphore = |most| Arc::new(Semaphore::new(most));
        Self {
            rehearsals: semaphore(REHEARSALS),
            followers: Followers::default(),
            refusals: semaphore(REFUSALS),
            recorded_refusal: Semaphore::new(1),
            questions: Questions::default(),
            publications: semaphore(PUBLICATIONS),
            deciding: semaphore(DECIDING),
        }
    }
}

impl Capacity {
    /// Waits until what was refused is recorded.
    #[cfg(test)]
    pub async fn refusals_recorded(&self) {
        let all = u32::try_from(REFUSALS).expect("is a small number");
        drop(self.refusals.acquire_many(all).await.expect("is open"));
    }

    /// Decides about the event of a job, off the workers and with few others at once: what authors
    /// write is evaluated for it.
    pub async fn decide<T: Send + 'static>(
        &self,
        decide: impl FnOnce() -> T + Send + 'static,
    ) -> Result<T, StoreError> {
        let broken = |_| StoreError::BrokenOff("deciding about an event of a job");
        let place = Arc::clone(&self.deciding).acquire_owned().await.map_err(|_| broken(()))?;
        let decided = tokio::task::spawn_blocking(move || {
            let decided = decide();
            drop(place);
            decided
        });
        decided.await.map_err(|_| broken(()))
    }

    /// Evaluates something that a person asked for, off the workers that answer requests and with
    /// few others at once, so that no question can hold up the rest, nor those of one person those
    /// of others.
    pub async fn evaluate<T: Send + 'static>(
        &self,
        who: &Who,
        ask: impl FnOnce() -> T + Send + 'static,
    ) -> Result<T, ApiError> {
        evaluate(self.questions.place(who), ask).await
    }

    /// The same for what is to be published: nobody's questions hold it up.
    pub async fn evaluate_publication<T: Send + 'static>(
        &self,
        ask: impl FnOnce() -> T + Send + 'static,
    ) -> Result<T, ApiError> {
        evaluate(Arc::clone(&self.publications).acquire_owned().map(Result::ok), ask).await
    }
}

/// Evaluates off the workers, once there is a place.
async fn evaluate<T: Send + 'static, P: Send + 'static>(
    place: impl Future<Output = Option<P>>,
    ask: impl FnOnce() -> T + Send + 'static,
) -> Result<T, ApiError> {
    let place = tokio::time::timeout(PATIENCE, place)
        .await
        .map_err(|_| ApiError::Asked)?
        .ok_or(ApiError::Internal)?;
    let asked = tokio::task::spawn_blocking(move || {
        let answer = ask();
        drop(place);
        answer
    });
    asked.await.map_err(|_| ApiError::Internal)
}
