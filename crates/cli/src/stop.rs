//! The signals that a long run hears.

use crate::error::CliError;
use std::io::IsTerminal;
use tokio::signal::unix::{Signal, SignalKind, signal};

/// What a signal asks for.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum SignalRequest {
    /// To end at once: somebody sits at the terminal (SIGINT).
    Stop,
    /// To end in order: others are to see it first (SIGTERM, SIGQUIT).
    StopInOrder,
    /// To read the settings again (SIGHUP); in a terminal that one says that the terminal is gone,
    /// and asks to stop.
    Reload,
    /// Something that means nothing here (SIGUSR1, SIGUSR2), and does not end it.
    Nothing,
}

/// The signals, heard from the moment at which this is made: none of them ends the process by
/// itself any more.
#[derive(Debug)]
pub struct Signals {
    interrupt: Signal,
    terminate: Signal,
    quit: Signal,
    hang_up: Signal,
    has_terminal: bool,
    user: [Signal; 2],
}

impl Signals {
    /// Begins to hear.
    pub fn new() -> Result<Self, CliError> {
        let hear = |kind| signal(kind).map_err(|e| CliError::Here(format!("signals: {e}")));
        Ok(Self {
            interrupt: hear(SignalKind::interrupt())?,
            terminate: hear(SignalKind::terminate())?,
            quit: hear(SignalKind::quit())?,
            hang_up: hear(SignalKind::hangup())?,
            has_terminal: std::io::stdin().is_terminal(),
            user: [hear(SignalKind::user_defined1())?, hear(SignalKind::user_defined2())?],
        })
    }

    /// What the next one asks for.
    pub async fn next(&mut self) -> SignalRequest {
        let [one, two] = &mut self.user;
        tokio::select! {
            _ = self.interrupt.recv() => SignalRequest::Stop,
            _ = self.terminate.recv() => SignalRequest::StopInOrder,
            _ = self.quit.recv() => SignalRequest::StopInOrder,
            _ = self.hang_up.recv() => if self.has_terminal { SignalRequest::Stop } else { SignalRequest::Reload },
            _ = one.recv() => SignalRequest::Nothing,
            _ = two.recv() => SignalRequest::Nothing,
        }
    }
}

/// Waits for Ctrl-C or a polite request to end.
pub async fn until_stopped() -> Result<(), CliError> {
    let mut terminate =
        signal(SignalKind::terminate()).map_err(|e| CliError::Here(format!("signals: {e}")))?;
    tokio::select! {
        interrupted = tokio::signal::ctrl_c() => interrupted.map_err(|e| CliError::Here(format!("signals: {e}"))),
        _ = terminate.recv() => Ok(()),
    }
}
