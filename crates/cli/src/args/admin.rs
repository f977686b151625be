//! What `secret`, `token`, `audit`, `node` and `storage` take.

use super::{Output, Paging, Server};
use clap::Subcommand;

#[derive(Debug, Subcommand)]
pub enum SecretCommand {
    /// Set or replace a secret; the value is read from standard input
    #[command(after_help = "It goes nowhere but where --for says. Without --for it goes where it went before.

Example:
  arvok secret set yard-office --for connection/yard < /run/secrets/yard-office")]
    Set {
        /// Its name
        name: String,
        /// Where it may go: connection/NAME, source/NAME or subscriber/NAME; may be given several times
        #[arg(long = "for", value_name = "KIND/NAME")]
        places: Vec<String>,
        #[command(flatten)]
        server: Server,
    },
    /// Make a new key for signing events; it is shown this once, on standard output
    #[command(after_help = "A key as Standard Webhooks says: `whsec_` and 32 random bytes in base64.

Example:
  arvok secret make board-key --for subscriber/harbour-board")]
    Make {
        /// Its name
        name: String,
        /// Where it may go: subscriber/NAME; may be given several times
        #[arg(long = "for", value_name = "KIND/NAME", required = true)]
        places: Vec<String>,
        #[command(flatten)]
        server: Server,
    },
    /// List secrets, by name only
    List {
        #[command(flatten)]
        server: Server,
        #[command(flatten)]
        output: Output,
    },
    /// Remove a secret
    Remove {
        /// Its name
        name: String,
        #[command(flatten)]
        server: Server,
    },
}

#[derive(Debug, Subcommand)]
pub enum TokenCommand {
    /// Make a token; it is shown this once, on standard output
    Make {
        /// Its name
        name: String,
        /// viewer, responder, author or admin
        #[arg(long)]
        role: String,
        #[command(flatten)]
        server: Server,
        #[command(flatten)]
        output: Output,
    },
    /// List tokens, without themselves
    List {
        #[command(flatten)]
        server: Server,
        #[command(flatten)]
        output: Output,
    },
    /// Revoke a token
    Revoke {
        /// Its name
        name: String,
        #[command(flatten)]
        server: Server,
    },
}

#[derive(Debug, Subcommand)]
pub enum NodeCommand {
    /// List the nodes over the database with lag, leases and clocks, and what waits for them
    List {
        #[command(flatten)]
        server: Server,
        #[command(flatten)]
        output: Output,
    },
    /// Forget a node that is gone and will not come back; nobody misses it any more
    Forget {
        /// Its address as the list shows it, or its name
        node: String,
        #[command(flatten)]
        server: Server,
    },
}

#[derive(Debug, Subcommand)]
pub enum AuditCommand {
    /// List what was done and refused, newest first
    #[command(after_help = "Of what is the same within an hour one line tells how often.

Example:
  arvok audit list --act sign-in.refused")]
    List {
        /// By whom: the name of a token
        #[arg(long)]
        by: Option<String>,
        /// What was done, such as token.made, secret.set, published, sign-in.refused
        #[arg(long)]
        act: Option<String>,
        #[command(flatten)]
        paging: Paging,
        #[command(flatten)]
        server: Server,
        #[command(flatten)]
        output: Output,
    },
}

#[derive(Debug, Subcommand)]
pub enum StorageCommand {
    /// Show how much is stored, of which kind and of which day, and when it goes
    Show {
        #[command(flatten)]
        server: Server,
        #[command(flatten)]
        output: Output,
    },
}
