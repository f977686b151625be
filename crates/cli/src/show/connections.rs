//! Connections, what they offer, and their calls.

use super::{Table, ago, with_next};
use arvok_api::{
    CallItem, CallRequest, CallState, ConnectionDetail, ConnectionItem, ConnectionTest,
    HostKeyItem, HostKeyState, Imported, OfferedOperation, Page, TriedOperation,
};
use arvok_core::Labels;
use serde_json::Value;

/// A list of connections.
pub fn connections(page: &Page<ConnectionItem>) -> String {
    let mut table =
        Table::new(&["connection", "state", "calls/h", "failed", "takes", "last call", "address"]);
    for c in &page.items {
        table.row([
            c.name.clone(),
            state(c),
            c.calls.to_string(),
            c.failed.to_string(),
            c.median_ms.map_or_else(String::new, millis),
            c.last_at.map_or_else(String::new, ago),
            c.address.clone().or_else(|| c.trouble.clone()).unwrap_or_default(),
        ]);
    }
    table.text(
        "There are no connections; publish a `connection:` document, or begin with `arvok \
        connection import`.",
    )
}

fn state(c: &ConnectionItem) -> String {
    match (&c.trouble, c.last_state) {
        (Some(_), _) => "faulty".into(),
        (None, None) => "not used".into(),
        (None, Some(state)) if state.is_well() => "well".into(),
        // It said no, or something odd: the other side is there.
        (None, Some(CallState::Refused | CallState::Useless)) => "answers".into(),
        (None, Some(state)) => state.to_string(),
    }
}

/// A time in milliseconds, as people read it.
fn millis(ms: f64) -> String {
    if ms < 1_000.0 { format!("{ms:.0} ms") } else { format!("{:.1} s", ms / 1_000.0) }
}

/// One connection with its last calls.
pub fn connection(detail: &ConnectionDetail, calls: &Page<CallItem>) -> String {
    let c = &detail.item;
    let mut lines = vec![format!("Connection {}, {}", c.name, state(c))];
    lines.extend(c.summary.as_ref().map(|text| format!("  {text}")));
    lines.push(format!("  connector   {}", c.connector));
    lines.extend(c.address.as_ref().map(|address| format!("  address     {address}")));
    lines.extend(c.trouble.as_ref().map(|trouble| format!("  trouble     {trouble}")));
    lines.extend(detail.credential.iter().map(|kind| format!("  credential  {kind}")));
    for secret in &detail.secrets {
        lines.push(format!(
            "  secret      {}{}",
            secret.name,
            if secret.ready { "" } else { ", which it cannot open" }
        ));
    }
    if !detail.hosts.is_empty() {
        lines.push(format!("  machines    {}", detail.hosts.join(", ")));
    }
    lines.extend(detail.jump.iter().map(|jump| format!("  through     connection {jump}")));
    if let Some(labels) = &detail.runners {
        lines.push(format!("  runners     {}", Labels(labels.clone())));
    }
    for secret in &detail.runner_secrets {
        lines.push(format!("  secret      {secret}, which its runners keep"));
    }
    if !detail.also.is_empty() {
        lines.push(format!("  also        by {}", detail.also.join(", ")));
    }
    if !detail.also_for.is_empty() {
        lines.push(format!("  used by     connection {}", detail.also_for.join(", ")));
    }
    if !detail.jump_for.is_empty() {
        lines.push(format!("  jump host   of {}", detail.jump_for.join(", ")));
    }
    lines.extend(detail.host_keys.iter().map(|key| format!("  host key    {key}")));
    for key in &detail.trusted {
        let (by, when) = (key.by.shown(), ago(key.at));
        let shown = format!("{} {}", key.algorithm, key.fingerprint);
        lines.push(format!("  trusted     {} {shown}, by {by} {when}", key.machine));
    }
    lines.extend(detail.at_once.map(|most| format!("  at once     {most} calls at most")));
    lines.extend(detail.rate.as_ref().map(|rate| format!("  rate        {rate}")));
    if let Some(pulse) = &detail.pulse {
        let next = match (&pulse.failure, pulse.held_by.first()) {
            (Some(why), _) => format!(", which fails: {why}"),
            (None, Some(why)) => format!(", not as long as this stands: {why}"),
            (None, None) => String::new(),
        };
        lines.push(format!("  pulse       {} every {}{next}", pulse.operation, pulse.every));
    }
    let failed = if c.failed > 0 { format!(", {} not well", c.failed) } else { String::new() };
    let takes =
        c.median_ms.map_or_else(String::new, |ms| format!(", half of them within {}", millis(ms)));
    lines.push(format!("  last hour   {} calls{failed}{takes}", c.calls));
    lines.extend(c.last_message.as_ref().map(|why| format!("  last call   {why}")));
    if !detail.used_by.is_empty() {
        lines.push(format!("  called by   {}", detail.used_by.join(", ")));
    }
    lines.push(String::new());
    let mut table = Table::new(&["operation", "request", "twice", "takes"]);
    for o in &detail.operations {
        let follows = o.follows.as_ref().map_or_else(String::new, |key| format!(", {key}"));
        table.row([
            o.name.clone(),
            format!("{}{follows}", o.request),
            o.repeat.clone(),
            takes_of(o),
        ]);
    }
    lines.push(table.text("Its connector is not published."));
    lines.push(format!("\n{}", call_table(calls)));
    lines.extend(
        calls.next.as_ref().map(|_| format!("All of them: `arvok connection calls {}`.", c.name)),
    );
    lines.join("\n")
}

