//! `arvok decision`.

use crate::{args::DecisionCommand, client::Client, error::CliError, show};
use arvok_api::{DecisionFilter, DecisionItem, Page, Take};

pub async fn decision(command: DecisionCommand) -> Result<(), CliError> {
    match command {
        DecisionCommand::List { all, paging, server, output } => {
            let filter = DecisionFilter {
                state: all.then(|| "all".to_owned()),
                limit: Some(paging.limit.into()),
                after: paging.after,
            };
            let page: Page<DecisionItem> = Client::of(&server)?.list("/api/v1/decisions", &filter).await?;
            if output.json {
                return show::json(&page);
            }
            show::out(&show::decisions(&page));
        }
        DecisionCommand::Show(by) => {
            let item: DecisionItem = Client::of(&by.server)?.get(&format!("/api/v1/decisions/{}", by.id), &[]).await?;
            if by.output.json {
                return show::json(&item);
            }
            show::out(&show::decision(&item));
        }
        DecisionCommand::Take { id, choice, remark, server } => {
            let path = format!("/api/v1/decisions/{id}");
            let item: DecisionItem = Client::of(&server)?.post(&path, &Take { choice, remark }).await?;
            let meaning = item.choices.iter().find(|c| Some(&c.name) == item.choice.as_ref());
            let meaning = meaning.map_or_else(String::new, |c| format!(" ({})", c.words));
            let chosen = item.choice.unwrap_or_default();
            show::out(&format!("decided: {chosen}{meaning}; follow the job with `arvok job follow {}`", item.job));
        }
    }
    Ok(())
}
