//! What `rule`, `proposal` and the other definitions take.

use super::{ById, Output, Paging, Server};
use clap::{Args as ClapArgs, Subcommand, ValueEnum};
use std::path::PathBuf;

#[derive(Debug, Subcommand)]
pub enum RuleCommand {
    #[command(flatten)]
    Named(Named),
    /// Say clause by clause why a rule matches an alert or not, and what it decides
    #[command(
        after_help = "RULE is the name of a published rule, or a file with a rule that was not \
            published. An alert
that never happened is JSON in the normal form, with `source`.

Examples:
  arvok rule why booking-disk-filling --alert 41
  arvok rule why rules/disks.yaml --rule booking-disk-filling --file made-up.json"
    )]
    Why {
        /// A published rule, or a file
        #[arg(value_name = "RULE")]
        of: String,
        /// The alert's number
        #[arg(long, required_unless_present = "file", conflicts_with = "file")]
        alert: Option<i64>,
        /// A file with an alert that never happened; - for standard input
        #[arg(long, value_name = "FILE")]
        file: Option<PathBuf>,
        /// Which rule of the file
        #[arg(long, value_name = "NAME")]
        rule: Option<String>,
        #[command(flatten)]
        server: Server,
        #[command(flatten)]
        output: Output,
    },
    /// Replay alerts through a rule in virtual time, as if it acted
    #[command(
        after_help = "RULE is the name of a published rule, or a file with a rule, published or \
            not. Nothing is
changed by it. Ctrl-C ends it. With --alerts and a file no server is needed.

Examples:
  arvok rule rehearse rules/disks.yaml --rule booking-disk-filling --since 7d --against published
  arvok alert list --limit all --as lines > night.jsonl
  arvok rule rehearse rules/disks.yaml --rule booking-disk-filling --alerts night.jsonl"
    )]
    Rehearse {
        /// A published rule, or a file
        #[arg(value_name = "RULE")]
        of: String,
        /// How far back, such as 1h or 7d
        #[arg(long, default_value = "1d", conflicts_with = "alerts")]
        since: String,
        /// A file of alerts, one JSON object on each line; - for standard input
        #[arg(long, value_name = "FILE")]
        alerts: Option<PathBuf>,
        /// Rehearse another version too, and say how they differ
        #[arg(long, value_name = "WHAT")]
        against: Option<Against>,
        /// Which rule of the file
        #[arg(long, value_name = "NAME")]
        rule: Option<String>,
        #[command(flatten)]
        server: Server,
        #[command(flatten)]
        output: Output,
    },
    /// List what a rule decided, newest alert first
    Verdicts {
        /// The rule; all of them if left out
        rule: Option<String>,
        /// Only this verdict
        #[arg(long)]
        verdict: Option<String>,
        /// Only about this resource
        #[arg(long)]
        resource: Option<String>,
        #[command(flatten)]
        paging: Paging,
        #[command(flatten)]
        server: Server,
        #[command(flatten)]
        output: Output,
    },
    /// Write an example for a rule's file from what really happened
    #[command(after_help = "Example:
  arvok rule example --from-alert 41 --into rules/disks.yaml")]
    Example {
        /// The alert's number
        #[arg(long, value_name = "ID")]
        from_alert: i64,
        /// The rule; the first that matches the alert if left out
        #[arg(long)]
        rule: Option<String>,
        /// The file of the rule, to which the example is added
        #[arg(long, value_name = "FILE")]
        into: Option<PathBuf>,
        #[command(flatten)]
        server: Server,
    },
    /// Write a rule to start from, made from an alert
    #[command(after_help = "Example:
  arvok rule draft --from-alert 41 > rules/new.yaml")]
    Draft {
        /// The alert's number
        #[arg(long, value_name = "ID")]
        from_alert: i64,
        #[command(flatten)]
        server: Server,
    },
}

#[derive(Clone, Copy, Debug, ValueEnum)]
pub enum Against {
    /// The version that is live now
    Published,
}

#[derive(Debug, Subcommand)]
pub enum ProposalCommand {
    /// List proposals; those that are open, unless asked otherwise
    List {
        /// open, launched, dismissed, withdrawn or faulty; all for every one
        #[arg(long, default_value = "open")]
        state: String,
        /// Of this rule
        #[arg(long)]
        rule: Option<String>,
        /// Of this runbook
        #[arg(long)]
        runbook: Option<String>,
        /// On this target
        #[arg(long)]
        target: Option<String>,
        #[command(flatten)]
        paging: Paging,
        #[command(flatten)]
        server: Server,
        #[command(flatten)]
        output: Output,
    },
    /// Show one proposal
    Show(ById),
    /// Launch it: it becomes the job of the same number
    #[command(after_help = "Example:
  arvok proposal launch 12 --input step_gib=8")]
    Launch {
        /// Its number
        id: i64,
        /// Why
        #[arg(long)]
        note: Option<String>,
        /// An input with another value than is proposed; what it acts on stays. As often as is
        /// needed
        #[arg(long, value_name = "NAME=VALUE")]
        input: Vec<String>,
        #[command(flatten)]
        server: Server,
    },
    /// Dismiss it, with the reason
    #[command(after_help = "Example:
  arvok proposal dismiss 12 --note 'the disk is being replaced tonight'")]
    Dismiss {
        /// Its number
        id: i64,
        /// Why
        #[arg(long)]
        note: String,
        #[command(flatten)]
        server: Server,
    },
}

