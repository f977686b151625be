//! A VM's processors are busy, and it has as many as it may have: the chain of ticket, word, remedy
//! and proof has nothing left to do, and hands it over to whoever is on call, with what it knows.

use super::{Account, PATIENCE, detail, jobs, until_job};
use crate::{demo::world::World, error::CliError};
use arvok_core::job::JobState;
use std::time::{Duration, Instant};

const VM: &str = "quill-mail-1";
/// As many processors as the remedy gives at most.
const CEILING: u32 = 8;

pub async fn play(world: &mut World) -> Result<Account, CliError> {
    let mut account = Account::new("A remedy was at its ceiling, and a person was given the work");
    let target = format!("vm/{VM}");
    let before = jobs(world, &target).await?.first().map_or(0, |job| job.id);
    set(world, CEILING, Some(7.9));
    let until = Instant::now() + PATIENCE;
    let chain = loop {
        let all = jobs(world, &target).await?;
        let chain = all.into_iter().find(|job| job.runbook == "close-the-loop" && job.id > before);
        match chain {
            Some(chain) => break chain.id,
            None if Instant::now() > until => {
                return Err(CliError::Here("no chain was dispatched".into()));
            }
            None => tokio::time::sleep(Duration::from_millis(100)).await,
        }
    };
    until_job(world, chain, |job| job.finished_at.is_some()).await?;
    let chain = detail(world, chain).await?;
    set(world, 2, None);

    account.job(&chain);
    account.line(format!("  told     {}", chain.job.failure.clone().unwrap_or_default()));
    account.want(chain.job.state == JobState::Failed, "the chain should say that it failed");
    let about = |t: &&arvok_standins::desk::Ticket| t.about.as_deref() == Some(&*target);
    let ticket = world.harbour.desk.with(|desk| desk.tickets.values().rev().find(about).cloned());
    let ticket = ticket.ok_or_else(|| CliError::Here("no ticket was opened".into()))?;
    let note = ticket.notes.last().cloned().unwrap_or_default();
    account.line(format!("  desk     ticket {}: {}, {note}", ticket.number, ticket.state));
    account.want(ticket.state == "open", "its ticket should be open");
    account.want(note.contains("add-cpu did not help"), "the ticket should say what was tried");
    let pages = world.harbour.pager.with(|pager| pager.pages.values().cloned().collect::<Vec<_>>());
    let page =
        pages.into_iter().find(|page| page.text.contains(&format!("Ticket {}", ticket.number)));
    match page {
        Some(page) => account.line(format!("  pager    {}", page.text)),
        None => account.want(false, "whoever is on call should have been paged"),
    }
    Ok(account)
}

fn set(world: &World, cpus: u32, work: Option<f64>) {
    world.harbour.yard.with(|yard| {
        let _ = yard.set_cpus(VM, cpus);
        yard.vms.get_mut(VM).map(|vm| vm.work = work)
    });
}
