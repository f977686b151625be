//! What `mute` takes.

use super::{Output, Paging, Server};
use chrono::{DateTime, Utc};
use clap::{Args, Subcommand};

#[derive(Debug, Subcommand)]
pub enum MuteCommand {
    /// Keep rules from acting on something for a time; alerts are kept, alarms raised as before
    #[command(after_help = "Every option that is given must hold, of several values of one any. \
        What still stands when
the mute is over is acted on then. Jobs that there are go on; those of them that it covers are named.

Examples:
  arvok mute begin --resource 'vm/quill-booking-db-1' --for 2h --reason 'a new disk goes in'
  arvok mute begin --resource 'host/brack-**' --from 2026-12-01T22:00:00Z --for 4h \\
      --reason 'the crossing of the fibre is cut over'
  arvok mute begin --rule disk-filling --severity ..minor --for 1d --reason 'too eager'")]
    Begin(Box<BeginMute>),
    /// List those that stand or come, the one that ends first first
    List {
        /// Those that are over or were lifted too, the newest first
        #[arg(long)]
        all: bool,
        #[command(flatten)]
        paging: Paging,
        #[command(flatten)]
        server: Server,
        #[command(flatten)]
        output: Output,
    },
    /// Show one
    Show {
        /// Its number
        id: i64,
        #[command(flatten)]
        server: Server,
        #[command(flatten)]
        output: Output,
    },
    /// Lift one before its time: what still stands is acted on
    Lift {
        /// Its number
        id: i64,
        #[command(flatten)]
        server: Server,
    },
}

#[derive(Debug, Args)]
pub struct BeginMute {
    /// A rule, globs allowed; may be given several times, like all that follow
    #[arg(long = "rule", value_name = "NAME")]
    pub rules: Vec<String>,
    /// A runbook: rules are kept from acting that may dispatch it, and plans from running it
    #[arg(long = "runbook", value_name = "NAME")]
    pub runbooks: Vec<String>,
    /// A source
    #[arg(long = "source", value_name = "NAME")]
    pub sources: Vec<String>,
    /// A kind
    #[arg(long = "kind", value_name = "KIND")]
    pub kinds: Vec<String>,
    /// A severity, or a range such as ..minor
    #[arg(long, value_name = "RANGE")]
    pub severity: Vec<String>,
    /// A resource; * within a part, ** across parts
    #[arg(long, value_name = "PATH")]
    pub resource: Vec<String>,
    /// A label and its value
    #[arg(long = "label", value_name = "NAME=VALUE")]
    pub labels: Vec<String>,
    /// How long it lasts, such as 2h; at most 90d
    #[arg(long = "for", value_name = "PERIOD", required_unless_present = "until")]
    pub period: Option<String>,
    /// When it ends (RFC 3339)
    #[arg(long, value_name = "TIME", conflicts_with = "period")]
    pub until: Option<DateTime<Utc>>,
    /// When it begins (RFC 3339); now, if left out
    #[arg(long, value_name = "TIME")]
    pub from: Option<DateTime<Utc>>,
    /// Why, for those who wonder
    #[arg(long)]
    pub reason: String,
    #[command(flatten)]
    pub server: Server,
    #[command(flatten)]
    pub output: Output,
}
