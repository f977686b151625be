//! The words of the command. Help, completions and the reference come from here alone.

mod admin;
mod alerts;
mod connections;
mod contacts;
mod demo;
mod guards;
mod jobs;
mod mutes;
mod plans;
mod rules;
mod runners;
mod subscribers;
mod trials;

pub use admin::{
    AuditCommand, AutomateArgs, ConfigCommand, HaltCommand, NodeCommand, SecretCommand,
    StorageCommand, TokenCommand,
};
pub use alerts::{AlarmCommand, AlertCommand, Send};
pub use connections::ConnectionCommand;
pub use contacts::ContactCommand;
pub use demo::{OfPort, Scene, Standin, WatchedPort};
pub use guards::GuardCommand;
pub use jobs::{Became, DecisionCommand, JobCommand, LaunchArgs};
pub use mutes::{BeginMute, MuteCommand};
pub use plans::PlanCommand;
pub use rules::{
    Against, Named, ProposalCommand, RuleCommand, RunbookCommand, ShapeArgs, SourceCommand,
    TestSourceArgs, TryStepArgs, Versioned,
};
pub use runners::{RunRunner, RunnerArgs, RunnerCommand};
pub use subscribers::SubscriberCommand;
pub use trials::{Trial, TrialCommand, Walk};

use crate::error::EXIT_CODES;
use clap::{Args as ClapArgs, Parser, Subcommand};
use clap_complete::Shell;
use std::path::PathBuf;

const EXAMPLES: &str = "Examples:
  arvok demo                       play with a made-up ferry operator
  arvok serve                      run the service, with a database of its own
  arvok check definitions/         check definitions, no server needed
  arvok publish definitions/       show what would change, then publish
  arvok alert list --severity major
  arvok job follow 12";

/// What `serve --help` tells of settings.
fn serve_help() -> String {
    let one = |known: &arvok_service::SettingDescription| {
        let name = if known.variable.is_empty() { known.key } else { known.variable };
        format!("  {name}\n    {}: {}; {}", known.says, known.takes, known.usual)
    };
    let all: Vec<String> = arvok_service::SETTINGS.iter().map(one).collect();
    format!(
        "Settings come from arvok.toml, then from the environment, which wins; `arvok config list` \
        has the keys of the
file. With what each takes, and what counts where it is left out:
{}

SIGHUP reads the file again: settings, public_url and drain are taken over at once, the rest at the next
start.

Example:
  ARVOK_DATABASE=postgres://arvok:...@db/arvok arvok serve --config /etc/arvok.toml",
        all.join("\n")
    )
}

/// Event rules, remediation jobs, and proof that they helped.
#[derive(Debug, Parser)]
#[command(
    name = "arvok", version, max_term_width = 100, disable_help_subcommand = true,
    after_help = format!("{EXAMPLES}\n\n{EXIT_CODES}")
)]
pub struct Args {
    #[command(subcommand)]
    pub command: Command,
    /// Never cut values in tables; in a pipe they are never cut
    #[arg(long, global = true)]
    pub wide: bool,
}

