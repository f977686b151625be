//! The words of the command. Help, completions and the reference come from here alone.

use crate::error::EXIT_CODES;
use clap::{Args as ClapArgs, Parser, Subcommand, ValueEnum};
use clap_complete::Shell;
use std::path::PathBuf;

const EXAMPLES: &str = "Examples:
  arvok demo                       play with a made-up ferry operator
  arvok serve                      run the service, with a database of its own
  arvok check definitions/         check definitions, no server needed
  arvok publish definitions/       show what would change, then publish
  arvok alert list --severity major
  arvok job follow 12";

/// Event rules, remediation jobs, and proof that they helped.
#[derive(Debug, Parser)]
#[command(name = "arvok", version, max_term_width = 100, after_help = format!("{EXAMPLES}\n\n{EXIT_CODES}"))]
pub struct Args {
    #[command(subcommand)]
    pub command: Command,
}

#[derive(Debug, Subcommand)]
pub enum Command {
    /// Run the service
    #[command(after_help = "Settings come from arvok.toml, then from the environment: ARVOK_LISTEN, ARVOK_DATABASE,
ARVOK_DATA, ARVOK_DATABASE_CONNECTIONS, ARVOK_JOBS_AT_ONCE, ARVOK_SETTING_<NAME>. Without a
database address a private PostgreSQL is started in the data folder.

Example:
  ARVOK_DATABASE=postgres://arvok:...@db/arvok arvok serve --config /etc/arvok.toml")]
    Serve {
        /// The file of settings; arvok.toml here, if there is one
        #[arg(long, value_name = "FILE")]
        config: Option<PathBuf>,
    },
    /// Play the night of a made-up ferry operator
    #[command(
        after_help = "Starts a private PostgreSQL, stand-ins for a hypervisor yard and a crew chat, and one node, all on
loopback, and plays until Ctrl-C.

Examples:
  arvok demo --once                play to the end, report, and stop
  arvok demo --once --kill-node    the same, with the node killed in the middle of the job"
    )]
    Demo {
        /// Play to the end, report, and stop
        #[arg(long)]
        once: bool,
        /// Kill the node without warning while the job runs, and start it again
        #[arg(long)]
        kill_node: bool,
        /// The folder of the demo's data
        #[arg(long, value_name = "DIR", default_value = "arvok-demo")]
        data: PathBuf,
        /// The port of the node; the next free one if it is taken
        #[arg(long, default_value_t = 8470)]
        port: u16,
    },
    /// Run a stand-in by itself, to play with
    #[command(subcommand)]
    Standin(Standin),
    /// Check definitions, without a server
    #[command(after_help = "Example:
  arvok check definitions/ && git commit")]
    Check {
        /// Files, or folders whose .yaml, .yml and .json files are read
        #[arg(required = true)]
        paths: Vec<PathBuf>,
        #[command(flatten)]
        output: Output,
    },
    /// Publish definitions: shows what would change, and asks
    #[command(after_help = "Example:
  arvok publish definitions/ --yes     in a script")]
    Publish {
        /// Files, or folders whose .yaml, .yml and .json files are read
        #[arg(required = true)]
        paths: Vec<PathBuf>,
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
    /// Withdraw definitions: shows what would end, and asks
    #[command(
        after_help = "What a withdrawn rule waits for and proposes ends with it. What others need stays: withdraw them first,
or together.

Example:
  arvok withdraw rule booking-disk-filling"
    )]
    Withdraw {
        /// source, rule, runbook, connector or connection
        kind: String,
        /// Their names
        #[arg(required = true)]
        names: Vec<String>,
        /// Do not ask
        #[arg(long)]
        yes: bool,
        /// Only show what would end
        #[arg(long, conflicts_with = "yes")]
        dry_run: bool,
        #[command(flatten)]
        server: Server,
        #[command(flatten)]
        output: Output,
    },
    /// Send an alert: from flags, or a payload from a file or standard input
    #[command(
        after_help = "From flags the alert is sent in the normal form, whatever the source expects from its own sender.
A payload from a file or standard input is sent as it is, and read as the source says.

