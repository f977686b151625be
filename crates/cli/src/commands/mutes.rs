//! `arvok mute`.

use super::list::list;
use crate::{
    args::{BeginMute, MuteCommand},
    client::Client,
    error::CliError,
    show,
};
use arvok_api::{MuteCovers, MuteFilter, MuteItem, NewMute, NewlyMuted};
use reqwest::Method;
use std::collections::BTreeMap;

const ALL: &str = "/api/v1/mutes";

pub async fn mute(command: MuteCommand) -> Result<(), CliError> {
    match command {
        MuteCommand::Begin(begin) => self::begin(*begin).await?,
        MuteCommand::List { all, paging, server, output } => {
            let filter = MuteFilter { all, ..MuteFilter::default() };
            list(&Client::of(&server)?, ALL, &filter, (&paging, output), show::mutes).await?;
        }
        MuteCommand::Show { id, server, output } => {
            let item: MuteItem = Client::of(&server)?.get(&format!("{ALL}/{id}"), &[]).await?;
            if output.json {
                return show::json(&item);
            }
            show::out(&show::mute(&item));
        }
        MuteCommand::Lift { id, server } => {
            let path = format!("{ALL}/{id}");
            Client::of(&server)?.change(Method::DELETE, &path, None::<&()>).await?;
            show::out(&format!("mute {id} is lifted: what still stands is acted on"));
        }
    }
    Ok(())
}

async fn begin(begin: BeginMute) -> Result<(), CliError> {
    let mut labels: BTreeMap<String, Vec<String>> = BTreeMap::new();
    for label in &begin.labels {
        let (name, value) = label.split_once('=').ok_or_else(|| {
            CliError::Usage(format!("--label `{label}`: write NAME=VALUE, such as site=quill"))
        })?;
        labels.entry(name.to_owned()).or_default().push(value.to_owned());
    }
    let new = NewMute {
        covers: MuteCovers {
            rules: begin.rules,
            runbooks: begin.runbooks,
            sources: begin.sources,
            kinds: begin.kinds,
            severity: begin.severity,
            resource: begin.resource,
            labels,
        },
        reason: begin.reason,
        from: begin.from,
        until: begin.until,
        period: begin.period,
    };
    let said: NewlyMuted = Client::of(&begin.server)?.post(ALL, &new).await?;
    if begin.output.json {
        return show::json(&said);
    }
    show::out(&show::newly_muted(&said));
    Ok(())
}
