//! New fares are turned on step by step, each time as somebody of the crew agrees by a button of
//! the chat. They fail, and are switched off; mended they are turned on for all, and a further run
//! has nothing to do: its plan remembers how far it came.

use super::{Account, detail, until_job, until_some};
use crate::{demo::world::World, error::CliError};
use arvok_api::{JobDetail, Launched, PlanDetail, RunPlan};
use arvok_core::job::JobState;
use arvok_standins::chat::Message;

const FEATURE: &str = "feature/new-fares";
const NAME: &str = "new-fares";

pub async fn play(world: &mut World) -> Result<Account, CliError> {
    let mut account = Account::new("New fares were turned on step by step, by a plan");
    let half = run(world, true).await?;
    account.job(&half);
    account.want(half.job.state == JobState::Succeeded, "the first step should have been taken");
    account.want(
        share(world) == 50,
        format!("they should be on for half of the passengers, not for {}", share(world)),
    );

    failing(world, 9);
    account.proved(world, "switch-off-feature", FEATURE, half.job.id).await?;
    account.want(share(world) == 0, "what fails should be off");
    failing(world, 0);

    for wanted in [50, 100] {
        let more = run(world, true).await?;
        account.job(&more);
        account.want(share(world) == wanted, format!("mended they should be on for {wanted} %"));
    }
    let nothing = run(world, false).await?;
    account.job(&nothing);
    account.line(format!("  told     {}", nothing.job.failure.clone().unwrap_or_default()));
    let launched = nothing.steps.iter().any(|step| step.job.is_some());
    let good = nothing.job.state == JobState::Succeeded && !launched;
    account.want(good, "a run after the last should have had nothing to do");
    let detail: PlanDetail = world.client.get(&format!("/api/v1/plans/{NAME}"), &[]).await?;
    account.line(format!("  plan     remembers {}", detail.memory));
    account.want(detail.memory["share"] == 100, "the plan should remember how far it came");
    account.said(world, "booking", NAME);
    Ok(account)
}

/// A run of the plan; somebody presses the button if there is one.
async fn run(world: &World, asks: bool) -> Result<JobDetail, CliError> {
    let why = RunPlan { why: Some("the next step".to_owned()) };
    let made: Launched = world.client.post(&format!("/api/v1/plans/{NAME}/run"), &why).await?;
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
    until_job(world, made.job, |job| job.finished_at.is_some()).await?;
    detail(world, made.job).await
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
