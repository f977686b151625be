//! The `runbook:` document: typed inputs, a target, a tree of steps, what follows a failure, and
//! how the effect is proved.
//!
//! Owns the document and its checks: `steps` has a file for each kind of step, `known` what
//! expressions know where, `scope` what they see when a job runs, `outline` how it is drawn, `copy`
//! how one is made of another. Going through the steps is [`crate::job`].
//!
//! ```
//! use arvok_core::{
//!     catalog::Catalog, definition::Defined, document::parse_file, runbook::Runbook,
//! };
//! use serde_json::json;
//!
//! let text = r#"
//! runbook: restart
//! inputs: { vm: { type: string }, tries: { type: integer, default: 3 } }
//! target: "${inputs.vm}"
//! steps: [ { id: enough, require: inputs.tries > 0 } ]
//! "#;
//! let documents = parse_file("runbooks.yaml", text).expect("is YAML");
//! let runbook = Runbook::check(&documents[0]).expect("is a runbook");
//!
//! let given = json!({ "vm": "vm/quill-booking-db-1" });
//! let given = given.as_object().expect("a map").clone();
//! let prepared = runbook.prepare(given, &Catalog::default()).expect("fits");
//! assert_eq!(prepared.inputs["tries"], 3, "defaults are filled in");
//! assert_eq!(prepared.target.as_str(), "vm/quill-booking-db-1");
//!
//! let wrong = text.replace("inputs.tries", "inputs.trys");
//! let documents = parse_file("runbooks.yaml", &wrong).expect("is YAML");
//! let problems = Runbook::check(&documents[0]).expect_err("has no such input");
//! assert_eq!((problems[0].line, problems[0].file.as_str()), (5, "runbooks.yaml"));
//! ```

mod announce;
mod copy;
mod example;
mod memory;
mod outline;
mod scope;
mod shared_step;
mod steps;
mod type_environment;

pub use announce::{ANNOUNCED, Announce, AnnounceDoc, GO_ON, OBJECT};
pub use copy::{CopyError, copy};
pub use example::{AlarmWord, AnswerDoc, Answers, ExpectJobDoc, JobExampleDoc, MeanwhileDoc};
pub use memory::{MAX_MEMORY, RunMemory};
pub use outline::{Outline, OutlineStep};
pub use scope::JobScope;
pub use shared_step::{SharedStep, SharedStepDoc};
pub use steps::{
    ANSWER_TO, Action, Ask, Await, Branch, Call, CallTarget, Callee, Check, Child, Choose, Each,
    Emit, Failures, FillError, FilledCall, Finish, FinishState, LINK, MAX_DEPTH, MAX_GENERATIONS,
    MAX_ITEMS, OnError, Pause, Recipient, Reference, ReferenceError, Remember, Require, Retry, Set,
    SharedUse, Since, Step, StepDoc, StepProbe, Tell, To, ToDoc, Together, Until, all,
};

use crate::{
    Period, ResourcePath, Role,
    alert::ResourceError,
    connector,
    definition::{Defined, Definition, Fault, Kind, Mismatch, Others},
    document::{Checker, Document, Problem},
    expr::{Expr, ExprError, Length, LengthDoc, Names, Scope, Template, Type, Val},
    inputs::{Inputs, InputsError},
    script::{Script, is_file_name},
};
pub(crate) use steps::TELL;

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use serde_json::{Map, Value};
use std::collections::{BTreeMap, BTreeSet};
use steps::Build;
use type_environment::{Evaluated, Outputs, ROOTS, TypeEnvironment, Visitor};

/// How long a job may take where its runbook does not say.
const TIMEOUT: Period = Period::from_secs(3600);

/// Most steps of a runbook, those within others counted.
pub const MAX_STEPS: usize = 500;

