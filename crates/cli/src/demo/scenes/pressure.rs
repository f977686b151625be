//! A hypervisor host runs out of memory: its guests are moved off one at a time, for as long as
//! that lasts, and the other hosts' guests stay where they are.

use super::{Account, PATIENCE, detail, jobs};
use crate::{demo::world::World, error::CliError, show};
use arvok_core::job::{JobEffect, JobState};
use std::{
    collections::BTreeMap,
    time::{Duration, Instant},
};

const HOST: &str = "quill-hv-2";
/// What the host itself needs for a while: with its guests that is more than it has room for.
const OWN_GIB: f64 = 30.0;

fn guests(world: &World) -> BTreeMap<String, String> {
    world
        .harbour
        .yard
        .with(|c| c.vms.iter().map(|(name, vm)| (name.clone(), vm.host.clone())).collect())
}

pub async fn play(world: &mut World) -> Result<Account, CliError> {
    let target = format!("host/{HOST}");
    let before = guests(world);
    set_own(world, OWN_GIB);
    let until = Instant::now() + PATIENCE;
    let found = loop {
        tokio::time::sleep(Duration::from_millis(200)).await;
        let found = jobs(world, &target).await?;
        let confirmed = found.first().is_some_and(|j| j.effect == Some(JobEffect::Confirmed));
        if confirmed || Instant::now() > until {
            break found;
        }
    };
    let after = guests(world);
    let used = world.harbour.yard.with(|c| c.used_gib(HOST));
    set_own(world, 4.0);

    let mut account = Account::new("A hypervisor host ran out of memory");
    for job in found.iter().rev() {
        account.job(&detail(world, job.id).await?);
        account.line(format!("  effect   {}", show::effect(job)));
        account.want(
            job.state == JobState::Succeeded,
            format!("job {} should have succeeded", job.id),
        );
    }
    let moved: Vec<_> =
        after.iter().filter(|(name, host)| before.get(*name) != Some(host)).collect();
    moved
        .iter()
        .for_each(|(name, host)| account.line(format!("  yard     {name} is on {host} now")));
    account.line(format!("  yard     {used:.0} GiB of {HOST} are in use"));
    let said = world.said_in(&["yard"]).into_iter().filter(|m| m.text.contains(HOST));
    said.for_each(|m| account.line(format!("  chat     in {}: {}", m.channel, m.text)));
    account.want(
        found.len() == 2,
        format!("two guests should have been moved by two jobs, there are {}", found.len()),
    );
    let names: Vec<&str> = moved.iter().map(|(name, _)| name.as_str()).collect();
    account.want(
        names == ["quill-mail-1", "quill-report-2"],
        "the two smallest guests should have been moved",
    );
    let off = moved.iter().all(|(name, _)| before.get(*name).is_some_and(|host| host == HOST));
    account.want(off, "no guest of another host should have been touched");
    let confirmed = found.first().is_some_and(|j| j.effect == Some(JobEffect::Confirmed));
    account.want(confirmed, "the effect of the last job should be confirmed");
    Ok(account)
}

fn set_own(world: &World, gib: f64) {
    world.harbour.yard.with(|c| c.hosts.get_mut(HOST).map(|h| h.own_gib = gib));
}
