//! A script: what is run, what it is given, what its end means. Running it, and keeping it from
//! everything else, is the business of the crate that reaches outside.
//!
//! Nothing is ever filled into the code. What a script works with reaches it as JSON on its
//! standard input, and as chosen variables of its environment.

mod end;
mod limits;

pub use end::{ScriptEnd, ScriptLimit, ScriptResult};
pub use limits::{Limits, LimitsDoc};

use crate::{
    Period, ResourcePath,
    connector::{ExitStatuses, Repeat, RequestError, ShownRequest, is_variable, secret},
    document::Checker,
    expr::{ExprError, Names, Scope, Template, Type},
    inputs::Inputs,
    text::cut,
};
use serde_json::{Map, Value, json};
use std::collections::BTreeMap;

/// How long a script may run where its step does not say.
pub const USUAL_TIME: Period = Period::from_secs(60);
/// Longest standard input, in bytes of JSON, and longest value of a variable.
const MAX_INPUT: usize = 256 << 10;
const MAX_VARIABLE: usize = 64 << 10;
/// Most resources that a script says it changes.
const MAX_TOUCHED: usize = 20;
/// What the names of our own variables begin with.
const OURS: &str = "ARVOK_";
/// The name of the file with code that stands in the step; no file beside it can have that.
const INLINE: &str = ".script";
/// Most secrets that a script is handed.
const MAX_SECRETS: usize = 16;
/// Most files beside the code, and largest of all together with it.
const MAX_FILES: usize = 32;
const MAX_TEXT: usize = 512 << 10;

/// What a step says of its script.
#[derive(Debug)]
pub(crate) struct ScriptParts {
    pub interpreter: String,
    pub code: Option<String>,
    pub file: Option<String>,
    pub files: Vec<String>,
    pub give: Map<String, Value>,
    pub env: Map<String, Value>,
    pub secrets: BTreeMap<String, String>,
    pub gives: Option<Map<String, Value>>,
    pub looks: bool,
    pub repeat: Option<Repeat>,
    pub statuses: ExitStatuses,
    pub network: bool,
    pub limits: LimitsDoc,
    pub touches: Vec<String>,
}

/// A checked script.
#[derive(Clone, Debug)]
pub struct Script {
    interpreter: String,
    code: String,
    /// The name of its file; none: its code stands in the step.
    file: Option<String>,
    files: BTreeMap<String, String>,
    env: Template,
    secrets: Vec<ScriptSecret>,
    /// What it is given, its environment and its secrets as they are written.
    written: String,
    gives: Option<Inputs>,
    repeat: Repeat,
    looks: bool,
    statuses: ExitStatuses,
    network: bool,
    limits: Limits,
    touched: Template,
}

/// A secret that a script is handed.
#[derive(Clone, Debug)]
pub struct ScriptSecret {
    /// By which name it asks for it.
    pub name: String,
    /// What it is.
    pub value: Template,
    /// Where that stands in the document.
    pub pointer: String,
}

/// What is run, for whoever runs it.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct ScriptRun {
    /// The interpreter, by its name.
    pub interpreter: String,
    /// The name of the file with the code.
    pub name: String,
    /// The code.
    pub code: String,
    /// Files that lie beside it.
    pub files: BTreeMap<String, String>,
    /// What it reads from its standard input.
    pub input: String,
    /// Variables of its environment.
    pub env: Vec<(String, String)>,
    /// Whether it may reach the network.
    pub network: bool,
    /// How much it may use.
    pub limits: Limits,
}

impl Script {
    /// Checks what a step says; `files` are those of its runbook.
    pub(crate) fn check(
        check: &mut Checker<'_>,
        at: &str,
        parts: ScriptParts,
        files: &BTreeMap<String, String>,
        names: Names<'_>,
    ) -> Option<Self> {
        if !is_file_name(&parts.interpreter) {
            let wrong = "is the name of an interpreter, such as `sh` or `python3`, and no path: \
                where it lies is up to the node";
            check.fail(&format!("{at}/script"), wrong);
        }
        let code = code_of(check, at, &parts, files);
        let mut beside = BTreeMap::new();
        for (n, name) in parts.files.iter().enumerate() {
            if let Some(text) = file_of(check, &format!("{at}/files/{n}"), name, files) {
                beside.insert(name.clone(), text);
            }
        }
        if beside.len() > MAX_FILES {
            let wrong = format!("a script has {MAX_FILES} files beside it at most");
            check.fail(&format!("{at}/files"), wrong);
        }
        let size =
            code.as_ref().map_or(0, String::len) + beside.values().map(String::len).sum::<usize>();
        if size > MAX_TEXT {
            let wrong = format!(
                "the code and its files have {size} bytes together; {MAX_TEXT} are allowed"
            );
            check.fail(at, wrong);
        }
        for name in parts.env.keys().filter(|n| !is_variable(n) || n.starts_with(OURS)) {
            let wrong = "is not the name of a variable: letters, digits and `_`; those that begin \
                with ARVOK_ are ours";
            check.fail(&format!("{at}/env/{}", name.replace('/', "~1")), wrong);
        }
        let env = check.template(&format!("{at}/env"), &Value::Object(parts.env.clone()), names);
        let secrets = secrets(check, &format!("{at}/secrets"), &parts.secrets);
        let gives = match parts.gives.clone() {
            None => Some(None),
            Some(gives) => Inputs::check(check, &format!("{at}/gives"), gives).map(Some),
        };
        end::check_statuses(check, at, &parts.statuses);
        let repeat = repeat(check, at, &parts);
        let limits = Limits::check(check, &format!("{at}/limits"), &parts.limits);
        let touched = touched(check, &format!("{at}/touches"), &parts, names);
        Some(Self {
            interpreter: parts.interpreter,
            code: code?,
            file: parts.file,
            files: beside,
            env: env?,
            secrets: secrets?,
            written: json!([parts.give, parts.env, parts.secrets]).to_string(),
            gives: gives?,
            repeat,
            looks: parts.looks,
            statuses: parts.statuses,
            network: parts.network,
            limits,
            touched: touched?,
        })
    }