/// A runbook as written.
#[derive(Clone, Debug, Default, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct RunbookDoc {
    /// The name.
    pub runbook: String,
    /// One line for people.
    #[serde(default)]
    pub summary: Option<String>,
    /// The ready-made runbook that it was copied from.
    #[serde(default)]
    pub copied_from: Option<String>,
    /// JSON Schema properties; an input without a default must be given.
    #[serde(default)]
    pub inputs: Map<String, Value>,
    /// What its runs on a target remember for those that come after them: JSON Schema properties,
    /// each with a default, which the first run finds. A step `remember` writes them.
    #[serde(default)]
    pub memory: Map<String, Value>,
    /// The resource acted on; only one job at a time runs on it.
    pub target: String,
    /// Who may launch it by hand. Left out: a responder.
    #[serde(default)]
    pub launch: Option<LaunchDoc>,
    /// How long the steps may take together, and again what follows a failure. Left out: 1h.
    /// `${ ... }` sees `inputs`.
    #[serde(default)]
    pub timeout: Option<LengthDoc>,
    /// Most of its jobs at once, over all nodes; jobs of steps are not counted. Left out: as many
    /// as there are.
    #[serde(default)]
    pub at_once: Option<u32>,
    /// That it is said before a job changes anything, and somebody may object.
    #[serde(default)]
    pub announce: Option<AnnounceDoc>,
    /// What is done, in this order.
    #[schemars(with = "Vec<StepDoc>")]
    pub steps: Vec<Map<String, Value>>,
    /// How the effect is proved after the steps.
    #[serde(default)]
    pub confirm: Option<ConfirmDoc>,
    /// What is done when the effect did not come.
    #[serde(default)]
    #[schemars(with = "Vec<StepDoc>")]
    pub otherwise: Vec<Map<String, Value>>,
    /// What is done when a step failed, after what can be taken back was taken back.
    #[serde(default)]
    #[schemars(with = "Vec<StepDoc>")]
    pub recover: Vec<Map<String, Value>>,
    /// What is done at the end, whatever happened.
    #[serde(default)]
    #[schemars(with = "Vec<StepDoc>")]
    pub always: Vec<Map<String, Value>>,
    /// What the job gives; `${ ... }` sees `inputs` and `steps`.
    #[serde(default)]
    pub outputs: Map<String, Value>,
    /// The names and globs of all connections that a `via` may give which is worked out, where the
    /// step lists none itself.
    #[serde(default)]
    pub connections: Vec<String>,
    /// The files that its scripts use, by name. What lies beside the runbook is put in here when it
    /// is checked and published.
    #[serde(default)]
    pub files: BTreeMap<String, String>,
    /// How jobs go when their calls are answered so and so; played when the runbook is checked and
    /// before it is published.
    #[serde(default)]
    pub examples: Vec<JobExampleDoc>,
}

/// Who may launch a runbook by hand.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct LaunchDoc {
    /// The least role that may.
    #[schemars(schema_with = "Role::acting_schema")]
    pub role: Role,
}

/// How the effect is proved: by the alarm, by a check, or by both.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct ConfirmDoc {
    /// The state that the alarm which set the job off must reach.
    #[serde(default)]
    pub alarm: Option<ConfirmAlarm>,
    /// A condition that must hold; `result` is what the operation gave.
    #[serde(default)]
    pub check: Option<String>,
    /// An operation that changes nothing, called for each look.
    #[serde(default)]
    pub call: Option<String>,
    /// The connection through which it is called; with expressions, it is one of `connections`.
    #[serde(default)]
    pub via: Option<String>,
    /// The names and globs of all connections that `via` may give, where it is worked out. Left
    /// out: those of the runbook.
    #[serde(default)]
    pub connections: Vec<String>,
    /// What the operation is given.
    #[serde(default)]
    pub give: Option<Map<String, Value>>,
    /// How long to wait between two looks. Left out: 5s.
    #[serde(default)]
    pub every: Option<Period>,
    /// What is said when the check did not hold.
    #[serde(default, rename = "else")]
    pub otherwise: Option<String>,
    /// How long after the last step.
    pub within: LengthDoc,
}

/// The state of the alarm that proves the effect.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "lowercase")]
pub enum ConfirmAlarm {
    /// No longer raised.
    Cleared,
}

/// How the effect is proved.
#[derive(Clone, Debug)]
pub struct Confirm {
    /// Whether the alarm must be cleared.
    pub alarm: bool,
    /// What must hold, as a list of one step.
    pub check: Vec<Step>,
    /// How long after the last step.
    pub within: Length,
}

impl std::fmt::Display for Confirm {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        let check = self.check.iter().filter_map(|s| match &s.action {
            Action::Check(check) => Some(check.condition.text()),
            _ => None,
        });
        let proofs: Vec<&str> =
            self.alarm.then_some("alarm cleared").into_iter().chain(check).collect();
        write!(f, "{} within {}", proofs.join(" and "), self.within)
    }
}

