//! Persons and teams, and how they are reached.

use super::Table;
use arvok_api::{ContactItem, Page};

/// A list of contacts.
pub fn contacts(page: &Page<ContactItem>) -> String {
    let mut table = Table::new(&["contact", "who", "on duty", "first way now"]);
    for c in &page.items {
        let who = match c.members.is_empty() {
            true => c.summary.clone().unwrap_or_else(|| "a person".to_owned()),
            false => c.members.join(", "),
        };
        let first = c.ways.iter().find(|way| way.now);
        let first = first.map(|way| format!("{} via {}", way.call, way.via));
        table.row([c.name.clone(), who, on_duty(c), first.unwrap_or_else(|| "none".to_owned())]);
    }
    table.text("There are no contacts; publish a `contact:` document for a person or a team.")
}

fn on_duty(c: &ContactItem) -> String {
    match &c.duty_by {
        Some(by) => format!("as {by} says"),
        None => c.on_duty.join(", "),
    }
}

/// One contact.
pub fn contact(c: &ContactItem) -> String {
    let kind = if c.members.is_empty() { "a person" } else { "a team" };
    let mut lines = vec![format!("Contact {}, {kind}", c.name)];
    lines.extend(c.summary.as_ref().map(|text| format!("  {text}")));
    if !c.members.is_empty() {
        lines.push(format!("  members     {}", c.members.join(", ")));
        let on = on_duty(c);
        lines.push(format!("  on duty     {}", if on.is_empty() { "nobody" } else { &on }));
    }
    if c.rounds > 1 {
        lines.push(format!("  rounds      {}", c.rounds));
    }
    if !c.without_token.is_empty() {
        let whose = c.without_token.join(", ");
        lines.push(format!("  no token    {whose}: nobody has the one with which they decide"));
    }
    let mut table = Table::new(&["", "person", "way", "waits", "hours", ""]);
    for (n, way) in c.ways.iter().enumerate() {
        table.row([
            (n + 1).to_string(),
            way.contact.clone(),
            format!("{} via {}", way.call, way.via),
            way.wait.clone(),
            way.hours.clone().unwrap_or_else(|| "always".to_owned()),
            if way.now { String::new() } else { "not now".to_owned() },
        ]);
    }
    lines.push(String::new());
    lines.push(table.text("No way leads there: no member is published."));
    lines.join("\n")
}
