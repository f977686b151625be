//! A remedy that a person declines, and one that is at its ceiling: neither changes anything, and
//! both say why.

use super::{Account, detail, inputs, launch, rollout, until_job, until_some};
use crate::{demo::world::World, error::CliError};
use arvok_core::job::JobState;
use serde_json::json;

const FEATURE: &str = "new-fares";
const VM: &str = "quill-booking-db-2";

pub async fn play(world: &mut World) -> Result<Account, CliError> {
    let mut account = Account::new("One remedy is declined, and one is at its ceiling");
    world.harbour.features.with(|all| all.get_mut(FEATURE).map(|feature| feature.share = 50));
    let asked = inputs(json!({ "feature": format!("feature/{FEATURE}"), "step": 25 }));
    let job = launch(world, "raise-share", asked, "the fares look well").await?;
    let question = until_some(|| rollout::question(world))
        .await
        .ok_or_else(|| CliError::Here("nobody was asked about the fares".into()))?;
    let chat = &world.harbour.chat;
    chat.press(&question, "leave", "Maren of the booking crew").map_err(CliError::Here)?;
    until_job(world, job, |job| job.finished_at.is_some()).await?;
    let declined = detail(world, job).await?;
    account.job(&declined);
    let words = declined.job.failure.clone().unwrap_or_default();
    account.line(format!("  told     {words}"));
    account.want(words.contains("Maren"), "it should say who declined it");
    account.want(declined.job.state == JobState::Succeeded, "to decline is no failure");
    let share = world.harbour.features.with(|all| all.get(FEATURE).map(|feature| feature.share));
    account.want(share == Some(50), "the share should be what it was");

    let size = disk(world);
    let asked = inputs(json!({ "vm": format!("vm/{VM}"), "ceiling_gib": size, "full_from": 0.1 }));
    let job = launch(world, "grow-disk", asked, "before it fills").await?;
    until_job(world, job, |job| job.finished_at.is_some()).await?;
    let refused = detail(world, job).await?;
    account.job(&refused);
    let words = refused.job.failure.clone().unwrap_or_default();
    account.line(format!("  told     {words}"));
    account.want(words.contains("at its ceiling"), "it should say that it is at its ceiling");
    account.want(refused.job.state == JobState::Failed, "what cannot be done should be a failure");
    account.want(disk(world) <= size, "the disk should not have been grown");
    Ok(account)
}

/// How large the largest disk of the VM is.
fn disk(world: &World) -> u64 {
    world.harbour.yard.with(|yard| {
        let disks = yard.vms.get(VM).map(|vm| &vm.disks[..]).unwrap_or_default();
        let sizes = disks.iter().map(|disk| disk.size_gib.ceil());
        #[expect(clippy::cast_possible_truncation, clippy::cast_sign_loss, reason = "some GiB")]
        let largest = sizes.fold(0.0, f64::max) as u64;
        largest
    })
}
