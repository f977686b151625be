//! `arvok guard`.

use crate::{
    args::GuardCommand,
    client::{Client, percent},
    error::CliError,
    show,
};
use arvok_api::{GuardItem, GuardResumed, JobFilter, JobItem, Page, ResumeGuard};

const ALL: &str = "/api/v1/guards";
/// Most jobs that are shown with the guard that holds them.
const HELD_SHOWN: u64 = 20;

pub async fn guard(command: GuardCommand) -> Result<(), CliError> {
    match command {
        GuardCommand::List { server, output } => {
            let page: Page<GuardItem> = Client::of(&server)?.get(ALL, &[]).await?;
            if output.json {
                return show::json(&page);
            }
            show::out(&show::guards(&page));
        }
        GuardCommand::Show { name, server, output } => {
            let client = Client::of(&server)?;
            let item: GuardItem = client.get(&format!("{ALL}/{}", percent(&name)), &[]).await?;
            if output.json {
                return show::json(&item);
            }
            let held =
                JobFilter { held_by: Some(name), limit: Some(HELD_SHOWN), ..JobFilter::default() };
            let held: Page<JobItem> = client.list("/api/v1/jobs", &held).await?;
            show::out(&show::guard(&item, &held));
        }
        GuardCommand::Resume { name, runbook, reason, server } => {
            let path = format!("{ALL}/{}/resume", percent(&name));
            let asked = ResumeGuard { runbook, reason };
            let GuardResumed { circuits } = Client::of(&server)?.post(&path, &asked).await?;
            let circuits = show::count(usize::try_from(circuits).unwrap_or(usize::MAX), "circuit");
            show::out(&format!("guard {name}: {circuits} closed; rules dispatch again"));
        }
    }
    Ok(())
}
