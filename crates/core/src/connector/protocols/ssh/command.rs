//! A command: what is written, the line that it becomes, and what its end means.

use super::{
    act::RemoteCommand,
    quoting::quoted,
    reads::{MAX_OUTPUT, Reads, bound, response},
};
use crate::{
    connector::{
        exit::{ExitStatuses, is_variable},
        failure::{CallEnd, Failure, Hiding},
        protocols::{RequestError, shared::CallScope},
    },
    document::Checker,
    expr::{Names, Template, Type},
    text::cut,
};
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use serde_json::{Map, Value, json};

/// Longest line, and longest standard input, in bytes.
const MAX_LINE: usize = 100 << 10;
const MAX_INPUT: usize = 256 << 10;
/// Most arguments, after lists among them have been spread.
const MAX_ARGUMENTS: usize = 1000;
/// The statuses by which a POSIX shell says that it could not run a command (XCU 2.8.2).
const NOT_RUN: [u32; 2] = [126, 127];

/// A command with `${give...}` in its parts. It has one of `args` alone and `shell`, which may have
/// `args` too.
#[derive(Clone, Debug, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct CommandDoc {
    /// The program and its arguments. Each is one argument of the program, whatever it holds; one
    /// that is `${...}` alone and gives a list is as many as the list has. What is filled in may
    /// begin with a dash only after an argument `--`. With `shell`: what is `$1`, `$2` and so on
    /// there.
    #[serde(default)]
    pub args: Vec<String>,
    /// A line for `sh`, as it is written here: nothing is filled into it. Values reach it as
    /// `"$1"`, `"$2"` by `args`.
    #[serde(default)]
    pub shell: Option<String>,
    /// Whether it only looks, and changes nothing. Then it may be repeated, and checks, proofs and
    /// tests may call it. Left out: no.
    #[serde(default)]
    pub looks: bool,
    /// What is set in its environment.
    #[serde(default)]
    pub env: Map<String, Value>,
    /// What it reads from its standard input. Left out: nothing.
    #[serde(default)]
    pub input: Option<String>,
    /// How its standard output is read. Left out: `text`.
    #[serde(default)]
    pub reads: Reads,
    /// So many bytes of its standard output are kept. Left out: 65536.
    #[serde(default)]
    pub at_most: Option<u32>,
    /// Exit statuses that are as good as 0, for programs that tell something by them.
    #[serde(default)]
    pub succeeds: Vec<u8>,
    /// Exit statuses by which it says that it has done nothing.
    #[serde(default)]
    pub refused: Vec<u8>,
    /// Exit statuses by which it says that it has done nothing, and that another try makes sense.
    #[serde(default)]
    pub retry_on: Vec<u8>,
}

impl CommandDoc {
    /// What is run, as written.
    pub(super) fn line(&self) -> String {
        match &self.shell {
            Some(shell) => format!("RUN sh: {}", shell.trim_end()),
            None => format!("RUN {}", self.args.join(" ")),
        }
    }

    pub(super) fn response(&self) -> Type {
        response([
            ("exit", Type::Number),
            ("stdout", self.reads.as_type()),
            ("stderr", Type::Text),
            ("left_out", Type::Number),
        ])
    }
}

/// A checked command.
#[derive(Clone, Debug)]
pub(super) struct Command {
    shell: Option<String>,
    args: Vec<Template>,
    env: Vec<(String, Template)>,
    input: Option<Template>,
    pub(super) looks: bool,
    pub(super) reads: Reads,
    at_most: u32,
    statuses: ExitStatuses,
}

/// How a command ended.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum CommandExit {
    /// With a status.
    Status(u32),
    /// By a signal, named without `SIG` (RFC 4254, section 6.10).
    Signal(String),
}

/// What came of a command.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct CommandResult {
    /// How it ended.
    pub exit: CommandExit,
    /// What it wrote to its standard output: the beginning.
    pub stdout: Vec<u8>,
    /// What it wrote to its standard error: the end.
    pub stderr: Vec<u8>,
    /// How many bytes of its standard output are left out.
    pub left_out: u64,
}

impl CommandResult {
    fn stderr(&self) -> String {
        String::from_utf8_lossy(&self.stderr).trim_end_matches(['\r', '\n']).to_owned()
    }

    /// As expressions see it, with the standard output as it was read.
    pub(super) fn as_response(&self, stdout: Value) -> Value {
        let exit = match self.exit {
            CommandExit::Status(status) => Value::from(status),
            CommandExit::Signal(_) => Value::Null,
        };
        json!({
            "exit": exit, "stdout": stdout, "stderr": self.stderr(), "left_out": self.left_out,
        })
    }

    /// The last line of what it wrote, of its errors if there are any.
    fn last_line(&self) -> String {
        let said = match self.stderr() {
            errors if errors.trim().is_empty() => String::from_utf8_lossy(&self.stdout).into(),
            errors => errors,
        };
        said.lines().rev().find(|line| !line.trim().is_empty()).unwrap_or_default().trim().into()
    }
}

