//! A timetable worker is taken away within a minute: what it holds is saved, it is taken out of the
//! balancer, and another takes its place.

use super::Account;
use crate::{demo::world::World, error::CliError};
use std::time::Duration;

const WORKER: &str = "timetable-worker-7";

pub async fn play(world: &mut World) -> Result<Account, CliError> {
    let mut account = Account::new("A timetable worker was taken away");
    let noticed = world.harbour.cloud.with(|cloud| cloud.reclaim(WORKER, Duration::from_secs(60)));
    account.want(noticed, "the worker should have been given notice");
    account.proved(world, "leave-instance", &format!("instance/{WORKER}"), 0).await?;
    let (saved, serving, next) = world.harbour.cloud.with(|cloud| {
        let worker = cloud.instances.get(WORKER);
        let next = cloud.instances.get(&format!("{WORKER}-next")).map(|i| i.state);
        (worker.and_then(|i| i.saved_as.clone()), worker.is_some_and(|i| i.serving), next)
    });
    account
        .line(format!("  cloud    {WORKER} is saved as {}", saved.as_deref().unwrap_or("nothing")));
    account.line(format!("  cloud    {WORKER}-next is {}", next.unwrap_or("not there")));
    account.want(saved.is_some() && !serving, "it should have been saved, and serve nobody");
    account.want(next == Some("running"), "another should run in its place");
    let told = account.said(world, "crew", WORKER);
    account.want(told == 1, format!("the crew should have been told once, not {told} times"));
    Ok(account)
}
