//! Alerts and alarms.

use super::{Table, ago, exact, gauge, jobs, mute_line, trial_mark, when, with_next};
use arvok_api::{
    AlarmDetail, AlarmItem, AlertDetail, AlertItem, DeliveryAnswer, Page, WriteBackItem,
    WriteBackState,
};
use arvok_core::{AlertState, job::JobState};

fn number(value: Option<f64>) -> String {
    value.map_or_else(String::new, |v| format!("{v}"))
}

/// A list of alerts.
pub fn alerts(page: &Page<AlertItem>) -> String {
    let mut table = Table::new(&[
        "alert", "received", "", "severity", "state", "kind", "resource", "value", "verdict",
    ]);
    for a in &page.items {
        let verdicts: Vec<&str> = a.verdicts.iter().map(|v| v.verdict.as_str()).collect();
        let verdicts = if verdicts.is_empty() { "no rule".to_owned() } else { verdicts.join(", ") };
        table.row([
            a.seq.to_string(),
            when(a.received),
            gauge(a.severity, a.state).to_owned(),
            a.severity.to_string(),
            a.state.to_string(),
            a.kind.clone(),
            a.resource.clone(),
            number(a.value),
            if a.trial.is_some() { format!("{verdicts} (trial)") } else { verdicts },
        ]);
    }
    with_next(table.text("No alerts."), page)
}

/// An alert in one line.
pub fn alert_line(a: &AlertItem) -> String {
    let value = a.value.map_or_else(String::new, |value| format!("  {}", number(Some(value))));
    format!(
        "{}  alert {}  {} {} {}  {}  {}{value}  {}{}",
        when(a.received),
        a.seq,
        gauge(a.severity, a.state),
        a.severity,
        a.state,
        a.kind,
        a.resource,
        a.summary,
        trial_mark(a.trial)
    )
}

/// One alert.
pub fn alert(d: &AlertDetail) -> String {
    let a = &d.alert;
    let mut lines = vec![
        format!(
            "Alert {} {} {} {}{}: {}",
            a.seq,
            gauge(a.severity, a.state),
            a.severity,
            a.state,
            trial_mark(a.trial),
            a.summary
        ),
        format!("  id        {}", a.id),
        format!("  source    {}", a.source),
        format!("  kind      {}", a.kind),
        format!("  resource  {}", a.resource),
        format!("  value     {}", a.value.map_or_else(|| "none".into(), |v| v.to_string())),
        format!("  time      {}", exact(a.time)),
        format!("  received  {}", exact(a.received)),
    ];
    if !a.labels.is_empty() {
        let labels: Vec<String> = a.labels.iter().map(|(k, v)| format!("{k}={v}")).collect();
        lines.push(format!("  labels    {}", labels.join(" ")));
    }
    if let Some(alarm) = d.alarm {
        lines.push(format!("  alarm     {alarm}"));
    }
    lines.extend(d.trace.as_ref().map(|trace| format!("  trace     {trace}")));
    lines.push(String::new());
    lines.push(if d.verdicts.is_empty() {
        "No rule concerns it.".into()
    } else {
        "Verdicts".into()
    });
    for v in &d.verdicts {
        lines.push(format!("  {} (version {}): {}", v.rule, v.rule_version, v.verdict));
        lines.push(format!("    {}", v.reason));
    }
    lines.push("\nPayload".into());
    let payload = serde_json::to_string_pretty(&d.body).unwrap_or_default();
    lines.extend(payload.lines().map(|l| format!("  {l}")));
    lines.join("\n")
}

