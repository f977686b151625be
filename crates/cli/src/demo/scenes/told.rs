//! A kiosk's disk fills, and its rule only proposes: the crew is told by the rule that tells it of
//! all that it owns, a person launches what is proposed, and it helps.

use super::{Account, PATIENCE};
use crate::{demo::world::World, error::CliError};
use arvok_api::{Page, ProposalDecision, ProposalItem, ProposalState};
use std::time::{Duration, Instant};

const VM: &str = "oldhithe-kiosk-1";
const DISK: &str = "system";

pub async fn play(world: &mut World) -> Result<Account, CliError> {
    let mut account = Account::new("A crew was told of a proposal, and launched it");
    world.harbour.yard.with(|yard| yard.fill(VM, DISK, 96.0, 0.02));
    let target = format!("vm/{VM}");
    let proposal = proposed(world, &target).await?;
    account.line(format!("  proposed {}: {} on {target}", proposal.id, proposal.runbook));
    account.line(format!("           {}", proposal.reason));
    wait_until_read(world, &format!("proposal {}", proposal.id)).await;
    let path = format!("/api/v1/proposals/{}/launch", proposal.id);
    let decision = ProposalDecision { note: Some("it is night".into()), ..Default::default() };
    world.client.post::<ProposalItem>(&path, &decision).await?;
    account.proved(world, "grow-disk", &target, proposal.id - 1).await?;
    wait_until_read(world, "is launched").await;
    let all = account.said(world, "gates", &format!("proposal {} of rule", proposal.id));
    account.want(
        all == 2,
        "the crew should read once that it is proposed, and once by whom it goes on",
    );
    Ok(account)
}

/// What is proposed for a target, once it is.
async fn proposed(world: &World, target: &str) -> Result<ProposalItem, CliError> {
    let until = Instant::now() + PATIENCE;
    loop {
        let query = [
            ("target", Some(target.to_owned())),
            ("state", Some(ProposalState::Open.as_str().to_owned())),
        ];
        let found: Page<ProposalItem> = world.client.get("/api/v1/proposals", &query).await?;
        match found.items.into_iter().next() {
            Some(proposal) => return Ok(proposal),
            None if Instant::now() > until => {
                return Err(CliError::Here(format!("nothing was proposed for {target}")));
            }
            None => tokio::time::sleep(Duration::from_millis(100)).await,
        }
    }
}

/// Waits until the crew of the gates has read something, or too long.
async fn wait_until_read(world: &World, words: &str) {
    let says = || world.said_in(&["gates"]).into_iter().find(|said| said.text.contains(words));
    super::until_some(says).await;
}
