//! A unit of a machine has failed: it is restarted over SSH, after what the machine was at has been
//! kept. The sshd is this machine's own; its units are files of a folder.

use super::{Account, inputs, launched};
use crate::{demo::world::World, error::CliError};
use serde_json::json;

const UNIT: &str = "booking.service";

pub async fn play(world: &mut World) -> Result<Account, CliError> {
    let mut account = Account::new("A unit had failed on a machine that is reached over SSH");
    let Some(real) = &world.real else { return Ok(account.without("--real")) };
    let set = |file: &str, text: &str| {
        real.machine.set_unit(UNIT, file, text).map_err(|e| CliError::Here(e.to_string()))
    };
    set("log", "02:00:00 quill booking[1]: no seat is left\n")?;
    set("state", "failed\n")?;
    let inputs =
        inputs(json!({ "machine": "machine/127.0.0.1", "unit": UNIT, "settles_in": "1s" }));
    let job = launched(world, "restart-unit", inputs, "it has failed").await?;
    account.succeeded(&job);
    let outputs = job.outputs.unwrap_or_default();
    let word = |name: &str| outputs[name].as_str().unwrap_or_default();
    let (was, is) = (word("was"), word("is"));
    account.line(format!("  machine  {UNIT} was {was}, and is {is}"));
    account.want(is == "active, running", format!("{UNIT} should be active"));
    Ok(account)
}
