//! One file for each thing that the command is about. Glue: asks the server, shows the answer.

mod access;
mod alerts;
mod ask;
mod attached;
mod config;
mod connections;
mod contacts;
mod decisions;
mod definitions;
mod edit;
mod guards;
mod halt;
mod help;
mod jobs;
mod launch;
mod library;
mod list;
mod mutes;
mod nodes;
mod plans;
mod proposals;
mod rules;
mod runners;
mod serve;
mod sources;
mod standin;
mod status;
mod storage;
mod subscribers;
mod trials;

use crate::{
    args::{Against, Args, Command, Window},
    demo,
    error::CliError,
    show,
};
use arvok_api::{parse_word, parse_words};
use arvok_core::{Period, words::Words};
use arvok_service::Config;
use chrono::{DateTime, Utc};
use clap::CommandFactory;
use serde_json::Value;
use std::collections::BTreeMap;

/// Runs a command.
pub async fn run(args: Args) -> Result<(), CliError> {
    if args.wide {
        show::never_cut();
    }
    match args.command {
        Command::Serve { config, recover, new_key, hold_jobs } => {
            serve::serve(config.as_deref(), |config| Config {
                recover,
                new_key,
                hold_jobs,
                ..config
            })
            .await
        }
        Command::Demo { once, scene, kill_node, real, data, port, output } => {
            let json = output.json;
            demo::run(demo::Options { once, scene, json, kill_node, real, data, port }).await
        }
        Command::Standin(which) => standin::standin(which).await,
        Command::Check { paths, all_warnings, against: None, output, .. } => {
            definitions::check(&paths, all_warnings, output)
        }
        Command::Check {
            paths,
            all_warnings,
            against: Some(Against::Published),
            server,
            output,
        } => definitions::check_beside(&paths, all_warnings, &server, output).await,
        Command::Publish { paths, yes, dry_run, prune, all_warnings, server, output } => {
            let asking = definitions::Asking { yes, dry_run, all_warnings };
            definitions::publish(&paths, prune, asking, &server, output).await
        }
        Command::Withdraw { kind, names, yes, dry_run, server, output } => {
            definitions::withdraw(kind, names, (yes, dry_run), &server, output).await
        }
        Command::Send(send) => alerts::send(*send).await,
        Command::Trial(trial) => trials::trial(*trial).await,
        Command::Alert(command) => alerts::alert(command).await,
        Command::Alarm(command) => alerts::alarm(command).await,
        Command::Rule(command) => rules::rule(command).await,
        Command::Decision(command) => decisions::decision(command).await,
        Command::Proposal(command) => proposals::proposal(command).await,
        Command::Runbook(command) => library::runbook(command).await,
        Command::Source(command) => sources::source(command).await,
        Command::Connection(command) => connections::connection(command).await,
        Command::Connector(command) => definitions::named("connector", command).await,
        Command::Step(command) => definitions::named("step", command).await,
        Command::Calendar(command) => definitions::named("calendar", command).await,
        Command::Group(command) => definitions::named("group", command).await,
        Command::Contact(command) => contacts::contact(command).await,
        Command::Plan(command) => plans::plan(command).await,
        Command::Guard(command) => guards::guard(command).await,
        Command::Subscriber(command) => subscribers::subscriber(command).await,
        Command::Job(command) => jobs::job(command).await,
        Command::Secret(command) => access::secret(command).await,
        Command::Mute(command) => mutes::mute(command).await,
        Command::Halt(command) => halt::halt(command).await,
        Command::Node(command) => nodes::node(command).await,
        Command::Runner(args) => runners::runner(args).await,
        Command::Audit(command) => access::audit(command).await,
        Command::Storage(command) => storage::storage(command).await,
        Command::Token(command) => access::token(command).await,
        Command::Logout { name } => access::logout(name.as_deref()),
        Command::Profile(command) => access::profile(command),
        Command::Status { server, output } => status::status(&server, &output).await,
        Command::Login { address, name, token_file, wait } => {
            access::login(address, &name, token_file.as_deref(), wait).await
        }
        Command::Config(command) => config::config(&command),
        Command::Doctor { config, output } => config::doctor(config.as_deref(), output).await,
        Command::Schema { kind } => definitions::schema(&kind),
        Command::Help { words, man, into } => help::help(&words, man, into.as_deref()),
        Command::Completions { shell } => {
            let mut script = Vec::new();
            clap_complete::generate(shell, &mut Args::command(), "arvok", &mut script);
            crate::show::out(&String::from_utf8_lossy(&script));
            Ok(())
        }
    }
}

/// What was typed as `NAME=VALUE`, each name once: of two values for one name nobody knows which
/// was meant.
fn pairs<'a>(
    flag: &str,
    typed: &'a [String],
    example: &str,
) -> Result<BTreeMap<&'a str, &'a str>, CliError> {
    let mut pairs = BTreeMap::new();
    for one in typed {
        let wrong =
            || CliError::Usage(format!("{flag} {one}: give it as NAME=VALUE, such as {example}"));
        let (name, value) = one.split_once('=').ok_or_else(wrong)?;
        if let Some(before) = pairs.insert(name, value) {
            return Err(CliError::Usage(format!(
                "{flag} {name} is given twice: `{before}` and `{value}`"
            )));
        }
    }
    Ok(pairs)
}

/// A value as it was typed: a text where its schema wants one, else JSON, or a text if it is none.
fn read(schema: Option<&Value>, typed: &str) -> Value {
    let text = schema.is_some_and(|schema| schema["type"] == "string");
    match serde_json::from_str(typed) {
        Ok(value) if !text => value,
        _ => typed.into(),
    }
}

/// Since when and until when.
type Times = (Option<DateTime<Utc>>, Option<DateTime<Utc>>);

/// A word as lists are asked for it.
fn word<T: Words>(text: Option<&str>) -> Result<Option<T>, CliError> {
    text.map(parse_word).transpose().map_err(CliError::Usage)
}

/// Words as lists are asked for them, separated by commas.
fn words<T: Words>(text: Option<&str>) -> Result<Vec<T>, CliError> {
    text.map_or_else(|| Ok(Vec::new()), parse_words).map_err(CliError::Usage)
}

/// The times that were given.
fn window(window: &Window) -> Result<Times, CliError> {
    let moment = |name: &str, text: &Option<String>| match text {
        None => Ok(None),
        Some(text) => moment(text).map(Some).ok_or_else(|| {
            let wanted = "a time such as 2026-11-25T14:00:00Z, or how long ago, such as 2h";
            CliError::Usage(format!("--{name}: `{text}` is not {wanted}"))
        }),
    };
    Ok((moment("since", &window.since)?, moment("until", &window.until)?))
}

/// A time, or how long ago it is.
fn moment(text: &str) -> Option<DateTime<Utc>> {
    let ago = || Period::parse(text).ok().map(|period| Utc::now() - period.delta());
    DateTime::parse_from_rfc3339(text).ok().map(|time| time.to_utc()).or_else(ago)
}
