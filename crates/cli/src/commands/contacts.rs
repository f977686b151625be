//! `arvok contact`.

use crate::{
    args::ContactCommand,
    client::{Client, percent},
    error::CliError,
    show,
};
use arvok_api::{ContactItem, Page};

const ALL: &str = "/api/v1/contacts";

pub async fn contact(command: ContactCommand) -> Result<(), CliError> {
    match command {
        ContactCommand::List { server, output } => {
            let page: Page<ContactItem> = Client::of(&server)?.get(ALL, &[]).await?;
            if output.json {
                return show::json(&page);
            }
            show::out(&show::contacts(&page));
        }
        ContactCommand::Show { name, server, output } => {
            let path = format!("{ALL}/{}", percent(&name));
            let item: ContactItem = Client::of(&server)?.get(&path, &[]).await?;
            if output.json {
                return show::json(&item);
            }
            show::out(&show::contact(&item));
        }
    }
    Ok(())
}
