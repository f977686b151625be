//! Times and lengths of time, as the specification has them: what they may be, how lengths are
//! written, and the parts of a time in a zone.

use super::{ExprError, value::Val};
use chrono::{DateTime, Datelike, FixedOffset, TimeDelta, Timelike, Utc};
use std::str::FromStr;

/// A part of a time.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum TimePart {
    Year,
    Month,
    DayOfYear,
    DayOfMonth,
    Date,
    DayOfWeek,
    Hours,
    Minutes,
    Seconds,
    Milliseconds,
}

/// Longest length of time, in seconds: ten thousand years.
const LONGEST: i64 = 315_576_000_000;

/// What is said of a time that is none of the language's.
pub(super) fn beyond() -> ExprError {
    ExprError::new("the time lies beyond the years 1 to 9999")
}

/// A time, if it lies within the years 1 to 9999.
pub(super) fn within<'a>(time: DateTime<Utc>) -> Result<Val<'a>, ExprError> {
    if (1..=9999).contains(&time.year()) { Ok(Val::Time(time)) } else { Err(beyond()) }
}

/// A length of time, if it is not too long.
pub(super) fn bounded(span: TimeDelta) -> Result<TimeDelta, ExprError> {
    if span.num_seconds().abs() <= LONGEST {
        Ok(span)
    } else {
        Err(ExprError::new("the length of time is longer than ten thousand years"))
    }
}

/// Reads a length of time: numbers with their units, each with a fraction if wished, and a sign
/// before all of them. Days are Arvok's own.
pub(super) fn length(text: &str) -> Result<TimeDelta, ExprError> {
    let wrong = || {
        let shown = crate::text::cut(text, 40);
        ExprError::new(format!(
            "`{shown}` is not a length of time; write it like 90s, 15m, 1h30m, 1.5h or 2d"
        ))
    };
    let (negative, mut rest) = match text.strip_prefix('-') {
        Some(rest) => (true, rest),
        None => (false, text.strip_prefix('+').unwrap_or(text)),
    };
    if rest == "0" {
        return Ok(TimeDelta::zero());
    }
    if rest.is_empty() {
        return Err(wrong());
    }
    let mut nanoseconds: i128 = 0;
    while !rest.is_empty() {
        let digits = rest.find(|c: char| !c.is_ascii_digit() && c != '.').ok_or_else(wrong)?;
        let (number, after) = rest.split_at(digits);
        let unit = after.find(|c: char| c.is_ascii_digit() || c == '.').unwrap_or(after.len());
        let (unit, after) = after.split_at(unit);
        let each: i128 = match unit {
            "d" => 86_400_000_000_000,
            "h" => 3_600_000_000_000,
            "m" => 60_000_000_000,
            "s" => 1_000_000_000,
            "ms" => 1_000_000,
            "us" | "µs" => 1_000,
            "ns" => 1,
            _ => return Err(wrong()),
        };
        nanoseconds += times(number, each).ok_or_else(wrong)?;
        rest = after;
    }
    let whole = i64::try_from(nanoseconds / 1_000_000_000)
        .ok()
        .filter(|s| *s <= LONGEST)
        .ok_or_else(wrong)?;
    let fraction = u32::try_from(nanoseconds % 1_000_000_000).unwrap_or_default();
    let span = TimeDelta::new(whole, fraction).ok_or_else(wrong)?;
    Ok(if negative { -span } else { span })
}

/// A number with a fraction, if it has one, times a whole one; what is smaller than one is cut off.
fn times(number: &str, each: i128) -> Option<i128> {
    let (whole, fraction) = number.split_once('.').unwrap_or((number, ""));
    if whole.is_empty() && fraction.is_empty() || whole.len() > 15 || fraction.contains('.') {
        return None;
    }
    let fraction = &fraction[..fraction.len().min(15)];
    let digits = |text: &str| if text.is_empty() { Some(0) } else { text.parse::<i128>().ok() };
    let power = 10i128.pow(u32::try_from(fraction.len()).ok()?);
    Some(digits(whole)? * each + digits(fraction)? * each / power)
}

/// A length of time in seconds, as the specification writes it: `90s`, `-0.5s`.
pub(super) fn written(span: TimeDelta) -> String {
    let nanoseconds =
        i128::from(span.num_seconds()) * 1_000_000_000 + i128::from(span.subsec_nanos());
    let sign = if nanoseconds < 0 { "-" } else { "" };
    let (whole, fraction) = (nanoseconds.abs() / 1_000_000_000, nanoseconds.abs() % 1_000_000_000);
    if fraction == 0 {
        return format!("{sign}{whole}s");
    }
    let fraction = format!("{fraction:09}");
    format!("{sign}{whole}.{}s", fraction.trim_end_matches('0'))
}

/// A part of a time, in UTC or in a zone.
pub(super) fn part(
    time: DateTime<Utc>,
    zone: Option<&str>,
    part: TimePart,
) -> Result<i64, ExprError> {
    let Some(zone) = zone.filter(|z| *z != "UTC" && *z != "Z") else {
        return Ok(part_of_time(&time, part));
    };
    if let Some(offset) = offset(zone) {
        return Ok(part_of_time(&time.with_timezone(&offset), part));
    }
    match chrono_tz::Tz::from_str(zone) {
        Ok(zone) => Ok(part_of_time(&time.with_timezone(&zone), part)),
        Err(_) => Err(ExprError::new(format!(
            "`{}` is not a time zone; write a name such as Europe/Oslo, or an offset such as \
            +02:00",
            crate::text::cut(zone, 40)
        ))),
    }
}

/// `+02:00`, `-05:30`, `02:00`.
fn offset(text: &str) -> Option<FixedOffset> {
    let (sign, rest) = match text.split_at_checked(1)? {
        ("-", rest) => (-1, rest),
        ("+", rest) => (1, rest),
        _ => (1, text),
    };
    let (hours, minutes) = rest.split_once(':')?;
    let number = |text: &str, most: i32| {
        let good = (1..=2).contains(&text.len()) && text.bytes().all(|b| b.is_ascii_digit());
        good.then(|| text.parse::<i32>().ok()).flatten().filter(|n| *n <= most)
    };
    FixedOffset::east_opt(sign * (number(hours, 23)? * 3600 + number(minutes, 59)? * 60))
}

fn part_of_time(time: &(impl Datelike + Timelike), part: TimePart) -> i64 {
    i64::from(match part {
        TimePart::Year => return i64::from(time.year()),
        TimePart::Month => time.month0(),
        TimePart::DayOfYear => time.ordinal0(),
        TimePart::DayOfMonth => time.day0(),
        TimePart::Date => time.day(),
        TimePart::DayOfWeek => time.weekday().num_days_from_sunday(),
        TimePart::Hours => time.hour(),
        TimePart::Minutes => time.minute(),
        TimePart::Seconds => time.second(),
        TimePart::Milliseconds => time.nanosecond() / 1_000_000,
    })
}

/// A length of time in whole units; none for parts that only a time has.
pub(super) fn part_of_length(span: TimeDelta, part: TimePart) -> Option<i64> {
    match part {
        TimePart::Hours => Some(span.num_hours()),
        TimePart::Minutes => Some(span.num_minutes()),
        TimePart::Seconds => Some(span.num_seconds()),
        TimePart::Milliseconds => Some(span.num_milliseconds() % 1000),
        _ => None,
    }
}
