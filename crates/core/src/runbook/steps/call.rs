//! `call`: an operation of a connector. What is called may be a script too, which has a file and a
//! document of its own; everything else about a call is the same for both.

use super::{
    Action,
    document::{Build, KindDoc},
    reference::{Reference, ReferenceDoc, ReferenceError},
};
use crate::{
    connector,
    definition::{Fault, Kind, Mismatch, Others},
    expr::{Expr, ExprError, Names, Scope, Template, Type},
    runbook::type_environment::{Evaluated, TypeEnvironment, Visitor},
    script::{Script, ScriptParts},
};
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use serde_json::{Map, Value};
use std::{fmt, sync::Arc};

/// As written.
#[derive(Clone, Debug, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub(super) struct CallDoc {
    /// An operation of a connector.
    pub call: String,
    /// The connection through which it is called; with expressions, it is one of `connections`.
    #[serde(default)]
    pub via: Option<String>,
    /// The names and globs of all connections that `via` may give, where it is worked out. Left
    /// out: those of the runbook.
    #[serde(default)]
    pub connections: Vec<String>,
    /// What the operation is given.
    #[serde(default)]
    pub give: Map<String, Value>,
    /// How to find out whether it was done, when no answer says so.
    #[serde(default)]
    pub probe: Option<StepProbeDoc>,
}

/// How to find out whether a call was done.
#[derive(Clone, Debug, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub(super) struct StepProbeDoc {
    /// An operation that changes nothing.
    pub call: String,
    /// The connection. Left out: that of the step.
    #[serde(default)]
    pub via: Option<String>,
    /// The names and globs of all connections that `via` may give, where it is worked out.
    #[serde(default)]
    pub connections: Vec<String>,
    /// What the operation is given.
    #[serde(default)]
    pub give: Map<String, Value>,
    /// A condition over `result`, what the operation gave: whether the step was done.
    pub done: String,
}

/// A checked call.
#[derive(Clone, Debug)]
pub struct Call {
    /// What is called.
    pub callee: Callee,
    /// What it is given.
    pub give: Template,
    /// The names of what it is given.
    given: Vec<String>,
    /// How to find out whether it was done.
    pub probe: Option<Box<StepProbe>>,
}

/// What a call calls, as the author says it.
#[derive(Clone, Debug)]
pub enum Callee {
    /// An operation of a connector.
    Operation {
        /// The connection.
        via: Reference,
        /// The operation.
        operation: String,
    },
    /// A script, on the node that executes the job.
    Script(Arc<Script>),
}

/// A call with everything worked out.
#[derive(Clone, Debug)]
pub struct FilledCall {
    /// What is called.
    pub target: CallTarget,
    /// What it is given.
    pub give: Map<String, Value>,
}

/// Why a call cannot be made.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
pub enum FillError {
    /// The connection is not known.
    #[error("via: {0}")]
    Via(#[from] ReferenceError),
    /// What it is given cannot be worked out.
    #[error("give: {0}")]
    Give(ExprError),
    /// What it is given is not what calls are given.
    #[error("`give` is not a map")]
    NotMap,
}

/// What one call calls.
#[derive(Clone, Debug)]
pub enum CallTarget {
    /// An operation of a connector.
    Operation {
        /// The connection.
        via: String,
        /// The operation.
        operation: String,
    },
    /// A script, on the node that executes the job.
    Script(Arc<Script>),
}

impl PartialEq for CallTarget {
    fn eq(&self, other: &Self) -> bool {
        match (self, other) {
            (Self::Operation { via, operation }, Self::Operation { via: v, operation: o }) => {
                via == v && operation == o
            }
            (Self::Script(script), Self::Script(other)) => Arc::ptr_eq(script, other),
            _ => false,
        }
    }
}

impl fmt::Display for CallTarget {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Operation { via, operation } => write!(f, "{operation} via {via}"),
            Self::Script(script) => f.write_str(&script.line()),
        }
    }
}

impl CallTarget {
    /// Who says when its turn has come, for people: the connection, or the node's scripts.
    pub fn queue(&self) -> &str {
        match self {
            Self::Operation { via, .. } => via,
            Self::Script(_) => "scripts",
        }
    }

    /// Whether it surely changes nothing: what is not known may.
    pub fn only_looks(&self, others: &dyn Others) -> bool {
        match self {
            Self::Script(script) => script.only_looks(),
            Self::Operation { via, operation } => {
                let found = connector::operation(others, via, operation);
                found.is_ok_and(|(_, operation)| operation.only_looks())
            }
        }
    }

    /// The script; none of an operation.
    pub fn script(&self) -> Option<&Script> {
        match self {
            Self::Script(script) => Some(script),
            Self::Operation { .. } => None,
        }
    }

    /// The operation and its connection; none of a script.
    pub fn operation(&self) -> Option<(&str, &str)> {
        match self {
            Self::Operation { via, operation } => Some((via, operation)),
            Self::Script(_) => None,
        }
    }
}

