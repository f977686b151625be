//! Subscribers and their events.

use super::{Table, ago, exact, with_next};
use arvok_api::{OutgoingItem, OutgoingState, Page, SubscriberItem, SubscriberState};

/// A list of subscribers.
pub fn subscribers(page: &Page<SubscriberItem>) -> String {
    let mut table = Table::new(&[
        "subscriber",
        "state",
        "taken",
        "waiting",
        "given up",
        "last taken",
        "address",
    ]);
    for s in &page.items {
        table.row([
            s.name.clone(),
            state(s),
            s.delivered.to_string(),
            s.waiting.to_string(),
            s.given_up.to_string(),
            s.delivered_at.map_or_else(String::new, ago),
            s.address.clone().unwrap_or_default(),
        ]);
    }
    table.text("There are no subscribers; publish a `subscriber:` document to send events out.")
}

/// How it stands, in a word; a subscriber that is left alone for a while says so.
fn state(s: &SubscriberItem) -> String {
    match s.rests_until {
        Some(_) if s.state == SubscriberState::Confirmed => "failing".into(),
        _ => s.state.to_string(),
    }
}

/// One subscriber and its latest events.
pub fn subscriber(s: &SubscriberItem, latest: &Page<OutgoingItem>) -> String {
    let mut lines = vec![format!("Subscriber {}, {}", s.name, s.state)];
    lines.extend(s.summary.as_ref().map(|text| format!("  {text}")));
    lines.extend(s.address.as_ref().map(|address| format!("  address     {address}")));
    lines.extend(s.confirmed_at.map(|at| format!("  agreed      {}", exact(at))));
    lines.extend(s.rate.map(|rate| format!("  wants       at most {rate} a minute")));
    let last = s.delivered_at.map_or_else(String::new, |at| format!(", the last {}", exact(at)));
    lines.push(format!("  taken       {}{last}", s.delivered));
    lines.push(format!("  waiting     {}", s.waiting));
    if s.given_up > 0 {
        lines.push(format!(
            "  given up    {}; `arvok subscriber replay {}` sends them once more",
            s.given_up, s.name
        ));
    }
    if s.left_out > 0 {
        lines.push(format!(
            "  left out    {}, since too many waited; `arvok subscriber replay {} --since TIME` \
            sends them",
            s.left_out, s.name
        ));
    }
    if let Some(trouble) = &s.trouble {
        let tries = if s.failures > 1 {
            format!(" ({} tries in a row)", s.failures)
        } else {
            String::new()
        };
        let next =
            s.rests_until.map_or_else(String::new, |at| format!("; the next try is {}", ago(at)));
        lines.push(format!("  trouble     {trouble}{tries}{next}"));
    }
    if s.state == SubscriberState::Gone {
        lines.push(format!(
            "  It wants no events any more. `arvok subscriber confirm {}` asks it again.",
            s.name
        ));
    }
    let more = latest
        .next
        .as_ref()
        .map(|_| format!("\nAll of them: `arvok subscriber events {}`.", s.name));
    format!("{}\n\n{}{}", lines.join("\n"), table(latest), more.unwrap_or_default())
}

/// Events of a subscriber.
pub fn outgoing(page: &Page<OutgoingItem>) -> String {
    with_next(table(page), page)
}

fn table(page: &Page<OutgoingItem>) -> String {
    let mut table = Table::new(&["event", "resource", "when", "state", "tries", "what happened"]);
    for e in &page.items {
        let what = match (e.state, &e.failure) {
            (OutgoingState::Delivered, _) => e.summary.clone(),
            (_, Some(failure)) => failure.clone(),
            (_, None) => e.summary.clone(),
        };
        let kind = e.kind.strip_prefix("arvok.").unwrap_or(&e.kind);
        table.row([
            kind.into(),
            e.resource.clone(),
            ago(e.at),
            e.state.to_string(),
            e.tries.to_string(),
            what,
        ]);
    }
    table.text("No event is kept for it.")
}
