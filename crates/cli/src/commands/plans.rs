//! `arvok plan`.

use super::ask;
use crate::{
    args::PlanCommand,
    client::{Client, percent},
    error::CliError,
    show,
};
use arvok_api::{
    DryRun, Launched, Page, PlanDetail, PlanEntry, PlanItem, PlanTimes, PlanTimesFilter, RunPlan,
    SkipPlan, UnskipPlan,
};

const ALL: &str = "/api/v1/plans";

pub async fn plan(command: PlanCommand) -> Result<(), CliError> {
    match command {
        PlanCommand::List { server, output } => {
            let page: Page<PlanItem> = Client::of(&server)?.get(ALL, &[]).await?;
            if output.json {
                return show::json(&page);
            }
            show::out(&show::plans(&page));
        }
        PlanCommand::Show { name, server, output } => {
            let detail: PlanDetail = Client::of(&server)?.get(&one(&name), &[]).await?;
            if output.json {
                return show::json(&detail);
            }
            show::out(&show::plan(&detail));
        }
        PlanCommand::Times { plan, from, until, server, output } => {
            let filter = PlanTimesFilter { plan, from, until };
            let times: PlanTimes = Client::of(&server)?.list("/api/v1/plan-times", &filter).await?;
            if output.json {
                return show::json(&times);
            }
            show::out(&show::plan_times(&times));
        }
        PlanCommand::Run { name, dry_run, yes, why, key, follow, server, output } => {
            let client = Client::of(&server)?;
            if dry_run || !yes {
                let dry: DryRun = client.post(&format!("{}/dry-run", one(&name)), &()).await?;
                if dry_run && output.json {
                    return show::json(&dry);
                }
                show::out(&show::dry_run(&dry));
            }
            if dry_run {
                return Ok(());
            }
            if !yes && !ask::agreed(&format!("Run plan {name} now?"))? {
                show::notice("nothing was launched");
                return Err(CliError::No);
            }
            let path = format!("{}/run", one(&name));
            let made: Launched = client.post_once(&path, &RunPlan { why }, key.as_deref()).await?;
            let job = made.job;
            match (output.json, follow) {
                (true, _) => show::json(&made)?,
                (false, true) => show::out(&format!("plan {name} runs as job {job}")),
                (false, false) => show::out(&format!(
                    "plan {name} runs as job {job}; follow it with `arvok job follow {job}`"
                )),
            }
            if follow {
                return super::jobs::follow(&client, job, output.json).await;
            }
        }
        PlanCommand::Skip { name, due, reason, server } => {
            let path = format!("{}/skip", one(&name));
            let skipped: PlanEntry =
                Client::of(&server)?.post(&path, &SkipPlan { due, reason }).await?;
            show::out(&format!("plan {name} does not run at {}", show::exact(skipped.at)));
        }
        PlanCommand::Unskip { name, due, server } => {
            let path = format!("{}/unskip", one(&name));
            let kept: PlanEntry = Client::of(&server)?.post(&path, &UnskipPlan { due }).await?;
            show::out(&format!("plan {name} runs at {}", show::exact(kept.at)));
        }
    }
    Ok(())
}

fn one(name: &str) -> String {
    format!("{ALL}/{}", percent(name))
}