impl fmt::Display for Callee {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Operation { via, operation } => write!(f, "{operation} via {via}"),
            Self::Script(script) => f.write_str(&script.line()),
        }
    }
}

impl Callee {
    /// The script; none of an operation.
    pub fn script(&self) -> Option<&Script> {
        match self {
            Self::Script(script) => Some(script),
            Self::Operation { .. } => None,
        }
    }

    /// The operation and what names its connection; none of a script.
    pub fn operation(&self) -> Option<(&Reference, &str)> {
        match self {
            Self::Operation { via, operation } => Some((via, operation)),
            Self::Script(_) => None,
        }
    }

    /// Everything that it may be.
    pub fn all(&self, others: &dyn Others) -> Vec<CallTarget> {
        match self {
            Self::Script(script) => vec![CallTarget::Script(Arc::clone(script))],
            Self::Operation { via, operation } => {
                let target = |via: &str| CallTarget::Operation {
                    via: via.to_owned(),
                    operation: operation.clone(),
                };
                via.all(others).into_iter().map(target).collect()
            }
        }
    }

    /// Whether it surely changes nothing, whatever it may be.
    pub fn only_looks(&self, others: &dyn Others) -> bool {
        let all = self.all(others);
        !all.is_empty() && all.iter().all(|target| target.only_looks(others))
    }
}

/// How to find out whether a call was done. Its result is the step's output then.
#[derive(Clone, Debug)]
pub struct StepProbe {
    /// What is called.
    pub call: Call,
    /// Whether the step was done, by `result`.
    pub done: Expr,
}

impl KindDoc for CallDoc {
    const KEYS: &'static [&'static str] = &["call", "via", "connections", "give", "probe"];

    fn build(self, build: &mut Build<'_, '_>, at: &str, names: Names<'_>) -> Option<Action> {
        let Some(via) = self.via else {
            build.check.fail(at, MISSING_VIA);
            return None;
        };
        let via = connection(build, at, (via, &self.connections), names);
        let of_step = via.clone();
        let call = via.and_then(|via| Call::build(build, at, (self.call, via), self.give, names));
        let probe = match self.probe {
            None => Some(None),
            Some(doc) => doc.check(build, at, (true, of_step), names).map(Some),
        };
        Some(Action::Call(Call { probe: probe?, ..call? }))
    }
}

/// The connection that a step names.
pub(super) fn connection(
    build: &mut Build<'_, '_>,
    at: &str,
    (via, listed): (String, &[String]),
    names: Names<'_>,
) -> Option<Reference> {
    let of_runbook = build.connections;
    let doc = ReferenceDoc {
        kind: Kind::Connection,
        named: ("via", via),
        listed: ("connections", listed),
        otherwise: Some(("/connections", of_runbook)),
    };
    doc.check(build, at, names)
}

impl StepProbeDoc {
    /// Whether the step has a connection, and which, if that is right.
    pub(super) fn check(
        self,
        build: &mut Build<'_, '_>,
        at: &str,
        of_step: (bool, Option<Reference>),
        names: Names<'_>,
    ) -> Option<Box<StepProbe>> {
        let at = format!("{at}/probe");
        let via = match (self.via, of_step) {
            (Some(via), _) => connection(build, &at, (via, &self.connections), names),
            (None, (true, via)) => via,
            (None, (false, _)) => {
                build.check.fail(&at, MISSING_VIA);
                None
            }
        };
        let call = Call::build(build, &at, (self.call, via?), self.give, names);
        let roots = [names.roots, &["result"]].concat();
        let done = build.check.condition(
            &format!("{at}/done"),
            &self.done,
            Names { roots: &roots, ..names },
        );
        call.zip(done).map(|(call, done)| Box::new(StepProbe { call, done }))
    }
}

/// What is said of a call that says not where it goes.
pub(super) const MISSING_VIA: &str =
    "the key `via` is missing here: through which connection is it called?";

impl Call {
    pub(super) fn build(
        build: &mut Build<'_, '_>,
        at: &str,
        (operation, via): (String, Reference),
        give: Map<String, Value>,
        names: Names<'_>,
    ) -> Option<Self> {
        let given = give.keys().cloned().collect();
        let give = build.check.template(&format!("{at}/give"), &Value::Object(give), names)?;
        Some(Self { callee: Callee::Operation { via, operation }, give, given, probe: None })
    }

    /// A call of a script.
    pub(super) fn of_script(
        build: &mut Build<'_, '_>,
        at: &str,
        parts: ScriptParts,
        names: Names<'_>,
    ) -> Option<Self> {
        let given = parts.give.keys().cloned().collect();
        let give = Value::Object(parts.give.clone());
        let give = build.check.template(&format!("{at}/give"), &give, names);
        let script = Script::check(build.check, at, parts, build.files, names);
        let callee = Callee::Script(Arc::new(script?));
        Some(Self { callee, give: give?, given, probe: None })
    }