/// A checked runbook.
#[derive(Clone, Debug)]
pub struct Runbook {
    /// The name.
    pub name: String,
    /// One line for people.
    pub summary: Option<String>,
    /// The ready-made runbook that it was copied from.
    pub copied_from: Option<String>,
    /// What must be given.
    pub inputs: Inputs,
    /// What its runs on a target remember.
    pub memory: RunMemory,
    target: Template,
    /// The least role that may launch it by hand.
    pub launch: Role,
    /// How long the steps may take together, and again what follows a failure.
    pub timeout: Length,
    /// Most of its jobs at once.
    pub at_once: Option<u32>,
    /// What is said before a job changes anything.
    pub announce: Option<Announce>,
    /// What is done.
    pub steps: Vec<Step>,
    /// How the effect is proved.
    pub confirm: Option<Confirm>,
    /// What is done when the effect did not come.
    pub otherwise: Vec<Step>,
    /// What is done when a step failed.
    pub recover: Vec<Step>,
    /// What is done at the end.
    pub always: Vec<Step>,
    /// What the job gives.
    pub outputs: Template,
    /// How jobs go when their calls are answered so and so.
    pub examples: Vec<JobExampleDoc>,
    /// Whether any of its expressions looks at the alarm, its effect is proved by it, or what it
    /// does is needless once it is cleared.
    pub reads_alarm: bool,
}

/// What a job starts with.
#[derive(Clone, Debug, PartialEq)]
pub struct Prepared {
    /// Inputs with the defaults filled in.
    pub inputs: Map<String, Value>,
    /// What is locked while the job runs.
    pub target: ResourcePath,
}

struct InputScope<'a>(&'a Value);

impl<'a> Scope<'a> for InputScope<'a> {
    fn name(&'a self, name: &str) -> Option<Val<'a>> {
        (name == "inputs").then(|| Val::json(self.0))
    }
}

impl Definition for Runbook {
    fn summary(&self) -> Option<&str> {
        self.summary.as_deref()
    }

    fn credentials(&self) -> Vec<(&str, &Template)> {
        let secrets = self.scripts().into_iter().flat_map(Script::secrets);
        secrets.map(|secret| (secret.pointer.as_str(), &secret.value)).collect()
    }

    fn uses(&self) -> Vec<(Kind, String)> {
        let connections = self.calls().into_iter().flat_map(|(via, _)| via.written_out());
        let connections = connections.map(|name| (Kind::Connection, name.to_owned()));
        let runbooks = self.children().into_iter().flat_map(Reference::written_out);
        connections
            .chain(runbooks.map(|name| (Kind::Runbook, name.to_owned())))
            .chain(self.contacts().into_iter().map(|name| (Kind::Contact, name.to_owned())))
            .chain(self.shared_steps().into_iter().map(|name| (Kind::Step, name.to_owned())))
            .collect()
    }

    fn may_use(&self, kind: Kind, name: &str) -> bool {
        match kind {
            Kind::Connection => self.may_call(name),
            Kind::Runbook => self.children().into_iter().any(|child| child.may_name(name)),
            _ => false,
        }
    }

    fn expressions(&self) -> Vec<(String, &Expr)> {
        let mut found = Vec::new();
        self.visit(&|_, _| Type::Any, &mut |at, what, _| {
            found.extend(
                what.expressions().into_iter().map(|(below, e)| (format!("{at}{below}"), e)),
            );
        });
        found
    }

    fn misfits(&self, others: &dyn Others) -> Vec<Mismatch> {
        let steps = self.lists().into_iter().flat_map(|(at, steps)| {
            steps.iter().enumerate().flat_map(move |(i, step)| {
                // The check that proves the effect is no list of the document.
                let at = if at == "/confirm" { at.to_owned() } else { format!("{at}/{i}") };
                step.misfits(&at, others)
            })
        });
        let announced = self.announce.iter().flat_map(|a| a.misfits("/announce", others));
        let outputs = |via: &Reference, operation: &str| given_by(via, operation, others);
        let mut unfit = Vec::new();
        self.visit(&outputs, &mut |at, what, names| unfit.extend(what.unfit(at, names)));
        let unfit = unfit
            .into_iter()
            .map(|(at, text, why)| Mismatch::at(at, Fault::Unfit(format!("{text}: {why}"))));
        // What is listed for all steps is found with each of them.
        let mut misfits: Vec<Mismatch> = Vec::new();
        for misfit in announced.chain(steps).chain(unfit) {
            if !misfits.contains(&misfit) {
                misfits.push(misfit);
            }
        }
        misfits
    }
}

