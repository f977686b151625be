//! The signals that end a long run.

use crate::error::CliError;
use tokio::signal::unix::{SignalKind, signal};

/// Waits for Ctrl-C or a polite request to end.
pub async fn until_stopped() -> Result<(), CliError> {
    let failed = |e: std::io::Error| CliError::Here(format!("signals: {e}"));
    let mut terminate = signal(SignalKind::terminate()).map_err(failed)?;
    tokio::select! {
        interrupted = tokio::signal::ctrl_c() => interrupted.map_err(failed),
        _ = terminate.recv() => Ok(()),
    }
}
