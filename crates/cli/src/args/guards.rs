//! What `guard` takes.

use super::{Output, Server};
use clap::Subcommand;

#[derive(Debug, Subcommand)]
pub enum GuardCommand {
    /// List them: what each limits, how that stands, and how many jobs it holds
    List {
        #[command(flatten)]
        server: Server,
        #[command(flatten)]
        output: Output,
    },
    /// Show one, with the jobs that it holds
    #[command(after_help = "Example:
  arvok guard show booking-one-by-one")]
    Show {
        /// Its name
        name: String,
        #[command(flatten)]
        server: Server,
        #[command(flatten)]
        output: Output,
    },
    /// Close a circuit that is open: rules dispatch again, and failures are counted from now on
    #[command(after_help = "Example:
  arvok guard resume restarts --reason 'the image is mended'")]
    Resume {
        /// Its name
        name: String,
        /// The runbook; all whose circuits are open, if left out
        #[arg(long, value_name = "NAME")]
        runbook: Option<String>,
        /// Why, for those who wonder
        #[arg(long)]
        reason: String,
        #[command(flatten)]
        server: Server,
    },
}