    /// The interpreter, by its name.
    pub fn interpreter(&self) -> &str {
        &self.interpreter
    }

    /// Whether it asks for the network.
    pub const fn network(&self) -> bool {
        self.network
    }

    /// The secrets that it is handed.
    pub fn secrets(&self) -> &[ScriptSecret] {
        &self.secrets
    }

    /// Whom its secrets are shown to, in words and texts of which each counts: the interpreter,
    /// whether it reaches the network, the code, each file with its name, and what it is given and
    /// finds in its environment, as written: an address or an option there may decide what becomes
    /// of a secret.
    pub fn shown_to(&self) -> Vec<&str> {
        let network = if self.network { "network" } else { "no network" };
        let files = self.files.iter().flat_map(|(name, text)| [name.as_str(), text.as_str()]);
        let own = [self.interpreter.as_str(), network, &self.code, &self.written];
        own.into_iter().chain(files).collect()
    }

    /// Whether doing it twice is harmless.
    pub const fn repeat(&self) -> Repeat {
        self.repeat
    }

    /// Whether it says that it changes nothing.
    pub const fn only_looks(&self) -> bool {
        self.looks
    }

    /// What is known of its output.
    pub fn gives(&self) -> Type {
        self.gives.as_ref().map_or(Type::Any, Inputs::as_type)
    }

    /// An output that stands for a real one.
    pub(crate) fn sample(&self) -> Value {
        self.gives.as_ref().map_or_else(|| json!({}), Inputs::sample)
    }

    /// What is filled in for its environment.
    pub(crate) const fn env(&self) -> &Template {
        &self.env
    }

    /// What is filled in for the resources that it changes.
    pub(crate) const fn touched(&self) -> &Template {
        &self.touched
    }

    /// The resources that it changes, by what a call of it is given.
    ///
    /// # Errors
    /// If one is no resource.
    pub fn touches(given: &Map<String, Value>) -> Result<Vec<String>, RequestError> {
        let all = given.get("touches").and_then(Value::as_array).into_iter().flatten();
        let one = |resource: &Value| {
            let text = resource.as_str().map_or_else(|| resource.to_string(), str::to_owned);
            let parsed = ResourcePath::parse(&text);
            parsed.map_err(|e| RequestError::Part(format!("touches: {e}"))).map(|r| r.to_string())
        };
        all.filter(|resource| !resource.is_null()).map(one).collect()
    }

    /// What is run, in a line.
    pub fn line(&self) -> String {
        match &self.file {
            Some(file) => format!("{} {file}", self.interpreter),
            None => {
                let first = self.code.lines().map(str::trim).find(|line| is_telling(line));
                format!("{}: {}", self.interpreter, cut(first.unwrap_or_default(), 60))
            }
        }
    }

    /// All that a call of it is given: what goes to its standard input, its environment, and what
    /// it changes.
    ///
    /// # Errors
    /// What cannot be filled in.
    pub(crate) fn given<'a>(
        &'a self,
        give: Value,
        scope: &'a dyn Scope<'a>,
    ) -> Result<Value, ExprError> {
        let mut given = Self::call_input(give, self.env.fill(scope)?);
        if let Some(Value::Array(touched)) = self.touched.fill_given(scope)?
            && !touched.is_empty()
        {
            given.insert("touches".to_owned(), Value::Array(touched));
        }
        Ok(Value::Object(given))
    }

    /// What goes to its standard input and its environment, as what a call is given; what is empty
    /// is left out.
    pub(crate) fn call_input(give: Value, env: Value) -> Map<String, Value> {
        let parts = [("give".to_owned(), give), ("env".to_owned(), env)];
        parts.into_iter().filter(|(_, part)| *part != json!({})).collect()
    }

    /// What is run with what a call is given.
    ///
    /// # Errors
    /// What cannot be handed to a script.
    pub fn run(&self, given: &Map<String, Value>) -> Result<ScriptRun, RequestError> {
        let input = given.get("give").map_or_else(|| "{}".to_owned(), Value::to_string);
        if input.len() > MAX_INPUT {
            let wrong = format!("give: has {} bytes; {MAX_INPUT} are allowed", input.len());
            return Err(RequestError::Part(wrong));
        }
        Self::touches(given)?;
        let env = given.get("env").and_then(Value::as_object);
        let env = env.into_iter().flatten().map(|(name, value)| {
            let value = match value {
                Value::String(text) => text.clone(),
                Value::Null => String::new(),
                other => other.to_string(),
            };
            if value.len() > MAX_VARIABLE || value.contains('\0') {
                let wrong = format!("env {name}: is too long or has a NUL");
                return Err(RequestError::Part(wrong));
            }
            Ok((name.clone(), value))
        });
        Ok(ScriptRun {
            interpreter: self.interpreter.clone(),
            name: self.file.clone().unwrap_or_else(|| INLINE.to_owned()),
            code: self.code.clone(),
            files: self.files.clone(),
            input,
            env: env.collect::<Result<_, _>>()?,
            network: self.network,
            limits: self.limits,
        })
    }

    /// What is run, as people see it before.
    ///
    /// # Errors
    /// As [`run`](Self::run).
    pub fn shown(&self, given: &Map<String, Value>) -> Result<ShownRequest, RequestError> {
        self.run(given)?;
        Ok(ShownRequest {
            method: "SCRIPT".to_owned(),
            target: self.line(),
            body: given.get("give").cloned(),
        })
    }
}

