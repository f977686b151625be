//! What `send`, `alert` and `alarm` take.

use super::{ById, Output, Paging, Server, Window};
use clap::{Args as ClapArgs, Subcommand};
use std::path::PathBuf;

#[derive(Debug, ClapArgs)]
pub struct Send {
    /// The source's name
    pub source: String,
    /// A file with the payload; - for standard input
    #[arg(value_name = "FILE", conflicts_with_all = ["kind", "resource"])]
    pub payload: Option<PathBuf>,
    /// Dotted kind
    #[arg(long, requires = "resource")]
    pub kind: Option<String>,
    /// class/name or class/name/part
    #[arg(long, requires = "kind")]
    pub resource: Option<String>,
    /// indeterminate, warning, minor, major or critical
    #[arg(long, default_value = "indeterminate")]
    pub severity: String,
    /// raised, cleared or noted
    #[arg(long, default_value = "raised")]
    pub state: String,
    /// Unique within the source; a repeat changes nothing. Left out: always a new alert
    #[arg(long)]
    pub id: Option<String>,
    /// One line for people
    #[arg(long)]
    pub summary: Option<String>,
    /// What was measured
    #[arg(long, allow_negative_numbers = true)]
    pub value: Option<f64>,
    /// A label; may be given several times
    #[arg(long = "label", value_name = "NAME=VALUE")]
    pub labels: Vec<String>,
    /// It is real: the rules act as for any alert of the source. Without it, what is sent with a
    /// token is a trial, and nothing that changes anything leaves for it. Takes the role author
    #[arg(long)]
    pub for_real: bool,
    /// The source's own credential, if no token is used
    #[arg(long, env = "ARVOK_CREDENTIAL", hide_env_values = true)]
    pub credential: Option<String>,
    /// Keep what cannot be delivered in this file, and deliver first what it holds, in order
    #[arg(long, value_name = "FILE")]
    pub spool: Option<PathBuf>,
    #[command(flatten)]
    pub server: Server,
    #[command(flatten)]
    pub output: Output,
}

#[derive(Debug, Subcommand)]
#[expect(clippy::large_enum_variant, reason = "there is one of it in a run")]
pub enum AlertCommand {
    /// List alerts, newest first
    #[command(after_help = "Example:
  arvok alert list --verdict unmatched --severity major..")]
    List {
        /// Of this source
        #[arg(long)]
        source: Option<String>,
        /// Of this kind
        #[arg(long)]
        kind: Option<String>,
        /// As in rules: a severity, or a range such as major..
        #[arg(long)]
        severity: Option<String>,
        /// raised, cleared or noted
        #[arg(long)]
        state: Option<String>,
        /// About this resource
        #[arg(long)]
        resource: Option<String>,
        /// Matched by this rule
        #[arg(long)]
        rule: Option<String>,
        /// With this verdict of the rule, or of any where no rule is given; `matched` for any,
        /// `held` for what is held back, `unmatched` for none
        #[arg(long)]
        verdict: Option<String>,
        /// How far it came, as `status` counts it: unmatched, watched, folded, held, proposed,
        /// dispatched; under-way, unproved, failed, cancelled, confirmed
        #[arg(long)]
        outcome: Option<String>,
        /// With this text in summary, resource or kind
        #[arg(long)]
        text: Option<String>,
        /// Wait until there is one, for a minute at most
        #[arg(long)]
        wait: bool,
        #[command(flatten)]
        window: Window,
        #[command(flatten)]
        paging: Paging,
        #[command(flatten)]
        server: Server,
        #[command(flatten)]
        output: Output,
    },
    /// Show one alert, its payload, and what every rule decided
    Show(ById),
    /// Say what every rule makes of an alert: those that match, and those that nearly do
    Why(ById),
}

#[derive(Debug, Subcommand)]
pub enum AlarmCommand {
    /// List the alarms that stand
    List {
        /// Those that are over too
        #[arg(long)]
        all: bool,
        /// As in rules: a severity, or a range such as major..
        #[arg(long)]
        severity: Option<String>,
        #[command(flatten)]
        window: Window,
        /// Of this source
        #[arg(long)]
        source: Option<String>,
        /// Of this kind
        #[arg(long)]
        kind: Option<String>,
        /// About this resource
        #[arg(long)]
        resource: Option<String>,
        #[command(flatten)]
        paging: Paging,
        #[command(flatten)]
        server: Server,
        #[command(flatten)]
        output: Output,
    },
    /// Show one alarm with its alerts and jobs, and what people did about it
    Show(ById),
    /// Say that you see to an alarm
    Acknowledge {
        /// Its number
        id: i64,
        /// What you say of it
        #[arg(long, default_value = "")]
        text: String,
        #[command(flatten)]
        server: Server,
    },
    /// Say something of an alarm, for those who come after
    Note {
        /// Its number
        id: i64,
        /// What there is to say
        text: String,
        #[command(flatten)]
        server: Server,
    },
    /// Clear an alarm by hand, whose source will never say that it is over
    #[command(after_help = "All follows that follows any clearing. Its source may raise it anew.

Example:
  arvok alarm clear 41 --reason 'the sensor was taken out'")]
    Clear {
        /// Its number
        id: i64,
        /// Why, for those who wonder
        #[arg(long)]
        reason: String,
        #[command(flatten)]
        server: Server,
    },
}
