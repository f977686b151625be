//! What happened, asked of the API and the stand-ins, and whether it is what should have.

use super::{story::Scene, world::World};
use crate::{error::CliError, show};
use arvok_api::{AlarmItem, AlertDetail, AlertItem, JobDetail, JobItem, Page};
use arvok_core::{AlertState, job::JobState};

/// The report, and whether the story ended well.
pub struct Report {
    pub text: String,
    pub well: bool,
}

pub async fn of(world: &World, scene: &Scene) -> Result<Report, CliError> {
    let resource = format!("vm/{}", scene.vm);
    let jobs: Page<JobItem> = world.client.get("/api/v1/jobs", &[("target", Some(resource.clone()))]).await?;
    let query = [("resource", Some(resource.clone())), ("limit", Some("500".to_owned()))];
    let alerts: Page<AlertItem> = world.client.get("/api/v1/alerts", &query).await?;
    let alarms: Page<AlarmItem> = world.client.get("/api/v1/alarms", &[("text", Some(resource.clone()))]).await?;
    let said = world.chat.messages();
    let (grown, size) = world.yard.with(|c| {
        let vm = c.vms.get(scene.vm);
        let disk = vm.and_then(|v| v.disks.iter().find(|d| d.name == scene.disk));
        (vm.map_or(0, |v| v.grown), disk.map_or(0.0, |d| d.size_gib))
    });

    let mut lines = vec!["A disk filled up in the night".to_owned()];
    let raised: Vec<&AlertItem> = alerts.items.iter().filter(|a| a.state == AlertState::Raised).collect();
    if let Some(first) = raised.last() {
        let alert: AlertDetail = world.client.get(&format!("/api/v1/alerts/{}", first.seq), &[]).await?;
        lines.push(format!("  alert    {}: {}, {}", first.seq, first.severity, first.summary));
        lines.push(format!("           {} repeats of it were folded", raised.len() - 1));
        for v in &alert.verdicts {
            lines.push(format!("  verdict  {} by {}: {}", v.verdict, v.rule, v.reason));
        }
    }
    let mut effect = "none".to_owned();
    let mut succeeded = false;
    if let Some(job) = jobs.items.first() {
        let d: JobDetail = world.client.get(&format!("/api/v1/jobs/{}", job.id), &[]).await?;
        let took = show::between(d.job.started_at, d.job.finished_at);
        lines.push(format!("  job      {}: {} on {}, {} in {took}", job.id, job.runbook, job.target, job.state));
        for step in &d.steps {
            lines.push(format!("           {}: {}", step.summary.as_deref().unwrap_or(&step.id), step.state));
        }
        effect = show::effect(job);
        succeeded = job.state == JobState::Succeeded;
    }
    let often = if grown == 1 { "once".to_owned() } else { format!("{grown} times") };
    lines.push(format!("  yard     disk {} grew {often}, from {} to {size} GiB", scene.disk, scene.size_before));
    let alarm = alarms.items.first();
    lines.push(format!("  alarm    {}", alarm.map_or("none", |a| a.state.as_str())));
    lines.extend(said.iter().map(|m| format!("  chat     in {}: {}", m.channel, m.text)));
    lines.push(format!("  effect   {effect}"));

    let wanted = [
        (jobs.items.len() == 1, format!("there should be one job, there are {}", jobs.items.len())),
        (succeeded, "the job should have succeeded".into()),
        (raised.len() > 1, "the alert should have been repeated".into()),
        (
            grown == 1 && size == scene.size_before + scene.step_gib,
            format!("the disk should have grown once, by {} GiB", scene.step_gib),
        ),
        (alarm.is_some_and(|a| a.state == AlertState::Cleared), "the alarm should be cleared".into()),
        (said.len() == 1, format!("one message should have been sent, there are {}", said.len())),
        (effect == "confirmed", "the effect should be confirmed".into()),
    ];
    let wrong: Vec<String> =
        wanted.into_iter().filter(|(good, _)| !good).map(|(_, what)| format!("  ✗ {what}")).collect();
    lines.push(if wrong.is_empty() {
        "It ended well.".into()
    } else {
        format!("It did not end well:\n{}", wrong.join("\n"))
    });
    Ok(Report { text: lines.join("\n"), well: wrong.is_empty() })
}
