//! `arvok job launch` and `arvok job again`: the inputs, what would be done, and the launch.

use super::{ask, pairs, read};
use crate::{
    args::{LaunchArgs, Server},
    client::Client,
    error::CliError,
    show,
};
use arvok_api::{DryRun, GoOn, GoesOn, JobDetail, Launch, Launched, RunbookForm};
use serde_json::{Map, Value};

/// Launches a runbook.
pub async fn launch(
    runbook: String,
    alert: Option<i64>,
    asked: LaunchArgs,
    server: &Server,
) -> Result<(), CliError> {
    let client = Client::of(server)?;
    launched(&client, runbook, Map::new(), alert, asked).await
}

/// Launches what a job was launched with once more, with other inputs where some are given.
pub async fn again(id: i64, asked: LaunchArgs, server: &Server) -> Result<(), CliError> {
    let client = Client::of(server)?;
    let job: JobDetail = client.get(&format!("/api/v1/jobs/{id}"), &[]).await?;
    let before = job.inputs.as_object().cloned().unwrap_or_default();
    launched(&client, job.job.runbook, before, job.job.alert, asked).await
}

/// Goes on from where a job failed.
pub async fn from_failed(id: i64, asked: LaunchArgs, server: &Server) -> Result<(), CliError> {
    let client = Client::of(server)?;
    let path = format!("/api/v1/jobs/{id}/go-on");
    let ask = |dry_run: bool| GoOn { why: asked.why.clone(), dry_run };
    let would: GoesOn = client.post(&path, &ask(true)).await?;
    if asked.dry_run && asked.output.json {
        return show::json(&would);
    }
    if !asked.yes || asked.dry_run {
        show::out(&show::goes_on(&would));
    }
    if asked.dry_run {
        return Ok(());
    }
    if !asked.yes && !ask::agreed(&format!("Go on from `{}`?", would.from))? {
        show::notice("nothing was launched");
        return Err(CliError::No);
    }
    let made: GoesOn = client.post(&path, &ask(false)).await?;
    let job = made.job.unwrap_or_default();
    if asked.output.json {
        show::json(&made)?;
        return if asked.follow { super::jobs::follow(&client, job, true).await } else { Ok(()) };
    }
    if asked.follow {
        show::out(&format!("job {job} goes on from `{}`", made.from));
        return super::jobs::follow(&client, job, false).await;
    }
    show::out(&format!(
        "job {job} goes on from `{}`; follow it with `arvok job follow {job}`",
        made.from
    ));
    Ok(())
}

/// What a file holds, or standard input; a second @ stands for itself.
fn of_file(path: &str) -> Result<String, CliError> {
    if let Some(itself) = path.strip_prefix('@') {
        return Ok(format!("@{itself}"));
    }
    let path = std::path::Path::new(path);
    let text = String::from_utf8(super::alerts::payload(path)?);
    Ok(text.map_err(|_| crate::error::file(path, "is not UTF-8"))?.trim_end().to_owned())
}

async fn launched(
    client: &Client,
    runbook: String,
    before: Map<String, Value>,
    alert: Option<i64>,
    asked: LaunchArgs,
) -> Result<(), CliError> {
    let form: RunbookForm =
        client.get(&format!("/api/v1/runbooks/{}", crate::client::percent(&runbook)), &[]).await?;
    let typed = pairs("--input", &asked.input, "vm=vm/quill-report-2")?;
    let mut inputs = before;
    // What is not known any more was of another version.
    inputs.retain(|name, _| form.inputs.contains_key(name));
    for (name, value) in typed {
        let value = match value.strip_prefix('@') {
            Some(path) => of_file(path)?,
            None => value.to_owned(),
        };
        inputs.insert(name.to_owned(), read(form.inputs.get(name), &value));
    }
    // A name that is not known may be what is missing, written wrongly: the server says so.
    let is_known = inputs.keys().all(|name| form.inputs.contains_key(name));
    for (name, schema) in form.inputs.iter().filter(|(_, s)| s.get("default").is_none()) {
        if is_known && !inputs.contains_key(name) {
            inputs.insert(name.clone(), read(Some(schema), &ask::value(name, schema, "--input")?));
        }
    }
    let launch = Launch {
        runbook,
        inputs,
        alert,
        urgency: asked.urgency.map(Into::into),
        deadline: asked.deadline,
        why: asked.why,
    };
    let dry: DryRun = client.post("/api/v1/jobs/dry-run", &launch).await?;
    if asked.dry_run {
        if asked.output.json {
            return show::json(&dry);
        }
        show::out(&show::dry_run(&dry));
        return Ok(());
    }
    if !asked.yes {
        show::out(&show::dry_run(&dry));
        if !ask::agreed(&format!("Launch {} on {}?", dry.runbook, dry.target))? {
            show::notice("nothing was launched");
            return Err(CliError::No);
        }
    }
    let made: Launched = client.post_once("/api/v1/jobs", &launch, asked.key.as_deref()).await?;
    if asked.output.json {
        show::json(&made)?;
        return if asked.follow {
            super::jobs::follow(client, made.job, true).await
        } else {
            Ok(())
        };
    }
    let (job, known) = (made.job, if made.known { " was launched before" } else { " is launched" });
    if asked.follow {
        show::out(&format!("job {job}{known}"));
        return super::jobs::follow(client, job, false).await;
    }
    show::out(&format!("job {job}{known}; follow it with `arvok job follow {job}`"));
    Ok(())
}
