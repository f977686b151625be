//! The words for trials.

use super::{Output, Server};
use clap::{Args as ClapArgs, Subcommand};
use std::path::PathBuf;

#[derive(Debug, ClapArgs)]
#[command(args_conflicts_with_subcommands = true, subcommand_negates_reqs = true)]
pub struct Trial {
    #[command(subcommand)]
    pub command: Option<TrialCommand>,
    #[command(flatten)]
    pub walk: Walk,
}

#[derive(Debug, ClapArgs)]
pub struct Walk {
    /// The source's name
    #[arg(required = true)]
    pub source: Option<String>,
    /// A file with the payload as its sender would send it; - for standard input
    #[arg(value_name = "FILE", conflicts_with_all = ["like", "set"])]
    pub payload: Option<PathBuf>,
    /// Make it up after this alert
    #[arg(long, value_name = "ALERT")]
    pub like: Option<i64>,
    /// A field of the normal form, such as value=95, severity=major, labels.site=quill or body.n=3;
    /// may be given several times
    #[arg(long, value_name = "FIELD=VALUE")]
    pub set: Vec<String>,
    /// Let its jobs act; it stays marked as a trial. Takes the role author
    #[arg(long)]
    pub for_real: bool,
    #[command(flatten)]
    pub server: Server,
    #[command(flatten)]
    pub output: Output,
}

#[derive(Debug, Subcommand)]
pub enum TrialCommand {
    /// Clear all trials away: alerts, alarms, proposals and ended jobs
    Clear {
        #[command(flatten)]
        server: Server,
        #[command(flatten)]
        output: Output,
    },
}
