//! A port of a pier's switch was shut down for errors, and the kiosks behind it with it. Only the
//! runner at the pier reaches the switch: it switches the port off and on again.

use super::Account;
use crate::{demo::world::World, error::CliError};
use arvok_api::RunnerItem;

const PORT: &str = "ge-0/0/7";

pub async fn play(world: &mut World) -> Result<Account, CliError> {
    let mut account = Account::new("A port of pier 3 was down, and the kiosks behind it");
    world.harbour.switch.with(|switch| {
        if let Some(port) = switch.ports.get_mut(PORT) {
            port.shut_for_errors = true;
        }
    });
    account.proved(world, "wake-port", &format!("port/brack-switch-3/{PORT}"), 0).await?;
    let is_up = world.harbour.switch.with(|switch| switch.ports[PORT].is_up());
    account.want(is_up, "the port should be up");
    let runners: Vec<RunnerItem> = world.client.get("/api/v1/runners", &[]).await?;
    for runner in runners {
        account.line(format!("  runner   {} at the pier made the calls", runner.name));
    }
    Ok(account)
}
