//! `arvok trial`: makes an alert up, and walks through all that follows from it.

use super::alerts::payload;
use crate::{
    args::{Trial, TrialCommand, Walk},
    client::Client,
    error::CliError,
    show::{self, TrialAlert, TrialWalk},
};
use arvok_api::{AlertDetail, AlertWhy, ClearedTrials, DeliveryAnswer, JobDetail, NewTrial};
use arvok_core::Verdict;
use serde_json::{Map, Value, json};
use std::{
    path::Path,
    time::{Duration, Instant},
};

/// How long the jobs of a trial are waited for.
const PATIENCE: Duration = Duration::from_secs(60);
/// Most jobs that are shown of one trial, those of steps included.
const MOST_JOBS: usize = 20;

pub async fn trial(trial: Trial) -> Result<(), CliError> {
    match trial.command {
        Some(TrialCommand::Clear { server, output }) => {
            let cleared: ClearedTrials = Client::of(&server)?.delete("/api/v1/trials").await?;
            if output.json { show::json(&cleared) } else { shown(&show::cleared(cleared)) }
        }
        None => walk(trial.walk).await,
    }
}

fn shown(text: &str) -> Result<(), CliError> {
    show::out(text);
    Ok(())
}

async fn walk(walk: Walk) -> Result<(), CliError> {
    let Some(source) = &walk.source else {
        return Err(CliError::Usage("give the source of which it is".into()));
    };
    let client = Client::of(&walk.server)?;
    let mut new = NewTrial { source: source.clone(), acting: walk.for_real, ..NewTrial::default() };
    match &walk.payload {
        Some(path) => new.payload = Some(as_json(path)?),
        None => new.alert = Some(made_up(&client, &walk).await?),
    }
    let delivery: DeliveryAnswer = client.post("/api/v1/trials", &new).await?;
    let mut went = TrialWalk { delivery, alerts: Vec::new() };
    for seq in went.delivery.alerts.iter().filter_map(|alert| alert.seq).collect::<Vec<_>>() {
        went.alerts.push(followed(&client, seq).await?);
    }
    if walk.output.json { show::json(&went) } else { shown(&show::trial(&went)) }
}

/// What a file, or standard input, holds.
fn as_json(path: &Path) -> Result<Value, CliError> {
    serde_json::from_slice(&payload(path)?)
        .map_err(|e| CliError::Usage(format!("{} is not JSON: {e}", path.display())))
}

/// An alert of a trial, why the rules decided so, and the jobs that came of it.
async fn followed(client: &Client, seq: i64) -> Result<TrialAlert, CliError> {
    let alert: AlertDetail = client.get(&format!("/api/v1/alerts/{seq}"), &[]).await?;
    let why: AlertWhy = client.get(&format!("/api/v1/alerts/{seq}/why"), &[]).await?;
    let dispatched = alert.verdicts.iter().filter(|v| v.verdict == Verdict::Dispatched);
    let mut waiting: Vec<i64> = dispatched.filter_map(|v| v.job).collect();
    let mut jobs = Vec::new();
    let begun = Instant::now();
    while let Some(id) = waiting.first().copied().filter(|_| jobs.len() < MOST_JOBS) {
        let job = ended(client, id, begun).await?;
        waiting.remove(0);
        waiting.extend(job.children.iter().map(|child| child.id));
        jobs.push(job);
    }
    Ok(TrialAlert { alert, why, jobs })
}

/// A job, once it is over, or as it stands when patience ends.
async fn ended(client: &Client, id: i64, begun: Instant) -> Result<JobDetail, CliError> {
    loop {
        let job: JobDetail = client.get(&format!("/api/v1/jobs/{id}"), &[]).await?;
        if job.job.state.is_final() || begun.elapsed() > PATIENCE {
            return Ok(job);
        }
        tokio::time::sleep(Duration::from_millis(100)).await;
    }
}

/// The alert in the normal form: like another, or with the fields that are given alone.
async fn made_up(client: &Client, walk: &Walk) -> Result<Value, CliError> {
    let mut alert = match walk.like {
        None => Map::new(),
        Some(like) => {
            let found: AlertDetail = client.get(&format!("/api/v1/alerts/{like}"), &[]).await?;
            let AlertDetail { alert, body, .. } = found;
            let like = json!({
                "kind": alert.kind, "severity": alert.severity, "state": alert.state,
                "resource": alert.resource, "summary": alert.summary, "value": alert.value,
                "labels": alert.labels, "body": body,
            });
            like.as_object().cloned().unwrap_or_default()
        }
    };
    for field in &walk.set {
        let wrong = || CliError::Usage(format!("--set {field}: write it as value=95"));
        let (path, value) = field.split_once('=').ok_or_else(wrong)?;
        set(&mut alert, path, value).ok_or_else(wrong)?;
    }
    if ["kind", "resource"].iter().any(|key| !alert.contains_key(*key)) {
        return Err(CliError::Usage(
            "give --like ALERT, or --set kind=... and --set resource=..., or a file with the \
             payload (- for standard input)"
                .into(),
        ));
    }
    Ok(Value::Object(alert))
}

/// Sets a field: within `body` to what the text is as JSON, if it is any; labels are text.
fn set(alert: &mut Map<String, Value>, path: &str, text: &str) -> Option<()> {
    let (last, within) = match path.rsplit_once('.') {
        None => (path, Vec::new()),
        Some((before, last)) => (last, before.split('.').collect()),
    };
    let is_plain = !matches!(path.split('.').next(), Some("value" | "body"));
    let value = match serde_json::from_str(text) {
        Ok(value) if !is_plain => value,
        _ => Value::String(text.to_owned()),
    };
    let mut at = alert;
    for key in within {
        let inner = at.entry(key).or_insert_with(|| json!({}));
        if inner.is_null() {
            *inner = json!({});
        }
        at = inner.as_object_mut()?;
    }
    at.insert(last.to_owned(), value);
    Some(())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn fields_are_set_wherever_they_stand() {
        let mut alert = Map::new();
        for (path, text) in [
            ("kind", "disk.usage"),
            ("value", "95"),
            ("labels.site", "3"),
            ("body.disk.size", "40"),
            ("body.disk.name", "data"),
        ] {
            assert_eq!(set(&mut alert, path, text), Some(()), "{path}");
        }
        assert_eq!(
            Value::Object(alert.clone()),
            json!({ "kind": "disk.usage", "value": 95, "labels": { "site": "3" },
                "body": { "disk": { "size": 40, "name": "data" } } })
        );
        assert_eq!(set(&mut alert, "kind.of", "x"), None, "a text has no fields");
    }
}
