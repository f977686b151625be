//! Several machines are switched off at one moment: somebody halts everything, and lifts it when it
//! is clear what happened; then a guard lets them be started one after another.

use super::{Account, PATIENCE, jobs};
use crate::{demo::world::World, error::CliError};
use arvok_api::{FileText, Halted, JobItem, SetHalt};
use arvok_core::job::{JobEffect, JobState};
use reqwest::Method;
use std::time::{Duration, Instant};

const VMS: [&str; 3] = ["oldhithe-kiosk-1", "quill-mail-1", "quill-report-2"];
const GUARD: &str = "
guard: starts-one-by-one
summary: A host that comes back is not asked for all of its guests at once
concerns: { runbooks: start-vm }
at_once: 1
";

pub async fn play(world: &mut World) -> Result<Account, CliError> {
    let mut account = Account::new("Three machines were switched off at once");
    let guard = FileText { file: "guard.yaml".into(), text: GUARD.into() };
    world.change(vec![guard], None).await?;
    let before = begun(world).await?.len();
    let reason = "who switches them off".to_owned();
    let halt = SetHalt { reason, running: false };
    let _: Halted = world.client.put("/api/v1/halt", &halt).await?;
    switch_off(world);
    let queued = until_jobs(world, |all| all.len() == VMS.len()).await?;
    account.want(queued.len() == VMS.len(), "each machine should have a job that waits");
    let waits = |job: &JobItem| job.state == JobState::Queued && job.started_at.is_none();
    account.want(queued.iter().all(waits), "no job should have begun while all is halted");
    account.want(on(world) == 0, "no machine should have been started while all is halted");
    account.line(format!("  halted   {} jobs wait, none begins", queued.len()));
    world.client.change(Method::DELETE, "/api/v1/halt", None::<&()>).await?;

    let ended = until_jobs(world, |all| {
        all.len() == VMS.len() && all.iter().all(|job| job.finished_at.is_some())
    })
    .await?;
    let good = |job: &JobItem| {
        job.state == JobState::Succeeded && job.effect == Some(JobEffect::Confirmed)
    };
    account.want(ended.iter().all(good), "each should have been started, its effect confirmed");
    account.want(on(world) == VMS.len(), "all machines should be on");
    let mut spans: Vec<_> =
        ended.iter().filter_map(|job| Some((job.started_at?, job.finished_at?))).collect();
    spans.sort();
    let one_by_one = spans.windows(2).all(|two| two[0].1 <= two[1].0);
    account.want(one_by_one, "never two should have been started at once");
    let held = begun(world).await?.len() - before;
    account.want(held == VMS.len(), format!("there should be {} jobs, not {held}", VMS.len()));
    account.line(format!("  guard    starts-one-by-one let {held} begin, one after another"));
    world.change(Vec::new(), Some(("guard", "starts-one-by-one"))).await?;
    Ok(account)
}

fn switch_off(world: &World) {
    world.harbour.yard.with(|yard| {
        for vm in VMS {
            if let Some(vm) = yard.vms.get_mut(vm) {
                vm.powered = false;
            }
        }
    });
}

/// How many of the machines are on.
fn on(world: &World) -> usize {
    let is_on = |vm: &&&str| {
        world.harbour.yard.with(|yard| yard.vms.get(**vm).is_some_and(|vm| vm.powered))
    };
    VMS.iter().filter(is_on).count()
}

/// The jobs that start machines of the scene.
async fn begun(world: &World) -> Result<Vec<JobItem>, CliError> {
    let mut all = Vec::new();
    for vm in VMS {
        let of_one = jobs(world, &format!("vm/{vm}")).await?;
        all.extend(of_one.into_iter().filter(|job| job.runbook == "start-vm"));
    }
    Ok(all)
}

/// The same once they are as they should be, or when there is no more patience.
async fn until_jobs(
    world: &World,
    are: impl Fn(&[JobItem]) -> bool,
) -> Result<Vec<JobItem>, CliError> {
    let until = Instant::now() + PATIENCE;
    loop {
        let all = begun(world).await?;
        if are(&all) || Instant::now() > until {
            return Ok(all);
        }
        tokio::time::sleep(Duration::from_millis(100)).await;
    }
}
