//! `arvok help`: what a command takes, as text or as pages for `man`.

use crate::{args::Args, error::CliError, show};
use clap::{Command, CommandFactory};
use std::{fs, path::Path};

/// The help of a command, named by its words.
pub fn help(words: &[String], man: bool, into: Option<&Path>) -> Result<(), CliError> {
    if let Some(folder) = into {
        return pages(folder);
    }
    let mut all = Args::command();
    all.build();
    let command = find(&mut all, words)?;
    if !man {
        show::out(&command.render_long_help().to_string());
        return Ok(());
    }
    show::out(&String::from_utf8_lossy(&page(command.clone())?));
    Ok(())
}

fn page(command: Command) -> Result<Vec<u8>, CliError> {
    let mut page = Vec::new();
    clap_mangen::Man::new(command).render(&mut page).map_err(|e| CliError::Here(e.to_string()))?;
    Ok(page)
}

/// A page for each command, into a folder: `arvok.1`, `arvok-job-list.1`.
fn pages(folder: &Path) -> Result<(), CliError> {
    let fault = |e: std::io::Error| crate::error::file(folder, e);
    fs::create_dir_all(folder).map_err(fault)?;
    let mut all = Args::command();
    all.build();
    let mut written = 0;
    let mut left = vec![all];
    while let Some(command) = left.pop() {
        left.extend(command.get_subcommands().filter(|c| c.get_name() != "help").cloned());
        let name = command.get_display_name().unwrap_or_else(|| command.get_name()).to_owned();
        fs::write(folder.join(format!("{name}.1")), page(command)?).map_err(fault)?;
        written += 1;
    }
    show::out(&format!("{} in {}", show::count(written, "page"), folder.display()));
    Ok(())
}

fn find<'c>(command: &'c mut Command, words: &[String]) -> Result<&'c mut Command, CliError> {
    let Some((word, rest)) = words.split_first() else { return Ok(command) };
    let known: Vec<String> = command.get_subcommands().map(|c| c.get_name().to_owned()).collect();
    let hint = arvok_core::text::hint(word, known.iter().map(String::as_str));
    let wrong = CliError::Usage(format!("there is no command `{word}` here{hint}"));
    find(command.find_subcommand_mut(word).ok_or(wrong)?, rest)
}