impl Defined for Runbook {
    const KIND: Kind = Kind::Runbook;
    type Doc = RunbookDoc;

    fn check(document: &Document) -> Result<Self, Vec<Problem>> {
        let (doc, mut check) = Checker::decoding::<RunbookDoc>(document)?;
        let made = Self::of_doc(&mut check, doc);
        check.finish(made)
    }
}

impl Runbook {
    /// What is written, or made of another document, checked.
    pub(crate) fn of_doc(check: &mut Checker<'_>, doc: RunbookDoc) -> Option<Self> {
        let inputs = Inputs::check(check, "/inputs", doc.inputs);
        let memory = RunMemory::check(check, doc.memory);
        let types = [
            ("inputs", inputs.as_ref().map_or(Type::Any, Inputs::as_type)),
            ("memory", memory.as_ref().map_or(Type::Any, RunMemory::as_type)),
        ];
        let names = Names { roots: &ROOTS, functions: &[], types: &types };
        let target = check.template(
            "/target",
            &Value::String(doc.target),
            Names { roots: &ROOTS[..1], ..names },
        );
        let timeout = doc.timeout.unwrap_or(LengthDoc::Written(TIMEOUT));
        let timeout = check.length("/timeout", timeout, Names { roots: &ROOTS[..1], ..names });
        check_at_once(check, doc.at_once);
        let announce = match doc.announce {
            None => Some(None),
            Some(doc) => {
                let names = Names { roots: &ROOTS[..1], ..names };
                Announce::check(check, "/announce", doc, names).map(Some)
            }
        };
        let files = doc.files;
        check_files(check, &files);
        let connections = steps::globs(check, "/connections", &doc.connections);
        let listed = connections.as_deref().unwrap_or_default();
        let limit = timeout.as_ref().and_then(Length::written);
        let mut build = Build::new(check, &files, listed, limit);
        let steps = build.steps("/steps", doc.steps, names);
        let mut more = |at: &str, docs: Vec<Map<String, Value>>| match docs.is_empty() {
            true => Some(Vec::new()),
            false => build.steps(at, docs, names),
        };
        let otherwise = more("/otherwise", doc.otherwise);
        let recover = more("/recover", doc.recover);
        let always = more("/always", doc.always);
        let confirm = match doc.confirm {
            None => Some(None),
            Some(doc) => check_confirm(&mut build, doc, names).map(Some),
        };
        if build.count() > MAX_STEPS {
            let count = build.count();
            check.fail("/steps", format!("a runbook has at most {MAX_STEPS} steps, not {count}"));
        }
        if doc.launch.is_some_and(|launch| !launch.role.acts()) {
            check.fail("/launch/role", Role::only_reads());
        }
        let outputs = check.template("/outputs", &Value::Object(doc.outputs), names);
        let made = (|| {
            Some(Self {
                name: doc.runbook,
                summary: doc.summary,
                copied_from: doc.copied_from,
                inputs: inputs?,
                memory: memory?,
                target: target?,
                launch: doc.launch.map_or(Role::Responder, |launch| launch.role),
                timeout: connections.and(timeout)?,
                at_once: doc.at_once,
                announce: announce?,
                steps: steps?,
                confirm: confirm?,
                otherwise: otherwise?,
                recover: recover?,
                always: always?,
                outputs: outputs?,
                examples: doc.examples,
                reads_alarm: false,
            })
        })();
        made.map(|made: Self| made.fitted(check))
    }
}

/// What an operation gives, through whichever connection it is called.
fn given_by(via: &Reference, operation: &str, others: &dyn Others) -> Type {
    let gives = |via: &str| {
        connector::operation(others, via, operation)
            .map_or(Type::Any, |(_, operation)| operation.gives.clone())
    };
    via.all(others).into_iter().map(gives).reduce(Type::join).unwrap_or(Type::Any)
}

fn check_at_once(check: &mut Checker<'_>, at_once: Option<u32>) {
    if at_once == Some(0) {
        check.fail("/at_once", "at least 1; without any job the runbook is of no use");
    }
}

/// Complains of names that are no file's alone: nothing lies outside of a script's own folder.
fn check_files(check: &mut Checker<'_>, files: &BTreeMap<String, String>) {
    for name in files.keys().filter(|name| !is_file_name(name)) {
        let wrong = "is not the name of a file: letters, digits, `.`, `_`, `-`, `+`, 64 at most, a \
            letter or a digit first, and no folder";
        let pointer = format!("/files/{}", name.replace('~', "~0").replace('/', "~1"));
        check.fail_key(&pointer, wrong);
    }
}

