//! Sources: whether their senders are heard, what they send, and how that is read.

use super::{Table, ago, count, exact, seconds, when};
use arvok_api::{
    HeartbeatItem, KindShape, ListenerItem, Page, PollState, Retried, SenderLineItem, ShapeField,
    SourceShapes, SuggestedRead, TestedSource, UnreadableItem,
};
use arvok_core::{connector::snmp::ObjectId, source::NamedObjectDoc, text::cut};
use std::collections::{BTreeMap, BTreeSet};

/// How payloads are called of which no alerts were made.
const CAUGHT: &str = "(caught)";
/// Most lines of a payload in a list, and the longest, in bytes.
const MOST_LINES: usize = 12;
const LONGEST_LINE: usize = 400;

/// How the messages of a source are fetched.
pub fn poll(state: &PollState) -> String {
    let PollState { operation, every, looked_at, cursor, failure } = state;
    let looked = looked_at.map_or_else(|| "not yet".to_owned(), ago);
    let mut lines = vec![format!("\nFetched by {operation}, every {every}; last: {looked}")];
    lines.extend(cursor.as_ref().map(|cursor| format!("Remembered: {cursor}")));
    lines.extend(failure.as_ref().map(|why| format!("The last look failed: {why}")));
    lines.join("\n")
}

/// What a sender of a source needs.
pub fn sender_lines(lines: &[SenderLineItem]) -> String {
    if lines.is_empty() {
        return "Nobody sends to it: Arvok itself brings its messages.".to_owned();
    }
    let one = |line: &SenderLineItem| format!("# {}\n{}", line.title, line.text.trim_end());
    lines.iter().map(one).collect::<Vec<_>>().join("\n\n")
}

/// The senders of a source of heartbeats.
pub fn heartbeats(all: &[HeartbeatItem]) -> Option<String> {
    let mut table = Table::new(&["sender", "last heard", "state"]);
    for sender in all {
        let state = if sender.missing { "missing" } else { "alive" };
        table.row(vec![sender.name.clone(), ago(sender.last_at), state.to_owned()]);
    }
    (!all.is_empty()).then(|| format!("\n{}", table.text("")))
}

/// A payload that is kept, in one line.
pub fn unreadable_line(u: &UnreadableItem) -> String {
    let what = if u.caught { "caught" } else { "unreadable" };
    let payload: String = u.payload.split_whitespace().collect::<Vec<_>>().join(" ");
    format!("{}  {what} {}  {}: {}", when(u.received), u.id, u.reason, cut(&payload, LONGEST_LINE))
}

/// Payloads of a source that are kept.
pub fn unreadable(page: &Page<UnreadableItem>) -> String {
    if page.items.is_empty() {
        return "Every payload could be read.".to_owned();
    }
    let head = match page.items.iter().all(|u| u.caught) {
        true => {
            "Newest payloads that are caught, since the source does not say yet how to read them"
        }
        false => "Newest payloads that could not be read",
    };
    let mut lines = vec![head.to_owned()];
    for u in &page.items {
        lines.push(format!("\n  {}  received {}: {}", u.id, exact(u.received), u.reason));
        let lines_of = u.payload.lines().take(MOST_LINES);
        lines.extend(lines_of.map(|line| format!("      {}", cut(line, LONGEST_LINE))));
        if u.base64 {
            lines.push("      (in base64, since it is no text)".to_owned());
        }
        let is_more = u.is_cut
            || u.payload.lines().count() > MOST_LINES
            || u.payload.lines().any(|line| line.len() > LONGEST_LINE);
        if is_more {
            lines.push(format!("      ... all of it: GET /api/v1/unreadable/{}", u.id));
        }
    }
    lines.push(match page.items.iter().any(|u| u.caught) {
        true => "\n`arvok source suggest` prints lines to start from; once they are published, \
            `arvok source retry` takes these."
            .to_owned(),
        false => "\nWhen the source reads them, `arvok source retry` takes them.".to_owned(),
    });
    lines.join("\n")
}

/// What became of payloads that were read again.
pub fn retried(r: &Retried) -> String {
    let (read, alerts) = (count(r.read as usize, "payload"), count(r.alerts as usize, "alert"));
    let mut lines = vec![match (r.read, r.still.len()) {
        (0, 0) => "There is nothing that could not be read.".to_owned(),
        (0, still) => format!("None of {} can be read yet:", count(still, "payload")),
        (_, 0) => format!("Read {read}: {alerts} taken."),
        (_, still) => {
            format!("Read {read}: {alerts} taken. {} cannot be read yet:", count(still, "payload"))
        }
    }];
    lines.extend(r.still.iter().map(|s| format!("  {}  {}", s.id, s.reason)));
    if r.recorded_only > 0 {
        lines.push(format!(
            "{} came more than 15 minutes ago: recorded, and no rule decides about it (--acting \
            lets them).",
            count(r.recorded_only as usize, "alert")
        ));
    }
    lines.join("\n")
}

