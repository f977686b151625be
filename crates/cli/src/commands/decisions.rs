//! `arvok decision`.

use super::list::{list, until_there_is_one};
use crate::{args::DecisionCommand, client::Client, error::CliError, show};
use arvok_api::{DecisionFilter, DecisionItem, Take};

pub async fn decision(command: DecisionCommand) -> Result<(), CliError> {
    match command {
        DecisionCommand::List { all, wait, paging, server, output } => {
            let filter = DecisionFilter {
                state: all.then(|| "all".to_owned()),
                ..DecisionFilter::default()
            };
            let client = Client::of(&server)?;
            if wait {
                until_there_is_one(&client, "/api/v1/decisions", &filter).await?;
            }
            return list(&client, "/api/v1/decisions", &filter, (&paging, output), show::decisions)
                .await;
        }
        DecisionCommand::Show(by) => {
            let item: DecisionItem =
                Client::of(&by.server)?.get(&format!("/api/v1/decisions/{}", by.id), &[]).await?;
            if by.output.json {
                return show::json(&item);
            }
            show::out(&show::decision(&item));
        }
        DecisionCommand::Take { id, choice, remark, server } => {
            let path = format!("/api/v1/decisions/{id}");
            let item: DecisionItem =
                Client::of(&server)?.post(&path, &Take { choice, remark }).await?;
            let meaning = item.choices.iter().find(|c| Some(&c.name) == item.choice.as_ref());
            let meaning = meaning.map_or_else(String::new, |c| format!(" ({})", c.words));
            let chosen = item.choice.unwrap_or_default();
            show::out(&format!(
                "decided: {chosen}{meaning}; follow the job with `arvok job follow {}`",
                item.job
            ));
        }
    }
    Ok(())
}
