//! The status checks of the public web site come in one stream, and ask for three remedies by what
//! they say: a page is made anew, one's own service is restarted, and a partner is told.

use super::Account;
use crate::{demo::world::World, error::CliError};

pub async fn play(world: &mut World) -> Result<Account, CliError> {
    let mut account = Account::new("The checks of the web site asked for three remedies");
    world.harbour.site.with(|site| {
        site.spoil_page("sailings", "Database connection lost");
        site.jam_bookings();
        site.silence_payments();
    });
    account.proved(world, "refresh-page", "page/sailings", 0).await?;
    account.proved(world, "restart-bookings", "service/bookings", 0).await?;
    account.proved(world, "tell-partner", "partner/payments", 0).await?;
    let (shows, cases) =
        world.harbour.site.with(|site| (site.shows("sailings"), site.cases.clone()));
    account.line(format!("  site     the page shows: {}", shows.unwrap_or_default()));
    account.line(format!("  partner  was told: {}", cases.join(", ")));
    account.want(
        cases.len() == 1,
        format!("the partner should have been told once, not {} times", cases.len()),
    );
    let untouched = world.harbour.site.with(|site| site.shows("prices"));
    account.want(
        untouched.is_some_and(|shows| shows.ends_with("prices")),
        "the other page should be as it was",
    );
    Ok(account)
}
