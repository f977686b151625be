//! The scenes of the night, each a file: what happens, and whether Arvok did what it should have,
//! asked of its API and of the stand-ins.

mod balance;
mod chain;
mod cloud;
mod declined;
mod disk;
mod fares;
mod guest;
mod handover;
mod kiosk;
mod mails;
mod maintenance;
mod port;
mod power;
mod pressure;
mod release;
mod rollout;
mod site;
mod storm;
mod told;
mod trial;
mod undone;
mod unit;
mod versions;

pub use release::faulty as faulty_release;
pub use rollout::question;

use super::world::World;
use crate::{
    args::Scene,
    error::CliError,
    show::{self, Line},
};
use arvok_api::{JobDetail, JobItem, JobStep, Launch, Launched, Page};
use arvok_core::job::{JobEffect, JobState};
use clap::ValueEnum;
use serde::Serialize;
use serde_json::{Map, Value};
use std::time::{Duration, Instant};

impl Scene {
    /// Plays it to its end.
    pub async fn play(self, world: &mut World, kill_node: bool) -> Result<SceneReport, CliError> {
        let begun = Instant::now();
        let account = match self {
            Self::DiskFills => disk::play(world, kill_node).await?,
            Self::VmSwitchedOff => power::play(world).await?,
            Self::VmMaintained => maintenance::play(world).await?,
            Self::HostPressed => pressure::play(world).await?,
            Self::VersionsAsked => versions::play(world).await?,
            Self::FaresWait => fares::play(world).await?,
            Self::ReleaseFails => release::play(world).await?,
            Self::KioskMade => kiosk::play(world).await?,
            Self::MailsPileUp => mails::play(world).await?,
            Self::FaresRollOut => rollout::play(world).await?,
            Self::LoopCloses => chain::play(world).await?,
            Self::SiteChecked => site::play(world).await?,
            Self::UnitFails => unit::play(world).await?,
            Self::GuestResized => guest::play(world).await?,
            Self::PortDown => port::play(world).await?,
            Self::WorkerLeaves => cloud::play(world).await?,
            Self::ChainTried => trial::play(world).await?,
            Self::StormGuarded => storm::play(world).await?,
            Self::RemedyDeclined => declined::play(world).await?,
            Self::ChangeUndone => undone::play(world).await?,
            Self::HandedOver => handover::play(world).await?,
            Self::YardUneven => balance::play(world).await?,
            Self::CrewTold => told::play(world).await?,
        };
        let scene = self.to_possible_value().map_or_else(String::new, |v| v.get_name().to_owned());
        Ok(account.finish(scene, begun.elapsed().as_secs_f64()))
    }
}

/// How a scene went.
#[derive(Debug, Serialize)]
pub struct SceneReport {
    pub scene: String,
    /// Whether it ended as it should.
    pub well: bool,
    pub seconds: f64,
    /// The jobs that it set off.
    pub jobs: Vec<i64>,
    /// For people.
    #[serde(skip)]
    pub text: String,
}

/// What is told of a scene, and what was not as it should be.
struct Account {
    lines: Vec<String>,
    wrong: Vec<String>,
    jobs: Vec<i64>,
}

impl Account {
    fn new(title: &str) -> Self {
        Self { lines: vec![title.to_owned()], wrong: Vec::new(), jobs: Vec::new() }
    }

    fn line(&mut self, line: String) {
        self.lines.push(line);
    }

    /// A job with its steps.
    fn job(&mut self, detail: &JobDetail) {
        let job = &detail.job;
        let took = show::between(job.started_at, job.finished_at);
        self.jobs.push(job.id);
        self.line(format!(
            "  job      {}: {} on {}, {} in {took}",
            job.id, job.runbook, job.target, job.state
        ));
        for row in show::rows(detail) {
            if let Line::Step(JobStep { id, summary, state, .. }) = row.line {
                let indent = "  ".repeat(row.depth);
                self.line(format!(
                    "           {indent}{}: {state}",
                    summary.as_deref().unwrap_or(id)
                ));
            }
        }
    }

    /// It is not played: this is not here.
    fn without(mut self, what: &str) -> Self {
        self.line(format!("  skipped  there is no {what} here"));
        self
    }

    /// A job that should have succeeded.
    fn succeeded(&mut self, detail: &JobDetail) {
        self.job(detail);
        let job = &detail.job;
        let good = job.state == JobState::Succeeded;
        self.want(good, format!("{} should have succeeded on {}", job.runbook, job.target));
    }

    /// The one job of a runbook on a target, made after another, which should have helped.
    async fn proved(
        &mut self,
        world: &World,
        runbook: &str,
        target: &str,
        after: i64,
    ) -> Result<(), CliError> {
        if let Some(job) = self.ended_well(world, runbook, target, after).await? {
            self.line(format!("  effect   {}", show::effect(&job)));
            let good = job.effect == Some(JobEffect::Confirmed);
            self.want(good, format!("the effect of {runbook} on {target} should be confirmed"));
        }
        Ok(())
    }