Examples:
  arvok send yard-hypervisor --kind disk.usage --resource vm/quill-booking-db-1 --severity major --value 91
  df --output=pcent / | to-json | arvok send yard-hypervisor -
  arvok send yard-hypervisor reading.json --spool /var/spool/arvok/yard"
    )]
    Send(Box<Send>),
    /// Alerts: what came
    #[command(subcommand)]
    Alert(AlertCommand),
    /// Alarms: what stands
    #[command(subcommand)]
    Alarm(AlarmCommand),
    /// Rules: which alerts lead to which job
    #[command(subcommand)]
    Rule(RuleCommand),
    /// Proposals: jobs that wait for a person to launch them
    #[command(subcommand)]
    Proposal(ProposalCommand),
    /// Runbooks: the steps of jobs
    #[command(subcommand)]
    Runbook(Named),
    /// Sources: where alerts come from
    #[command(subcommand)]
    Source(Named),
    /// Connections: outside systems that are acted on
    #[command(subcommand)]
    Connection(Named),
    /// Jobs: what is being done
    #[command(subcommand)]
    Job(JobCommand),
    /// Nodes: who does the work, and what waits for them
    #[command(subcommand)]
    Node(NodeCommand),
    /// Storage: how much is kept, and for how long
    #[command(subcommand)]
    Storage(StorageCommand),
    /// Secrets: set, list by name, remove
    #[command(subcommand)]
    Secret(SecretCommand),
    /// Tokens: make, list, revoke
    #[command(subcommand)]
    Token(TokenCommand),
    /// Remember a server and a token for this user
    #[command(after_help = "The token is read from standard input, so that it does not stand in the shell's history.

Example:
  arvok login http://127.0.0.1:8470 < arvok-data/admin.token")]
    Login {
        /// The server's address
        address: String,
    },
    /// Print the JSON Schema of a kind of document, for editors; or the description of the API
    Schema {
        /// source, rule, runbook, connector or connection; api for the OpenAPI document
        kind: String,
    },
    /// Print completions for a shell
    #[command(after_help = "Example:
  arvok completions bash > /etc/bash_completion.d/arvok")]
    Completions {
        /// The shell
        shell: Shell,
    },
}

/// Which server, and what it is shown.
#[derive(Clone, Debug, ClapArgs)]
pub struct Server {
    /// The server's address; that of `arvok login` if left out
    #[arg(long, env = "ARVOK_SERVER", value_name = "URL")]
    pub server: Option<String>,
    /// The token; that of `arvok login` if left out
    #[arg(long, env = "ARVOK_TOKEN", value_name = "TOKEN", hide_env_values = true)]
    pub token: Option<String>,
}

/// How results are printed.
#[derive(Clone, Copy, Debug, ClapArgs)]
pub struct Output {
    /// Print JSON, for programs
    #[arg(long)]
    pub json: bool,
}

#[derive(Debug, Subcommand)]
pub enum Standin {
    /// A yard of hypervisors with its monitor
    Yard {
        /// The port of loopback
        #[arg(long, default_value_t = 7401)]
        port: u16,
        /// What callers must show
        #[arg(long, env = "ARVOK_YARD_TOKEN", default_value = "yard", hide_env_values = true)]
        token: String,
        /// Where its monitor posts
        #[arg(long, value_name = "URL", requires = "report_token")]
        report_to: Option<String>,
        /// What the monitor shows there
        #[arg(long, env = "ARVOK_YARD_REPORT_TOKEN", hide_env_values = true)]
        report_token: Option<String>,
    },
    /// A chat that keeps messages
    Chat {
        /// The port of loopback
        #[arg(long, default_value_t = 7402)]
        port: u16,
        /// What callers must show
        #[arg(long, env = "ARVOK_CHAT_TOKEN", default_value = "chat", hide_env_values = true)]
        token: String,
    },
}

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

/// How much of a list.
#[derive(Clone, Debug, ClapArgs)]
pub struct Paging {
    /// How many, newest first
    #[arg(long, default_value_t = 30, value_parser = clap::value_parser!(u16).range(1..=500))]
    pub limit: u16,
    /// Go on behind this one, from the end of the page before
    #[arg(long)]
    pub after: Option<i64>,
}

