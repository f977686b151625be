//! What `contact` takes.

use super::{Output, Server};
use clap::Subcommand;

#[derive(Debug, Subcommand)]
pub enum ContactCommand {
    /// List them: persons and teams, and who is on duty
    List {
        #[command(flatten)]
        server: Server,
        #[command(flatten)]
        output: Output,
    },
    /// Show one: by which ways, and in which order, somebody would be reached now
    #[command(after_help = "Example:
  arvok contact show booking")]
    Show {
        /// Its name
        name: String,
        #[command(flatten)]
        server: Server,
        #[command(flatten)]
        output: Output,
    },
}
