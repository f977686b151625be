//! What is stored, and for how long.

use super::{Table, ago};
use arvok_api::{Storage, StoredDay};
use arvok_core::Period;
use chrono::{DateTime, Utc};

/// Records by kind, then alerts by day, and below it how long they are kept.
pub fn storage(s: &Storage) -> String {
    let mut kinds = Table::new(&["kept", "about", "size"]);
    s.kinds.iter().for_each(|k| kinds.row([k.name.clone(), count(k.rows), size(k.bytes)]));
    let mut days = Table::new(&["day from", "to", "alerts", "size", "verdicts", "size", "goes"]);
    s.days.iter().for_each(|d| days.row(day(d)));
    format!("{}\n\n{}\n\n{}", kinds.text("Nothing is stored."), days.text("No day has begun yet."), policy(s))
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
    let kept = |seconds: i64| Period::from_secs(seconds.unsigned_abs());
    let mut lines = vec![
        format!("{} in all.", size(s.bytes)),
        format!("Alerts and verdicts are kept for {}.", kept(s.alerts_kept_seconds)),
    ];
    lines.extend(s.sources_kept_seconds.iter().map(|(source, time)| format!("Those of {source} for {}.", kept(*time))));
    lines.push(format!("An id that comes again is recognised for {} at least.", kept(s.ids_known_seconds)));
    lines.join("\n")
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
        assert_eq!([size(0), size(999), size(1_500), size(2_300_000_000)], ["0 B", "999 B", "1.5 kB", "2.3 GB"]);
    }
}
