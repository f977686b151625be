//! New fares are turned on step by step, each time as somebody of the crew agrees by a button of
//! the chat. They fail, and are switched off; mended they are turned on for all, and a further run
//! has nothing to do.

use super::{Account, detail, launch, until_job, until_some};
use crate::{demo::world::World, error::CliError, show};
use arvok_api::JobDetail;
use arvok_core::job::{JobEffect, JobState};
use arvok_standins::chat::Message;
use serde_json::json;

const FEATURE: &str = "feature/new-fares";
const NAME: &str = "new-fares";

pub async fn play(world: &mut World) -> Result<Account, CliError> {
    let mut account = Account::new("New fares were turned on step by step");
    let half = raised(world, 50, true).await?;
    account.job(&half);
    account.line(format!("  effect   {}", show::effect(&half.job)));
    let confirmed = half.job.effect == Some(JobEffect::Confirmed);
    account.want(confirmed, "the first step should have been taken, its effect confirmed");
    account.want(
        share(world) == 50,
        format!("they should be on for half of the passengers, not for {}", share(world)),
    );

    failing(world, 9);
    account.proved(world, "switch-off-feature", FEATURE, half.job.id).await?;
    account.want(share(world) == 0, "what fails should be off");
    failing(world, 0);

    let all = raised(world, 100, true).await?;
    account.job(&all);
    account.line(format!("  effect   {}", show::effect(&all.job)));
    account.want(share(world) == 100, "mended they should be on for all");
    let nothing = raised(world, 50, false).await?;
    account.job(&nothing);
    account.line(format!("  told     {}", nothing.job.failure.clone().unwrap_or_default()));
    let good = nothing.job.state == JobState::Succeeded
        && nothing.job.effect == Some(JobEffect::NotChecked);
    account.want(good, "a run after the last should have had nothing to do");
    account.said(world, "booking", NAME);
    Ok(account)
}

/// A run of so many percent; somebody presses the button if there is one.
async fn raised(world: &World, step: u8, asks: bool) -> Result<JobDetail, CliError> {
    let inputs = [("feature".to_owned(), json!(FEATURE)), ("step".to_owned(), json!(step))];
    let job = launch(world, "raise-share", inputs.into_iter().collect(), "the next step").await?;
    if asks {
        let question = until_some(|| question(world))
            .await
            .ok_or_else(|| CliError::Here("nobody was asked about the fares".into()))?;
        world
            .harbour
            .chat
            .press(&question, "raise", "Maren of the booking crew")
            .map_err(CliError::Here)?;
    }
    until_job(world, job, |job| job.finished_at.is_some()).await?;
    detail(world, job).await
}

/// What the crew is asked about them and nobody has answered.
pub fn question(world: &World) -> Option<Message> {
    let said = world.said_in(&["booking"]);
    said.into_iter().rev().find(|m| m.pressed.is_none() && m.buttons.contains_key("raise"))
}

fn share(world: &World) -> u8 {
    world.harbour.features.with(|all| all.get(NAME).map_or(0, |feature| feature.share))
}

/// So many of a hundred requests with them fail.
fn failing(world: &World, percent: u8) {
    world
        .harbour
        .features
        .with(|all| all.get_mut(NAME).map(|feature| feature.failing_percent = percent));
}
