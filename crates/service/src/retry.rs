//! Trying again what cannot be done at the moment.

use arvok_store::{Class, StoreError};
use std::time::{Duration, Instant};

/// How long the records are tried to be written or read while the database cannot be worked with.
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

/// Tries something again while the database cannot be worked with.
pub(crate) async fn retry<T, F: Future<Output = Result<T, StoreError>>>(
    mut attempt: impl FnMut() -> F,
) -> Result<T, StoreError> {
    let begun = Instant::now();
    loop {
        match attempt().await {
            Err(e) if e.class() != Class::Lasting && begun.elapsed() < RETRIED_FOR => {
                tracing::warn!("it is tried again: {e}");
                tokio::time::sleep(Duration::from_millis(200)).await;
            }
            done => return done,
        }
    }
}
