//! What is stored, and for how long.

use super::{Table, ago};
use arvok_api::{RetentionChange, RetentionTimes, Storage, StoredDay};
use arvok_core::Period;
use chrono::{DateTime, Utc};
use std::collections::{BTreeMap, BTreeSet};

/// Records by kind, then alerts by day, and below it how long they are kept.
pub fn storage(s: &Storage) -> String {
    let mut kinds = Table::new(&["kept", "about", "size"]);
    s.kinds.iter().for_each(|k| kinds.row([k.name.clone(), count(k.rows), size(k.bytes)]));
    let mut days = Table::new(&["day from", "to", "alerts", "size", "verdicts", "size", "goes"]);
    s.days.iter().for_each(|d| days.row(day(d)));
    format!(
        "{}\n\n{}\n\n{}",
        kinds.text("Nothing is stored."),
        days.text("No day has begun yet."),
        policy(s)
    )
}

fn day(d: &StoredDay) -> [String; 7] {
    [
        moment(d.since),
        d.until.map_or_else(|| "now".into(), moment),
        count(d.alerts),
        size(d.alert_bytes),
        count(d.verdicts),
        size(d.verdict_bytes),
        d.goes_at.map_or_else(String::new, ago),
    ]
}

fn policy(s: &Storage) -> String {
    let mut lines = vec![format!("{} in all.", size(s.bytes))];
    lines.extend(
        kept_for(&s.kept).into_iter().map(|(what, time)| format!("{what} are kept for {time}.")),
    );
    lines.push(format!(
        "An id that comes again is recognised for {} at least.",
        period(s.ids_known_seconds)
    ));
    lines.join("\n")
}

fn period(seconds: i64) -> Period {
    Period::from_secs(seconds.unsigned_abs())
}

/// What is kept, and for how long.
fn kept_for(kept: &RetentionTimes) -> Vec<(String, Period)> {
    let mut all = vec![("Alerts and verdicts".to_owned(), period(kept.alerts_seconds))];
    all.extend(
        kept.sources_seconds
            .iter()
            .map(|(source, time)| (format!("Those of {source}"), period(*time))),
    );
    all.push(("Payloads that cannot be read".to_owned(), period(kept.unreadable_seconds)));
    all.push(("Tries of jobs that have ended".to_owned(), period(kept.attempts_seconds)));
    all
}

/// What a change of how long things are kept does: what is kept otherwise, and what goes.
pub fn keep(plan: &RetentionChange) -> String {
    let (before, after): (BTreeMap<_, _>, BTreeMap<_, _>) =
        (kept_for(&plan.before).into_iter().collect(), kept_for(&plan.after).into_iter().collect());
    if before == after {
        return "It is kept so already.".into();
    }
    let mut table = Table::new(&["kept", "for", "then"]);
    let names =
        kept_for(&plan.before).into_iter().chain(kept_for(&plan.after)).map(|(name, _)| name);
    let mut shown = BTreeSet::new();
    for name in names.filter(|name| before.get(name) != after.get(name)) {
        if shown.insert(name.clone()) {
            let time = |of: &BTreeMap<String, Period>| {
                of.get(&name).map_or_else(|| "like others".into(), ToString::to_string)
            };
            table.row([name.clone(), time(&before), time(&after)]);
        }
    }
    let goes = &plan.goes;
    let number =
        |n: i64| if n >= goes.most_counted { format!("{} and more", count(n)) } else { count(n) };
    let mut gone = Vec::new();
    if goes.alerts > 0 || goes.days > 0 {
        let days =
            if goes.days > 0 { format!(" ({} whole days)", goes.days) } else { String::new() };
        gone.push(format!("{} alerts with their verdicts{days}", number(goes.alerts)));
    }
    let rest =
        [(goes.unreadable, "payloads that cannot be read"), (goes.attempts, "tries of jobs")];
    gone.extend(
        rest.iter().filter(|(n, _)| *n > 0).map(|(n, what)| format!("{} {what}", number(*n))),
    );
    let gone = match gone.is_empty() {
        true => "Nothing goes now: nothing is older.".to_owned(),
        false => format!("What goes within the next minutes: {}.", gone.join(", ")),
    };
    format!("{}\n\n{gone}", table.text(""))
}

fn moment(at: DateTime<Utc>) -> String {
    at.format("%Y-%m-%d %H:%M").to_string()
}

/// Digits in threes.
fn count(n: i64) -> String {
    let digits = n.to_string();
    let mut text = String::new();
    for (i, digit) in digits.chars().enumerate() {
        if i > 0 && (digits.len() - i).is_multiple_of(3) {
            text.push(',');
        }
        text.push(digit);
    }
    text
}

/// Bytes in the largest unit that leaves a number before the point.
fn size(bytes: i64) -> String {
    let mut value = bytes as f64;
    for unit in ["B", "kB", "MB", "GB"] {
        if value < 1000.0 {
            return if unit == "B" { format!("{value} B") } else { format!("{value:.1} {unit}") };
        }
        value /= 1000.0;
    }
    format!("{value:.1} TB")
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn numbers_are_read_at_a_glance() {
        assert_eq!([count(7), count(1_234), count(1_234_567)], ["7", "1,234", "1,234,567"]);
        assert_eq!(
            [size(0), size(999), size(1_500), size(2_300_000_000)],
            ["0 B", "999 B", "1.5 kB", "2.3 GB"]
        );
    }
}