#[derive(Debug, Subcommand)]
pub enum Command {
    /// Run the service
    #[command(after_help = serve_help())]
    Serve {
        /// The file of settings; arvok.toml here, if there is one
        #[arg(long, value_name = "FILE")]
        config: Option<PathBuf>,
        /// Make a new token of role admin, for whoever holds the machine: nobody else may be left
        /// who can
        #[arg(long)]
        recover: bool,
        /// Take the key in the data folder as that of the installation: the one before is lost, and
        /// secrets that were sealed with it are to be set again
        #[arg(long)]
        new_key: bool,
        /// Begin with all jobs halted, as after a restore: look and resolve first, then `arvok halt
        /// lift`
        #[arg(long)]
        hold_jobs: bool,
    },
    /// Play the night of a made-up ferry operator
    #[command(
        after_help = "Starts a private PostgreSQL, stand-ins for all that the ferry operator has, \
            and one node, all on
loopback, and plays until Ctrl-C.

Examples:
  arvok demo --once                play to the end, report, and stop
  arvok demo --once --kill-node    the same, with the node killed in the middle of the job
  arvok demo --once --real         the same, and over SSH and libvirt, with servers of this machine"
    )]
    Demo {
        /// Play to the end, report, and stop
        #[arg(long)]
        once: bool,
        /// Play one scene alone
        #[arg(long, value_enum)]
        scene: Option<Scene>,
        /// Kill the node without warning while the first job runs, and start it again
        #[arg(long)]
        kill_node: bool,
        /// Start sshd and libvirtd as well, at ports of their own on loopback, and play what is
        /// done over them; needs Debian's openssh-server, and libvirt-daemon for guests
        #[arg(long)]
        real: bool,
        /// The folder of the demo's data
        #[arg(long, value_name = "DIR", default_value = "arvok-demo")]
        data: PathBuf,
        /// The port of the node; the next free one if it is taken
        #[arg(long, default_value_t = 8470)]
        port: u16,
        #[command(flatten)]
        output: Output,
    },
    /// Run a stand-in by itself, to play with
    #[command(subcommand)]
    Standin(Standin),
    /// Check definitions, without a server, or beside what is published on one
    #[command(after_help = "Examples:
  arvok check definitions/ && git commit
  arvok check rules/disks.yaml --against published     names defined elsewhere are known")]
    Check {
        /// Files, or folders whose .yaml, .yml and .json files are read; - for standard input
        #[arg(required = true)]
        paths: Vec<PathBuf>,
        /// Show every warning, and not ten of each kind
        #[arg(long)]
        all_warnings: bool,
        /// Check beside what the server has: takes a token of role author
        #[arg(long, value_name = "WHAT")]
        against: Option<Against>,
        #[command(flatten)]
        server: Server,
        #[command(flatten)]
        output: Output,
    },
    /// Publish definitions: shows what would change, and asks
    #[command(after_help = "Examples:
  arvok publish definitions/ --yes             in a script
  arvok publish definitions/ --prune           what is no more in the folder is withdrawn")]
    Publish {
        /// Files, or folders whose .yaml, .yml and .json files are read; - for standard input
        #[arg(required = true)]
        paths: Vec<PathBuf>,
        /// Do not ask
        #[arg(long)]
        yes: bool,
        /// Only show what would change
        #[arg(long, conflicts_with = "yes")]
        dry_run: bool,
        /// Withdraw what was published from these folders and is no more in them; what came from
        /// elsewhere stays
        #[arg(long)]
        prune: bool,
        /// Show every warning, and not ten of each kind
        #[arg(long)]
        all_warnings: bool,
        #[command(flatten)]
        server: Server,
        #[command(flatten)]
        output: Output,
    },
    /// Withdraw definitions: shows what would end, and asks
    #[command(
        after_help = "What a withdrawn rule waits for and proposes ends with it. What others need \
            stays: withdraw them first,
or together.

Example:
  arvok withdraw rule booking-disk-filling"
    )]
    Withdraw {
        /// source, rule, runbook, step, connector, connection, subscriber, contact, calendar,
        /// group, guard or plan
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
        after_help = "From flags the alert is sent in the normal form, whatever the source expects \
            from its own sender.
A payload from a file or standard input is sent as it is, and read as the source says.
What is sent with a token is a trial unless it says --for-real.

Examples:
  arvok send yard-hypervisor --kind disk.usage --resource vm/quill-booking-db-1 --severity major --value 91
  df --output=pcent / | to-json | arvok send yard-hypervisor - --for-real
  arvok send yard-hypervisor reading.json --for-real --spool /var/spool/arvok/yard"
    )]
    Send(Box<Send>),
    /// Make up an alert and walk through all that would follow from it, without acting
    #[command(
        after_help = "What only looks is done, all else is planned and shown as `would send`;             nobody is asked or told.
Of a trial nothing is counted, and its alarm is no real one.

