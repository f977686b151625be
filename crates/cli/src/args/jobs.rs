//! What `job` takes.

use super::{ById, Output, Paging, Server, Window};
use arvok_core::rule;
use clap::{Args, Subcommand, ValueEnum};

#[derive(Debug, Subcommand)]
pub enum JobCommand {
    /// List jobs, newest first
    List {
        /// States, separated by commas
        #[arg(long)]
        state: Option<String>,
        /// With this effect: confirmed, unconfirmed or "not checked"
        #[arg(long)]
        effect: Option<String>,
        /// Of this runbook
        #[arg(long)]
        runbook: Option<String>,
        /// Dispatched by this rule
        #[arg(long)]
        rule: Option<String>,
        /// On this target
        #[arg(long)]
        target: Option<String>,
        /// Launched by this person or program, by the name of its token
        #[arg(long)]
        by: Option<String>,
        /// Held by this guard
        #[arg(long, value_name = "GUARD")]
        held_by: Option<String>,
        #[command(flatten)]
        window: Window,
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
    /// Launch a runbook; what it would do is shown first
    #[command(after_help = "Example:
  arvok job launch grow-disk --input vm=vm/quill-report-2 --input step_gib=8 --dry-run")]
    Launch {
        /// The runbook
        runbook: String,
        /// The alert that it is about; its alarm proves the effect
        #[arg(long)]
        alert: Option<i64>,
        #[command(flatten)]
        asked: LaunchArgs,
        #[command(flatten)]
        server: Server,
    },
    /// Launch what a job was launched with once more, with other inputs if some are given
    #[command(after_help = "Example:
  arvok job again 12 --from-failed --dry-run     what stands, and with which step it would begin")]
    Again {
        /// The number of the job
        id: i64,
        /// Go on from where it failed: what it did stands, unless it was taken back or a step's
        /// probe says otherwise
        #[arg(long, conflicts_with_all = ["input", "urgency", "deadline", "key"])]
        from_failed: bool,
        #[command(flatten)]
        asked: LaunchArgs,
        #[command(flatten)]
        server: Server,
    },
    /// Have a job begin in spite of the guard that holds it; other guards are asked still
    #[command(after_help = "Example:
  arvok job overrule 12 --guard booking-one-by-one --reason 'the second one is dark anyway'")]
    Overrule {
        /// Its number
        id: i64,
        /// The guard that holds it
        #[arg(long, value_name = "NAME")]
        guard: String,
        /// Why, for those who wonder
        #[arg(long)]
        reason: String,
        #[command(flatten)]
        server: Server,
    },
    /// Say what became of the step that left a job unsure
    #[command(after_help = "Example:
  arvok job resolve 12 --as done       it was done; go on behind it
  arvok job resolve 12 --as done --output '{\"size_gib\": 48}'")]
    Resolve {
        /// Its number
        id: i64,
        /// What became of the step
        #[arg(long = "as", value_name = "WHAT")]
        word: Became,
        /// The place of the step, such as pool[3].grow; needed only if several are unsure
        #[arg(long, value_name = "PLACE")]
        step: Option<String>,
        /// What it gave, as JSON, for later steps that read it
        #[arg(long, value_name = "JSON")]
        output: Option<String>,
        /// How that is known, for those who read it later
        #[arg(long)]
        why: Option<String>,
        #[command(flatten)]
        server: Server,
    },
    /// Set jobs that ended badly aside from what needs a person; earlier ones of the same runbook
    /// and target go with them
    Seen {
        /// Their numbers
        #[arg(required = true)]
        ids: Vec<i64>,
        /// Set them back
        #[arg(long)]
        undo: bool,
        #[command(flatten)]
        server: Server,
    },
    /// Hold a job: what is under way comes to its end, and no further step is begun
    Pause {
        /// Its number
        id: i64,
        /// Why, for those who read it later
        #[arg(long)]
        why: Option<String>,
        #[command(flatten)]
        server: Server,
    },
    /// Let a job go on that was held
    Resume {
        /// Its number
        id: i64,
        #[command(flatten)]
        server: Server,
    },
    /// Stop a job: what is under way comes to its end, and what its runbook always does is done
    #[command(after_help = "Example:
  arvok job cancel 12 --undo --why 'the wrong host'")]
    Cancel {
        /// Its number
        id: i64,
        /// Take back what was done, as far as the runbook says how
        #[arg(long)]
        undo: bool,
        /// Why, for those who read it later
        #[arg(long)]
        why: Option<String>,
        #[command(flatten)]
        server: Server,
    },
}

#[derive(Clone, Copy, Debug, ValueEnum)]
pub enum Became {
    /// It was done; go on behind it
    Done,
    /// It was not done; do it again
    Again,
    /// The job ends here as failed
    Failed,
}

/// How a runbook is launched.
#[derive(Debug, Args)]
pub struct LaunchArgs {
    /// An input as NAME=VALUE; a value is JSON, or a text, or @FILE for what a file holds. On a
    /// terminal what is missing is asked for
    #[arg(long, value_name = "NAME=VALUE")]
    pub input: Vec<String>,
    /// How urgent it is
    #[arg(long, value_enum)]
    pub urgency: Option<Urgency>,
    /// It expires if it was not started within this time, such as 10m
    #[arg(long, value_name = "TIME")]
    pub deadline: Option<String>,
    /// Why, for those who read it later
    #[arg(long)]
    pub why: Option<String>,
    /// The same launch sent twice with the same key makes one job
    #[arg(long)]
    pub key: Option<String>,
    /// Only show what would be done
    #[arg(long)]
    pub dry_run: bool,
    /// Do not ask
    #[arg(long)]
    pub yes: bool,
    /// Follow the job until it ends; exits with 1 if it did not succeed
    #[arg(long, conflicts_with = "dry_run")]
    pub follow: bool,
    #[command(flatten)]
    pub output: Output,
}

#[derive(Clone, Copy, Debug, ValueEnum)]
pub enum Urgency {
    Low,
    Normal,
    High,
    Urgent,
}

impl From<Urgency> for rule::Urgency {
    fn from(urgency: Urgency) -> Self {
        match urgency {
            Urgency::Low => Self::Low,
            Urgency::Normal => Self::Normal,
            Urgency::High => Self::High,
            Urgency::Urgent => Self::Urgent,
        }
    }
}

#[derive(Debug, Subcommand)]
pub enum DecisionCommand {
    /// List decisions that wait for a person, the most pressing first
    List {
        /// Also those that are over, newest first
        #[arg(long)]
        all: bool,
        /// Wait until there is one, for a minute at most
        #[arg(long)]
        wait: bool,
        #[command(flatten)]
        paging: Paging,
        #[command(flatten)]
        server: Server,
        #[command(flatten)]
        output: Output,
    },
    /// Show one decision: what is asked, what may be chosen, what became of it
    Show(ById),
    /// Take a decision; its job goes on
    #[command(after_help = "Example:
  arvok decision take 3 rollback --remark \"fares are wrong since 02:10\"")]
    Take {
        /// Its number
        id: i64,
        /// The name of a choice
        choice: String,
        /// Anything that those who read it later should know
        #[arg(long)]
        remark: Option<String>,
        #[command(flatten)]
        server: Server,
    },
}