    /// The one job of a runbook on a target, made after another, which should have succeeded.
    async fn ended_well(
        &mut self,
        world: &World,
        runbook: &str,
        target: &str,
        after: i64,
    ) -> Result<Option<JobItem>, CliError> {
        let until = Instant::now() + PATIENCE;
        let mut found = loop {
            let mut found = jobs(world, target).await?;
            found.retain(|job| job.runbook == runbook && job.id > after);
            if found.iter().any(|job| job.finished_at.is_some()) || Instant::now() > until {
                break found;
            }
            tokio::time::sleep(Duration::from_millis(100)).await;
        };
        self.want(
            found.len() == 1,
            format!("there should be one job of {runbook} on {target}, not {}", found.len()),
        );
        let Some(job) = found.pop() else { return Ok(None) };
        self.succeeded(&detail(world, job.id).await?);
        Ok(Some(job))
    }

    /// What was said in a channel about something.
    fn said(&mut self, world: &World, channel: &str, about: &str) -> usize {
        let said = world.said_in(&[channel]).into_iter().filter(|m| m.text.contains(about));
        let lines: Vec<String> =
            said.map(|m| format!("  chat     in {}: {}", m.channel, m.text)).collect();
        self.lines.extend(lines.iter().cloned());
        lines.len()
    }

    fn want(&mut self, good: bool, what: impl Into<String>) {
        if !good {
            self.wrong.push(format!("  \u{2717} {}", what.into()));
        }
    }

    fn finish(mut self, scene: String, seconds: f64) -> SceneReport {
        let well = self.wrong.is_empty();
        self.lines.push(if well {
            "It ended well.".into()
        } else {
            format!("It did not end well:\n{}", self.wrong.join("\n"))
        });
        SceneReport { scene, well, seconds, jobs: self.jobs, text: self.lines.join("\n") }
    }
}

/// How long a job may take: after a death of the node its lease must end first.
const PATIENCE: Duration = Duration::from_secs(90);

/// The jobs on a target, the newest first.
async fn jobs(world: &World, target: &str) -> Result<Vec<JobItem>, CliError> {
    let page: Page<JobItem> =
        world.client.get("/api/v1/jobs", &[("target", Some(target.to_owned()))]).await?;
    Ok(page.items)
}

/// Launches a runbook by hand; the job's number.
pub async fn launch(
    world: &World,
    runbook: &str,
    inputs: Map<String, Value>,
    why: &str,
) -> Result<i64, CliError> {
    let launch = Launch {
        runbook: runbook.to_owned(),
        inputs,
        alert: None,
        urgency: None,
        deadline: None,
        why: Some(why.to_owned()),
    };
    let made: Launched = world.client.post("/api/v1/jobs", &launch).await?;
    Ok(made.job)
}

/// What a runbook is given.
fn inputs(of: Value) -> Map<String, Value> {
    match of {
        Value::Object(inputs) => inputs,
        _ => Map::new(),
    }
}

/// Launches a runbook by hand and waits for its end.
async fn launched(
    world: &World,
    runbook: &str,
    inputs: Map<String, Value>,
    why: &str,
) -> Result<JobDetail, CliError> {
    let id = launch(world, runbook, inputs, why).await?;
    until_job(world, id, |job| job.finished_at.is_some()).await?;
    detail(world, id).await
}

/// Waits until something is there, or too long.
async fn until_some<T>(mut look: impl FnMut() -> Option<T>) -> Option<T> {
    let until = Instant::now() + PATIENCE;
    loop {
        match look() {
            None if Instant::now() < until => tokio::time::sleep(Duration::from_millis(100)).await,
            found => return found,
        }
    }
}

/// Waits until a job is so, or too long.
async fn until_job(
    world: &World,
    id: i64,
    is: impl Fn(&JobItem) -> bool,
) -> Result<JobItem, CliError> {
    let until = Instant::now() + PATIENCE;
    loop {
        let job = detail(world, id).await?.job;
        if is(&job) || Instant::now() > until {
            return Ok(job);
        }
        tokio::time::sleep(Duration::from_millis(100)).await;
    }
}

async fn detail(world: &World, id: i64) -> Result<JobDetail, CliError> {
    world.client.get(&format!("/api/v1/jobs/{id}"), &[]).await
}

/// Waits until a job on a target has ended, and kills the node once when one is where it should
/// die.
async fn ended(
    world: &mut World,
    target: &str,
    mut kill_when: Option<&(dyn Fn(&JobItem) -> bool + Sync)>,
) -> Result<(), CliError> {
    let until = Instant::now() + PATIENCE;
    while Instant::now() < until {
        tokio::time::sleep(Duration::from_millis(100)).await;
        let found = jobs(world, target).await?;
        if kill_when.is_some_and(|when| found.iter().any(when)) {
            kill_when = None;
            world.kill_node().await?;
        }
        if found.first().is_some_and(|job| job.finished_at.is_some()) {
            break;
        }
    }
    Ok(())
}
