//! `arvok storage`.

use super::{ask::agreed, pairs};
use crate::{args::StorageCommand, client::Client, error::CliError, show};
use arvok_api::{KeepRequest, RetentionChange, Storage};

pub async fn storage(command: StorageCommand) -> Result<(), CliError> {
    match command {
        StorageCommand::Show { server, output } => {
            let storage: Storage = Client::of(&server)?.get("/api/v1/storage", &[]).await?;
            if output.json {
                return show::json(&storage);
            }
            show::out(&show::storage(&storage));
        }
        StorageCommand::Keep {
            alerts,
            sources,
            unreadable,
            attempts,
            yes,
            dry_run,
            server,
            output,
        } => {
            let sources = pairs("--source", &sources, "norm-mast=2d")?.into_iter();
            let time = |text: &str| (text != "usual").then(|| text.to_owned());
            let sources = sources.map(|(name, text)| (name.to_owned(), time(text))).collect();
            let client = Client::of(&server)?;
            let mut request = KeepRequest { alerts, sources, unreadable, attempts, dry_run: true };
            let mut plan = ask(&client, &request).await?;
            let asks = !dry_run && plan.before != plan.after;
            if !output.json {
                show::out(&show::keep(&plan));
            }
            if asks && (yes || agreed("Keep it so?")?) {
                request.dry_run = false;
                plan = ask(&client, &request).await?;
                if !output.json {
                    show::out("All nodes keep it so from now on.");
                }
            } else if asks {
                show::notice("nothing was changed");
            }
            if output.json {
                return show::json(&plan);
            }
        }
    }
    Ok(())
}

async fn ask(client: &Client, request: &KeepRequest) -> Result<RetentionChange, CliError> {
    client.put("/api/v1/storage/retention", request).await
}
