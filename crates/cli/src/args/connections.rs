//! What `connection` takes.

use super::{Output, Paging, Server, Versioned};
use clap::Subcommand;
use std::path::PathBuf;

#[derive(Debug, Subcommand)]
pub enum ConnectionCommand {
    #[command(flatten)]
    Versioned(Versioned),
    /// List them: whether each can be used, and how its calls of the last hour went
    List {
        #[command(flatten)]
        server: Server,
        #[command(flatten)]
        output: Output,
    },
    /// Show one: what it offers, what it needs, who calls it, its last calls
    Show {
        /// Its name
        name: String,
        #[command(flatten)]
        server: Server,
        #[command(flatten)]
        output: Output,
    },
    /// List its calls, newest first
    Calls {
        /// Its name
        name: String,
        #[command(flatten)]
        paging: Paging,
        #[command(flatten)]
        server: Server,
        #[command(flatten)]
        output: Output,
    },
    /// Test it: is the other side there, and does it take our credential
    Test {
        /// Its name
        name: String,
        #[command(flatten)]
        server: Server,
        #[command(flatten)]
        output: Output,
    },
    /// Trust the key of a machine that it reaches over SSH
    #[command(
        after_help = "Shows the key that the machine shows now, and asks whether it is right: \
the machine's own
people can tell, by `ssh-keygen -l -f /etc/ssh/ssh_host_ed25519_key.pub` there.

Examples:
  arvok connection trust quill-booking
  arvok connection trust web-hosts --host web-1.skerrow.example
  arvok connection trust quill-booking --fingerprint SHA256:tFCu0LsDkcUXGqRCTyRTE3AhoHBPVoZ+yBZs0KCbkAY"
    )]
    Trust {
        /// The connection
        name: String,
        /// The machine, where the connection stands for many
        #[arg(long)]
        host: Option<String>,
        /// Trust it without asking if its fingerprint is this one
        #[arg(long, value_name = "SHA256:...")]
        fingerprint: Option<String>,
        /// Trust the key of this machine no more, as `connection show` names it
        #[arg(long, value_name = "MACHINE", conflicts_with_all = ["host", "fingerprint"])]
        forget: Option<String>,
        #[command(flatten)]
        server: Server,
        #[command(flatten)]
        output: Output,
    },
    /// Call one of its operations by hand
    #[command(after_help = "What may change something is shown first, and asked for.

Examples:
  arvok connection try yard-hypervisor vm.inspect --give vm=vm/quill-report-2
  arvok connection try crew-chat chat.post --give channel=yard --give text='All well' --dry-run")]
    Try {
        /// The connection
        name: String,
        /// The operation
        operation: String,
        /// What it is given
        #[arg(long, value_name = "NAME=VALUE")]
        give: Vec<String>,
        /// Do not ask
        #[arg(long)]
        yes: bool,
        /// Only show what would be sent
        #[arg(long, conflicts_with = "yes")]
        dry_run: bool,
        #[command(flatten)]
        server: Server,
        #[command(flatten)]
        output: Output,
    },
    /// Make a connector of the description of an API (OpenAPI 3.0 or 3.1), without a server
    #[command(
        after_help = "Prints a file with a connector and a connection that uses it: keep it with \
            the others, look it through,
and publish it. What was not understood is listed on standard error.

Examples:
  arvok connection import desk.yaml --list
  arvok connection import desk.yaml --only 'listTickets' --only '/tickets/**' > definitions/desk.yaml"
    )]
    Import {
        /// The description, JSON or YAML; - for standard input
        file: PathBuf,
        /// Take over only these: names, paths or tags, globs allowed
        #[arg(long, value_name = "GLOB")]
        only: Vec<String>,
        /// The name of the connector and its connection; left out, one made of the title
        #[arg(long)]
        name: Option<String>,
        /// Only list the operations
        #[arg(long)]
        list: bool,
        #[command(flatten)]
        output: Output,
    },
}
