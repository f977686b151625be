//! The signals that end a long run.

use crate::error::CliError;
use tokio::signal::unix::{SignalKind, signal};

/// How a long run is to end.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Stop {
    /// At once: somebody sits at the terminal (SIGINT).
    Now,
    /// In order: others are to see it first (SIGTERM).
    InOrder,
}

/// Waits for Ctrl-C or a polite request to end.
pub async fn until_stopped() -> Result<Stop, CliError> {
    let failed = |e: std::io::Error| CliError::Here(format!("signals: {e}"));
    let mut terminate = signal(SignalKind::terminate()).map_err(failed)?;
    tokio::select! {
        interrupted = tokio::signal::ctrl_c() => interrupted.map(|()| Stop::Now).map_err(failed),
        _ = terminate.recv() => Ok(Stop::InOrder),
    }
}
