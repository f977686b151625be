//! Going on from where another job failed: which of its steps stand, and where the new one begins.

use super::{JobState, Place, Progress};
use crate::runbook::Runbook;
use std::collections::BTreeSet;

/// A try of a step of the job that failed.
#[derive(Clone, Debug)]
pub struct Tried {
    /// The step, or what belongs to one.
    pub place: Place,
    /// Whether it was done.
    pub done: bool,
}

/// Where the new job begins.
#[derive(Clone, Debug, PartialEq)]
pub struct GoingOn {
    /// How it stands at its beginning.
    pub progress: Progress,
    /// The steps of the runbook that stand, by their ids; their records are taken over.
    pub stand: Vec<String>,
    /// The step with which it begins.
    pub from: String,
}

/// The step of the runbook's own list in which a place stands.
fn top(place: &Place) -> &str {
    place.as_str().split(['.', '[']).next().unwrap_or_default()
}

/// How a job begins that goes on from where another of the runbook failed, or was stopped; `tried`
/// in the order in which tries ended. What was taken back is done again, and so is all behind it.
///
/// # Errors
/// Why there is nothing to go on from.
pub fn going_on(
    runbook: &Runbook,
    before: &Progress,
    state: JobState,
    tried: &[Tried],
) -> Result<GoingOn, String> {
    if !matches!(state, JobState::Failed | JobState::Cancelled) {
        return Err(format!(
            "it is {state}; only a job that failed or was cancelled is gone on from"
        ));
    }
    let ids: Vec<&str> = runbook.steps.iter().map(|s| s.id.as_str()).collect();
    let taken_back = tried
        .iter()
        .filter(|t| t.place.id() == "undo")
        .map(|t| top(&t.place))
        .collect::<BTreeSet<_>>();
    let first_back = ids.iter().position(|id| taken_back.contains(id)).unwrap_or(usize::MAX);
    let at = before.done.min(first_back).min(ids.len());
    let Some(from) = ids.get(at) else {
        return Err("all of its steps were done".into());
    };
    if at == 0 {
        return Err(format!("nothing stands before its first step `{from}`; launch it once more"));
    }
    let stand: Vec<String> = ids[..at].iter().map(|id| (*id).to_owned()).collect();
    let with_undo: BTreeSet<&str> = crate::runbook::all(&runbook.steps)
        .into_iter()
        .filter(|s| s.undo.is_some())
        .map(|s| s.id.as_str())
        .collect();
    let stands = |place: &Place| stand.iter().any(|id| id == top(place));
    let undo =
        tried.iter().filter(|t| t.done && with_undo.contains(t.place.id()) && stands(&t.place));
    let errors = before.errors.iter().filter(|(place, _)| stands(&Place::new(place.as_str())));
    let progress = Progress {
        carried: stand.iter().map(|id| Place::new(id.as_str())).collect(),
        undo: undo.map(|t| t.place.clone()).collect(),
        errors: errors.map(|(place, why)| (place.clone(), why.clone())).collect(),
        done: at,
        ..Progress::default()
    };
    Ok(GoingOn { progress, stand, from: (*from).to_owned() })
}