/// Checks the resources that it changes.
fn touched(
    check: &mut Checker<'_>,
    at: &str,
    parts: &ScriptParts,
    names: Names<'_>,
) -> Option<Template> {
    let touches = &parts.touches;
    if touches.len() > MAX_TOUCHED {
        check.fail(at, format!("names {} resources; {MAX_TOUCHED} are allowed", touches.len()));
    }
    if parts.looks && !touches.is_empty() {
        check.fail(at, "belongs to what changes something; this only looks");
    }
    check.template(at, &json!(touches), names)
}

/// The code, which stands in the step or in a file of the runbook.
fn code_of(
    check: &mut Checker<'_>,
    at: &str,
    parts: &ScriptParts,
    files: &BTreeMap<String, String>,
) -> Option<String> {
    match (&parts.code, &parts.file) {
        (Some(code), None) if code.trim().is_empty() => {
            check.fail(&format!("{at}/code"), "is empty");
            None
        }
        (Some(code), None) => Some(code.clone()),
        (None, Some(file)) => file_of(check, &format!("{at}/file"), file, files),
        _ => {
            let wrong = "a script has its code either here, as `code`, or in a `file` beside the \
                runbook";
            check.fail(at, wrong);
            None
        }
    }
}

fn file_of(
    check: &mut Checker<'_>,
    at: &str,
    name: &str,
    files: &BTreeMap<String, String>,
) -> Option<String> {
    let found = files.get(name).cloned();
    if found.is_none() {
        let hint = crate::text::hint(name, files.keys().map(String::as_str));
        let wrong =
            format!("there is no file `{name}` beside the runbook, nor under its `files`{hint}");
        check.fail(at, wrong);
    }
    found
}

fn secrets(
    check: &mut Checker<'_>,
    at: &str,
    written: &BTreeMap<String, String>,
) -> Option<Vec<ScriptSecret>> {
    if written.len() > MAX_SECRETS {
        check.fail(at, format!("a script is handed {MAX_SECRETS} secrets at most"));
    }
    let one = |(name, text): (&String, &String)| {
        let pointer = format!("{at}/{}", name.replace('/', "~1"));
        if !is_variable(name) || name.starts_with(OURS) {
            let wrong = "is no name by which a script could ask for it: letters, digits and `_`";
            check.fail(&pointer, wrong);
        }
        let value = secret(check, &pointer, text.clone())?;
        Some(ScriptSecret { name: name.clone(), value, pointer })
    };
    written.iter().map(one).collect()
}

fn repeat(check: &mut Checker<'_>, at: &str, parts: &ScriptParts) -> Repeat {
    match parts.repeat {
        None if parts.looks => Repeat::Safe,
        None => Repeat::Never,
        Some(Repeat::Never) if parts.looks => {
            check.fail(&format!("{at}/repeat"), "what only looks may be repeated");
            Repeat::Safe
        }
        Some(repeat @ (Repeat::Safe | Repeat::Never)) => repeat,
        Some(_) => {
            let wrong = "is one of safe, never: nobody knows a script by its key";
            check.fail(&format!("{at}/repeat"), wrong);
            Repeat::Never
        }
    }
}

/// Whether a line of code tells more than that code follows.
fn is_telling(line: &str) -> bool {
    !line.is_empty()
        && !line.starts_with('#')
        && !line.starts_with("set -")
        && !line.starts_with("import ")
        && !line.starts_with("use ")
}

/// Whether a name is that of a file alone.
pub(crate) fn is_file_name(name: &str) -> bool {
    let fits = |c: char| c.is_ascii_alphanumeric() || matches!(c, '.' | '_' | '-' | '+');
    !name.is_empty()
        && name.len() <= 64
        && name.chars().all(fits)
        && name.starts_with(|c: char| c.is_ascii_alphanumeric() || c == '_')
}

#[cfg(test)]
mod tests;
