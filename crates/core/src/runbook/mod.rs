//! The `runbook:` document: typed inputs, a target, steps, and how the effect is proved.
//!
//! Owns the document and its checks. Walking the steps is [`crate::job`].

mod step;

pub use step::{Action, Retry, Step, StepDoc};

use crate::{
    Alert, Period, ResourcePath,
    alert::ResourceError,
    definition::{Defined, Definition, Kind, Misfit, Others},
    document::{Checker, Document, Problem},
    expr::{ExprError, Names, Scope, Template, Type, Val},
    inputs::{Inputs, InputsError},
};
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use serde_json::{Map, Value};
use std::{collections::BTreeMap, sync::Arc};

/// The names that the expressions of steps start from.
const STEPS: [&str; 4] = ["inputs", "steps", "job", "alert"];

/// What the expressions of a runbook know at one place: its inputs, and the steps so far.
struct Known {
    inputs: Type,
    steps: BTreeMap<String, Type>,
    types: Vec<(&'static str, Type)>,
}

impl Known {
    fn new(inputs: Option<&Inputs>) -> Self {
        let inputs = inputs.map_or(Type::Any, Inputs::as_type);
        let mut known = Self { inputs, steps: BTreeMap::new(), types: Vec::new() };
        known.retype();
        known
    }

    fn step(&mut self, id: String) {
        self.steps.insert(id, Type::Any);
        self.retype();
    }

    fn retype(&mut self) {
        self.types = vec![("inputs", self.inputs.clone()), ("steps", Type::Record(Arc::new(self.steps.clone())))];
    }

    fn names(&self) -> Names<'_> {
        Names { roots: &STEPS, functions: &[], types: &self.types }
    }

    /// Those of the target, which is found before any step.
    fn inputs(&self) -> Names<'_> {
        Names { roots: &STEPS[..1], functions: &[], types: &self.types }
    }
}

/// Most steps of a runbook.
pub const MAX_STEPS: usize = 200;

/// A runbook as written.
#[derive(Clone, Debug, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct RunbookDoc {
    /// The name.
    pub runbook: String,
    /// One line for people.
    #[serde(default)]
    pub summary: Option<String>,
    /// JSON Schema properties; an input without a default must be given.
    #[serde(default)]
    pub inputs: Map<String, Value>,
    /// The resource acted on; only one job at a time runs on it.
    pub target: String,
    /// How long the steps may take together. Left out: 1h.
    #[serde(default)]
    pub timeout: Option<Period>,
    /// What is done, in this order.
    pub steps: Vec<StepDoc>,
    /// How the effect is proved after the steps.
    #[serde(default)]
    pub confirm: Option<ConfirmDoc>,
    /// What the job gives; `${ ... }` sees `inputs` and `steps`.
    #[serde(default)]
    pub outputs: Map<String, Value>,
}

/// How the effect is proved.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct ConfirmDoc {
    /// The state that the alarm which set the job off must reach.
    pub alarm: ConfirmAlarm,
    /// How long after the last step.
    pub within: Period,
}

/// The state of the alarm that proves the effect.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "lowercase")]
pub enum ConfirmAlarm {
    /// No longer raised.
    Cleared,
}

/// A checked runbook.
#[derive(Clone, Debug)]
pub struct Runbook {
    /// The name.
    pub name: String,
    /// One line for people.
    pub summary: Option<String>,
    /// What must be given.
    pub inputs: Inputs,
    target: Template,
    /// How long the steps may take together.
    pub timeout: Period,
    /// What is done.
    pub steps: Vec<Step>,
    /// How the effect is proved.
    pub confirm: Option<ConfirmDoc>,
    /// What the job gives.
    pub outputs: Template,
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

    fn misfits(&self, others: &dyn Others) -> Vec<Misfit> {
        self.steps.iter().enumerate().flat_map(|(i, step)| step.misfits(&format!("/steps/{i}"), others)).collect()
    }
}

impl Defined for Runbook {
    const KIND: Kind = Kind::Runbook;
    type Doc = RunbookDoc;

    fn check(document: &Document) -> Result<Self, Vec<Problem>> {
        let (doc, mut check) = Checker::of::<RunbookDoc>(document)?;
        let inputs = Inputs::check(&mut check, "/inputs", doc.inputs);
        let mut known = Known::new(inputs.as_ref());
        let target = check.template("/target", &Value::String(doc.target), known.inputs());
        if doc.steps.is_empty() || doc.steps.len() > MAX_STEPS {
            check.fail("/steps", format!("a runbook has 1 to {MAX_STEPS} steps, not {}", doc.steps.len()));
        }
        let steps = step::check_steps(&mut check, doc.steps, &mut known);
        let outputs = check.template("/outputs", &Value::Object(doc.outputs), known.names());
        let made = (|| {
            Some(Self {
                name: doc.runbook,
                summary: doc.summary,
                inputs: inputs?,
                target: target?,
                timeout: doc.timeout.unwrap_or(Period::from_secs(3600)),
                steps: steps?,
                confirm: doc.confirm,
                outputs: outputs?,
            })
        })();
        check.finish(made)
    }
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
}

impl Runbook {
    /// Checks what is given and finds the target.
    ///
    /// # Errors
    /// Why a job would be refused.
    pub fn prepare(&self, given: Map<String, Value>) -> Result<Prepared, PrepareError> {
        let inputs = Value::Object(self.inputs.complete(given)?);
        let target = self.target.fill_text(&InputScope(&inputs)).map_err(PrepareError::TargetUnknown)?;
        let target = ResourcePath::parse(&target).map_err(PrepareError::NoTarget)?;
        match inputs {
            Value::Object(inputs) => Ok(Prepared { inputs, target }),
            _ => Ok(Prepared { inputs: Map::new(), target }),
        }
    }
}

/// What the expressions of a running job see.
#[derive(Debug)]
pub struct JobScope<'a> {
    /// The job's inputs.
    pub inputs: &'a Value,
    /// Outputs of the steps done so far, by their ids.
    pub steps: &'a Value,
    /// `id`, `runbook`, `target`.
    pub job: &'a Value,
    /// What set it off.
    pub alert: Option<&'a Alert>,
}

impl<'a> Scope<'a> for JobScope<'a> {
    fn name(&'a self, name: &str) -> Option<Val<'a>> {
        match name {
            "inputs" => Some(Val::json(self.inputs)),
            "steps" => Some(Val::json(self.steps)),
            "job" => Some(Val::json(self.job)),
            "alert" => Some(self.alert.map_or(Val::Null, Val::Alert)),
            _ => None,
        }
    }
}

#[cfg(test)]
mod tests;