fn check_confirm(build: &mut Build<'_, '_>, doc: ConfirmDoc, names: Names<'_>) -> Option<Confirm> {
    let alarm = doc.alarm.is_some();
    if !alarm && doc.check.is_none() {
        build.check.fail(
            "/confirm",
            "says nothing to prove: give it `alarm: cleared`, a `check`, or both",
        );
        return None;
    }
    let own = [
        ("check", doc.check.map(Value::from)),
        ("call", doc.call.map(Value::from)),
        ("via", doc.via.map(Value::from)),
        ("connections", Some(doc.connections).filter(|all| !all.is_empty()).map(Value::from)),
        ("give", doc.give.map(Value::from)),
        ("every", doc.every.map(|p| p.to_string().into())),
        ("else", doc.otherwise.map(Value::from)),
    ];
    let own: Map<String, Value> =
        own.into_iter().filter_map(|(key, value)| Some((key.to_owned(), value?))).collect();
    let check = match own.is_empty() {
        true => Vec::new(),
        false => vec![steps::of_confirm(build, own, &doc.within, names)?],
    };
    let within = build.check.length("/confirm/within", doc.within, names)?;
    Some(Confirm { alarm, check, within })
}

/// Why no job can be made of what is given.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
pub enum PrepareError {
    /// An input does not fit.
    #[error(transparent)]
    Inputs(#[from] InputsError),
    /// The target cannot be worked out.
    #[error("target: {0}")]
    TargetUnknown(ExprError),
    /// What comes out is no resource.
    #[error("target: {0}")]
    NoTarget(ResourceError),
    /// How long it may take cannot be worked out.
    #[error("timeout: {0}")]
    NoTimeout(ExprError),
    /// What a step needs is not known or not there.
    #[error("step `{step}`: {why}")]
    NoReference {
        /// Its `id`.
        step: String,
        /// Why.
        why: ReferenceError,
    },
}

impl Runbook {
    /// Complains about expressions that do not fit where they stand, and about examples that no job
    /// could meet.
    fn fitted(mut self, check: &mut Checker<'_>) -> Self {
        let mut unfit = Vec::new();
        let mut reads_alarm =
            self.announce.is_some() || self.confirm.as_ref().is_some_and(|c| c.alarm);
        self.visit(&|_, _| Type::Any, &mut |at, what, names| {
            reads_alarm |= what.reads("alarm");
            unfit.extend(what.unfit(at, names));
        });
        unfit.into_iter().for_each(|(at, text, why)| check.within(&at, &text, why));
        self.reads_alarm = reads_alarm;
        example::check(check, &self.examples, &self);
        self
    }

    /// Checks what is given and finds the target.
    ///
    /// # Errors
    /// Why a job would be refused.
    pub fn prepare(
        &self,
        given: Map<String, Value>,
        others: &dyn Others,
    ) -> Result<Prepared, PrepareError> {
        let inputs = Value::Object(self.inputs.complete(given)?);
        let target =
            self.target.fill_text(&InputScope(&inputs)).map_err(PrepareError::TargetUnknown)?;
        let target = ResourcePath::parse(&target).map_err(PrepareError::NoTarget)?;
        self.timeout.at(&InputScope(&inputs)).map_err(PrepareError::NoTimeout)?;
        for (_, steps) in self.lists() {
            for (step, reference) in steps::references_of_inputs(steps) {
                let checked = reference.check_with(&InputScope(&inputs), others);
                let step = || step.id.clone();
                checked.map_err(|why| PrepareError::NoReference { step: step(), why })?;
            }
        }
        match inputs {
            Value::Object(inputs) => Ok(Prepared { inputs, target }),
            _ => Ok(Prepared { inputs: Map::new(), target }),
        }
    }

    /// The inputs of which connections or runbooks are made, each with the values for which there
    /// is one in every step, as far as that can be said.
    pub fn choices(&self, others: &dyn Others) -> BTreeMap<String, Vec<String>> {
        let mut choices: BTreeMap<String, Vec<String>> = BTreeMap::new();
        // What a shared step calls its inputs are not those of the job.
        let steps = self.lists().into_iter().flat_map(|(_, steps)| all(steps));
        let named =
            steps.filter(|step| step.shared.is_none()).flat_map(|step| step.action.references());
        for (input, values) in named.filter_map(|reference| reference.choices(others)) {
            choices
                .entry(input.to_owned())
                .and_modify(|all| all.retain(|value| values.contains(value)))
                .or_insert(values);
        }
        choices
    }

