//! The night's fares wait for the database: somebody holds the job that tends it, and lets it go
//! on.

use super::{Account, PATIENCE, detail, launch, until_job};
use crate::{demo::world::World, error::CliError, show};
use arvok_api::Because;
use arvok_core::job::{JobEffect, JobState};
use reqwest::Method;
use serde_json::{Map, json};
use std::time::{Duration, Instant};

pub async fn play(world: &mut World) -> Result<Account, CliError> {
    let tends = launch(world, "tend-database", Map::new(), "a new index for the fares").await?;
    until_job(world, tends, |job| job.state == JobState::Waiting).await?;
    let why = Because { why: Some("somebody looks at the locks".into()) };
    world.client.change(Method::POST, &format!("/api/v1/jobs/{tends}/pause"), Some(&why)).await?;
    until_job(world, tends, |job| job.state == JobState::Paused).await?;
    let inputs = [("after".to_owned(), json!(tends)), ("night".to_owned(), json!("2026-11-26"))];
    let imports =
        launch(world, "import-fares", inputs.into_iter().collect(), "the fares of the night")
            .await?;
    let waited = until_job(world, imports, |job| job.state == JobState::Waiting).await?;
    let before = world.harbour.releases.with("fares", |s| s.imported.clone()).flatten();
    world
        .client
        .change(Method::POST, &format!("/api/v1/jobs/{tends}/resume"), Some(&Because::default()))
        .await?;
    until_job(world, imports, |job| job.finished_at.is_some()).await?;
    let told = imported_fares(world).await?;

    let mut account = Account::new("The night's fares waited for their database");
    account.line(format!("  waited   {}", waited.doing));
    let (tends, imports) = (detail(world, tends).await?, detail(world, imports).await?);
    account.job(&tends);
    account.job(&imports);
    account.line(format!("  effect   {}", show::effect(&imports.job)));
    let after = world.harbour.releases.with("fares", |s| s.imported.clone()).flatten();
    account
        .line(format!("  desk     the fares of {} are in", after.as_deref().unwrap_or("no night")));
    account.line(format!("  event    {}", told.as_deref().unwrap_or("none")));
    account
        .want(before.is_none(), "nothing should have been imported before the database was ready");
    account.want(after.as_deref() == Some("2026-11-26"), "the fares of the night should be in");
    let good = imports.job.state == JobState::Succeeded
        && imports.job.effect == Some(JobEffect::Confirmed);
    account.want(good, "the import should have succeeded, its effect confirmed");
    account.want(told.is_some(), "whoever waits for the fares should have been told");
    Ok(account)
}

/// What was told of the fares, as soon as it has entered.
async fn imported_fares(world: &World) -> Result<Option<String>, CliError> {
    let until = Instant::now() + PATIENCE;
    while Instant::now() < until {
        let kind = Some("fares.imported".to_owned());
        let page: serde_json::Value = world.client.get("/api/v1/alerts", &[("kind", kind)]).await?;
        if let Some(summary) = page["items"][0]["summary"].as_str() {
            return Ok(Some(summary.to_owned()));
        }
        tokio::time::sleep(Duration::from_millis(100)).await;
    }
    Ok(None)
}
