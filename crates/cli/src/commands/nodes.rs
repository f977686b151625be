//! `arvok node`.

use crate::{args::NodeCommand, client::Client, error::CliError, show};
use arvok_api::Nodes;

pub async fn node(command: NodeCommand) -> Result<(), CliError> {
    let NodeCommand::List { server, output } = command;
    let nodes: Nodes = Client::of(&server)?.get("/api/v1/nodes", &[]).await?;
    if output.json {
        return show::json(&nodes);
    }
    show::out(&show::nodes(&nodes));
    Ok(())
}