/// The key that a machine shows.
pub fn host_key(key: &HostKeyItem) -> String {
    let state = match (key.state, &key.trusted) {
        (HostKeyState::Trusted, _) => "trusted".to_owned(),
        (HostKeyState::New, _) => "not trusted yet".to_owned(),
        (HostKeyState::Changed, trusted) => {
            format!("NOT the trusted one, {}", trusted.as_deref().unwrap_or("which is gone"))
        }
    };
    format!("{}\n  key      {} {}\n  state    {state}", key.machine, key.algorithm, key.fingerprint)
}

/// The names of what an operation takes; what may be left out in brackets.
fn takes_of(o: &OfferedOperation) -> String {
    let word = |(name, schema): (&String, &Value)| {
        if schema.get("default").is_some() { format!("[{name}]") } else { name.clone() }
    };
    o.takes.iter().map(word).collect::<Vec<_>>().join(" ")
}

/// The calls of a connection.
pub fn calls(page: &Page<CallItem>) -> String {
    with_next(call_table(page), page)
}

fn call_table(page: &Page<CallItem>) -> String {
    let mut table =
        Table::new(&["call", "operation", "for", "when", "took", "ended", "what went wrong"]);
    for c in &page.items {
        let whom = match (c.job, &c.step, &c.by) {
            (Some(job), Some(step), _) => format!("job {job} {step}"),
            (_, _, Some(by)) => by.shown(),
            _ => String::new(),
        };
        table.row([
            c.id.to_string(),
            c.operation.clone(),
            whom,
            ago(c.at),
            millis(c.millis as f64),
            c.state.to_string(),
            c.message.clone().unwrap_or_default(),
        ]);
    }
    table.text("It was not called yet.")
}

/// What came of a test.
pub fn connection_test(name: &str, tested: &ConnectionTest) -> String {
    let how = tested
        .operation
        .as_ref()
        .map_or_else(|| "looked whether its address answers".into(), |o| format!("called {o}"));
    let went = if tested.state.is_well() { "well".to_owned() } else { tested.state.to_string() };
    format!("{name}: {went} in {} ({how})\n  {}", millis(tested.millis as f64), tested.message)
}

/// Whether a request goes to a network device: then it and its answer are XML, and the answer has
/// no status.
fn is_to_device(request: &CallRequest) -> bool {
    request.method == "NETCONF"
}

fn indented(text: &str) -> String {
    text.lines().map(|line| format!("  {line}")).collect::<Vec<_>>().join("\n")
}

/// What would be sent.
pub fn request(request: &CallRequest) -> String {
    let body = match (&request.body, is_to_device(request)) {
        (None, _) => String::new(),
        (Some(Value::String(xml)), true) => format!("\n{}", indented(xml)),
        (Some(body), _) => format!("\n  {body}"),
    };
    format!("{} {}{body}", request.method, request.target)
}

/// What came of a call by hand.
pub fn tried(operation: &str, tried: &TriedOperation) -> String {
    let state = tried.state.map_or_else(String::new, |s| s.to_string());
    let mut lines = vec![
        request(&tried.request),
        format!("{operation}: {state} in {}", millis(tried.millis as f64)),
    ];
    let odd = tried.answer.as_ref().filter(|answer| tried.output.as_ref() != Some(&answer.body));
    lines.extend(odd.map(|answer| match &answer.body {
        Value::String(xml) if is_to_device(&tried.request) => {
            format!("  answer\n{}", indented(xml))
        }
        Value::String(words) if answer.status == 0 => format!("  answer {words}"),
        body if answer.status == 0 => format!("  answer {body}"),
        body => format!("  answer {} {body}", answer.status),
    }));
    lines.extend(tried.message.as_ref().map(|why| format!("  {why}")));
    lines
        .extend(tried.output.as_ref().and_then(|output| serde_json::to_string_pretty(output).ok()));
    lines.join("\n")
}

/// The operations of a description.
pub fn described(made: &Imported) -> String {
    let mut table = Table::new(&["operation", "request", "taken over", "what it does"]);
    for o in &made.operations {
        let taken = if o.taken { "yes" } else { "no" };
        table.row([
            o.name.clone(),
            o.request.clone(),
            taken.into(),
            o.summary.clone().unwrap_or_default(),
        ]);
    }
    let left: Vec<String> = made.left_out.iter().map(|one| format!("\nleft out: {one}")).collect();
    format!("{}\n\n{}{}", made.title, table.text("It has no operations."), left.concat())
}
