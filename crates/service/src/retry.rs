//! Trying again what cannot be done at the moment.

use arvok_store::{Class, StoreError};
use std::{
    fmt::Display,
    time::{Duration, Instant},
};

/// How long something is tried again: a job under way outlives a database that is away for a while.
const RETRIED_FOR: Duration = Duration::from_secs(60);

/// A wait that grows from try to try.
#[derive(Debug)]
pub(crate) struct Backoff {
    next: Duration,
}

impl Backoff {
    /// The first wait and the longest.
    const WAITS: (Duration, Duration) = (Duration::from_millis(20), Duration::from_secs(2));

    pub const fn new() -> Self {
        Self { next: Self::WAITS.0 }
    }

    pub async fn back_off(&mut self) {
        tokio::time::sleep(self.next).await;
        self.next = (self.next * 2).min(Self::WAITS.1);
    }
}

/// Tries something again while the database cannot be worked with; what it is stands in the log.
pub(crate) async fn retry<T, F: Future<Output = Result<T, StoreError>>>(
    what: impl Display,
    mut attempt: impl FnMut() -> F,
) -> Result<T, StoreError> {
    let (begun, mut backoff) = (Instant::now(), Backoff::new());
    loop {
        match attempt().await {
            Err(e) if e.class() != Class::Lasting && begun.elapsed() < RETRIED_FOR => {
                tracing::warn!("{what} is tried again: {e}");
                backoff.back_off().await;
            }
            done => return done,
        }
    }
}