/// What became of a delivery.
pub fn taken(t: &DeliveryAnswer) -> String {
    let mut lines: Vec<String> = t
        .alerts
        .iter()
        .map(|a| match a.seq {
            Some(seq) if a.trial.is_some() => {
                format!("alert {seq} taken{}", trial_mark(a.trial))
            }
            Some(seq) => format!("alert {seq} taken ({})", a.id),
            None => format!("{} had come before; nothing changed", a.id),
        })
        .collect();
    for kept in &t.unreadable {
        let item = kept.item.map_or_else(String::new, |i| format!("item {i} "));
        lines.push(format!("{item}kept as unreadable {}: {}", kept.id, kept.reason));
    }
    for kept in &t.caught {
        lines.push(format!("caught as {}: {}", kept.id, kept.reason));
    }
    if t.left_out > 0 {
        lines.push(format!("{} left out by the source's `keep`", t.left_out));
    }
    if lines.is_empty() {
        lines.push("the payload holds no alerts".into());
    }
    lines.join("\n")
}

/// A list of alarms.
pub fn alarms(page: &Page<AlarmItem>) -> String {
    let mut table = Table::new(&[
        "alarm", "", "severity", "state", "kind", "resource", "since", "times", "job",
    ]);
    for a in &page.items {
        let since = if a.state == AlertState::Raised {
            ago(a.raised_at)
        } else {
            a.cleared_at.map_or_else(String::new, ago)
        };
        table.row([
            a.id.to_string(),
            gauge(a.severity, a.state).to_owned(),
            a.severity.to_string(),
            if a.trial { format!("{} (trial)", a.state) } else { a.state.to_string() },
            a.kind.clone(),
            a.resource.clone(),
            since,
            a.count.to_string(),
            last_job(a),
        ]);
    }
    with_next(table.text("No alarm stands."), page)
}

fn last_job(a: &AlarmItem) -> String {
    match (a.job, a.job_effect, a.job_state) {
        (Some(id), Some(effect), Some(JobState::Succeeded)) => format!("{id} {effect}"),
        (Some(id), _, Some(state)) => format!("{id} {state}"),
        _ => "none".into(),
    }
}

/// One alarm.
pub fn alarm(d: &AlarmDetail) -> String {
    let a = &d.alarm;
    let mut lines = vec![
        format!(
            "Alarm {} {} {} {}: {}",
            a.id,
            gauge(a.severity, a.state),
            a.severity,
            a.state,
            a.summary
        ),
        format!("  source    {}", a.source),
        format!("  kind      {}", a.kind),
        format!("  resource  {}", a.resource),
        format!("  raised    {}", exact(a.raised_at)),
    ];
    if let Some(cleared) = a.cleared_at.filter(|_| a.state == AlertState::Cleared) {
        lines.push(format!("  cleared   {}", exact(cleared)));
    }
    lines.push(format!("  alerts    {} since it was raised", a.count));
    lines.extend(d.acts.iter().map(|act| {
        let text = if act.text.is_empty() { String::new() } else { format!(": {}", act.text) };
        let sent = act.at_sender.as_ref().map_or_else(String::new, at_sender);
        format!("  people    {} {} {}{text}{sent}", exact(act.at), act.by.shown(), act.act)
    }));
    lines.extend(d.mutes.iter().map(|mute| format!("  muted     {}", mute_line(mute))));
    lines.push("\nJobs".into());
    let none = Page { items: d.jobs.clone(), next: None, bounded: false };
    lines.push(jobs(&none));
    lines.push("\nNewest alerts".into());
    lines.push(alerts(&Page {
        items: d.alerts.iter().take(10).cloned().collect(),
        next: None,
        bounded: false,
    }));
    lines.join("\n")
}

/// What became of an act at the sender of the alarm.
fn at_sender(sent: &WriteBackItem) -> String {
    let why = sent.reason.as_ref().map_or_else(String::new, |why| format!(": {why}"));
    let state = match sent.state {
        WriteBackState::Done => "done at the sender as well".to_owned(),
        WriteBackState::Failed => format!("not done at the sender{why}"),
        WriteBackState::Unknown => format!("perhaps done at the sender{why}"),
        WriteBackState::Waiting | WriteBackState::UnderWay => match sent.next_at {
            Some(at) if sent.tries > 0 => {
                format!("not yet done at the sender, tried again at {}{why}", exact(at))
            }
            _ => "not yet done at the sender".to_owned(),
        },
    };
    format!("\n              {state}")
}
