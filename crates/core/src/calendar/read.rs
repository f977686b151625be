//! A calendar that is read from where it is kept: an operation that gives it as iCalendar, again
//! and again.

use crate::{
    Period,
    connector::{Lookup, LookupDoc},
    definition::{Mismatch, Others},
    document::Checker,
    expr::{Expr, ExprError},
};
use serde_json::Value;

/// How often it is read where nothing else is said, at least and at most.
const EVERY: Period = Period::from_secs(3_600);
const SHORTEST: Period = Period::from_secs(60);
const LONGEST: Period = Period::from_secs(24 * 3_600);

/// The operation that gives a calendar's events.
#[derive(Clone, Debug)]
pub struct CalendarReading {
    /// The operation, and where in its result the calendar is.
    pub lookup: Lookup,
    /// How often it is called.
    pub every: Period,
}

impl CalendarReading {
    pub(super) fn check(
        check: &mut Checker<'_>,
        lookup: &LookupDoc<'_>,
        every: Option<Period>,
    ) -> Option<Self> {
        let every = every.unwrap_or(EVERY);
        if !(SHORTEST.millis()..=LONGEST.millis()).contains(&every.millis()) {
            let wrong = format!("is from {SHORTEST} to {LONGEST}, not {every}");
            check.fail("/every", wrong);
        }
        Some(Self { lookup: lookup.check(check, "")?, every })
    }

    /// The iCalendar in what the operation gave.
    ///
    /// # Errors
    /// Why there is none.
    pub fn text_of(&self, result: &Value) -> Result<String, String> {
        let text = self.expression().text();
        let of = |e: ExprError| format!("`text`, which is {text}: {e}");
        match self.lookup.read(result).map_err(of)? {
            Value::String(text) => Ok(text),
            _ => Err(format!("`text`, which is {text}, gives no text")),
        }
    }

    /// Its expression.
    pub(super) fn expression(&self) -> &Expr {
        self.lookup.expression()
    }

    pub(super) fn misfits(&self, others: &dyn Others) -> Vec<Mismatch> {
        self.lookup.misfits("", "a calendar is read again and again", others)
    }
}
