//! `arvok runbook`: what is published, and the library of ready-made ones.

use super::{definitions, list::list, pairs, read};
use crate::{
    args::{RunbookCommand, TryStepArgs},
    client::Client,
    error::{CliError, file},
    show,
};
use arvok_api::{ForgetMemory, LibraryRunbook, MemoryFilter, Page, TriedStep, TryStep};
use arvok_library::{LibraryError, ReadyMade};
use reqwest::Method;
use serde_json::{Map, Value};
use std::{collections::BTreeMap, path::Path};

pub async fn runbook(command: RunbookCommand) -> Result<(), CliError> {
    match command {
        RunbookCommand::Try(asked) => try_step(*asked).await,
        RunbookCommand::Memory { name, target, history, paging, server, output } => {
            let filter =
                MemoryFilter { runbook: Some(name), target, history, ..MemoryFilter::default() };
            let client = Client::of(&server)?;
            list(&client, "/api/v1/memory", &filter, (&paging, output), show::memory).await
        }
        RunbookCommand::Forget { name, target, reason, server } => {
            let told = format!("what runs of {name} remembered of {target} is forgotten");
            let forget = ForgetMemory { runbook: name, target, reason };
            let path = "/api/v1/memory/forget";
            Client::of(&server)?.change(Method::POST, path, Some(&forget)).await?;
            show::out(&told);
            Ok(())
        }
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

/// Values that are given by names: JSON, or else texts.
fn given(flag: &str, typed: &[String], example: &str) -> Result<Map<String, Value>, CliError> {
    let pairs = pairs(flag, typed, example)?.into_iter();
    Ok(pairs.map(|(name, value)| (name.to_owned(), read(None, value))).collect())
}

/// Tries one step of a file's runbook, or of a published one.
async fn try_step(asked: TryStepArgs) -> Result<(), CliError> {
    let path = Path::new(&asked.of);
    let is_file = path.is_file();
    let text = is_file.then(|| std::fs::read_to_string(path).map_err(|e| file(path, e)));
    let trial = TryStep {
        text: text.transpose()?,
        runbook: if is_file { asked.runbook } else { Some(asked.of.clone()) },
        step: asked.step,
        inputs: given("--input", &asked.input, "vm=vm/quill-report-2")?,
        outputs: given("--output", &asked.output, "look={\"size_gib\": 40}")?,
        alert: asked.alert,
    };
    let tried: TriedStep = Client::of(&asked.server)?.post("/api/v1/runbooks/try", &trial).await?;
    if asked.shown.json {
        return show::json(&tried);
    }
    show::out(&show::tried_step(&tried));
    Ok(())
}

/// Says what it needs, beside its text and not within.
fn needs(ready: &ReadyMade) {
    let needed: Vec<&str> = ready.calls().into_iter().chain(ready.children()).collect();
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
