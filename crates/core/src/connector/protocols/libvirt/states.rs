//! What libvirt says of guests: numbers, each with a word.

use serde_json::{Map, Value, json};

/// Most parts of a name of what is counted (`net.0.rx.bytes`).
const MAX_PARTS: usize = 8;
/// The name of what is numbered in a map that has more.
const EACH: &str = "each";
const MIB: f64 = (1_u64 << 20) as f64;

crate::words! {
    /// The state of a guest.
    pub enum DomainState("state of a guest") {
        /// Nobody knows.
        None = "none",
        /// It runs.
        Running = "running",
        /// It waits for something that the host has to give.
        Blocked = "blocked",
        /// It stands still and keeps its memory.
        Paused = "paused",
        /// It is shutting down.
        ShuttingDown = "shutting-down",
        /// It is off.
        Off = "off",
        /// It has crashed.
        Crashed = "crashed",
        /// It sleeps by itself.
        Asleep = "asleep",
    }
}

impl DomainState {
    /// That of a number (`virDomainState`); one that came later than this is none that is known.
    pub const fn of(number: i32) -> Self {
        match number {
            1 => Self::Running,
            2 => Self::Blocked,
            3 => Self::Paused,
            4 => Self::ShuttingDown,
            5 => Self::Off,
            6 => Self::Crashed,
            7 => Self::Asleep,
            _ => Self::None,
        }
    }

    /// Whether the guest has memory and processors at the host.
    pub const fn is_active(self) -> bool {
        !matches!(self, Self::Off | Self::Crashed)
    }

    /// Why it is in this state (`virDomainRunningReason` and those of the others).
    pub fn reason(self, number: i32) -> &'static str {
        let words: &[&str] = match self {
            Self::Running => &[
                "unknown",
                "booted",
                "migrated",
                "restored",
                "from-snapshot",
                "resumed",
                "migration-cancelled",
                "save-cancelled",
                "woken",
                "crashed",
                "postcopy",
                "postcopy-failed",
            ],
            Self::Paused => &[
                "unknown",
                "asked",
                "migration",
                "save",
                "dump",
                "io-error",
                "watchdog",
                "from-snapshot",
                "shutting-down",
                "snapshot",
                "crashed",
                "starting",
                "postcopy",
                "postcopy-failed",
                "api-error",
            ],
            Self::Off => &[
                "unknown",
                "shut-down",
                "switched-off",
                "crashed",
                "migrated",
                "saved",
                "failed",
                "from-snapshot",
                "daemon",
            ],
            Self::Crashed => &["unknown", "panicked"],
            Self::ShuttingDown => &["unknown", "asked"],
            Self::None | Self::Blocked | Self::Asleep => &[],
        };
        usize::try_from(number).ok().and_then(|n| words.get(n)).copied().unwrap_or("unknown")
    }
}

/// What is counted of a guest, by names with dots, as a value of maps: `net.count`, `net.0.name`
/// and so on is a list.
pub fn counted(fields: Vec<(String, Value)>) -> Value {
    let mut all = Map::new();
    for (name, value) in fields {
        let parts: Vec<&str> = name.splitn(MAX_PARTS, '.').collect();
        insert(&mut all, &parts, value);
    }
    listed(all)
}

fn insert(map: &mut Map<String, Value>, parts: &[&str], value: Value) {
    let Some((first, rest)) = parts.split_first() else { return };
    if rest.is_empty() {
        map.insert((*first).to_owned(), value);
        return;
    }
    let inner = map.entry((*first).to_owned()).or_insert_with(|| json!({}));
    if !inner.is_object() {
        // `state` beside `state.reason`: what stood alone is called by nothing.
        *inner = json!({ "value": inner.take() });
    }
    if let Value::Object(inner) = inner {
        insert(inner, rest, value);
    }
}

/// What is numbered in a map is a list: alone beside its count, or else by the name `each`.
fn listed(map: Map<String, Value>) -> Value {
    let made = |value| match value {
        Value::Object(map) => listed(map),
        value => value,
    };
    let (numbered, mut named): (Vec<_>, Vec<_>) =
        map.into_iter().map(|(key, value)| (key, made(value))).partition(|(key, _)| is_number(key));
    let mut numbered: Vec<(u64, Value)> =
        numbered.into_iter().filter_map(|(key, value)| Some((key.parse().ok()?, value))).collect();
    numbered.sort_by_key(|(number, _)| *number);
    let each: Vec<Value> = numbered.into_iter().map(|(_, value)| value).collect();
    if matches!(named.as_slice(), [(only, _)] if only == "count") {
        return Value::Array(each);
    }
    if !each.is_empty() {
        named.push((EACH.to_owned(), Value::Array(each)));
    }
    Value::Object(named.into_iter().collect())
}

fn is_number(key: &str) -> bool {
    !key.is_empty() && key.len() < 10 && key.chars().all(|c| c.is_ascii_digit())
}

/// How far a long act on a guest has come, by its kind (`virDomainJobType`) and what is counted of
/// it.
pub fn progress(kind: i32, fields: &[(String, Value)]) -> Value {
    let number = |name: &str| {
        let found = fields.iter().find(|(its, _)| its == name);
        found.and_then(|(_, value)| value.as_f64()).unwrap_or_default()
    };
    // Bounded and unbounded ones go on; the others are over, or there is none.
    let is_going_on = matches!(kind, 1 | 2);
    let (total, remaining) = (number("data_total"), number("data_remaining"));
    let percent =
        if total > 0.0 { (100.0 * (total - remaining) / total).clamp(0.0, 100.0) } else { 0.0 };
    json!({
        "is_going_on": is_going_on,
        "elapsed_seconds": number("time_elapsed") / 1000.0,
        "total_mib": (total / MIB).ceil() as u64,
        "remaining_mib": (remaining / MIB).ceil() as u64,
        "percent": percent.floor() as u64,
    })
}
