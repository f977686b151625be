//! A kiosk's VM is switched off by accident: it is started again while the crew is told, both from
//! one alert.

use super::{Account, detail, ended, jobs};
use crate::{demo::world::World, error::CliError, show};
use arvok_core::job::{JobEffect, JobState};

const VM: &str = "brack-kiosk-3";

pub async fn play(world: &mut World) -> Result<Account, CliError> {
    let target = format!("vm/{VM}");
    world.harbour.yard.with(|c| c.vms.get_mut(VM).map(|v| v.powered = false));
    ended(world, &target, None).await?;

    let mut account = Account::new("A kiosk's machine was switched off by accident");
    let found = jobs(world, &target).await?;
    let said = world.said_in(&["yard", "crew"]);
    let others_on = world
        .harbour
        .yard
        .with(|c| c.vms.iter().filter(|(name, _)| *name != VM).all(|(_, v)| v.powered));
    let on = world.harbour.yard.with(|c| c.vms.get(VM).is_some_and(|v| v.powered));
    account.want(found.len() == 1, format!("there should be one job, there are {}", found.len()));
    if let Some(job) = found.first() {
        account.job(&detail(world, job.id).await?);
        account.line(format!("  effect   {}", show::effect(job)));
        let good = job.state == JobState::Succeeded && job.effect == Some(JobEffect::Confirmed);
        account.want(good, "the job should have succeeded, its effect confirmed");
    }
    account.line(format!("  yard     {VM} is {}", if on { "on" } else { "off" }));
    said.iter().for_each(|m| account.line(format!("  chat     in {}: {}", m.channel, m.text)));
    account.want(on, "the machine should be on");
    account.want(others_on, "no other machine should have been touched");
    account.want(
        said.len() == 1,
        format!("the crew should have been told once, not {} times", said.len()),
    );
    Ok(account)
}
