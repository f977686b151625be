//! `arvok config` and `arvok doctor`: what a node on this machine would be like, and whether it
//! could work.

use super::serve::{environment, settings};
use crate::{
    args::{ConfigCommand, Output},
    error::CliError,
    show::{self, Table},
};
use arvok_service::{SETTINGS, SettingDescription, doctor};
use serde_json::json;
use std::{collections::BTreeSet, fs, path::Path};

pub fn config(command: &ConfigCommand) -> Result<(), CliError> {
    match command {
        ConfigCommand::Check { config, output } => check(config.as_deref(), *output),
        ConfigCommand::List { page, output } => list(*page, *output),
    }
}

/// What counts, and where it comes from.
fn check(file: Option<&Path>, output: Output) -> Result<(), CliError> {
    let read = match settings(file) {
        Ok(read) => read,
        Err(e) => {
            show::notice(&format!("arvok: {e}"));
            return Err(CliError::No);
        }
    };
    let (in_file, variables) =
        (keys(file), environment().map(|(name, _)| name).collect::<BTreeSet<_>>());
    let from = |key: &str| match () {
        () if variables.contains(&variable(key)) => "environment",
        () if in_file.contains(key) => "file",
        () => "usual",
    };
    let shown = read.shown();
    if output.json {
        let all = shown
            .iter()
            .map(|(key, value)| json!({ "key": key, "value": value, "from": from(key) }));
        return show::json(&all.collect::<Vec<_>>());
    }
    let mut table = Table::new(&["setting", "value", "from"]);
    shown
        .iter()
        .for_each(|(key, value)| table.row([key.clone(), value.clone(), from(key).to_owned()]));
    show::out(&table.text(""));
    Ok(())
}

/// The variable of a key.
fn variable(key: &str) -> String {
    if let Some(name) = key.strip_prefix("settings.") {
        return format!("ARVOK_SETTING_{}", name.replace('-', "_").to_uppercase());
    }
    SETTINGS
        .iter()
        .find(|known| known.key == key)
        .map_or_else(String::new, |known| known.variable.to_owned())
}

/// The keys that a file has, those within tables as `table.key`.
fn keys(file: Option<&Path>) -> BTreeSet<String> {
    let text = fs::read_to_string(file.unwrap_or(Path::new("arvok.toml"))).unwrap_or_default();
    let mut keys = BTreeSet::new();
    let mut left: Vec<(String, toml::Table)> =
        vec![(String::new(), text.parse().unwrap_or_default())];
    while let Some((before, table)) = left.pop() {
        for (key, value) in table {
            let name = format!("{before}{key}");
            match value {
                // A setting may be a table itself.
                toml::Value::Table(within) if before != "settings." => {
                    left.push((format!("{name}."), within))
                }
                _ => _ = keys.insert(name),
            }
        }
    }
    keys
}

/// All settings there are, as a table or as a page.
fn list(page: bool, output: Output) -> Result<(), CliError> {
    if output.json {
        let one = |s: &SettingDescription| {
            json!({ "key": s.key, "variable": s.variable,
            "takes": s.takes, "usual": s.usual, "says": s.says, "reloads": s.reloads })
        };
        return show::json(&SETTINGS.iter().map(one).collect::<Vec<_>>());
    }
    if page {
        show::out(PAGE.trim_end());
        for known in &SETTINGS {
            let code =
                |text: &str| if text.is_empty() { String::new() } else { format!("`{text}`") };
            let SettingDescription { takes, usual, says, .. } = known;
            let reloads = if known.reloads { "yes" } else { "" };
            show::out(&format!(
                "| {} | {} | {takes} | {usual} | {says} | {reloads} |",
                code(known.key),
                code(known.variable)
            ));
        }
        return Ok(());
    }
    let mut table = Table::new(&["key", "variable", "takes", "left out", "what it does"]);
    for SettingDescription { key, variable, takes, usual, says, .. } in SETTINGS {
        table.row([key, variable, takes, usual, says].map(str::to_owned));
    }
    show::out(&table.text(""));
    Ok(())
}

const PAGE: &str = "# Settings of a node

Made by `arvok config list --page`. From `arvok.toml` (or `--config FILE`), then from the environment, which wins; what is neither counts
as *left out*. `arvok config check` shows what counts on a machine. Times are a number with `ms`, `s`, `m`, `h` or `d`. What SIGHUP
takes over says so; the rest is read by a start.

| key | variable | takes | left out | what it does | SIGHUP |
|---|---|---|---|---|---|
";

/// Looks at all that a node on this machine needs.
pub async fn doctor(file: Option<&Path>, output: Output) -> Result<(), CliError> {
    let found = doctor::look(&settings(file)?).await;
    if output.json {
        show::json(&found)?;
    } else {
        let mut table = Table::new(&["about", "state", "what was seen"]);
        for one in &found {
            let mark = match one.health {
                doctor::Health::Good => "good",
                doctor::Health::Warn => "look",
                doctor::Health::Bad => "bad",
            };
            table.row([one.about.to_owned(), mark.to_owned(), one.says.clone()]);
        }
        show::out(&table.text(""));
    }
    if found.iter().any(|one| one.health == doctor::Health::Bad) {
        Err(CliError::No)
    } else {
        Ok(())
    }
}
