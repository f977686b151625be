//! Calls that are over and not written yet.

use arvok_store::calls::NewCall;
use std::sync::{Mutex, PoisonError};

/// Calls that wait to be written; what comes beyond is not kept.
const MOST: usize = 10_000;

/// Calls that are not written yet.
#[derive(Debug, Default)]
pub(crate) struct CallLog(Mutex<Vec<NewCall>>);

impl CallLog {
    /// Notes one.
    pub fn note(&self, call: NewCall) {
        let mut waiting = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        if waiting.len() < MOST {
            waiting.push(call);
        }
    }

    /// All that wait.
    pub fn drain(&self) -> Vec<NewCall> {
        std::mem::take(&mut *self.0.lock().unwrap_or_else(PoisonError::into_inner))
    }
}