/// Where a source is listened for, a line each.
pub fn listeners(all: &[ListenerItem]) -> Vec<String> {
    let one = |l: &ListenerItem| {
        let (transport, state) = (word(&l.transport), word(&l.state));
        let reason = l
            .reason
            .as_ref()
            .map(|reason| format!(": {reason}; it is tried again"))
            .unwrap_or_default();
        let mut counts = vec![format!("{} taken", l.taken)];
        let more = [
            (l.unreadable, "unreadable"),
            (l.dropped, "lost"),
            (l.refused, "refused"),
            (l.open, "connections open"),
            (l.waiting.unwrap_or(0), "waiting in the queue"),
        ];
        counts.extend(
            more.iter().filter(|(count, _)| *count > 0).map(|(count, of)| format!("{count} {of}")),
        );
        let counts = counts.join(", ");
        let refused = l.last_refusal.as_ref();
        let refused = refused.map_or_else(String::new, |why| format!("\n    refused last: {why}"));
        format!(
            "  {transport} {}  {state} since {}{reason}  {counts}  at {}{refused}",
            l.address,
            when(l.since),
            l.node
        )
    };
    let head = (!all.is_empty()).then(|| "\nListeners:".to_owned());
    head.into_iter().chain(all.iter().map(one)).collect()
}

/// What notifications carry, as it stands below `trap` in the document of a source.
pub fn named_objects(objects: &BTreeMap<ObjectId, NamedObjectDoc>) -> String {
    let object = |(number, object): (&ObjectId, &NamedObjectDoc)| {
        // A word may mean something else to YAML, such as `true`.
        let word = |(word, number): (&String, &i64)| format!("\"{word}\": {number}");
        let words: Vec<String> = object.values.iter().map(word).collect();
        let values = match words.is_empty() {
            true => String::new(),
            false => format!(", values: {{ {} }}", words.join(", ")),
        };
        format!("      {number}: {{ name: {}{values} }}", object.name)
    };
    let lines: Vec<String> = objects.iter().map(object).collect();
    format!("    objects:\n{}", lines.join("\n"))
}

/// The word of a value that is one on the wire.
fn word(value: &impl serde::Serialize) -> String {
    serde_json::to_value(value).ok().and_then(|v| v.as_str().map(str::to_owned)).unwrap_or_default()
}

/// What a source sends: its kinds.
pub fn shapes(found: &SourceShapes) -> String {
    let mut table = Table::new(&["kind", "came", "every", "first", "last", "fields", "severities"]);
    for shape in &found.kinds {
        let severities: Vec<String> =
            shape.severities.iter().map(|(severity, n)| format!("{n} {severity}")).collect();
        let more = if shape.has_more { " and more" } else { "" };
        table.row([
            shape.kind.clone().unwrap_or_else(|| CAUGHT.to_owned()),
            shape.count.to_string(),
            shape.every_seconds.map_or_else(String::new, seconds),
            when(shape.first),
            ago(shape.last),
            format!("{}{more}", shape.fields.len()),
            severities.join(", "),
        ]);
    }
    table.text("Nothing came yet, or it is not written yet: look again in a few seconds.")
}

/// The fields of one kind.
pub fn shape(shape: &KindShape) -> String {
    let mut table =
        Table::new(&["field", "share", "types", "different", "from", "to", "last", "such as"]);
    for field in &shape.fields {
        let bound = |bound: Option<f64>| bound.map_or_else(String::new, |n| n.to_string());
        let differing = match field.masked || field.distinct == 0 {
            true => String::new(),
            false => field.distinct.to_string(),
        };
        table.row([
            field.path.clone(),
            percent_of(field.share),
            types(field),
            differing,
            bound(field.least),
            bound(field.most),
            ago(field.last),
            examples(field),
        ]);
    }
    let head = format!(
        "{}: {} came, {} looked at",
        shape.kind.as_deref().unwrap_or(CAUGHT),
        shape.count,
        shape.profiled
    );
    let more = if shape.has_more { "\nThere are more fields than are kept." } else { "" };
    format!("{head}\n\n{}{more}", table.text("It has no fields."))
}

