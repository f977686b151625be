//! A kiosk's page is wrong, and a VM's processors are all at work: one chain of ticket, word,
//! remedy, proof and close, in which only the remedy differs.

use super::Account;
use crate::{demo::world::World, error::CliError};

const KIOSK: &str = "nessfold-kiosk-1";
const VM: &str = "quill-booking-web-1";

pub async fn play(world: &mut World) -> Result<Account, CliError> {
    let mut account = Account::new("A kiosk's page was wrong, and a VM's processors were busy");
    world.harbour.kiosks.with(|kiosks| kiosks.break_page(KIOSK));
    account.proved(world, "close-the-loop", &format!("kiosk/{KIOSK}"), 0).await?;
    work(world, Some(1.95));
    account.proved(world, "close-the-loop", &format!("vm/{VM}"), 0).await?;

    let tickets: Vec<_> = world.harbour.desk.with(|desk| desk.tickets.values().cloned().collect());
    for ticket in &tickets {
        let about = ticket.about.as_deref().unwrap_or("nothing");
        let why = ticket.closed_because.as_deref().unwrap_or("not closed");
        account.line(format!(
            "  desk     ticket {} about {about}: {}, {why}",
            ticket.number, ticket.state
        ));
    }
    let closed = tickets.iter().filter(|t| t.state == "closed").count();
    account
        .want(tickets.len() == 2 && closed == 2, "two tickets should have been opened and closed");
    let shows = world.harbour.kiosks.with(|k| k.kiosks.get(KIOSK).map(|kiosk| kiosk.page.clone()));
    account.line(format!("  kiosk    {KIOSK} shows: {}", shows.unwrap_or_default()));
    let cpus = world.harbour.yard.with(|yard| yard.vms.get(VM).map_or(0, |vm| vm.cpus));
    account.line(format!("  yard     {VM} has {cpus} processors"));
    account.want(cpus == 4, format!("the VM should have two processors more, not {cpus}"));
    for (channel, about) in [("gates", KIOSK), ("yard", VM)] {
        let told = account.said(world, channel, about);
        account.want(
            told == 2,
            format!("the crew should have been told twice of {about}, not {told} times"),
        );
    }
    work(world, None);
    let _ = world.harbour.yard.with(|yard| yard.set_cpus(VM, 2));
    Ok(account)
}

/// How many processors' work the VM has.
fn work(world: &World, cpus: Option<f64>) {
    world.harbour.yard.with(|yard| yard.vms.get_mut(VM).map(|vm| vm.work = cpus));
}