Examples:
  arvok trial yard-hypervisor --like 41 --set value=95
  arvok trial yard-hypervisor --set kind=disk.usage --set resource=vm/quill-booking-db-1 --set severity=major
  arvok trial yard-hypervisor reading.json
  arvok trial clear"
    )]
    Trial(Box<Trial>),
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
    /// Decisions: questions that jobs put to people
    #[command(subcommand)]
    Decision(DecisionCommand),
    /// Runbooks: the steps of jobs
    #[command(subcommand)]
    Runbook(RunbookCommand),
    /// Sources: where alerts come from
    #[command(subcommand)]
    Source(SourceCommand),
    /// Connections: outside systems that are acted on
    #[command(subcommand)]
    Connection(ConnectionCommand),
    /// Connectors: what can be asked of outside systems
    #[command(subcommand)]
    Connector(Named),
    /// Contacts: persons and teams whom messages reach, and who is on duty
    #[command(subcommand)]
    Contact(ContactCommand),
    /// Subscribers: where events of jobs and decisions go
    #[command(subcommand)]
    Subscriber(SubscriberCommand),
    /// Jobs: what is being done
    #[command(subcommand)]
    Job(JobCommand),
    /// Plans: runbooks that run by themselves at times, with what is to come and what was
    #[command(subcommand)]
    Plan(PlanCommand),
    /// Shared steps: steps with inputs of their own, which runbooks use
    #[command(subcommand)]
    Step(Named),
    /// Calendars: times that guards, plans and hours of people follow, and which events come
    #[command(subcommand)]
    Calendar(Named),
    /// Groups: resources under one name
    #[command(subcommand)]
    Group(Named),
    /// Guards: limits that hold for all jobs, and what they hold
    #[command(subcommand)]
    Guard(GuardCommand),
    /// Mutes: keep rules from acting on something for a time
    #[command(subcommand)]
    Mute(MuteCommand),
    /// The halt: stop all jobs from being begun, on all nodes
    #[command(subcommand)]
    Halt(HaltCommand),
    /// Nodes: who does the work, and what waits for them
    #[command(subcommand)]
    Node(NodeCommand),
    /// Runners: make the calls of connections near where they go
    #[command(
        after_help = "Without a verb it is a runner: it opens connections to the server alone, \
            makes the calls of
connections that are `through` its labels, and ends with Ctrl-C or SIGTERM when those under way have
ended.

Examples:
  arvok runner add nessfold-1 --labels site=nessfold > nessfold-1.token
  arvok runner --server https://arvok.quill.example --token-file nessfold-1.token
  arvok runner list"
    )]
    Runner(RunnerArgs),
    /// The audit: what was done with tokens, secrets, definitions and retention, and who was
    /// refused
    #[command(subcommand)]
    Audit(AuditCommand),
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
    #[command(
        after_help = "The token is read from a file or from standard input, so that it does not \
            stand in the shell's
history.

Example:
  arvok login http://127.0.0.1:8470 --token-file arvok-data/admin.token --wait
  arvok login https://arvok.quill.example --name quill < quill.token"
    )]
    Login {
        /// The server's address
        address: String,
        /// What it is called here, for --profile; it is the one that is meant from now on
        #[arg(long, default_value = crate::login::USUAL)]
        name: String,
        /// The file that holds the token; standard input if left out
        #[arg(long, value_name = "FILE")]
        token_file: Option<PathBuf>,
        /// Wait until the server is ready and the file is there, for a minute at most
        #[arg(long)]
        wait: bool,
    },
    /// Forget a server and its token that `arvok login` remembers
    Logout {
        /// What it is called; the one that is meant at present if left out
        name: Option<String>,
    },
    /// Profiles: the servers that `arvok login` remembers, and which of them is meant
    #[command(subcommand)]
    Profile(ProfileCommand),
    /// Show how the server is: who you are there, whether it is ready, what needs somebody
    Status {
        #[command(flatten)]
        server: Server,
        #[command(flatten)]
        output: Output,
    },
    /// Settings of a node: which there are, and which count on this machine
    #[command(subcommand)]
    Config(ConfigCommand),
    /// Look at all that a node on this machine needs: its address, folder, disk, database and key
    #[command(
        after_help = "Reads the settings as `arvok serve` does, changes nothing, and ends with 1 \
            if a node could not work.

