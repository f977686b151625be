//! What `job` takes.

use super::{ById, Output, Paging, Server};
use clap::{Subcommand, ValueEnum};

#[derive(Debug, Subcommand)]
pub enum JobCommand {
    /// List jobs, newest first
    List {
        /// States, separated by commas
        #[arg(long)]
        state: Option<String>,
        /// With this effect: confirmed, unconfirmed or "not checked"
        #[arg(long)]
        effect: Option<String>,
        /// Of this runbook
        #[arg(long)]
        runbook: Option<String>,
        /// Dispatched by this rule
        #[arg(long)]
        rule: Option<String>,
        /// On this target
        #[arg(long)]
        target: Option<String>,
        #[command(flatten)]
        paging: Paging,
        #[command(flatten)]
        server: Server,
        #[command(flatten)]
        output: Output,
    },
    /// Show one job: inputs, steps, what each gave, the effect
    Show(ById),
    /// Follow a job until it ends; exits with 1 if it did not succeed
    Follow(ById),
    /// Say what became of the step that left a job unsure
    #[command(after_help = "Example:
  arvok job resolve 12 --as done       it was done; go on behind it")]
    Resolve {
        /// Its number
        id: i64,
        /// What became of the step
        #[arg(long = "as", value_name = "WHAT")]
        word: Became,
        #[command(flatten)]
        server: Server,
    },
}

#[derive(Clone, Copy, Debug, ValueEnum)]
pub enum Became {
    /// It was done; go on behind it
    Done,
    /// It was not done; do it again
    Again,
    /// The job ends here as failed
    Failed,
}
