//! What can go wrong with a command, and its exit code.

use std::process::ExitCode;

/// Shown below `arvok --help`; one line for each code of [`code`].
pub const EXIT_CODES: &str = "Exit codes:
  0  done
  1  done, but the answer is no: a check found faults, a job failed, the story ended badly
  2  the words of the command are wrong
  3  the server cannot be reached
  4  the server refused: no token, a wrong one, or a role too low
  5  there is no such thing
  6  the server refused what was sent
  7  something is wrong here: a file, a setting, a port";

/// What went wrong.
#[derive(Debug, thiserror::Error)]
pub enum CliError {
    /// The answer is no; what there is to say has been said.
    #[error("")]
    No,
    /// The words of the command do not fit together.
    #[error("{0}")]
    Usage(String),
    /// No server.
    #[error("{0}")]
    Unreachable(String),
    /// Not allowed.
    #[error("{0}")]
    Denied(String),
    /// Not there.
    #[error("{0}")]
    Missing(String),
    /// Not acceptable.
    #[error("{0}")]
    Refused(String),
    /// A fault on this side.
    #[error("{0}")]
    Here(String),
}

fn code(e: &CliError) -> u8 {
    match e {
        CliError::No => 1,
        CliError::Usage(_) => 2,
        CliError::Unreachable(_) => 3,
        CliError::Denied(_) => 4,
        CliError::Missing(_) => 5,
        CliError::Refused(_) => 6,
        CliError::Here(_) => 7,
    }
}

/// Says what went wrong on standard error.
pub fn report(e: &CliError) -> ExitCode {
    let text = e.to_string();
    if !text.is_empty() {
        crate::terminal::notice(&format!("arvok: {text}"));
    }
    ExitCode::from(code(e))
}

/// A fault of a file.
pub fn file(path: &std::path::Path, e: impl std::fmt::Display) -> CliError {
    CliError::Here(format!("{}: {e}", path.display()))
}