#[derive(Debug, Subcommand)]
pub enum AlertCommand {
    /// List alerts, newest first
    #[command(after_help = "Example:
  arvok alert list --verdict unmatched --severity major")]
    List {
        /// Of this source
        #[arg(long)]
        source: Option<String>,
        /// Of this kind
        #[arg(long)]
        kind: Option<String>,
        /// At least this severe
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
        /// With this verdict; `matched` for any, `held` for what is held back, `unmatched` for none
        #[arg(long)]
        verdict: Option<String>,
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
pub enum RuleCommand {
    #[command(flatten)]
    Named(Named),
    /// Say clause by clause why a rule matches an alert or not, and what it decides
    #[command(
        after_help = "RULE is the name of a published rule, or a file with a rule that was not published. An alert
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
    #[command(after_help = "RULE is the name of a published rule, or a file with a rule, published or not. Nothing is
changed by it. Ctrl-C ends it. With --alerts and a file no server is needed.

Examples:
  arvok rule rehearse rules/disks.yaml --rule booking-disk-filling --since 7d --against published
  arvok alert list --limit 500 --json | jq -c '.items[]' > night.jsonl
  arvok rule rehearse rules/disks.yaml --rule booking-disk-filling --alerts night.jsonl")]
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
    /// List the versions of a rule, each with what it changed
    Versions {
        /// The rule
        rule: String,
        #[command(flatten)]
        server: Server,
        #[command(flatten)]
        output: Output,
    },
    /// Write an example for a rule's file from what really happened
    #[command(after_help = "Example:
  arvok rule example --from-alert 41 >> rules/disks.yaml")]
    Example {
        /// The alert's number
        #[arg(long, value_name = "ID")]
        from_alert: i64,
        /// The rule; the first that matches the alert if left out
        #[arg(long)]
        rule: Option<String>,
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
    Launch {
        /// Its number
        id: i64,
        /// Why
        #[arg(long)]
        note: Option<String>,
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

#[derive(Debug, Subcommand)]
pub enum AlarmCommand {
    /// List the alarms that stand
    List {
        /// Those that are over too
        #[arg(long)]
        all: bool,
        /// Of this source
        #[arg(long)]
        source: Option<String>,
        #[command(flatten)]
        paging: Paging,
        #[command(flatten)]
        server: Server,
        #[command(flatten)]
        output: Output,
    },
    /// Show one alarm with its alerts and jobs
    Show(ById),
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
}

#[derive(Debug, Subcommand)]
pub enum JobCommand {
    /// List jobs, newest first
    List {
        /// States, separated by commas
        #[arg(long)]
        state: Option<String>,
        /// Of this runbook
        #[arg(long)]
        runbook: Option<String>,
        /// Dispatched by this rule
        #[arg(long)]
        rule: Option<String>,
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
    /// Show one job: inputs, steps, what each gave, the effect
    Show(ById),
    /// Follow a job until it ends; exits with 1 if it did not succeed
    Follow(ById),
    /// Say what became of the step that left a job unsure
    #[command(after_help = "Example:
  arvok job settle 12 --as done        it was done; go on behind it")]
    Settle {
        /// Its number
        id: i64,
        /// What became of the step
        #[arg(long = "as", value_name = "WHAT")]
        verdict: Settlement,
        #[command(flatten)]
        server: Server,
    },
}

#[derive(Clone, Copy, Debug, ValueEnum)]
pub enum Settlement {
    /// It was done; go on behind it
    Done,
    /// It was not done; do it again
    Again,
    /// The job ends here as failed
    Failed,
}

#[derive(Debug, ClapArgs)]
pub struct ById {
    /// Its number
    pub id: i64,
    #[command(flatten)]
    pub server: Server,
    #[command(flatten)]
    pub output: Output,
}

#[derive(Debug, Subcommand)]
pub enum SecretCommand {
    /// Set or replace a secret; the value is read from standard input
    #[command(after_help = "It goes nowhere but where --for says. Without --for it goes where it went before.

Example:
  arvok secret set yard-office --for connection/yard < /run/secrets/yard-office")]
    Set {
        /// Its name
        name: String,
        /// Where it may go: connection/NAME or source/NAME; may be given several times
        #[arg(long = "for", value_name = "KIND/NAME")]
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
pub enum NodeCommand {
    /// List the nodes over the database with lag, leases and clocks, and what waits for them
    List {
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