#[derive(Debug, clap::Args)]
pub struct ShapeArgs {
    /// The source
    pub name: String,
    /// The fields of this kind
    #[arg(long)]
    pub kind: Option<String>,
    /// Of what is caught, of which no alerts were made
    #[arg(long, conflicts_with = "kind")]
    pub caught: bool,
    /// Side by side with this kind
    #[arg(long, value_name = "KIND", conflicts_with = "forget")]
    pub beside: Option<String>,
    /// Forget it, as after a change of the sender; alerts stay
    #[arg(long)]
    pub forget: bool,
    #[command(flatten)]
    pub server: Server,
    #[command(flatten)]
    pub output: Output,
}

#[derive(Debug, clap::Args)]
pub struct TestSourceArgs {
    /// The file with the document
    pub file: PathBuf,
    /// A file with a payload as it would come; `-` is standard input
    #[arg(long, value_name = "FILE")]
    pub payload: Option<PathBuf>,
    #[command(flatten)]
    pub server: Server,
    #[command(flatten)]
    pub output: Output,
}

#[derive(Debug, Subcommand)]
pub enum SourceCommand {
    #[command(flatten)]
    Named(Named),
    /// Print what a sender of it needs: lines to type, and scripts that try again
    #[command(after_help = "KEY in it is the secret of the source.

Examples:
  arvok source lines pier-probes
  arvok source lines pier-probes --only sh > /usr/local/bin/to-pier-probes")]
    Lines {
        /// The source
        name: String,
        /// Only the script for this language: `sh` or `python`
        #[arg(long, value_name = "LANGUAGE", value_parser = ["sh", "python"])]
        only: Option<String>,
        #[command(flatten)]
        server: Server,
        #[command(flatten)]
        output: Output,
    },
    /// Show what a source sends: kinds, and the fields of each
    #[command(after_help = "What was made up does not count. Values of masked fields and of \
        passwords and the like are not kept.

Examples:
  arvok source shape pier-probes
  arvok source shape pier-probes --kind web.page
  arvok source shape pier-probes --kind web.page --beside web.tls
  arvok source shape pier-probes --forget")]
    Shape(ShapeArgs),
    /// Show what comes of a source, as it comes: alerts, and what cannot be read
    #[command(after_help = "Until it is ended, with Ctrl-C. With --json each is a line of JSON.

Example:
  arvok source tail pier-probes --last 20")]
    Tail {
        /// The source
        name: String,
        /// How many that came before are shown first, at most 100
        #[arg(long, value_name = "NUMBER", default_value_t = 10,
            value_parser = clap::value_parser!(u32).range(0..=100))]
        last: u32,
        #[command(flatten)]
        server: Server,
        #[command(flatten)]
        output: Output,
    },
    /// Suggest lines of `read` by the payloads that are kept, each with the reason
    #[command(
        after_help = "A source without `read` keeps what comes; these lines are made of that.

Example:
  arvok source suggest pier-probes"
    )]
    Suggest {
        /// The source
        name: String,
        #[command(flatten)]
        server: Server,
        #[command(flatten)]
        output: Output,
    },
    /// Try the document of a source on payloads, before it is published
    #[command(after_help = "Nothing is recorded. Without a payload it is tried on the newest 20 \
        that are kept of the source.

Examples:
  arvok source test definitions/pier-probes.yaml
  arvok source test definitions/pier-probes.yaml --payload payload.json")]
    Test(TestSourceArgs),
    /// Print names of objects, for notifications over SNMP, by MIB files
    #[command(
        after_help = "Needs no server. Named are the notifications that the files define, and \
        the objects that these carry.

Example:
  arvok source mib IF-MIB.txt SKERROW-PUMP-MIB.txt"
    )]
    Mib {
        /// The files, in any order
        #[arg(required = true)]
        files: Vec<PathBuf>,
        /// All objects that they define
        #[arg(long)]
        all: bool,
        #[command(flatten)]
        output: Output,
    },
    /// Read again what is kept, by the lines as they are published now
    #[command(
        after_help = "What can be read now is taken as if it came now. Asking twice takes nothing \
            twice. What came more than
15 minutes ago is recorded, and no rule decides about it.

Examples:
  arvok source retry pier-probes
  arvok source retry pier-probes --acting"
    )]
    Retry {
        /// The source
        name: String,
        /// Rules decide about old payloads as well
        #[arg(long)]
        acting: bool,
        #[command(flatten)]
        server: Server,
        #[command(flatten)]
        output: Output,
    },
}

