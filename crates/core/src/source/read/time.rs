//! When something happened, in whichever form its sender says so.

use crate::{
    document::Checker,
    expr::{Expr, Names, Val},
};
use chrono::{
    DateTime, Datelike, Days, LocalResult, NaiveDate, NaiveDateTime, NaiveTime, TimeZone, Utc,
    format::{Item, Parsed, StrftimeItems, parse},
};
use chrono_tz::Tz;
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use serde_json::Value;

/// Longest form of a time, in bytes.
const LONGEST: usize = 100;

/// How the time is found.
#[derive(Clone, Debug, Serialize, JsonSchema)]
#[serde(untagged)]
pub enum TimeDoc {
    /// An expression that gives a time: RFC 3339, also without a zone or with a blank in place of
    /// the `T`; RFC 2822; seconds, milliseconds, microseconds or nanoseconds since 1970.
    Expr(String),
    /// A time in a form or a zone of the sender's own.
    Form(TimeFormDoc),
}

/// A time in a form or a zone of the sender's own.
#[derive(Clone, Debug, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct TimeFormDoc {
    /// An expression that gives it.
    pub of: String,
    /// Its form, as `%d.%m.%Y %H:%M:%S` (as `strftime` of POSIX has it). What has no year is of the
    /// last twelve months, what has no time begins the day. Left out: any of the usual forms.
    #[serde(default, rename = "as")]
    pub form: Option<String>,
    /// The zone of times that do not say theirs, such as `Europe/London`. Left out: `UTC`.
    #[serde(default)]
    pub zone: Option<String>,
}

impl<'de> Deserialize<'de> for TimeDoc {
    fn deserialize<D: serde::Deserializer<'de>>(d: D) -> Result<Self, D::Error> {
        match Value::deserialize(d)? {
            Value::String(text) => Ok(Self::Expr(text)),
            other => {
                serde_json::from_value(other).map(Self::Form).map_err(serde::de::Error::custom)
            }
        }
    }
}

impl From<&str> for TimeDoc {
    fn from(text: &str) -> Self {
        Self::Expr(text.to_owned())
    }
}

/// How the time is found, checked.
#[derive(Clone, Debug)]
pub(super) struct TimeRead {
    pub of: Expr,
    form: Option<String>,
    zone: Tz,
}

impl TimeDoc {
    pub(super) fn check(self, check: &mut Checker<'_>, names: Names<'_>) -> Option<TimeRead> {
        let doc = match self {
            Self::Expr(text) => {
                let of = check.expr("/read/time", &text, names)?;
                return Some(TimeRead { of, form: None, zone: Tz::UTC });
            }
            Self::Form(doc) => doc,
        };
        let of = check.expr("/read/time/of", &doc.of, names);
        let zone = doc.zone.as_deref().unwrap_or("UTC").parse::<Tz>().ok();
        if zone.is_none() {
            check.fail("/read/time/zone", "is not a time zone, such as Europe/London");
        }
        let fits = |form: &String| {
            form.len() <= LONGEST && !StrftimeItems::new(form).any(|item| item == Item::Error)
        };
        let is_good = doc.form.as_ref().is_none_or(fits);
        if !is_good {
            check.fail("/read/time/as", "is no form of a time, such as %d.%m.%Y %H:%M:%S");
        }
        let (of, zone) = (of?, zone?);
        is_good.then_some(TimeRead { of, form: doc.form, zone })
    }
}

impl TimeRead {
    /// The time that a value says; `received` is when it came.
    ///
    /// # Errors
    /// Why it says none.
    pub fn time(&self, value: &Val<'_>, received: DateTime<Utc>) -> Result<DateTime<Utc>, String> {
        let time = match (value, &self.form) {
            (Val::Time(t), _) => Some(*t),
            (Val::Str(text), Some(form)) => self.formed(text.trim(), form, received),
            (Val::Str(text), None) => self.usual(text.trim()),
            (other, None) => other.number().and_then(since_1970),
            (other, Some(form)) => self.formed(&other.text(), form, received),
        };
        time.ok_or_else(|| match &self.form {
            Some(form) => format!("is no time of the form `{form}`"),
            None => "is not an RFC 3339 time, nor seconds since 1970".to_owned(),
        })
    }