impl Command {
    pub(super) fn check(
        check: &mut Checker<'_>,
        at: &str,
        doc: CommandDoc,
        names: Names<'_>,
    ) -> Option<Self> {
        match &doc.shell {
            None if doc.args.first().is_none_or(|program| program.trim().is_empty()) => {
                check.fail(at, "names no program: `args` begins with it, or `shell` is a line");
            }
            None if doc.args[0].contains("${") => {
                let wrong = "the program is written out; what is filled in are its arguments";
                check.fail(&format!("{at}/args/0"), wrong);
            }
            Some(shell) if shell.contains("${give") => {
                let wrong = "nothing is filled into a line for a shell, which would read it; \
                    write `args: [\"${give...}\"]` and \"$1\" in the line";
                check.fail(&format!("{at}/shell"), wrong);
            }
            _ => {}
        }
        for name in doc.env.keys().filter(|name| !is_variable(name)) {
            let wrong = "is not the name of a variable: letters, digits and `_`";
            check.fail(&format!("{at}/env/{}", name.replace('/', "~1")), wrong);
        }
        let statuses =
            ExitStatuses { succeeds: doc.succeeds, refused: doc.refused, retry_on: doc.retry_on };
        statuses.check(check, at);
        let at_most = bound(check, at, doc.at_most);
        let args = doc.args.into_iter().enumerate();
        let args: Vec<_> = args
            .map(|(n, arg)| check.template(&format!("{at}/args/{n}"), &arg.into(), names))
            .collect();
        let env: Vec<_> = doc
            .env
            .into_iter()
            .map(|(name, value)| {
                let made = check.template(&format!("{at}/env/{name}"), &value, names);
                made.map(|made| (name, made))
            })
            .collect();
        let input = match doc.input {
            None => Some(None),
            Some(input) => check.template(&format!("{at}/input"), &input.into(), names).map(Some),
        };
        Some(Self {
            shell: doc.shell,
            args: args.into_iter().collect::<Option<_>>()?,
            env: env.into_iter().collect::<Option<_>>()?,
            input: input?,
            looks: doc.looks,
            reads: doc.reads,
            at_most,
            statuses,
        })
    }

    pub(super) fn fill(&self, view: &CallScope<'_>) -> Result<RemoteCommand, RequestError> {
        let mut words = Vec::new();
        if !self.env.is_empty() {
            words.push("env".to_owned());
            for (name, value) in &self.env {
                let value = text(&format!("env {name}"), &value.fill(view)?)?;
                words.push(format!("{name}={}", quoted(&value)));
            }
        }
        if let Some(shell) = &self.shell {
            words.extend(["sh".into(), "-c".into(), quoted(shell), "sh".into()]);
        }
        for argument in self.arguments(view)? {
            words.push(quoted(&argument));
        }
        let line = words.join(" ");
        if line.len() > MAX_LINE {
            let wrong = format!("the command has {} bytes; {MAX_LINE} are allowed", line.len());
            return Err(RequestError::Part(wrong));
        }
        let input = self.input.as_ref().map(|input| input.fill_text(view)).transpose()?;
        let input = input.unwrap_or_default();
        if input.len() > MAX_INPUT {
            let wrong = format!("input: has {} bytes; {MAX_INPUT} are allowed", input.len());
            return Err(RequestError::Part(wrong));
        }
        Ok(RemoteCommand { line, input, at_most: self.at_most.min(MAX_OUTPUT) })
    }

    fn arguments(&self, view: &CallScope<'_>) -> Result<Vec<String>, RequestError> {
        let mut arguments = Vec::new();
        // To a shell's line a value is `$1`, and no option of anything.
        let mut are_operands = self.shell.is_some();
        for (n, template) in self.args.iter().enumerate() {
            let part = format!("args[{n}]");
            let filled = template.fill(view)?;
            if filled == "--" && template.fixed().is_some() {
                are_operands = true;
            }
            let values = match filled {
                Value::Array(values) => values,
                value => vec![value],
            };
            for value in values {
                let argument = text(&part, &value)?;
                if !are_operands && may_be_option(template, &value) {
                    return Err(RequestError::Part(format!(
                        "{part}: `{}` begins with a dash and would be read as an option; an \
                         argument `--` before it says that none follow",
                        cut(&argument, 40)
                    )));
                }
                arguments.push(argument);
            }
        }
        if arguments.len() > MAX_ARGUMENTS {
            let wrong = format!("has {} arguments; {MAX_ARGUMENTS} are allowed", arguments.len());
            return Err(RequestError::Part(wrong));
        }
        Ok(arguments)
    }

    /// Why a command failed by how it ended, if it did.
    pub(super) fn failure(
        &self,
        result: &CommandResult,
        is_harmless: bool,
        hiding: Hiding<'_>,
    ) -> Option<Failure> {
        let said = match hiding.cut(&result.last_line(), 300) {
            said if said.is_empty() => said,
            said => format!(": {said}"),
        };
        let status = match &result.exit {
            CommandExit::Signal(signal) => {
                let message = format!("was ended by SIG{}{said}", cut(signal, 20));
                return Some(Failure::new(CallEnd::Unknown, message));
            }
            CommandExit::Status(status) => *status,
        };
        let failure = self.statuses.failure(status, &said, is_harmless)?;
        Some(match failure.end {
            CallEnd::Done if NOT_RUN.contains(&status) => {
                Failure::lasting(CallEnd::Refused, failure.message)
            }
            _ => failure,
        })
    }
}

/// Whether what was filled in could be taken for an option that the author did not write.
fn may_be_option(template: &Template, value: &Value) -> bool {
    template.begins_filled_in() && value.as_str().is_some_and(|text| text.starts_with('-'))
}

/// A value as one argument. It has no NUL, which no argument can have: filling in replaces it.
fn text(part: &str, value: &Value) -> Result<String, RequestError> {
    match value {
        Value::String(text) => Ok(text.clone()),
        Value::Number(_) | Value::Bool(_) => Ok(value.to_string()),
        Value::Null => Err(RequestError::Part(format!("{part}: is nothing (null)"))),
        _ => Err(RequestError::Part(format!("{part}: is a list or a map, and not one text"))),
    }
}
