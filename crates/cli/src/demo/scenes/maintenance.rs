//! A kiosk's VM is switched off on purpose: muted beforehand, it is left alone, and nothing is made
//! up for when it is on again.

use super::{Account, PATIENCE, jobs};
use crate::{demo::world::World, error::CliError};
use arvok_api::{AlertDetail, AlertItem, MuteCovers, NewMute, NewlyMuted, Page, VerdictItem};
use arvok_core::Verdict;
use reqwest::Method;
use std::time::{Duration, Instant};

const VM: &str = "nessfold-kiosk-1";

pub async fn play(world: &mut World) -> Result<Account, CliError> {
    let target = format!("vm/{VM}");
    let mut account = Account::new("A kiosk's machine is switched off on purpose");
    let before = jobs(world, &target).await?.len();
    let new = NewMute {
        covers: MuteCovers { resource: vec![target.clone()], ..MuteCovers::default() },
        reason: "its disk is changed".into(),
        from: None,
        until: None,
        period: Some("1h".into()),
    };
    let said: NewlyMuted = world.client.post("/api/v1/mutes", &new).await?;
    account.line(format!("  muted    {}: {}", said.mute.text, said.mute.reason));
    switch(world, false);
    let held = until_held(world, &target, "muted by").await?;
    account.want(held.is_some(), "that it is off should have been held by the mute");
    let off = world.harbour.yard.with(|c| c.vms.get(VM).is_some_and(|v| !v.powered));
    account.want(off, "the machine should be off, since nobody is to start it");
    switch(world, true);
    let over = until_held(world, &target, "cleared after").await?;
    let words = over.map(|verdict| verdict.reason);
    account.line(format!("  verdict  muted: {}", words.as_deref().unwrap_or("not over yet")));
    account.want(words.is_some(), "the alarm should have ended when it was on again");
    let path = format!("/api/v1/mutes/{}", said.mute.id);
    world.client.change(Method::DELETE, &path, None::<&()>).await?;
    let made = jobs(world, &target).await?.len() - before;
    account.line(format!("  jobs     {}", if made == 0 { "none" } else { "some" }));
    account.want(made == 0, format!("nothing should have been done about it, not {made} jobs"));
    Ok(account)
}

fn switch(world: &World, on: bool) {
    world.harbour.yard.with(|c| c.vms.get_mut(VM).map(|v| v.powered = on));
}

/// What was held back about the VM, once its reason begins with these words.
async fn until_held(
    world: &World,
    target: &str,
    words: &str,
) -> Result<Option<VerdictItem>, CliError> {
    let until = Instant::now() + PATIENCE;
    while Instant::now() < until {
        let filter = [("resource", Some(target.to_owned())), ("kind", Some("vm.power".to_owned()))];
        let page: Page<AlertItem> = world.client.get("/api/v1/alerts", &filter).await?;
        let is_held =
            |alert: &&AlertItem| alert.verdicts.iter().any(|v| v.verdict == Verdict::Muted);
        if let Some(alert) = page.items.iter().find(is_held) {
            let path = format!("/api/v1/alerts/{}", alert.seq);
            let detail: AlertDetail = world.client.get(&path, &[]).await?;
            let found = detail.verdicts.into_iter().find(|v| v.reason.starts_with(words));
            if found.is_some() {
                return Ok(found);
            }
        }
        tokio::time::sleep(Duration::from_millis(100)).await;
    }
    Ok(None)
}
