//! A message to people: done as soon as one of their ways has taken it.

use super::reach;
use crate::{
    job::{
        Open, Place,
        execution::{Around, Execution, StepEnd},
        progress::{Doing, Reaching, Stand},
    },
    runbook::Tell,
};
use serde_json::{Value, json};

pub(in crate::job) fn begin<'m>(
    execution: &mut Execution<'m>,
    tell: &'m Tell,
    place: &Place,
    open: &mut Open,
    around: &Around<'m>,
) -> Option<StepEnd> {
    let text = match execution.see(around, |scope| tell.text.fill_text(scope)) {
        Ok(text) => text,
        Err(e) => {
            execution.started(place, 1, Value::Null);
            return Some(StepEnd::failed(format!("tell: {e}")));
        }
    };
    execution.started(place, 1, json!({ "tell": text, "to": tell.to.contact }));
    let message = reach::message(execution, &text, None);
    let reaching = Reaching::begins(execution.now, &tell.to.contact, message, false);
    open.doing = Doing::Telling(Box::new(reaching));
    go_on(execution, place, open, around)
}

pub(in crate::job) fn go_on<'m>(
    execution: &mut Execution<'m>,
    place: &Place,
    open: &mut Open,
    around: &Around<'m>,
) -> Option<StepEnd> {
    let Doing::Telling(reaching) = &mut open.doing else { return Some(StepEnd::Halted) };
    let at = place.within("reached");
    reach::go_on(execution, &at, reaching, around);
    match (&reaching.by, &reaching.stand) {
        (Some((contact, via)), _) => Some(StepEnd::Done(json!({ "contact": contact, "via": via }))),
        (None, Stand::Over) if reaching.is_noted => Some(StepEnd::failed(format!(
            "nobody of `{}` is to be reached at this time",
            reaching.contact
        ))),
        (None, Stand::Over) => {
            Some(StepEnd::failed(format!("no way to `{}` took the message", reaching.contact)))
        }
        (None, _) if around.halt => {
            reach::stop(execution, &at, reaching);
            Some(StepEnd::Halted)
        }
        (None, _) => None,
    }
}
