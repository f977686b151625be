//! Several ways side by side.

use crate::{
    job::{
        Block, Doing, Open, Place, Way,
        execution::{Around, End, Execution, StepEnd},
    },
    runbook::{Step, Together, Until},
};
use serde_json::{Value, json};

type Abreast<'m> = (&'m Step, &'m Together);

pub(in crate::job) fn begin<'m>(
    execution: &mut Execution<'m>,
    abreast: Abreast<'m>,
    place: &Place,
    open: &mut Open,
    around: &Around<'m>,
) -> Option<StepEnd> {
    execution.started(place, 1, Value::Object(serde_json::Map::new()));
    open.doing = Doing::Ways(abreast.1.ways.iter().map(|_| Way::Open(Block::default())).collect());
    go_on(execution, abreast, place, open, around)
}

pub(in crate::job) fn go_on<'m>(
    execution: &mut Execution<'m>,
    (step, together): Abreast<'m>,
    place: &Place,
    open: &mut Open,
    around: &Around<'m>,
) -> Option<StepEnd> {
    let over = execution.over_time(step, open);
    let Doing::Ways(ways) = &mut open.doing else { return Some(StepEnd::Halted) };
    let decided = |ways: &[Way]| match together.until {
        Until::All => ways.iter().any(|w| matches!(w, Way::Failed(_))),
        Until::First => ways.contains(&Way::Done),
    };
    loop {
        let mut moved = false;
        for (number, (_, steps)) in together.ways.iter().enumerate() {
            let halt = over.is_some() || decided(ways);
            let Some(Way::Open(block)) = ways.get_mut(number) else { continue };
            let Some(end) = execution.block(steps, block, &around.within(place, halt)) else {
                continue;
            };
            moved = true;
            ways[number] = match end {
                End::Done => Way::Done,
                End::Failed(_, told) => Way::Failed(told),
                End::Halted | End::Finished(_) => Way::Stopped,
            };
        }
        if !moved {
            break;
        }
    }
    if ways.iter().any(|w| matches!(w, Way::Open(_))) {
        return None;
    }
    let end = match together.until {
        _ if around.halt || over.is_some() => StepEnd::Halted,
        Until::All => failed(together, ways).map_or(StepEnd::Done(json!({})), StepEnd::failed),
        Until::First => match ways.iter().position(|w| *w == Way::Done) {
            Some(first) => StepEnd::Done(json!({ "first": together.ways[first].0 })),
            None => StepEnd::failed(
                failed(together, ways).unwrap_or_else(|| "no way came to its end".into()),
            ),
        },
    };
    Some(Execution::timed_out(step, over, around, end))
}

/// Why the ways failed that did, each with its name.
fn failed(together: &Together, ways: &[Way]) -> Option<String> {
    let told = together.ways.iter().zip(ways).filter_map(|((name, _), way)| match way {
        Way::Failed(told) => Some(format!("{name}: {told}")),
        Way::Open(_) | Way::Done | Way::Stopped => None,
    });
    let told: Vec<String> = told.collect();
    if told.is_empty() { None } else { Some(told.join("; ")) }
}
