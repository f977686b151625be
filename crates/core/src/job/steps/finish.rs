//! The end of a job by one of its steps.

use crate::{
    job::{
        Place,
        execution::{Around, Execution, StepEnd},
    },
    runbook::{Finish, FinishState},
};
use serde_json::json;

pub(in crate::job) fn run<'m>(
    execution: &mut Execution<'m>,
    finish: &'m Finish,
    place: &Place,
    around: &Around<'m>,
) -> StepEnd {
    execution.started(place, 1, json!({ "finish": finish.outcome }));
    let because = finish.because.as_ref();
    let words = because.map(|text| {
        execution.see(around, |scope| text.fill_text(scope).unwrap_or_else(|e| e.to_string()))
    });
    match finish.outcome {
        FinishState::Succeeded => StepEnd::Finished(words),
        FinishState::Failed => {
            StepEnd::failed(words.unwrap_or_else(|| "the runbook ends here as failed".into()))
        }
    }
}
