//! `arvok subscriber`.

use super::list::list;
use crate::{
    args::SubscriberCommand,
    client::{Client, percent},
    error::CliError,
    show,
};
use arvok_api::{
    OutgoingFilter, OutgoingItem, Page, Replay, Replayed, SubscriberItem, SubscriberState,
};
use arvok_core::Period;
use chrono::{DateTime, SecondsFormat, Utc};

const ALL: &str = "/api/v1/subscribers";
/// Events shown below a subscriber.
const LATEST: u64 = 10;

pub async fn subscriber(command: SubscriberCommand) -> Result<(), CliError> {
    match command {
        SubscriberCommand::List { server, output } => {
            let page: Page<SubscriberItem> = Client::of(&server)?.get(ALL, &[]).await?;
            if output.json {
                return show::json(&page);
            }
            show::out(&show::subscribers(&page));
        }
        SubscriberCommand::Show { name, server, output } => {
            let client = Client::of(&server)?;
            let path = format!("{ALL}/{}", percent(&name));
            let item: SubscriberItem = client.get(&path, &[]).await?;
            if output.json {
                return show::json(&item);
            }
            let filter = OutgoingFilter { limit: Some(LATEST), ..OutgoingFilter::default() };
            let page: Page<OutgoingItem> = client.list(&format!("{path}/events"), &filter).await?;
            show::out(&show::subscriber(&item, &page));
        }
        SubscriberCommand::Events { name, state, paging, server, output } => {
            let state = super::word(state.as_deref())?;
            let filter = OutgoingFilter { state, ..OutgoingFilter::default() };
            let path = format!("{ALL}/{}/events", percent(&name));
            return list(&Client::of(&server)?, &path, &filter, (&paging, output), show::outgoing)
                .await;
        }
        SubscriberCommand::Confirm { name, server } => {
            let path = format!("{ALL}/{}/confirm", percent(&name));
            let item: SubscriberItem =
                Client::of(&server)?.post(&path, &serde_json::json!({})).await?;
            confirmed(&item)?;
        }
        SubscriberCommand::Replay { name, since, server } => {
            let since = since.map(|text| {
                let time = Period::parse(&text)
                    .map_err(|e| CliError::Usage(format!("--since {text}: {e}")))?;
                Ok::<_, CliError>(Utc::now() - time.delta())
            });
            let body = Replay { since: since.transpose()?, until: None };
            let path = format!("{ALL}/{}/replay", percent(&name));
            let replayed: Replayed = Client::of(&server)?.post(&path, &body).await?;
            show::out(&replay_text(&name, &replayed));
        }
    }
    Ok(())
}

/// What came of asking; an error where events cannot be sent.
fn confirmed(item: &SubscriberItem) -> Result<(), CliError> {
    let name = &item.name;
    let why = item.trouble.as_deref().unwrap_or("it has not answered yet");
    match item.state {
        SubscriberState::Confirmed => {
            let waiting = match item.waiting {
                0 => "nothing waits".to_owned(),
                n => format!("{} sent now", show::count(usize::try_from(n).unwrap_or(0), "event")),
            };
            show::out(&format!("{name} wants events; {waiting}"));
            Ok(())
        }
        state => Err(CliError::Here(format!("{name} is {state}: {why}"))),
    }
}

fn replay_text(name: &str, replayed: &Replayed) -> String {
    let events = show::count(usize::try_from(replayed.events).unwrap_or(0), "event");
    let more = |next: DateTime<Utc>| {
        let next = next.to_rfc3339_opts(SecondsFormat::Secs, true);
        format!("\nThere are more than are sent at once: the rest begins at {next}.")
    };
    format!(
        "{events} will be sent to {name} once more{}",
        replayed.next.map_or_else(String::new, more)
    )
}
