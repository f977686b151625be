//! What `secret`, `token`, `audit`, `node`, `halt` and `storage` take.

use super::{Output, Paging, Server};
use clap::{Args, Subcommand};
use std::path::PathBuf;

#[derive(Debug, Subcommand)]
pub enum SecretCommand {
    /// Set or replace a secret; the value is read from standard input
    #[command(
        after_help = "It goes nowhere but where --for says. Without --for it goes where it went \
            before.

With --offline it is set in the database of this machine's settings, with the key of its data folder, also while no
node runs; where that database is a private one, only then.

Examples:
  arvok secret set yard-office --for connection/yard < /run/secrets/yard-office
  arvok secret set yard-office --for connection/yard --offline < /run/secrets/yard-office"
    )]
    Set {
        /// Its name
        name: String,
        /// Where it may go: connection/NAME, source/NAME, subscriber/NAME, or runbook/NAME for its
        /// scripts; may be given several times
        #[arg(long = "for", value_name = "KIND/NAME")]
        places: Vec<String>,
        /// Set it without a server, as the settings of the node on this machine say
        #[arg(long)]
        offline: bool,
        /// The file of settings for --offline; arvok.toml here, if there is one
        #[arg(long, value_name = "FILE", requires = "offline")]
        config: Option<PathBuf>,
        #[command(flatten)]
        server: Server,
    },
    /// Make a new key for signing events; it is shown this once, on standard output
    #[command(
        after_help = "A key as Standard Webhooks says: `whsec_` and 32 random bytes in base64.

Example:
  arvok secret make board-key --for subscriber/harbour-board"
    )]
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

/// What may act by itself.
#[derive(Debug, Args)]
pub struct AutomateArgs {
    /// Rules that it may let act by itself: names and globs, with commas between
    #[arg(long, value_name = "GLOBS", value_delimiter = ',')]
    pub rules: Vec<String>,
    /// Plans that it may let run at their times
    #[arg(long, value_name = "GLOBS", value_delimiter = ',')]
    pub plans: Vec<String>,
    /// Connections that their jobs may call through; `scripts` for scripts on a node
    #[arg(long, value_name = "GLOBS", value_delimiter = ',')]
    pub connections: Vec<String>,
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
        automate: AutomateArgs,
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
    /// Set what whoever publishes with a token may let act by itself, in place of what it might
    /// before; without a line it may let nothing act
    #[command(
        after_help = "An author publishes; that a rule of stance `act`, or a plan that has times, acts \
                      by itself is a right of its own. It is needed for what is published and for \
                      whatever acts otherwise after it: a changed runbook, connection or connector \
                      of a rule that acts. An admin needs no right.\n\n\
                      Examples:\n  \
                      arvok token automate quay-ci --rules 'disk-*' --connections 'yard-*,crew-chat'\n  \
                      arvok token automate quay-ci"
    )]
    Automate {
        /// Its name
        name: String,
        #[command(flatten)]
        automate: AutomateArgs,
        #[command(flatten)]
        server: Server,
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
pub enum ConfigCommand {
    /// Check the file and the environment, and show what counts and where it comes from
    Check {
        /// The file of settings; arvok.toml here, if there is one
        #[arg(long, value_name = "FILE")]
        config: Option<PathBuf>,
        #[command(flatten)]
        output: Output,
    },
    /// List all settings there are, with what they take and what counts where they are left out
    List {
        /// As a page of Markdown
        #[arg(long, conflicts_with = "json")]
        page: bool,
        #[command(flatten)]
        output: Output,
    },
}

#[derive(Debug, Subcommand)]
pub enum HaltCommand {
    /// Show whether jobs are halted, all or some, since when, by whom and why
    Show {
        #[command(flatten)]
        server: Server,
        #[command(flatten)]
        output: Output,
    },
    /// Halt all jobs on all nodes, or those of some runbooks, rules or targets: none of them is
    /// begun or taken up until the halt is lifted
    #[command(
        after_help = "Alerts are taken in and rules decide as before; the jobs wait. What is under \
        way on a node goes on,
unless --running pauses it as well: calls that are out come to their end then, and nothing new leaves.
Where several lines are given all must hold; of one line any name or glob.

Examples:
  arvok halt begin --reason 'the storage of Quillhaven is being moved'
  arvok halt begin --targets 'host/quill-*,vm/quill-*' --running --reason 'the hall is on fire'
  arvok halt begin --runbooks 'plan/*' --reason 'no roll-outs over Christmas' --dry-run"
    )]
    Begin {
        /// Why, for those who wonder
        #[arg(long)]
        reason: String,
        /// Pause what is under way as well, until the halt is lifted
        #[arg(long)]
        running: bool,
        /// Only jobs of these runbooks: names and globs, with commas between; the runs of a plan
        /// are jobs of plan/NAME
        #[arg(long, value_name = "GLOBS", value_delimiter = ',')]
        runbooks: Vec<String>,
        /// Only jobs that these rules dispatched
        #[arg(long, value_name = "GLOBS", value_delimiter = ',')]
        rules: Vec<String>,
        /// Only jobs that act on these: `*` within a part, `**` across parts
        #[arg(long, value_name = "GLOBS", value_delimiter = ',')]
        targets: Vec<String>,
        /// Only say how many jobs of these a halt would concern
        #[arg(long)]
        dry_run: bool,
        #[command(flatten)]
        server: Server,
    },
    /// Lift a halt: jobs are begun again, those first that wait longest, and what it paused goes
    /// on
    Lift {
        /// The number of a halt of some jobs, as `arvok halt show` says it; left out: the halt of
        /// all
        id: Option<i64>,
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
    /// Change how long things are kept, for all nodes
    #[command(
        after_help = "Shows what would go first, and asks. Alerts are kept for two days at least, \
            as long as their ids are known.

Examples:
  arvok storage keep --alerts 14d --dry-run
  arvok storage keep --source norm-mast=2d --source yard=usual --yes"
    )]
    Keep {
        /// Alerts and their verdicts: a length such as 14d
        #[arg(long, value_name = "TIME")]
        alerts: Option<String>,
        /// Those of one source; `usual` keeps them like the others; may be given several times
        #[arg(long = "source", value_name = "NAME=TIME")]
        sources: Vec<String>,
        /// Payloads that cannot be read
        #[arg(long, value_name = "TIME")]
        unreadable: Option<String>,
        /// The tries of jobs that have ended
        #[arg(long, value_name = "TIME")]
        attempts: Option<String>,
        /// Do not ask
        #[arg(long)]
        yes: bool,
        /// Only show what would go
        #[arg(long, conflicts_with = "yes")]
        dry_run: bool,
        #[command(flatten)]
        server: Server,
        #[command(flatten)]
        output: Output,
    },
}
