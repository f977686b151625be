//! `arvok node`.

use crate::{
    args::NodeCommand,
    client::{Client, percent},
    error::CliError,
    show,
};
use arvok_api::Nodes;
use reqwest::Method;

pub async fn node(command: NodeCommand) -> Result<(), CliError> {
    match command {
        NodeCommand::List { server, output } => {
            let nodes: Nodes = Client::of(&server)?.get("/api/v1/nodes", &[]).await?;
            if output.json {
                return show::json(&nodes);
            }
            show::out(&show::nodes(&nodes));
        }
        NodeCommand::Forget { node, server } => {
            let client = Client::of(&server)?;
            let nodes: Nodes = client.get("/api/v1/nodes", &[]).await?;
            let named: Vec<_> =
                nodes.nodes.iter().filter(|n| [&n.name, &n.address].contains(&&node)).collect();
            let [one] = &named[..] else {
                let wrong = format!(
                    "{} nodes are called `{node}`; see `arvok node list --json` for their names",
                    named.len()
                );
                return Err(CliError::Missing(wrong));
            };
            client
                .change(
                    Method::DELETE,
                    &format!("/api/v1/nodes/{}", percent(&one.name)),
                    None::<&()>,
                )
                .await?;
            show::out(&format!("node {} {} is forgotten", one.host, one.address));
        }
    }
    Ok(())
}
