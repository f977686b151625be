//! `arvok proposal`.

use super::{list::list, pairs, read};
use crate::{
    args::ProposalCommand,
    client::{Client, percent},
    error::CliError,
    show,
};
use arvok_api::{ProposalDecision, ProposalFilter, ProposalItem, RunbookForm};
use serde_json::{Map, Value};

pub async fn proposal(command: ProposalCommand) -> Result<(), CliError> {
    match command {
        ProposalCommand::List { state, rule, runbook, target, paging, server, output } => {
            let state = super::word((state != "all").then_some(state.as_str()))?;
            let filter =
                ProposalFilter { state, rule, runbook, target, ..ProposalFilter::default() };
            let client = Client::of(&server)?;
            return list(&client, "/api/v1/proposals", &filter, (&paging, output), show::proposals)
                .await;
        }
        ProposalCommand::Show(by) => {
            let item: ProposalItem =
                Client::of(&by.server)?.get(&format!("/api/v1/proposals/{}", by.id), &[]).await?;
            if by.output.json {
                return show::json(&item);
            }
            show::out(&show::proposal(&item));
        }
        ProposalCommand::Launch { id, note, input, server } => {
            let client = Client::of(&server)?;
            let inputs =
                if input.is_empty() { Map::new() } else { others(&client, id, &input).await? };
            let path = format!("/api/v1/proposals/{id}/launch");
            let item: ProposalItem = client.post(&path, &ProposalDecision { note, inputs }).await?;
            show::out(&format!("launched as job {id}: {} on {}", item.runbook, item.target));
        }
        ProposalCommand::Dismiss { id, note, server } => {
            let path = format!("/api/v1/proposals/{id}/dismiss");
            let decision = ProposalDecision { note: Some(note), ..ProposalDecision::default() };
            let item: ProposalItem = Client::of(&server)?.post(&path, &decision).await?;
            show::out(&format!("dismissed: {} on {}", item.runbook, item.target));
        }
    }
    Ok(())
}

/// Inputs as they were typed, read by the form of the runbook that a proposal is for.
async fn others(
    client: &Client,
    id: i64,
    typed: &[String],
) -> Result<Map<String, Value>, CliError> {
    let typed = pairs("--input", typed, "step_gib=8")?;
    let item: ProposalItem = client.get(&format!("/api/v1/proposals/{id}"), &[]).await?;
    let form: RunbookForm =
        client.get(&format!("/api/v1/runbooks/{}", percent(&item.runbook)), &[]).await?;
    Ok(typed
        .into_iter()
        .map(|(name, value)| (name.to_owned(), read(form.inputs.get(name), value)))
        .collect())
}