    /// What it calls now, and what that is given.
    ///
    /// # Errors
    /// What cannot be worked out.
    pub(crate) fn fill<'a>(&'a self, scope: &'a dyn Scope<'a>) -> Result<FilledCall, FillError> {
        let target = self.target(scope)?;
        let give = self.give.fill(scope).map_err(FillError::Give)?;
        let give = match &self.callee {
            Callee::Operation { .. } => give,
            Callee::Script(script) => script.given(give, scope).map_err(FillError::Give)?,
        };
        match give {
            Value::Object(give) => Ok(FilledCall { target, give }),
            _ => Err(FillError::NotMap),
        }
    }

    /// What it calls now: the same for every try of a step.
    ///
    /// # Errors
    /// If that cannot be worked out.
    pub(crate) fn target<'a>(
        &'a self,
        scope: &'a dyn Scope<'a>,
    ) -> Result<CallTarget, ReferenceError> {
        Ok(match &self.callee {
            Callee::Script(script) => CallTarget::Script(Arc::clone(script)),
            Callee::Operation { via, operation } => {
                CallTarget::Operation { via: via.resolve(scope)?, operation: operation.clone() }
            }
        })
    }

    /// What is known of its output.
    pub(super) fn gives(&self, known: &TypeEnvironment<'_>) -> Type {
        match &self.callee {
            Callee::Operation { via, operation } => known.output_of(via, operation),
            Callee::Script(script) => script.gives(),
        }
    }

    /// What it does, in a line.
    pub fn does(&self) -> String {
        self.callee.to_string()
    }

    pub(super) fn visit<'a>(
        &'a self,
        at: &str,
        known: &mut TypeEnvironment<'a>,
        look: &mut Visitor<'a, '_>,
    ) {
        look(&format!("{at}/give"), Evaluated::Template(&self.give), known.names());
        match &self.callee {
            Callee::Operation { via, .. } => via.visit(&format!("{at}/via"), known, look),
            Callee::Script(script) => {
                look(&format!("{at}/env"), Evaluated::Template(script.env()), known.names());
                let touched = Evaluated::Template(script.touched());
                look(&format!("{at}/touches"), touched, known.names());
            }
        }
        if let Some(probe) = &self.probe {
            probe.call.visit(&format!("{at}/probe"), known, look);
            let mut within = known.clone();
            within.bind("result", probe.call.gives(known));
            look(&format!("{at}/probe/done"), Evaluated::Condition(&probe.done), within.names());
        }
    }

    pub(super) fn misfits(&self, at: &str, others: &dyn Others) -> Vec<Mismatch> {
        let probe = self
            .probe
            .iter()
            .flat_map(|probe| probe.call.harmless(&format!("{at}/probe"), "a probe", others));
        self.misfits_of_each(at, None, others).into_iter().chain(probe).collect()
    }

    /// What does not fit, and whether it may be called as often as one likes.
    pub(super) fn harmless(&self, at: &str, whose: &str, others: &dyn Others) -> Vec<Mismatch> {
        self.misfits_of_each(at, Some(whose), others)
    }

    /// What does not fit with any operation that it may call; `looks` says what it is that may only
    /// look.
    fn misfits_of_each(&self, at: &str, looks: Option<&str>, others: &dyn Others) -> Vec<Mismatch> {
        let Some((via, name)) = self.callee.operation() else { return Vec::new() };
        via.misfits(others, &|via| match connector::operation(others, via, name) {
            Ok((_, operation)) => {
                let whose = format!("operation `{name}`");
                let given = format!("{at}/give");
                let misfits = operation.takes.misfits(&given, &whose, &self.given, &self.give);
                let harm = looks.into_iter().flat_map(|whose| harm(whose, name, operation));
                let harm = harm.map(|wrong| Mismatch::at(format!("{at}/call"), wrong));
                misfits.into_iter().chain(harm).collect()
            }
            Err(missing) => {
                let is_via = missing.what == Kind::Connection.as_str();
                let key = if is_via { "via" } else { "call" };
                vec![Mismatch::at(format!("{at}/{key}"), missing)]
            }
        })
    }
}

/// Why what only looks must not call an operation.
fn harm(whose: &str, name: &str, operation: &connector::Operation) -> Vec<Fault> {
    let mut wrong = Vec::new();
    if operation.repeat != connector::Repeat::Safe {
        wrong.push(format!(
            "{whose} only looks, but doing `{name}` twice is not harmless; call one that is \
            `repeat: safe`"
        ));
    }
    if operation.callback().is_some() {
        wrong.push(format!("`{name}` calls back, and only a step of its own waits for that"));
    }
    wrong.into_iter().map(Fault::Unfit).collect()
}