    /// How long the steps of a job with these inputs may take together, and again what follows a
    /// failure.
    pub fn timeout_with(&self, inputs: &Value) -> Period {
        // Inputs for which it cannot be worked out were refused.
        self.timeout.at(&InputScope(inputs)).unwrap_or(TIMEOUT)
    }

    /// Its lists of steps, each with its JSON pointer, in the order in which they are visited.
    pub fn lists(&self) -> [(&'static str, &[Step]); 5] {
        let check = self.confirm.as_ref().map_or(&[][..], |c| &c.check);
        [
            ("/steps", &self.steps),
            ("/confirm", check),
            ("/otherwise", &self.otherwise),
            ("/recover", &self.recover),
            ("/always", &self.always),
        ]
    }

    /// The operations that its steps call, each with what names its connection.
    pub fn calls(&self) -> Vec<(&Reference, &str)> {
        let steps = self.lists().into_iter().flat_map(|(_, steps)| all(steps));
        let calls = steps.flat_map(|s| s.action.calls());
        calls.filter_map(|call| call.callee.operation()).collect()
    }

    /// The operations that its steps may call, each with its connection.
    pub fn possible_calls<'a>(&'a self, others: &'a dyn Others) -> BTreeSet<(&'a str, &'a str)> {
        let all = |(via, operation): (&'a Reference, &'a str)| {
            via.all(others).into_iter().map(move |via| (via, operation))
        };
        self.calls().into_iter().flat_map(all).collect()
    }

    /// Whether its steps may call through a connection.
    pub fn may_call(&self, connection: &str) -> bool {
        self.calls().into_iter().any(|(via, _)| via.may_name(connection))
    }

    /// The scripts that its steps run.
    pub fn scripts(&self) -> Vec<&Script> {
        let steps = self.lists().into_iter().flat_map(|(_, steps)| all(steps));
        let calls = steps.flat_map(|s| s.action.calls());
        calls.filter_map(|call| call.callee.script()).collect()
    }

    /// The runbooks that its steps have done as jobs of their own.
    pub fn children(&self) -> Vec<&Reference> {
        let steps = self.lists().into_iter().flat_map(|(_, steps)| all(steps));
        let children = steps.filter_map(|s| match &s.action {
            Action::Child(child) => Some(&child.runbook),
            _ => None,
        });
        children.collect()
    }

    /// The shared steps that it uses, each once.
    pub fn shared_steps(&self) -> BTreeSet<&str> {
        let steps = self.lists().into_iter().flat_map(|(_, steps)| all(steps));
        steps.filter_map(|step| Some(step.shared.as_ref()?.name.as_str())).collect()
    }

    /// The contacts that it reaches.
    pub fn contacts(&self) -> Vec<&str> {
        let steps = self.lists().into_iter().flat_map(|(_, steps)| all(steps));
        let reached = steps.filter_map(|step| Some(step.action.recipient()?.contact.as_str()));
        self.announce.iter().filter_map(Announce::contact).chain(reached).collect()
    }

    /// Shows everything that is evaluated with what is known where it stands.
    fn visit<'a>(&'a self, outputs: &'a Outputs<'a>, look: &mut Visitor<'a, '_>) {
        let mut known = TypeEnvironment::new(self.inputs.as_type(), self.memory.as_type(), outputs);
        if let Some(To::Person(person)) = self.announce.as_ref().map(|a| &a.ask.to) {
            look("/announce/to/person", Evaluated::Template(person), known.names());
        }
        steps::visit(&self.steps, "/steps", &mut known, look);
        if let Some(step) = self.confirm.iter().flat_map(|c| &c.check).next() {
            step.visit("/confirm", &mut known.clone(), look);
        }
        if let Some(within) = self.confirm.as_ref().and_then(|c| c.within.template()) {
            look("/confirm/within", Evaluated::Template(within), known.names());
        }
        look("/outputs", Evaluated::Template(&self.outputs), known.names());
        steps::visit(&self.otherwise, "/otherwise", &mut known, look);
        known.any_may_have_run();
        steps::visit(&self.recover, "/recover", &mut known, look);
        known.any_may_have_run();
        steps::visit(&self.always, "/always", &mut known, look);
    }
}

#[cfg(test)]
mod tests;
