//! A gate kiosk is made: its details are looked up, it is entered into the register, the crew is
//! told and the terminal's office is written to. Another runs out of paper, which is passed on to
//! whoever is on call by the key of the rota alone.

use super::{Account, until_some};
use crate::{demo::world::World, error::CliError};

const NEW: &str = "oldhithe-kiosk-2";
const EMPTY: &str = "brack-kiosk-1";

pub async fn play(world: &mut World) -> Result<Account, CliError> {
    let mut account = Account::new("A gate kiosk was made, and another ran out of paper");
    world.harbour.yard.with(|yard| yard.make(NEW, "quill-hv-4"));
    account.proved(world, "register-kiosk", &format!("vm/{NEW}"), 0).await?;
    let by = world
        .harbour
        .kiosks
        .with(|k| k.kiosks.get(NEW).and_then(|kiosk| kiosk.registered_by.clone()));
    account
        .line(format!("  register {NEW} is looked after by {}", by.as_deref().unwrap_or("nobody")));
    account.want(by.as_deref() == Some("arvok"), "the register should know the kiosk");
    let told = account.said(world, "gates", NEW);
    account
        .want(told == 1, format!("the gates' crew should have been told once, not {told} times"));
    let office = format!("{}-office@skerrow.example", NEW.split('-').next().unwrap_or_default());
    let mails = world
        .harbour
        .mailroom
        .with(|m| m.messages.iter().filter(|m| m.to.contains(&office)).count());
    account.line(format!("  mail     {office} has {mails}"));
    account.want(
        mails == 1,
        format!("the terminal's office should have been written to once, not {mails} times"),
    );

    paper(world, false);
    let about = format!("kiosk/{EMPTY}");
    let paged = || {
        let pages = world.harbour.pager.with(|p| p.pages.values().cloned().collect::<Vec<_>>());
        pages.into_iter().find(|page| page.about == about)
    };
    let paged = until_some(paged).await;
    paper(world, true);
    let text = paged.as_ref().map_or("nobody", |page| page.text.as_str());
    account.line(format!("  pager    {text}"));
    account.want(
        paged.is_some_and(|page| page.rota == "night"),
        "the night's rota should have been paged",
    );
    let over = until_some(|| {
        let state = world
            .harbour
            .pager
            .with(|p| p.pages.values().find(|page| page.about == about).map(|p| p.state));
        state.filter(|state| *state == "over")
    });
    account.want(over.await.is_some(), "the pager should have been told that it is over");
    account.ended_well(world, "page-rota", &format!("paged/{about}"), 0).await?;
    Ok(account)
}

fn paper(world: &World, there: bool) {
    world.harbour.kiosks.with(|k| k.kiosks.get_mut(EMPTY).map(|kiosk| kiosk.paper = there));
}
