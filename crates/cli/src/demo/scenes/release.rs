//! A faulty release of the booking pages: somebody who gets a message decides by its link that it
//! is taken back.

use super::{Account, PATIENCE, detail, ended, jobs};
use crate::{client::Client, demo::world::World, error::CliError, show};
use arvok_api::{ByLink, DecisionContext, DecisionItem, TakeByLink};
use arvok_core::job::{JobEffect, JobState};
use std::time::{Duration, Instant};

const SERVICE: &str = "booking-web";
const FAULTY: &str = "5.2.0";

pub async fn play(world: &mut World) -> Result<Account, CliError> {
    let target = format!("service/{SERVICE}");
    faulty(world);
    let link = linked(world, SERVICE).await?;
    // Whoever reads the message has no token.
    let reader = Client::new(world.client.address().to_owned(), None)?;
    let asked: DecisionContext =
        reader.post("/api/v1/decisions/link", &ByLink { link: link.clone() }).await?;
    let decision = TakeByLink {
        link,
        choice: "back".into(),
        name: "Maren of the booking crew".into(),
        remark: Some("fares are shown twice".into()),
    };
    let decided: DecisionItem = reader.post("/api/v1/decisions/link/take", &decision).await?;
    ended(world, &target, None).await?;

    let mut account = Account::new("A release of the booking pages was faulty");
    let found = jobs(world, &target).await?;
    account.want(found.len() == 1, format!("there should be one job, there are {}", found.len()));
    account.line(format!("  asked    {}", asked.decision.text));
    let by = decided.by.map_or_else(String::new, |by| by.shown());
    account.line(format!("  decided  {}, by {by}", decided.choice.unwrap_or_default()));
    if let Some(job) = found.first() {
        account.job(&detail(world, job.id).await?);
        account.line(format!("  effect   {}", show::effect(job)));
        let good = job.state == JobState::Succeeded && job.effect == Some(JobEffect::Confirmed);
        account.want(good, "the job should have succeeded, its effect confirmed");
    }
    let runs = world.harbour.releases.with(SERVICE, |s| s.version.clone()).unwrap_or_default();
    account.line(format!("  desk     {SERVICE} runs {runs}"));
    let said = world.said_in(&["booking"]);
    // The link is different each time.
    let short = |text: &str| text.split(" Decide within").next().unwrap_or_default().to_owned();
    said.iter()
        .for_each(|m| account.line(format!("  chat     in {}: {}", m.channel, short(&m.text))));
    account.want(runs == "5.1.3", "the version before should run again");
    account.want(
        said.len() == 2,
        format!("the crew should have been asked and told, not {} times", said.len()),
    );
    Ok(account)
}

/// A release that fails is made, unless one stands.
pub fn faulty(world: &World) {
    world.harbour.releases.with(SERVICE, |service| {
        if service.version != FAULTY {
            service.before = Some(std::mem::replace(&mut service.version, FAULTY.into()));
        }
    });
}

/// The text behind the # of the link that came with a message.
async fn linked(world: &World, about: &str) -> Result<String, CliError> {
    let until = Instant::now() + PATIENCE;
    while Instant::now() < until {
        let said = world.said_in(&["booking"]);
        let told =
            said.iter().rev().find(|m| m.text.contains(about) && m.text.contains("/decide#"));
        if let Some((_, link)) = told.and_then(|m| m.text.split_once("/decide#")) {
            return Ok(link.trim().to_owned());
        }
        tokio::time::sleep(Duration::from_millis(100)).await;
    }
    Err(CliError::Here("nobody was asked about the release".into()))
}
