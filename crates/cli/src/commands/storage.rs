//! `arvok storage`.

use crate::{args::StorageCommand, client::Client, error::CliError, show};
use arvok_api::Storage;

pub async fn storage(command: StorageCommand) -> Result<(), CliError> {
    let StorageCommand::Show { server, output } = command;
    let storage: Storage = Client::of(&server)?.get("/api/v1/storage", &[]).await?;
    if output.json {
        return show::json(&storage);
    }
    show::out(&show::storage(&storage));
    Ok(())
}
