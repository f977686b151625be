//! Ticket mails pile up: the queue is looked at first, and a worker is added only when more wait
//! than may.

use super::{Account, detail, launch, until_job};
use crate::{demo::world::World, error::CliError};
use serde_json::Map;

const QUEUE: &str = "queue/ticket-mails";

pub async fn play(world: &mut World) -> Result<Account, CliError> {
    let mut account = Account::new("Ticket mails piled up");
    let few = launch(world, "add-worker", Map::new(), "is there anything to do").await?;
    until_job(world, few, |job| job.finished_at.is_some()).await?;
    let few = detail(world, few).await?;
    let workers = world.harbour.queue.with(|queue| queue.stands().1);
    account.line(format!("  looked   {}", few.job.failure.clone().unwrap_or_default()));
    account.want(workers == 1, "while few wait nobody should be added");

    world.harbour.queue.with(|queue| queue.pile_up(90.0));
    let waited = world.harbour.queue.with(|queue| queue.stands().0);
    account.proved(world, "add-worker", QUEUE, few.job.id).await?;
    let (waiting, workers) = world.harbour.queue.with(|queue| queue.stands());
    account.line(format!(
        "  queue    {waited} mails waited for one worker, {waiting} wait for {workers}"
    ));
    account.want(workers == 2, format!("there should be two workers, not {workers}"));
    let told = account.said(world, "booking", "ticket mails");
    account.want(told == 1, format!("the crew should have been told once, not {told} times"));
    world.harbour.queue.with(|queue| {
        queue.pile_up(-1000.0);
        queue.back_to_one();
    });
    Ok(account)
}
