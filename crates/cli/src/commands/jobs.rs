//! `arvok job`.

use super::{launch, list::list};
use crate::{
    args::{Became, JobCommand},
    client::Client,
    error::CliError,
    events::Events,
    show::{self, Line},
};
use arvok_api::{
    Because, Cancel, Change, JobDetail, JobFilter, Overrule, Resolve, SetAside, StepState, StepWord,
};
use arvok_core::job::JobState;
use reqwest::{Method, Response};
use std::{collections::BTreeMap, time::Duration};

pub async fn job(command: JobCommand) -> Result<(), CliError> {
    match command {
        JobCommand::List {
            state,
            effect,
            runbook,
            rule,
            target,
            by,
            held_by,
            window,
            paging,
            server,
            output,
        } => {
            let (since, until) = super::window(&window)?;
            let filter = JobFilter {
                since,
                until,
                state: super::words(state.as_deref())?,
                effect: super::word(effect.as_deref())?,
                runbook,
                rule,
                target,
                by,
                held_by,
                ..JobFilter::default()
            };
            return list(
                &Client::of(&server)?,
                "/api/v1/jobs",
                &filter,
                (&paging, output),
                show::jobs,
            )
            .await;
        }
        JobCommand::Show(one) => {
            let detail = load(&Client::of(&one.server)?, one.id).await?;
            if one.output.json {
                return show::json(&detail);
            }
            show::out(&show::job(&detail));
        }
        JobCommand::Follow(one) => {
            return follow(&Client::of(&one.server)?, one.id, one.output.json).await;
        }
        JobCommand::Launch { runbook, alert, asked, server } => {
            return launch::launch(runbook, alert, asked, &server).await;
        }
        JobCommand::Again { id, from_failed: true, asked, server } => {
            return launch::from_failed(id, asked, &server).await;
        }
        JobCommand::Again { id, asked, server, .. } => {
            return launch::again(id, asked, &server).await;
        }
        JobCommand::Seen { ids, undo, server } => {
            let client = Client::of(&server)?;
            for id in ids {
                client
                    .change(
                        Method::POST,
                        &format!("/api/v1/jobs/{id}/seen"),
                        Some(&SetAside { undo }),
                    )
                    .await?;
                let said = if undo { "needs a person again" } else { "is set aside as seen" };
                show::out(&format!("job {id} {said}"));
            }
        }
        JobCommand::Pause { id, why, server } => {
            let client = Client::of(&server)?;
            client
                .change(Method::POST, &format!("/api/v1/jobs/{id}/pause"), Some(&Because { why }))
                .await?;
            show::out(&format!("job {id} is held; it goes on with `arvok job resume {id}`"));
        }
        JobCommand::Resume { id, server } => {
            let client = Client::of(&server)?;
            client
                .change(
                    Method::POST,
                    &format!("/api/v1/jobs/{id}/resume"),
                    Some(&Because::default()),
                )
                .await?;
            show::out(&format!("job {id} goes on; follow it with `arvok job follow {id}`"));
        }
        JobCommand::Cancel { id, undo, why, server } => {
            let client = Client::of(&server)?;
            client
                .change(
                    Method::POST,
                    &format!("/api/v1/jobs/{id}/cancel"),
                    Some(&Cancel { why, undo }),
                )
                .await?;
            show::out(&format!("job {id} is stopped; see its end with `arvok job follow {id}`"));
        }
        JobCommand::Overrule { id, guard, reason, server } => {
            let path = format!("/api/v1/jobs/{id}/overrule");
            let asked = Overrule { guard: guard.clone(), reason };
            Client::of(&server)?.change(Method::POST, &path, Some(&asked)).await?;
            show::out(&format!("job {id} is not held by guard {guard} any more"));
        }
        JobCommand::Resolve { id, word, step, output, why, server } => {
            return resolve(&Client::of(&server)?, id, (word, step), (output, why)).await;
        }
    }
    Ok(())
}

async fn resolve(
    client: &Client,
    id: i64,
    (word, step): (Became, Option<String>),
    (output, why): (Option<String>, Option<String>),
) -> Result<(), CliError> {
    let word = match word {
        Became::Done => StepWord::Done,
        Became::Again => StepWord::Again,
        Became::Failed => StepWord::Failed,
    };
    let json = |text: String| {
        serde_json::from_str(&text)
            .map_err(|e| CliError::Usage(format!("--output is not JSON: {e}")))
    };
    let output = output.map(json).transpose()?;
    client
        .change(
            Method::POST,
            &format!("/api/v1/jobs/{id}/resolve"),
            Some(&Resolve { word, step, output, why }),
        )
        .await?;
    show::out(&format!("job {id} goes on; follow it with `arvok job follow {id}`"));
    Ok(())
}

