//! A booking disk fills in the night, and is grown once, however often the monitor repeats itself.

use super::{Account, ended};
use crate::{demo::world::World, error::CliError, show};
use arvok_api::{AlarmItem, AlertDetail, AlertItem, JobDetail, JobItem, Page};
use arvok_core::{AlertState, job::JobState};
use arvok_standins::Faults;

const VM: &str = "quill-booking-db-1";
const DISK: &str = "data";
/// By how much one step grows it.
const STEP_GIB: f64 = 4.0;

fn size(world: &World) -> f64 {
    let disk = |c: &mut arvok_standins::yard::Cluster| {
        c.vms
            .get(VM)
            .and_then(|v| v.disks.iter().find(|d| d.name == DISK))
            .map_or(0.0, |d| d.size_gib)
    };
    world.harbour.yard.with(disk)
}

/// The yard's office is slow tonight, so the monitor repeats itself while the job is at work.
pub async fn play(world: &mut World, kill_node: bool) -> Result<Account, CliError> {
    let before = size(world);
    world.harbour.yard.set_faults(Faults { delay_ms: 1200, ..Faults::default() });
    world.harbour.yard.with(|c| c.fill(VM, DISK, 87.3, 4.0));
    let target = format!("vm/{VM}");
    let at_work = |job: &JobItem| job.state == JobState::Running && job.steps_done >= 1;
    ended(world, &target, kill_node.then_some(&at_work)).await?;
    world.harbour.yard.set_faults(Faults { delay_ms: 150, ..Faults::default() });
    world.harbour.yard.with(|c| c.fill(VM, DISK, 79.0, 0.02));
    account(world, before).await
}

async fn account(world: &World, before: f64) -> Result<Account, CliError> {
    let resource = format!("vm/{VM}");
    let jobs: Page<JobItem> =
        world.client.get("/api/v1/jobs", &[("target", Some(resource.clone()))]).await?;
    let query = [("resource", Some(resource.clone())), ("limit", Some("500".to_owned()))];
    let alerts: Page<AlertItem> = world.client.get("/api/v1/alerts", &query).await?;
    let alarms: Page<AlarmItem> =
        world.client.get("/api/v1/alarms", &[("text", Some(resource.clone()))]).await?;
    let said = world.said_in(&["storage"]);
    let (grown, size) =
        (world.harbour.yard.with(|c| c.vms.get(VM).map_or(0, |v| v.grown)), size(world));

    let mut account = Account::new("A disk filled up in the night");
    let raised: Vec<&AlertItem> =
        alerts.items.iter().filter(|a| a.state == AlertState::Raised).collect();
    if let Some(first) = raised.last() {
        let alert: AlertDetail =
            world.client.get(&format!("/api/v1/alerts/{}", first.seq), &[]).await?;
        account.line(format!("  alert    {}: {}, {}", first.seq, first.severity, first.summary));
        account.line(format!("           {} repeats of it were folded", raised.len() - 1));
        for v in &alert.verdicts {
            account.line(format!("  verdict  {} by {}: {}", v.verdict, v.rule, v.reason));
        }
    }
    let mut effect = "none".to_owned();
    let mut succeeded = false;
    if let Some(job) = jobs.items.first() {
        let detail: JobDetail = world.client.get(&format!("/api/v1/jobs/{}", job.id), &[]).await?;
        account.job(&detail);
        effect = show::effect(job);
        succeeded = job.state == JobState::Succeeded;
    }
    let often = if grown == 1 { "once".to_owned() } else { format!("{grown} times") };
    account.line(format!("  yard     disk {DISK} grew {often}, from {before} to {size} GiB"));
    let alarm = alarms.items.first();
    account.line(format!("  alarm    {}", alarm.map_or("none", |a| a.state.as_str())));
    said.iter().for_each(|m| account.line(format!("  chat     in {}: {}", m.channel, m.text)));
    account.line(format!("  effect   {effect}"));

    account.want(
        jobs.items.len() == 1,
        format!("there should be one job, there are {}", jobs.items.len()),
    );
    account.want(succeeded, "the job should have succeeded");
    account.want(raised.len() > 1, "the alert should have been repeated");
    let grew = grown == 1 && size == before + STEP_GIB;
    account.want(grew, format!("the disk should have grown once, by {STEP_GIB} GiB"));
    account
        .want(alarm.is_some_and(|a| a.state == AlertState::Cleared), "the alarm should be cleared");
    account.want(
        said.len() == 1,
        format!("one message should have been sent, there are {}", said.len()),
    );
    account.want(effect == "confirmed", "the effect should be confirmed");
    Ok(account)
}
