//! What `plan` takes.

use super::{Output, Server};
use chrono::{DateTime, Utc};
use clap::Subcommand;

#[derive(Debug, Subcommand)]
pub enum PlanCommand {
    /// List them: what each runs, when next, and how the last run ended
    List {
        #[command(flatten)]
        server: Server,
        #[command(flatten)]
        output: Output,
    },
    /// Show one: its times to come and what holds them back, its runs, what is remembered
    #[command(after_help = "Example:
  arvok plan show new-fares")]
    Show {
        /// Its name
        name: String,
        #[command(flatten)]
        server: Server,
        #[command(flatten)]
        output: Output,
    },
    /// Show the times of all plans, those that were and those to come
    #[command(after_help = "Examples:
  arvok plan times
  arvok plan times --from 2026-12-24T00:00:00Z --until 2027-01-03T00:00:00Z")]
    Times {
        /// Of this plan alone
        #[arg(long, value_name = "NAME")]
        plan: Option<String>,
        /// From here on [default: a week ago]
        #[arg(long, value_name = "TIME")]
        from: Option<DateTime<Utc>>,
        /// Until here [default: in two weeks]
        #[arg(long, value_name = "TIME")]
        until: Option<DateTime<Utc>>,
        #[command(flatten)]
        server: Server,
        #[command(flatten)]
        output: Output,
    },
    /// Run one now, whatever its times; not while a run of it is under way
    #[command(after_help = "Examples:
  arvok plan run new-fares --dry-run
  arvok plan run new-fares --yes --why 'the catalogue is out' --follow")]
    Run {
        /// Its name
        name: String,
        /// Only show what would be done
        #[arg(long)]
        dry_run: bool,
        /// Do not ask
        #[arg(long)]
        yes: bool,
        /// Why, for those who wonder
        #[arg(long, value_name = "TEXT")]
        why: Option<String>,
        /// The same run asked for twice with the same key makes one job
        #[arg(long)]
        key: Option<String>,
        /// Go on showing what it does until it is over
        #[arg(long)]
        follow: bool,
        #[command(flatten)]
        server: Server,
        #[command(flatten)]
        output: Output,
    },
    /// Skip a time to come: it does not run then
    #[command(after_help = "Examples:
  arvok plan skip new-fares --reason 'the harbour counts its stock'
  arvok plan skip new-fares --due 2026-12-24T09:30:00Z --reason 'nobody is here'")]
    Skip {
        /// Its name
        name: String,
        /// The time; the next that is not skipped, if left out
        #[arg(long, value_name = "TIME")]
        due: Option<DateTime<Utc>>,
        /// Why, for those who wonder
        #[arg(long, value_name = "TEXT")]
        reason: String,
        #[command(flatten)]
        server: Server,
    },
    /// Let it run at a time that was skipped
    Unskip {
        /// Its name
        name: String,
        /// The time
        #[arg(long, value_name = "TIME")]
        due: DateTime<Utc>,
        #[command(flatten)]
        server: Server,
    },
}
