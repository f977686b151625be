//! A guest has too little memory, and must be off to be given more: it is stopped, changed, started
//! and proved, over libvirt's own protocol. The libvirtd is this machine's own, and its guests are
//! its test driver's.

use super::{Account, inputs, launched};
use crate::{demo::world::World, error::CliError};
use serde_json::json;

const GUEST: &str = "quill-web-1";

pub async fn play(world: &mut World) -> Result<Account, CliError> {
    let mut account = Account::new("A guest was stopped, given more memory, and started again");
    let Some(real) = &world.real else { return Ok(account.without("--real")) };
    let Some(host) = &real.hypervisor else { return Ok(account.without("libvirt")) };
    let inputs = inputs(json!({
        "guest": format!("vm/{GUEST}"), "host": "host/127.0.0.1", "memory_mib": 128, "cpus": 4
    }));
    let job = launched(world, "resize-guest", inputs, "it has too little memory").await?;
    account.succeeded(&job);
    let outputs = job.outputs.unwrap_or_default();
    let (was, has) = (&outputs["was"]["memory_mib"], &outputs["memory_mib"]);
    account.line(format!("  guest    {GUEST} had {was} MiB, and has {has}"));
    let state = host.virsh(&["domstate", GUEST]).map_err(|e| CliError::Here(e.to_string()))?;
    account.line(format!("  guest    {GUEST} is {state}, as libvirt's own command says"));
    account.want(state == "running", format!("{GUEST} should run"));
    Ok(account)
}