    fn usual(&self, text: &str) -> Option<DateTime<Utc>> {
        if let Ok(time) = DateTime::parse_from_rfc3339(text) {
            return Some(time.with_timezone(&Utc));
        }
        if let Ok(number) = text.parse() {
            return since_1970(number);
        }
        if let Ok(time) = DateTime::parse_from_rfc2822(text) {
            return Some(time.with_timezone(&Utc));
        }
        let zoned = ["%Y-%m-%d %H:%M:%S%.f%#z", "%Y-%m-%dT%H:%M:%S%.f%#z"];
        let zoned = zoned.into_iter().find_map(|form| DateTime::parse_from_str(text, form).ok());
        if let Some(time) = zoned {
            return Some(time.with_timezone(&Utc));
        }
        let bare = ["%Y-%m-%dT%H:%M:%S%.f", "%Y-%m-%d %H:%M:%S%.f"];
        let bare = bare.into_iter().find_map(|form| NaiveDateTime::parse_from_str(text, form).ok());
        bare.and_then(|bare| self.in_zone(bare))
    }

    fn formed(&self, text: &str, form: &str, received: DateTime<Utc>) -> Option<DateTime<Utc>> {
        let mut parsed = Parsed::new();
        parse(&mut parsed, text, StrftimeItems::new(form)).ok()?;
        if let Ok(time) = parsed.to_datetime() {
            return Some(time.with_timezone(&Utc));
        }
        let has_year = parsed.year().is_some()
            || parsed.year_mod_100().is_some()
            || parsed.isoyear().is_some();
        let here = received.with_timezone(&self.zone);
        let date = match has_year {
            true => parsed.to_naive_date().ok()?,
            false => last_such(&parsed, here.date_naive())?,
        };
        let time = parsed.to_naive_time().unwrap_or(NaiveTime::MIN);
        let bare = date.and_time(time);
        match parsed.offset() {
            Some(offset) => {
                let offset = chrono::FixedOffset::east_opt(offset)?;
                let time = offset.from_local_datetime(&bare).single()?;
                Some(time.with_timezone(&Utc))
            }
            None => self.in_zone(bare),
        }
    }

    /// A time of the zone's clocks; of two of the same name, as clocks are put back, the first.
    fn in_zone(&self, bare: NaiveDateTime) -> Option<DateTime<Utc>> {
        match self.zone.from_local_datetime(&bare) {
            LocalResult::Single(time) | LocalResult::Ambiguous(time, _) => {
                Some(time.with_timezone(&Utc))
            }
            LocalResult::None => None,
        }
    }
}

/// The last day of a name without a year, tomorrow at the latest: clocks differ.
fn last_such(parsed: &Parsed, today: NaiveDate) -> Option<NaiveDate> {
    let tomorrow = today.checked_add_days(Days::new(1))?;
    if parsed.month().is_none() && parsed.day().is_none() && parsed.ordinal().is_none() {
        return Some(today);
    }
    // A leap day is of the last year that had one.
    (0..=8).find_map(|back| {
        let mut parsed = parsed.clone();
        parsed.set_year(i64::from(tomorrow.year() - back)).ok()?;
        parsed.to_naive_date().ok().filter(|date| *date <= tomorrow)
    })
}

/// A number since 1970, by its size: what would be later than the year 5138 in one unit is of a
/// smaller one.
fn since_1970(number: f64) -> Option<DateTime<Utc>> {
    if !number.is_finite() {
        return None;
    }
    let seconds = match number.abs() {
        n if n < 1e11 => number,
        n if n < 1e14 => number / 1e3,
        n if n < 1e17 => number / 1e6,
        _ => number / 1e9,
    };
    #[expect(clippy::cast_possible_truncation, reason = "of what is too large chrono makes none")]
    let millis = (seconds * 1_000.0).round() as i64;
    DateTime::from_timestamp_millis(millis)
}