Example:
  ARVOK_DATABASE=postgres://arvok:...@db/arvok arvok doctor"
    )]
    Doctor {
        /// The file of settings; arvok.toml here, if there is one
        #[arg(long, value_name = "FILE")]
        config: Option<PathBuf>,
        #[command(flatten)]
        output: Output,
    },
    /// Print the JSON Schema of a kind of document, for editors; or the description of the API
    Schema {
        /// source, rule, runbook, step, connector, connection, subscriber, contact, calendar,
        /// group, guard or plan; api for the OpenAPI document
        kind: String,
    },
    /// Print the help of a command, or a page for man
    #[command(after_help = "Examples:
  arvok help job launch
  arvok help --man job launch | man -l -
  arvok help --into /usr/local/share/man/man1     a page for each command")]
    Help {
        /// The words of the command; the whole if left out
        words: Vec<String>,
        /// As a page for man
        #[arg(long)]
        man: bool,
        /// Write the pages of all commands into this folder
        #[arg(long, value_name = "DIR", conflicts_with_all = ["words", "man"])]
        into: Option<PathBuf>,
    },
    /// Print completions for a shell
    #[command(after_help = "Example:
  arvok completions bash > /etc/bash_completion.d/arvok")]
    Completions {
        /// The shell
        shell: Shell,
    },
}

#[derive(Debug, Subcommand)]
pub enum ProfileCommand {
    /// List the servers that are remembered
    List {
        #[command(flatten)]
        output: Output,
    },
    /// Mean another server from now on
    Use {
        /// What it is called
        name: String,
    },
}

/// From when until when.
#[derive(Clone, Debug, ClapArgs)]
pub struct Window {
    /// Since then: a time such as 2026-11-25T14:00:00Z, or how long ago, such as 2h
    #[arg(long, value_name = "TIME")]
    pub since: Option<String>,
    /// Until then, in the same way
    #[arg(long, value_name = "TIME")]
    pub until: Option<String>,
}

/// Which server, and what it is shown.
#[derive(Clone, Debug, ClapArgs)]
pub struct Server {
    /// A server that `arvok login` remembers, by its name; the one that is meant at present if left
    /// out
    #[arg(long, env = "ARVOK_PROFILE", value_name = "NAME", conflicts_with = "server")]
    pub profile: Option<String>,
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

/// How much of a list, and for whom.
#[derive(Clone, Debug, ClapArgs)]
pub struct Paging {
    /// How many, newest first; or all of them
    #[arg(long, default_value = "30", value_name = "N|all")]
    pub limit: Most,
    /// Go on behind this one, from the end of the page before
    #[arg(long)]
    pub after: Option<i64>,
    /// Print an item on each line as it comes, for programs
    #[arg(long = "as", value_name = "FORM", value_enum, conflicts_with = "json")]
    pub form: Option<Form>,
}

/// How many items of a list.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Most {
    /// However many there are.
    All,
    /// So many at most.
    Number(u32),
}

impl std::str::FromStr for Most {
    type Err = String;

    fn from_str(text: &str) -> Result<Self, Self::Err> {
        match text.parse() {
            _ if text == "all" => Ok(Self::All),
            Ok(number @ 1..) => Ok(Self::Number(number)),
            _ => Err("a number from 1 on, or all".into()),
        }
    }
}

/// How items are printed one by one.
#[derive(Clone, Copy, Debug, PartialEq, Eq, clap::ValueEnum)]
pub enum Form {
    /// A JSON object on each line
    Lines,
    /// CSV (RFC 4180), with a line of names first; texts that a spreadsheet would take for formulas
    /// begin with an apostrophe
    Csv,
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
