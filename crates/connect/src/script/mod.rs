//! Scripts: runs what the core has planned, in a sandbox, and says how it ended.
//!
//! [`sandbox`] says what a script finds around itself, [`syscalls`] what the kernel refuses it,
//! [`process`] starts it and reads what it writes, [`usage`] watches what it uses. What holds where
//! is written down in the reference.

mod process;
mod sandbox;
mod syscalls;
mod usage;
mod user;

use crate::{
    LiveOutput,
    driver::{Called, unsent},
};
use arvok_core::{
    connector::{Answer, CallEnd, Failure, Hiding},
    script::{Limits, Script, ScriptEnd, ScriptResult, ScriptRun},
};
use process::{RunEnd, RunningScript};
use serde_json::{Map, Value};
use std::{
    collections::BTreeMap,
    path::{Path, PathBuf},
    time::Duration,
};
use user::OwnUser;

/// Bytes of what a script writes that people are shown.
const SHOWN: usize = 15 << 10;
/// How long the making of a sandbox is waited for where one is made to see that it can be.
const LOOK: Duration = Duration::from_secs(10);

/// What a node allows its scripts.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct ScriptRights {
    /// The interpreters, by name; none: it runs no scripts.
    pub interpreters: Vec<String>,
    /// Bytes of memory that one may ask for, with what it may write into its folder.
    pub memory: u64,
    /// Whether they may ask for the network.
    pub network: bool,
    /// The user as whom they run where the node runs as root.
    pub user: String,
    /// Folders that they find beside the system's own programs, to read.
    pub folders: Vec<PathBuf>,
}

/// A script to be run.
#[derive(Debug)]
pub struct ScriptCall<'a> {
    /// The script.
    pub script: &'a Script,
    /// What it is given.
    pub give: &'a Map<String, Value>,
    /// Secrets that it is handed, by the names by which it asks for them.
    pub secrets: &'a [(String, String)],
    /// How long it may run.
    pub timeout: Duration,
    /// Is shown what it writes while it runs.
    pub live: LiveOutput<'a>,
}

impl ScriptRights {
    /// Why scripts could not be run here, if anything is missing.
    pub fn missing(&self) -> Option<String> {
        let sandboxer = find(sandbox::PROGRAM).is_none().then(|| {
            format!(
                "scripts are kept apart by bubblewrap, and there is no `{}` here; install the \
                package `bubblewrap`",
                sandbox::PROGRAM
            )
        });
        let interpreter = || {
            let missing = self.interpreters.iter().find(|name| find(name).is_none())?;
            Some(format!("there is no interpreter `{missing}` in {}", sandbox::PATH.join(", ")))
        };
        sandboxer.or_else(interpreter).or_else(|| OwnUser::named(&self.user).err())
    }

    /// Whether a sandbox can be made here, by making one.
    ///
    /// # Errors
    /// Why not.
    pub async fn look(&self) -> Result<(), String> {
        self.missing().map_or(Ok(()), Err)?;
        let run = ScriptRun {
            interpreter: "sh".to_owned(),
            name: "look".to_owned(),
            code: "exit 0".to_owned(),
            files: BTreeMap::new(),
            input: String::new(),
            env: Vec::new(),
            network: false,
            limits: Limits::USUAL,
        };
        let user = OwnUser::named(&self.user)?;
        let made = sandbox::arrange(&run, &[], Path::new("/bin/sh"), &self.folders);
        let running = RunningScript::start(made.map_err(|e| e.to_string())?, user).await;
        let running = running.map_err(|e| e.to_string())?;
        match running.end(Vec::new(), LOOK, &run.limits, LiveOutput::NOBODY).await {
            RunEnd::Result(ScriptResult { end: ScriptEnd::Status(0), .. }) => Ok(()),
            RunEnd::Result(result) => Err(format!("a script in it ends with {:?}", result.end)),
            RunEnd::NotBegun(why) | RunEnd::Gone(why) => Err(why),
        }
    }

