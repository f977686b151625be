//! What `subscriber` takes.

use super::{Output, Paging, Server};
use clap::Subcommand;

#[derive(Debug, Subcommand)]
pub enum SubscriberCommand {
    /// List them: how it stands with each, what waits, what was given up
    List {
        #[command(flatten)]
        server: Server,
        #[command(flatten)]
        output: Output,
    },
    /// Show one: how it stands, and its latest events
    Show {
        /// Its name
        name: String,
        #[command(flatten)]
        server: Server,
        #[command(flatten)]
        output: Output,
    },
    /// List its events, newest first: what waits, what was taken within a day, what was given up
    #[command(after_help = "Example:
  arvok subscriber events harbour-board --state given-up")]
    Events {
        /// Its name
        name: String,
        /// waiting, delivered or given-up
        #[arg(long)]
        state: Option<String>,
        #[command(flatten)]
        paging: Paging,
        #[command(flatten)]
        server: Server,
        #[command(flatten)]
        output: Output,
    },
    /// Ask its address now whether it wants events, and send now what waits
    Confirm {
        /// Its name
        name: String,
        #[command(flatten)]
        server: Server,
    },
    /// Send once more what was given up, or all that happened within a time
    #[command(
        after_help = "Each event keeps its id, by which the subscriber knows it if it has it \
            already.

Examples:
  arvok subscriber replay harbour-board
  arvok subscriber replay harbour-board --since 6h"
    )]
    Replay {
        /// Its name
        name: String,
        /// All events that it wants of this time, such as 6h, whatever became of them
        #[arg(long, value_name = "TIME")]
        since: Option<String>,
        #[command(flatten)]
        server: Server,
    },
}