#[derive(Debug, Subcommand)]
pub enum RunbookCommand {
    #[command(flatten)]
    Named(Named),
    /// List the ready-made runbooks, or print one; no server needed
    #[command(after_help = "Examples:
  arvok runbook library
  arvok runbook library grow-disk")]
    Library {
        /// The one to print
        name: Option<String>,
        #[command(flatten)]
        output: Output,
    },
    /// Print a copy of a ready-made runbook, to be changed and published; no server needed
    #[command(
        after_help = "Comments and everything else stay as they are. The copy remembers what it \
            was copied from, so that the
console can compare the two.

Examples:
  arvok runbook copy grow-disk --as grow-our-disks --via yard-hypervisor=our-cluster > definitions/disks.yaml
  arvok runbook copy close-the-loop --with-needs > definitions/loop.yaml"
    )]
    Copy {
        /// The ready-made runbook
        name: String,
        /// The name of the copy; the same if left out
        #[arg(long = "as", value_name = "NAME")]
        own: Option<String>,
        /// Call this connection instead of that one
        #[arg(long, value_name = "THAT=THIS")]
        via: Vec<String>,
        /// Also the connections and runbooks that it needs
        #[arg(long)]
        with_needs: bool,
    },
    /// Try one step of a runbook by itself: what only looks is done, anything else is shown
    #[command(after_help = "Examples:
  arvok runbook try grow-disk --step look --input vm=vm/quill-booking-db-1
  arvok runbook try mine.yaml --step grow --input vm=vm/quill-booking-db-1 \\
    --output 'look={\"fullest\": {\"name\": \"data\", \"size_gib\": 40}}'")]
    Try(Box<TryStepArgs>),
    /// Show what runs of a runbook remember of their targets
    #[command(after_help = "Examples:
  arvok runbook memory open-new-fares
  arvok runbook memory open-new-fares --target service/fares --history")]
    Memory {
        /// The runbook
        name: String,
        /// Of this target
        #[arg(long)]
        target: Option<String>,
        /// Also what was remembered before, with the jobs that wrote it
        #[arg(long)]
        history: bool,
        #[command(flatten)]
        paging: Paging,
        #[command(flatten)]
        server: Server,
        #[command(flatten)]
        output: Output,
    },
    /// Forget what runs of a runbook remember of a target: the next finds what the first did
    #[command(after_help = "Example:
  arvok runbook forget open-new-fares service/fares --reason 'begins anew'")]
    Forget {
        /// The runbook
        name: String,
        /// The target
        target: String,
        /// Why
        #[arg(long)]
        reason: String,
        #[command(flatten)]
        server: Server,
    },
}

#[derive(Debug, ClapArgs)]
pub struct TryStepArgs {
    /// A file with the runbook, or the name of a published one
    pub of: String,
    /// The id of the step
    #[arg(long, value_name = "ID")]
    pub step: String,
    /// Of a file with several the name of one
    #[arg(long, value_name = "NAME")]
    pub runbook: Option<String>,
    /// An input as NAME=VALUE; a value is JSON, or a text
    #[arg(long, value_name = "NAME=VALUE")]
    pub input: Vec<String>,
    /// What another step gave, by its id, or an item of a list that it stands in, by its name
    #[arg(long, value_name = "STEP=JSON")]
    pub output: Vec<String>,
    /// The alert that the job would be about
    #[arg(long, value_name = "ALERT")]
    pub alert: Option<i64>,
    #[command(flatten)]
    pub server: Server,
    #[command(flatten)]
    pub shown: Output,
}

#[derive(Debug, Subcommand)]
pub enum Named {
    /// List them
    List {
        #[command(flatten)]
        server: Server,
        #[command(flatten)]
        output: Output,
    },
    /// Show one with its text and how it has fared
    Show {
        /// Its name
        name: String,
        #[command(flatten)]
        server: Server,
        #[command(flatten)]
        output: Output,
    },
    #[command(flatten)]
    Versioned(Versioned),
}

#[derive(Debug, Subcommand)]
pub enum Versioned {
    /// List the versions of one, each with what it changed; or print one of them
    Versions {
        /// Its name
        name: String,
        /// The version to print
        #[arg(long, value_name = "N")]
        version: Option<i32>,
        #[command(flatten)]
        server: Server,
        #[command(flatten)]
        output: Output,
    },
    /// Edit one with VISUAL or EDITOR and publish it: shows what would change, and asks
    Edit {
        /// Its name
        name: String,
        /// Do not ask
        #[arg(long)]
        yes: bool,
        #[command(flatten)]
        server: Server,
    },
    /// Publish an earlier version once more: shows what would change, and asks
    Restore {
        /// Its name
        name: String,
        /// The version
        version: i32,
        /// Do not ask
        #[arg(long)]
        yes: bool,
        /// Only show what would change
        #[arg(long, conflicts_with = "yes")]
        dry_run: bool,
        #[command(flatten)]
        server: Server,
        #[command(flatten)]
        output: Output,
    },
}