async fn load(client: &Client, id: i64) -> Result<JobDetail, CliError> {
    client.get(&format!("/api/v1/jobs/{id}"), &[]).await
}

/// Prints each step as it changes, until the job ends. Looks again at every change that the
/// stream names, and every few seconds in case the stream broke.
pub(super) async fn follow(client: &Client, id: i64, json: bool) -> Result<(), CliError> {
    let mut stream = (client.stream().await?, Events::default());
    let mut shown: Vec<String> = Vec::new();
    let mut written = BTreeMap::new();
    loop {
        let detail = load(client, id).await?;
        if json {
            show::out(&serde_json::to_string(&detail).unwrap_or_default());
        } else {
            for line in progress(&detail) {
                if !shown.contains(&line) {
                    show::out(&line);
                    shown.push(line);
                }
            }
            new_lines(&detail, &mut written).iter().for_each(|line| show::out(line));
        }
        let state = Some(detail.job.state);
        if state.is_none_or(|s| s.is_final() || [JobState::Unsure, JobState::Paused].contains(&s)) {
            return ended(&detail, json);
        }
        wait_for(&mut stream, client, id).await;
    }
}

/// What commands and scripts that run have written since it was looked at last; of what went by in
/// between, how much that was. `seen` has how many lines of each try were shown.
fn new_lines(detail: &JobDetail, seen: &mut BTreeMap<(String, i32), i64>) -> Vec<String> {
    let mut new = Vec::new();
    for row in show::rows(detail) {
        let Line::Step(step) = row.line else { continue };
        let indent = "  ".repeat(row.depth);
        for (attempt, live) in
            step.attempts.iter().filter_map(|a| Some((a.attempt, a.live.as_ref()?)))
        {
            let seen = seen.entry((step.place.clone(), attempt)).or_default();
            let lines: Vec<&str> = live.lines.lines().collect();
            let fresh = usize::try_from(live.count - *seen).unwrap_or(0);
            if let Some(over @ 1..) = fresh.checked_sub(lines.len()) {
                new.push(format!("  {indent}  | ... {over} lines"));
            }
            let last = lines.len().saturating_sub(fresh);
            new.extend(lines[last..].iter().map(|line| format!("  {indent}  | {line}")));
            *seen = live.count;
        }
    }
    new
}

fn progress(detail: &JobDetail) -> Vec<String> {
    let mut lines =
        vec![format!("Job {}: {} on {}", detail.job.id, detail.job.runbook, detail.job.target)];
    let steps = show::rows(detail).into_iter().filter_map(|row| match row.line {
        Line::Step(step) => Some((row.depth, step)),
        Line::Part(..) | Line::LeftOut(_) => None,
    });
    for (depth, step) in
        steps.filter(|(_, s)| ![StepState::Next, StepState::NotRun].contains(&s.state))
    {
        // How long it takes is shown once it has ended.
        let open = [StepState::Running, StepState::Waiting, StepState::Again, StepState::Unsure]
            .contains(&step.state);
        let line = if open { show::step_line_untimed(step) } else { show::step_line(step) };
        lines.push(format!("  {}{line}", "  ".repeat(depth)));
        let error = step.attempts.last().and_then(|a| a.error.as_ref());
        lines.extend(error.map(|e| format!("      {e}")));
    }
    let waits = [JobState::Waiting, JobState::Paused].contains(&detail.job.state);
    if waits || detail.job.held.is_some() {
        lines.push(format!("  … {}", detail.job.doing));
    }
    lines
}

fn ended(detail: &JobDetail, json: bool) -> Result<(), CliError> {
    let job = &detail.job;
    if !json {
        let why = job.failure.as_ref().map_or_else(String::new, |f| format!(": {f}"));
        show::out(&format!("{}{why}. Effect: {}", job.state, show::effect(job)));
    }
    if job.state == JobState::Succeeded { Ok(()) } else { Err(CliError::No) }
}

async fn wait_for((stream, events): &mut (Response, Events), client: &Client, id: i64) {
    let heard = async {
        while let Ok(Some(chunk)) = stream.chunk().await {
            let mut changes = events
                .push(&chunk)
                .into_iter()
                .filter_map(|data| serde_json::from_str::<Change>(&data).ok());
            if changes.any(|c| c.reset || c.jobs.contains(&id)) {
                return true;
            }
        }
        false
    };
    match tokio::time::timeout(Duration::from_secs(5), heard).await {
        Ok(true) | Err(_) => {}
        Ok(false) => {
            // The node ended or the line broke; another may answer in a moment.
            tokio::time::sleep(Duration::from_secs(1)).await;
            if let Ok(again) = client.stream().await {
                (*stream, *events) = (again, Events::default());
            }
        }
    }
}
