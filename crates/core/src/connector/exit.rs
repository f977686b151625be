//! The exit statuses of a program: which of them are as good as 0, and which say that nothing was
//! done.

use super::failure::{CallEnd, Failure};
use crate::document::Checker;

/// What its author says of the exit statuses of a program.
#[derive(Clone, Debug)]
pub(crate) struct ExitStatuses {
    /// As good as 0.
    pub succeeds: Vec<u8>,
    /// It has done nothing.
    pub refused: Vec<u8>,
    /// It has done nothing, and another try makes sense.
    pub retry_on: Vec<u8>,
}

impl ExitStatuses {
    /// The lists by their keys.
    pub fn lists(&self) -> [(&'static str, &[u8]); 3] {
        [("refused", &self.refused), ("retry_on", &self.retry_on), ("succeeds", &self.succeeds)]
    }

    /// Complains of statuses that cannot mean what is said of them.
    pub fn check(&self, check: &mut Checker<'_>, at: &str) {
        for (key, statuses) in self.lists() {
            if let Some(n) = statuses.iter().position(|status| *status == 0) {
                check.fail(&format!("{at}/{key}/{n}"), "is success");
            }
            let elsewhere = |status: &&u8| {
                self.lists().iter().filter(|(_, list)| list.contains(status)).count() > 1
            };
            if let Some(status) = statuses.iter().find(elsewhere) {
                let wrong = format!("{status} stands in two of refused, retry_on, succeeds");
                check.fail(&format!("{at}/{key}"), wrong);
            }
        }
    }

    /// Why a program failed by its status, if it did; `said` follows the status in the message.
    pub fn failure(&self, status: u32, said: &str, is_harmless: bool) -> Option<Failure> {
        let is_of = |list: &[u8]| list.iter().any(|of| u32::from(*of) == status);
        let message = format!("ended with status {status}{said}");
        if is_of(&self.retry_on) {
            Some(Failure::new(CallEnd::Refused, message))
        } else if is_of(&self.refused) {
            Some(Failure::lasting(CallEnd::Refused, message))
        } else if status == 0 || is_of(&self.succeeds) {
            None
        } else {
            Some(Failure { lasting: !is_harmless, ..Failure::new(CallEnd::Done, message) })
        }
    }
}

/// Whether a name is that of a variable of an environment (POSIX, Base Definitions 8.1).
pub(crate) fn is_variable(name: &str) -> bool {
    let fits = |c: char| c.is_ascii_alphanumeric() || c == '_';
    name.chars().all(fits) && name.starts_with(|c: char| !c.is_ascii_digit())
}
