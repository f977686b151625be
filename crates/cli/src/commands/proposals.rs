//! `arvok proposal`.

use super::list::list;
use crate::{args::ProposalCommand, client::Client, error::CliError, show};
use arvok_api::{ProposalDecision, ProposalFilter, ProposalItem};

pub async fn proposal(command: ProposalCommand) -> Result<(), CliError> {
    match command {
        ProposalCommand::List { state, rule, paging, server, output } => {
            let state = (state != "all").then_some(state);
            let filter = ProposalFilter { state, rule, ..ProposalFilter::default() };
            let client = Client::of(&server)?;
            return list(&client, "/api/v1/proposals", &filter, (&paging, output), show::proposals).await;
        }
        ProposalCommand::Show(by) => {
            let item: ProposalItem = Client::of(&by.server)?.get(&format!("/api/v1/proposals/{}", by.id), &[]).await?;
            if by.output.json {
                return show::json(&item);
            }
            show::out(&show::proposal(&item));
        }
        ProposalCommand::Launch { id, note, server } => {
            let path = format!("/api/v1/proposals/{id}/launch");
            let item: ProposalItem = Client::of(&server)?.post(&path, &ProposalDecision { note }).await?;
            show::out(&format!("launched as job {id}: {} on {}", item.runbook, item.target));
        }
        ProposalCommand::Dismiss { id, note, server } => {
            let path = format!("/api/v1/proposals/{id}/dismiss");
            let decision = ProposalDecision { note: Some(note) };
            let item: ProposalItem = Client::of(&server)?.post(&path, &decision).await?;
            show::out(&format!("dismissed: {} on {}", item.runbook, item.target));
        }
    }
    Ok(())
}