/// Two kinds side by side: fields that only one has first.
pub fn shapes_beside(left: &KindShape, right: &KindShape) -> String {
    let name = |shape: &KindShape| shape.kind.clone().unwrap_or_else(|| CAUGHT.to_owned());
    let (left_name, right_name) = (name(left), name(right));
    let mut table = Table::new(&["field", &left_name, &right_name, "such as"]);
    let by_path = |shape: &KindShape| -> BTreeMap<String, ShapeField> {
        shape.fields.iter().map(|field| (field.path.clone(), field.clone())).collect()
    };
    let (left, right) = (by_path(left), by_path(right));
    let cell = |field: Option<&ShapeField>| match field {
        Some(field) => format!("{} {}", percent_of(field.share), types(field)),
        None => "-".to_owned(),
    };
    let paths: BTreeSet<&String> = left.keys().chain(right.keys()).collect();
    let is_common = |path: &&String| left.contains_key(*path) && right.contains_key(*path);
    let (common, differing): (Vec<_>, Vec<_>) = paths.into_iter().partition(is_common);
    for path in differing.iter().chain(&common) {
        let (of_left, of_right) = (left.get(*path), right.get(*path));
        let shown = of_left.or(of_right).map(examples).unwrap_or_default();
        table.row([(*path).clone(), cell(of_left), cell(of_right), shown]);
    }
    let head = match differing.len() {
        0 => "Both have the same fields.".to_owned(),
        n => format!("{} that only one of them has come first.", count(n, "field")),
    };
    format!("{head}\n\n{}", table.text("Neither has any field."))
}

fn percent_of(share: f64) -> String {
    format!("{} %", (share * 100.0).round())
}

fn types(field: &ShapeField) -> String {
    field.types.keys().map(|of| of.as_str()).collect::<Vec<_>>().join(", ")
}

fn examples(field: &ShapeField) -> String {
    if field.masked { "(masked)".to_owned() } else { field.examples.join(" | ") }
}

/// Lines that are suggested, each behind its reason.
pub fn suggestion(suggested: &SuggestedRead) -> String {
    if suggested.lines.is_empty() {
        return match suggested.payloads {
            0 => "Nothing is kept of which lines could be made: have the sender send something."
                .to_owned(),
            _ => "What is kept is neither JSON, XML, a form nor pairs; write `body: text` and \
                `parts: { pattern: ... }` into the intake."
                .to_owned(),
        };
    }
    let mut lines = Vec::new();
    for line in suggested.lines.iter().filter(|line| line.line == "intake") {
        lines.push(format!("# {}", line.why));
        lines.push(format!("# intake: {}", line.text));
    }
    lines.push("read:".to_owned());
    for line in suggested.lines.iter().filter(|line| line.line != "intake") {
        lines.push(format!("  # {}", line.why));
        lines.push(format!("  {}: {}", line.line, line.text));
    }
    lines.push(format!(
        "# By these lines {} of {} can be read.",
        suggested.readable,
        count(suggested.payloads, "payload")
    ));
    lines.join("\n")
}

/// What a document makes of payloads.
pub fn tested(tested: &TestedSource) -> String {
    let mut lines = Vec::new();
    for payload in &tested.payloads {
        let name =
            payload.id.map_or_else(|| "the payload".to_owned(), |id| format!("payload {id}"));
        lines.push(format!("{name}: {}", count(payload.alerts.len(), "alert")));
        for alert in &payload.alerts {
            let text = |name: &str| alert[name].as_str().unwrap_or_default().to_owned();
            let value =
                alert["value"].as_f64().map_or_else(String::new, |n| format!("  value {n}"));
            lines.push(format!(
                "  {}  {}  {}  {}  {}{value}",
                text("kind"),
                text("severity"),
                text("state"),
                text("resource"),
                text("time")
            ));
            lines.push(format!("    id {}: {}", text("id"), text("summary")));
            let labels = alert["labels"].as_object().into_iter().flatten();
            let labels: Vec<String> = labels
                .map(|(name, value)| format!("{name}={}", value.as_str().unwrap_or_default()))
                .collect();
            if !labels.is_empty() {
                lines.push(format!("    {}", labels.join(" ")));
            }
        }
        if payload.left_out > 0 {
            lines.push(format!("  {} left out by `keep`", payload.left_out));
        }
        for (line, times) in &payload.absent {
            lines.push(format!("  `{line}` gave nothing, {}", count(*times as usize, "time")));
        }
        lines.extend(payload.unreadable.iter().map(|why| format!("  cannot be read: {why}")));
    }
    if lines.is_empty() {
        lines.push("Nothing is kept of this source: give a payload with --payload.".to_owned());
    }
    lines.join("\n")
}
