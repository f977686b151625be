//! `arvok halt`.

use crate::{args::HaltCommand, client::Client, error::CliError, show};
use arvok_api::{Halted, SetHalt};
use reqwest::Method;

const HALT: &str = "/api/v1/halt";

pub async fn halt(command: HaltCommand) -> Result<(), CliError> {
    match command {
        HaltCommand::Show { server, output } => {
            let halted: Halted = Client::of(&server)?.get(HALT, &[]).await?;
            if output.json {
                return show::json(&halted);
            }
            show::out(&halted.halt.map_or_else(
                || "Jobs are begun: there is no halt.".into(),
                |halt| show::halt(&halt),
            ));
        }
        HaltCommand::Begin { reason, running, server } => {
            let _: Halted = Client::of(&server)?.put(HALT, &SetHalt { reason, running }).await?;
            let under_way = if running {
                "what is under way is paused when its calls have ended"
            } else {
                "what is under way goes on (--running pauses it)"
            };
            show::out(&format!(
                "no job is begun or taken up any more, and {under_way}; `arvok halt lift` ends this"
            ));
        }
        HaltCommand::Lift { server } => {
            Client::of(&server)?.change(Method::DELETE, HALT, None::<&()>).await?;
            show::out("jobs are begun again, and what was paused by the halt goes on");
        }
    }
    Ok(())
}
