//! A list: the same steps for each of its items, some at once.

use crate::{
    connector::MAX_OUTPUT,
    job::{
        Doing, Open, Place,
        execution::{Around, End, Execution, StepEnd},
    },
    runbook::{Each, Failures, MAX_ITEMS, Step},
    text::clean_json,
};
use chrono::TimeDelta;
use serde_json::{Map, Value, json};
use std::collections::BTreeMap;

type Looping<'m> = (&'m Step, &'m Each);

pub(in crate::job) fn begin<'m>(
    execution: &mut Execution<'m>,
    looping: Looping<'m>,
    place: &Place,
    open: &mut Open,
    around: &Around<'m>,
) -> Option<StepEnd> {
    let items =
        execution.see(around, |scope| looping.1.items.eval(scope).map(|v| clean_json(v.to_json())));
    let items = match items {
        Ok(Value::Array(items)) if items.len() <= MAX_ITEMS => Ok(items),
        Ok(Value::Array(items)) => {
            Err(format!("{} has {} items; {MAX_ITEMS} are allowed", looping.1.items, items.len()))
        }
        Ok(_) => Err(format!("{} is not a list", looping.1.items)),
        Err(e) => Err(format!("{}: {e}", looping.1.items)),
    };
    match items {
        Err(message) => {
            execution.started(place, 1, Value::Null);
            Some(StepEnd::failed(message))
        }
        Ok(items) => {
            execution.started(place, 1, json!({ "each": items }));
            execution.kept.list(place, items);
            open.doing = Doing::Items {
                next: 0,
                open: BTreeMap::new(),
                failed: BTreeMap::new(),
                rests: None,
            };
            go_on(execution, looping, place, open, around)
        }
    }
}

pub(in crate::job) fn go_on<'m>(
    execution: &mut Execution<'m>,
    (step, each): Looping<'m>,
    place: &Place,
    open: &mut Open,
    around: &Around<'m>,
) -> Option<StepEnd> {
    let over = execution.over_time(step, open);
    let count = execution.kept.items(place);
    let between = each.between.as_ref().map_or(TimeDelta::zero(), |b| open.within(b).delta());
    let Doing::Items { next, open: lanes, failed, rests } = &mut open.doing else {
        return Some(StepEnd::Halted);
    };
    let stops = each.failures == Failures::Stop;
    let has_enough =
        |failed: &BTreeMap<usize, String>| each.stop_after.is_some_and(|most| failed.len() >= most);
    let halted = around.halt || over.is_some();
    loop {
        let mut moved = false;
        for number in lanes.keys().copied().collect::<Vec<_>>() {
            let halt = over.is_some() || (stops && !failed.is_empty());
            let Some(lane) = lanes.get_mut(&number) else { continue };
            let Some(end) =
                execution.block(&each.steps, lane, &around.item(&each.name, place, number, halt))
            else {
                continue;
            };
            lanes.remove(&number);
            moved = true;
            if let End::Failed(_, told) = end {
                failed.insert(number, told);
            }
        }
        // Where the list is stopped they end at once.
        while !execution.paused
            && !execution.has_enough()
            && *next < count
            && lanes.len() < each.at_once
            && (halted || !has_enough(failed))
        {
            let ends = halted || (stops && !failed.is_empty());
            if each.waves.begins_with(*next, count) && !ends {
                // A wave begins when those before it are over, and the time between has passed.
                if !lanes.is_empty() {
                    break;
                }
                let now = execution.now;
                let until = *rests.get_or_insert(now + between);
                if now < until && !execution.facts.dry {
                    break;
                }
                *rests = None;
            }
            lanes.insert(*next, Default::default());
            *next += 1;
            moved = true;
        }
        if !moved {
            break;
        }
    }
    let stopped = halted || (stops && !failed.is_empty());
    let has_enough = has_enough(failed);
    if !lanes.is_empty() || (!stopped && !has_enough && *next < count) {
        return None;
    }
    Some(match failed.iter().next() {
        _ if halted => Execution::timed_out(step, over, around, StepEnd::Halted),
        Some((number, told)) if stops => StepEnd::FailedWithin(
            place.item(*number),
            format!("item {} of `{}`: {told}", number + 1, step.id),
        ),
        Some((number, told)) if has_enough => StepEnd::failed(format!(
            "{} of {count} items of `{}` failed, {}; item {}: {told}",
            failed.len(),
            step.id,
            match count - *next {
                0 => "none was left".to_owned(),
                1 => "one more was not begun".to_owned(),
                left => format!("{left} more were not begun"),
            },
            number + 1,
        )),
        _ => output(execution, each, place, failed, around),
    })
}

/// What each item gave, or why it failed.
fn output<'m>(
    execution: &Execution<'m>,
    each: &'m Each,
    place: &Place,
    failed: &BTreeMap<usize, String>,
    around: &Around<'m>,
) -> StepEnd {
    let one = |number: usize| {
        let item = execution.kept.item(place, number).cloned().unwrap_or_default();
        if let Some(error) = failed.get(&number) {
            return json!({ "item": item, "error": error });
        }
        let around = around.item(&each.name, place, number, false);
        let gives = match &each.gives {
            Some(gives) => {
                execution.see(&around, |scope| gives.eval(scope).map(|v| clean_json(v.to_json())))
            }
            None => {
                let steps = execution.kept.in_lane(around.place.as_str());
                Ok(Value::Object(
                    steps
                        .map(|(id, output)| (id.to_owned(), output.clone()))
                        .collect::<Map<_, _>>(),
                ))
            }
        };
        match gives {
            Ok(gives) => json!({ "item": item, "gives": gives }),
            Err(e) => json!({ "item": item, "error": format!("gives: {e}") }),
        }
    };
    let output = Value::Array((0..execution.kept.items(place)).map(one).collect());
    let size = output.to_string().len();
    if size > MAX_OUTPUT {
        let hint = "say with `gives` what of each item is needed";
        return StepEnd::failed(format!(
            "what the items give has {size} bytes; {MAX_OUTPUT} are allowed: {hint}"
        ));
    }
    StepEnd::Done(output)
}
