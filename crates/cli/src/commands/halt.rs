//! `arvok halt`.

use crate::{args::HaltCommand, client::Client, error::CliError, show};
use arvok_api::{HaltBegun, HaltCovers, Halted, NewHalt, SetHalt};
use reqwest::Method;

const HALT: &str = "/api/v1/halt";
const HALTS: &str = "/api/v1/halts";

pub async fn halt(command: HaltCommand) -> Result<(), CliError> {
    match command {
        HaltCommand::Show { server, output } => {
            let halted: Halted = Client::of(&server)?.get(HALT, &[]).await?;
            if output.json {
                return show::json(&halted);
            }
            show::out(&show::halted(&halted));
        }
        HaltCommand::Begin { reason, running, runbooks, rules, targets, dry_run, server } => {
            let covers = HaltCovers { runbooks, rules, targets };
            let client = Client::of(&server)?;
            if covers != HaltCovers::default() {
                let asked = NewHalt { covers, reason, running, dry_run };
                let begun: HaltBegun = client.post(HALTS, &asked).await?;
                show::out(&show::halt_begun(&begun));
                return Ok(());
            }
            if dry_run {
                let how = "--dry-run: name --runbooks, --rules or --targets; `arvok halt begin` \
                    without any halts all jobs";
                return Err(CliError::Usage(how.into()));
            }
            let _: Halted = client.put(HALT, &SetHalt { reason, running }).await?;
            let under_way = if running {
                "what is under way is paused when its calls have ended"
            } else {
                "what is under way goes on (--running pauses it)"
            };
            show::out(&format!(
                "no job is begun or taken up any more, and {under_way}; `arvok halt lift` ends this"
            ));
        }
        HaltCommand::Lift { id, server } => {
            let path = id.map_or_else(|| HALT.to_owned(), |id| format!("{HALTS}/{id}"));
            Client::of(&server)?.change(Method::DELETE, &path, None::<&()>).await?;
            show::out("jobs are begun again, and what was paused by the halt goes on");
        }
    }
    Ok(())
}
