//! `arvok runbook`: what is published, and the library of ready-made ones.

use super::definitions;
use crate::{args::RunbookCommand, error::CliError, show};
use arvok_api::{LibraryRunbook, Page};
use arvok_library::{LibraryError, ReadyMade};
use std::collections::BTreeMap;

pub async fn runbook(command: RunbookCommand) -> Result<(), CliError> {
    match command {
        RunbookCommand::Named(named) => definitions::named("runbook", named).await,
        RunbookCommand::Library { name: None, output } => {
            let items: Vec<LibraryRunbook> = arvok_library::all().iter().map(Into::into).collect();
            if output.json {
                return show::json(&Page { items, next: None, bounded: false });
            }
            show::out(&show::library(&items));
            Ok(())
        }
        RunbookCommand::Library { name: Some(name), output } => {
            let ready = arvok_library::get(&name).map_err(wrong)?;
            if output.json {
                return show::json(&LibraryRunbook::from(ready));
            }
            show::out(ready.text().trim_end());
            needs(ready);
            Ok(())
        }
        RunbookCommand::Copy { name, own, via, with_needs } => {
            let ready = arvok_library::get(&name).map_err(wrong)?;
            let own = own.as_deref().unwrap_or(&name);
            let copied = ready.copied(own, &instead(&via)?, |_, _| with_needs).map_err(wrong)?;
            show::out(copied.trim_end());
            needs(ready);
            Ok(())
        }
    }
}

/// Says what it needs, beside its text and not within.
fn needs(ready: &ReadyMade) {
    let needed: Vec<&str> = ready.calls().into_iter().chain(ready.runbook.children()).collect();
    show::notice(&format!("it needs {}", needed.join(", ")));
}

fn wrong(error: LibraryError) -> CliError {
    CliError::Usage(error.to_string())
}

/// Connections of the runbook, and those of the copy instead.
fn instead(typed: &[String]) -> Result<BTreeMap<String, String>, CliError> {
    let pair = |one: &String| {
        let pair = one.split_once('=').map(|(from, to)| (from.to_owned(), to.to_owned()));
        pair.ok_or_else(|| {
            CliError::Usage(format!(
                "--via {one}: give it as NAME=NAME, such as yard-hypervisor=our-yard"
            ))
        })
    };
    typed.iter().map(pair).collect()
}
