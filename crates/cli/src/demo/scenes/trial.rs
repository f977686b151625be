//! A whole chain is tried with an alert that somebody made up: what only looks is done, nothing
//! else is, and nobody is told.

use super::{Account, PATIENCE, detail, until_job};
use crate::{demo::world::World, error::CliError};
use arvok_api::{AlertDetail, ClearedTrials, DeliveryAnswer, JobDetail, JobStep, NewTrial};
use arvok_core::{Trial, job::JobState};
use serde_json::json;
use std::time::{Duration, Instant};

const VM: &str = "quill-booking-db-2";

/// What all disks of the VM hold together.
fn size(world: &World) -> f64 {
    let disks = |c: &mut arvok_standins::yard::Cluster| {
        c.vms.get(VM).map_or(0.0, |vm| vm.disks.iter().map(|disk| disk.size_gib).sum())
    };
    world.harbour.yard.with(disks)
}

pub async fn play(world: &mut World) -> Result<Account, CliError> {
    let mut account = Account::new("A whole chain is tried, and nothing is done");
    // Full enough to be grown, and not so full that the monitor says so.
    world.harbour.yard.with(|yard| yard.fill(VM, "data", 80.0, 0.02));
    let before = (size(world), world.said_in(&["storage"]).len());
    let target = format!("vm/{VM}");
    let new = NewTrial {
        source: "yard-hypervisor".into(),
        alert: Some(json!({
            "kind": "disk.usage", "severity": "major", "resource": target, "value": 95,
            "summary": "a disk that somebody made up is full", "labels": { "tier": "gold" },
        })),
        ..NewTrial::default()
    };
    let made: DeliveryAnswer = world.client.post("/api/v1/trials", &new).await?;
    let seq = made.alerts.first().and_then(|alert| alert.seq);
    let Some(job) = dispatched(world, seq.unwrap_or_default()).await? else {
        account.want(false, "the rule that acts should have dispatched a job");
        return Ok(account);
    };
    until_job(world, job, |job| job.finished_at.is_some()).await?;
    let tried: JobDetail = detail(world, job).await?;
    account.job(&tried);
    let unsent = |step: &JobStep| {
        let request = step.attempts.last()?.request.as_ref().filter(|request| request.unsent)?;
        Some(format!("  unsent   {} {}", request.method, request.target))
    };
    let unsent: Vec<String> = tried.steps.iter().filter_map(unsent).collect();
    account.want(unsent.len() == 2, "to grow the disk and to tell of it should not have been sent");
    unsent.into_iter().for_each(|line| account.line(line));
    let good = tried.job.state == JobState::Succeeded && tried.job.trial == Some(Trial::Dry);
    account.want(good, "the job should have gone through to its end, as a trial");
    let after = (size(world), world.said_in(&["storage"]).len());
    account.want(before == after, "neither a disk nor the chat should be another than before");
    let cleared: ClearedTrials = world.client.delete("/api/v1/trials").await?;
    account.line("  cleared  what was made up is gone".to_owned());
    account.want(cleared.alarms == 1, "the trial's alarm should have been cleared away");
    Ok(account)
}

/// The job that an alert led to.
async fn dispatched(world: &World, seq: i64) -> Result<Option<i64>, CliError> {
    let until = Instant::now() + PATIENCE;
    while Instant::now() < until {
        let path = format!("/api/v1/alerts/{seq}");
        let alert: AlertDetail = world.client.get(&path, &[]).await?;
        if let Some(job) = alert.verdicts.iter().find_map(|verdict| verdict.job) {
            return Ok(Some(job));
        }
        tokio::time::sleep(Duration::from_millis(100)).await;
    }
    Ok(None)
}
