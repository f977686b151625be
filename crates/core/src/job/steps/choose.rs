//! A choice: the steps of the branch that was taken.

use crate::{
    job::{
        Block, Doing, Open, Place,
        execution::{Around, Execution, StepEnd},
    },
    runbook::{Choose, Step},
};
use serde_json::{Value, json};

type Choosing<'m> = (&'m Step, &'m Choose);

pub(in crate::job) fn begin<'m>(
    execution: &mut Execution<'m>,
    (step, choose): Choosing<'m>,
    place: &Place,
    open: &mut Open,
    around: &Around<'m>,
) -> Option<StepEnd> {
    let mut taken = None;
    for (i, branch) in choose.branches.iter().enumerate() {
        let held = branch.when.as_ref().map_or(Ok(true), |when| {
            execution
                .see(around, |scope| when.holds(scope))
                .map_err(|e| format!("when: {when}: {e}"))
        });
        match held {
            Ok(false) => {}
            Ok(true) => {
                taken = Some(i);
                break;
            }
            Err(message) => {
                execution.started(place, 1, Value::Null);
                return Some(StepEnd::failed(message));
            }
        }
    }
    execution.started(place, 1, output(taken));
    match taken {
        None => Some(StepEnd::Done(output(None))),
        Some(branch) => {
            open.doing = Doing::Branch(branch, Box::default());
            go_on(execution, (step, choose), place, open, around)
        }
    }
}

/// Branches count from one for people.
fn output(taken: Option<usize>) -> Value {
    json!({ "branch": taken.map(|i| i + 1) })
}

pub(in crate::job) fn go_on<'m>(
    execution: &mut Execution<'m>,
    (step, choose): Choosing<'m>,
    place: &Place,
    open: &mut Open,
    around: &Around<'m>,
) -> Option<StepEnd> {
    let over = execution.over_time(step, open);
    let Doing::Branch(taken, block) = &mut open.doing else { return Some(StepEnd::Halted) };
    let block: &mut Block = block;
    let Some(branch) = choose.branches.get(*taken) else {
        return Some(StepEnd::failed("there is no such branch any more"));
    };
    let end = execution.block(&branch.steps, block, &around.within(place, over.is_some()))?;
    let end = StepEnd::within(end, || output(Some(*taken)));
    Some(Execution::timed_out(step, over, around, end))
}