    /// The path of an interpreter, if it may be used and is there.
    fn interpreter(&self, name: &str) -> Result<PathBuf, String> {
        if !self.interpreters.iter().any(|allowed| allowed == name) {
            return Err(match self.interpreters.is_empty() {
                true => format!(
                    "this node runs no scripts; `interpreters = [\"{name}\"]` under [scripts] of \
                    its settings allows it"
                ),
                false => format!(
                    "this node runs no scripts of `{name}`, but of {}; [scripts] of its settings \
                    says which",
                    self.interpreters.join(", ")
                ),
            });
        }
        self.missing().map_or_else(
            || find(name).ok_or_else(|| format!("there is no interpreter `{name}`")),
            Err,
        )
    }

    /// Runs a script to its end; the end of what it wrote is kept for people.
    pub(crate) async fn run(
        &self,
        call: ScriptCall<'_>,
        hiding: Hiding<'_>,
        last: &mut Option<Answer>,
    ) -> Result<Called, Failure> {
        let run = call.script.run(call.give).map_err(|e| unsent(e.to_string()))?;
        let interpreter = self.interpreter(&run.interpreter).map_err(unsent)?;
        if run.network && !self.network {
            let why = "the script asks for the network, and this node gives it to none; `network \
                = true` under [scripts] of its settings allows it";
            return Err(unsent(why.to_owned()));
        }
        let asked = run.limits.memory + run.limits.disk;
        if asked > self.memory {
            return Err(unsent(format!(
                "the script may use {} MiB with its folder, and this node gives {} at most; \
                `memory_mib` under [scripts] of its settings says so",
                asked >> 20,
                self.memory >> 20
            )));
        }
        let user = OwnUser::named(&self.user).map_err(unsent)?;
        let sandbox = sandbox::arrange(&run, call.secrets, &interpreter, &self.folders)
            .map_err(|e| unsent(format!("its sandbox cannot be prepared: {e}")))?;
        let running = RunningScript::start(sandbox, user)
            .await
            .map_err(|e| unsent(format!("it cannot be started: {e}")))?;
        let ended = running.end(run.input.into_bytes(), call.timeout, &run.limits, call.live).await;
        let result = match ended {
            RunEnd::NotBegun(why) => {
                return Err(unsent(format!("its sandbox cannot be made here: {why}")));
            }
            RunEnd::Gone(why) => return Err(Failure::new(CallEnd::Unknown, why)),
            RunEnd::Result(result) => result,
        };
        *last = Some(answer(&result));
        call.script.read(&result, hiding).map(Called::Output)
    }
}

/// Where a program lies.
fn find(name: &str) -> Option<PathBuf> {
    sandbox::PATH.iter().map(|folder| Path::new(folder).join(name)).find(|path| path.is_file())
}

/// The last lines of a text, as far as people are shown them.
fn end_of(text: &str) -> &str {
    let Some(over) = text.len().checked_sub(SHOWN).filter(|over| *over > 0) else { return text };
    let from = (over..text.len()).find(|at| text.is_char_boundary(*at)).unwrap_or(text.len());
    let rest = &text[from..];
    // Half a line may be half of what is to be hidden.
    rest.split_once('\n').map_or("", |(_, lines)| lines)
}

/// What a script wrote, as people see it: the end.
fn answer(result: &ScriptResult) -> Answer {
    let text = |bytes: &[u8]| Value::String(end_of(&String::from_utf8_lossy(bytes)).to_owned());
    let mut headers = Map::new();
    if !result.stderr.is_empty() {
        headers.insert("stderr".into(), text(&result.stderr));
    }
    if !result.output.is_empty() {
        headers.insert("output".into(), text(&result.output));
    }
    let status = match result.end {
        ScriptEnd::Status(status) => status.into(),
        ScriptEnd::Signal(_) | ScriptEnd::Over(_) => u16::MAX,
    };
    Answer { status, headers, body: text(&result.stdout) }
}
