//! A feature is turned on for more and does not bear it: what was done is taken back, word for word
//! as it was, and the crew is told.

use super::{Account, detail, inputs, launch, rollout, until_job, until_some};
use crate::{demo::world::World, error::CliError};
use arvok_core::job::JobState;
use serde_json::json;

const FEATURE: &str = "new-fares";
/// Of a hundred requests that many fail then: more than the step lets pass, and too few for an
/// alarm.
const FAILING: u8 = 3;

pub async fn play(world: &mut World) -> Result<Account, CliError> {
    let mut account = Account::new("A step of new fares did not bear, and was taken back");
    set(world, Some(50), 0);
    let asked = inputs(json!({ "feature": format!("feature/{FEATURE}"), "step": 25 }));
    let job = launch(world, "raise-share", asked, "a step further").await?;
    let question = until_some(|| rollout::question(world))
        .await
        .ok_or_else(|| CliError::Here("nobody was asked about the fares".into()))?;
    let chat = &world.harbour.chat;
    chat.press(&question, "raise", "Maren of the booking crew").map_err(CliError::Here)?;
    let raised = until_some(|| (share(world) == 75).then_some(())).await.is_some();
    account.want(raised, "the share should have been raised to 75 %");
    set(world, None, FAILING);
    until_job(world, job, |job| job.finished_at.is_some()).await?;
    set(world, None, 0);
    let undone = detail(world, job).await?;
    account.job(&undone);
    account.line(format!("  told     {}", undone.job.failure.clone().unwrap_or_default()));
    account.line(format!("  features {FEATURE} is on for {} %", share(world)));
    account.want(undone.job.state == JobState::Failed, "what does not bear should be a failure");
    account.want(share(world) == 50, "the share should be what it was");
    let told = account.said(world, "booking", "was not turned on for more");
    account.want(told >= 1, "the crew should have been told");
    Ok(account)
}

fn share(world: &World) -> u8 {
    world.harbour.features.with(|all| all.get(FEATURE).map_or(0, |feature| feature.share))
}

fn set(world: &World, share: Option<u8>, failing: u8) {
    world.harbour.features.with(|all| {
        if let Some(feature) = all.get_mut(FEATURE) {
            feature.share = share.unwrap_or(feature.share);
            feature.failing_percent = failing;
        }
    });
}
