//! Somebody wants to know what runs in the yard: three versions are collected side by side and
//! reported, once well and once while the yard's office refuses everybody.

use super::{Account, detail, launch, until_job};
use crate::{demo::world::World, error::CliError};
use arvok_api::JobDetail;
use arvok_core::job::JobState;
use arvok_standins::Faults;

pub async fn play(world: &mut World) -> Result<Account, CliError> {
    let well = launched(world).await?;
    world.harbour.yard.set_faults(Faults { busy: 100, ..Faults::default() });
    let badly = launched(world).await?;
    world.harbour.yard.set_faults(Faults { delay_ms: 150, ..Faults::default() });

    let mut account = Account::new("Somebody asked what runs in the yard");
    let said: Vec<_> =
        world.said_in(&["yard"]).into_iter().filter(|m| m.text.contains("ersions")).collect();
    account.job(&well);
    account.job(&badly);
    // Which of the two that were refused is named depends on the moment.
    let short = |text: &str| text.split(" (").next().unwrap_or_default().to_owned();
    said.iter()
        .for_each(|m| account.line(format!("  chat     in {}: {}", m.channel, short(&m.text))));
    account.want(well.job.state == JobState::Succeeded, "the first job should have succeeded");
    account.want(badly.job.state == JobState::Failed, "the second job should have failed");
    let versions = well.outputs.as_ref().and_then(|o| o["versions"].as_array()).map_or(0, Vec::len);
    account
        .want(versions == 3, format!("three versions should have been collected, not {versions}"));
    let told = said.len() == 2 && said[1].text.starts_with("The versions could not be collected");
    account.want(told, "both should have been reported, each in its way");
    Ok(account)
}

/// Launches it, and waits until it has ended.
async fn launched(world: &World) -> Result<JobDetail, CliError> {
    let job =
        launch(world, "report-versions", serde_json::Map::new(), "before the release").await?;
    until_job(world, job, |job| job.finished_at.is_some()).await?;
    detail(world, job).await
}
