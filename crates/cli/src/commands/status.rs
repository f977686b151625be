//! `arvok status`: the server in a few lines.

use crate::{
    args::{Output, Server},
    client::Client,
    error::CliError,
    show,
};
use arvok_api::{Nodes, Watch, Who};
use serde_json::json;

pub async fn status(server: &Server, output: &Output) -> Result<(), CliError> {
    let client = Client::of(server)?;
    let who: Who = client.get("/api/v1/me", &[]).await?;
    let ready = client.is_ready().await;
    let watch: Watch = client.get("/api/v1/watch", &[]).await?;
    let nodes: Nodes = client.get("/api/v1/nodes", &[]).await?;
    let fault = ready.as_ref().err().map(ToString::to_string);
    let needs =
        watch.needs_you.len() + watch.decisions.len() + watch.proposals.len() + watch.broken.len();
    if output.json {
        return show::json(&json!({
            "server": client.address(), "name": who.name, "role": who.role, "ready": ready.is_ok(),
                "fault": fault,
            "nodes": nodes.nodes.len(), "halt": watch.halt, "mutes": watch.mutes,
            "alarms": watch.alarms_open, "needs_you": needs,
            "under_way": watch.under_way.len(),
        }));
    }
    let count =
        |n: usize, one: &str, many: &str| format!("{n} {}", if n == 1 { one } else { many });
    let lines = [
        format!(
            "server   {}, as {} with the role {}",
            client.address(),
            who.name,
            who.role.as_str()
        ),
        format!(
            "node     {}",
            fault.map_or_else(|| "ready".to_owned(), |why| format!("not ready: {why}"))
        ),
        format!("nodes    {}", nodes.nodes.len()),
        match (&watch.halt, watch.halts.as_slice()) {
            (Some(halt), _) => format!("halt     {}", show::halt(halt)),
            (None, []) => "halt     none".to_owned(),
            (None, halts) => {
                let lines: Vec<String> = halts.iter().map(show::halt_of_some).collect();
                format!("halt     {}", lines.join("\n         "))
            }
        },
        match watch.mutes.as_slice() {
            [] => "muted    nothing".to_owned(),
            mutes => {
                let lines: Vec<String> = mutes.iter().map(show::mute_line).collect();
                format!("muted    {}", lines.join("\n         "))
            }
        },
        format!("alarms   {} open", watch.alarms_open),
        format!("jobs     {}", count(watch.under_way.len(), "is under way", "are under way")),
        match needs {
            0 => "needs    nobody: nothing waits for a person".to_owned(),
            n => format!(
                "needs    you: {} for a person (`arvok decision list`, `arvok proposal list`, \
                `arvok job list`, \
                `arvok alert list --verdict broken`)",
                count(n, "thing waits", "things wait")
            ),
        },
    ];
    show::out(&lines.join("\n"));
    match ready {
        Ok(()) => Ok(()),
        Err(_) => Err(CliError::No),
    }
}
