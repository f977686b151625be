//! What `runner` takes.

use super::{Output, Server};
use arvok_core::Labels;
use clap::{Args, Subcommand};
use std::path::PathBuf;

/// Running one, or what is known of all.
#[derive(Debug, Args)]
#[command(args_conflicts_with_subcommands = true, subcommand_negates_reqs = true)]
pub struct RunnerArgs {
    #[command(subcommand)]
    pub command: Option<RunnerCommand>,
    #[command(flatten)]
    pub run: RunRunner,
}

/// What a runner is started with.
#[derive(Debug, Args)]
pub struct RunRunner {
    /// The address of a node, or of what stands before the nodes; with TLS unless it is this
    /// machine
    #[arg(long, env = "ARVOK_RUNNER_SERVER", value_name = "URL", required = true)]
    pub server: Option<String>,
    /// The file with the runner's token, as `arvok runner add` gave it
    #[arg(long, env = "ARVOK_RUNNER_TOKEN_FILE", value_name = "FILE", required = true)]
    pub token_file: Option<PathBuf>,
    /// The labels that it serves, of those that it may; all of them if left out
    #[arg(long, env = "ARVOK_RUNNER_LABELS", value_name = "NAME=VALUE,...")]
    pub labels: Option<Labels>,
    /// Most calls at once
    #[arg(long, env = "ARVOK_RUNNER_AT_ONCE", value_name = "N", default_value_t = 16,
        value_parser = clap::value_parser!(u32).range(1..=256))]
    pub at_once: u32,
    /// The file of the secrets that the runner keeps itself, which no node ever sees
    #[arg(long, env = "ARVOK_RUNNER_SECRETS", value_name = "FILE")]
    pub secrets: Option<PathBuf>,
}

#[derive(Debug, Subcommand)]
pub enum RunnerCommand {
    /// List runners: when each was last heard of, its build, its work, its clock
    List {
        #[command(flatten)]
        server: Server,
        #[command(flatten)]
        output: Output,
    },
    /// Make a runner known; its token is shown this once, on standard output
    #[command(after_help = "Example:
  arvok runner add nessfold-1 --labels site=nessfold > nessfold-1.token")]
    Add {
        /// Its name
        name: String,
        /// Its labels: it makes the calls of connections that are `through` some of them
        #[arg(long, value_name = "NAME=VALUE,...")]
        labels: Labels,
        #[command(flatten)]
        server: Server,
        #[command(flatten)]
        output: Output,
    },
    /// Know a runner no more: its token is worth nothing
    Remove {
        /// Its name
        name: String,
        #[command(flatten)]
        server: Server,
    },
}
