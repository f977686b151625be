//! `call`: an operation of a connector. What is called may be a script too, which has a file and a
//! document of its own; everything else about a call is the same for both.

use super::{
    Action,
    document::{Build, KindDoc},
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
    /// The connection through which it is called.
    #[serde(default)]
    pub via: Option<String>,
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
    pub target: CallTarget,
    /// What it is given.
    pub give: Template,
    /// The names of what it is given.
    given: Vec<String>,
    /// How to find out whether it was done.
    pub probe: Option<Box<StepProbe>>,
}

/// What a call calls.
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

/// How to find out whether a call was done. Its result is the step's output then.
#[derive(Clone, Debug)]
pub struct StepProbe {
    /// What is called.
    pub call: Call,
    /// Whether the step was done, by `result`.
    pub done: Expr,
}

impl KindDoc for CallDoc {
    const KEYS: &'static [&'static str] = &["call", "via", "give", "probe"];

    fn build(self, build: &mut Build<'_, '_>, at: &str, names: Names<'_>) -> Option<Action> {
        let Some(via) = self.via else {
            build.check.fail(at, MISSING_VIA);
            return None;
        };
        let call = Call::build(build, at, (self.call, via.clone()), self.give, names);
        let probe = match self.probe {
            None => Some(None),
            Some(doc) => doc.check(build, at, Some(via), names).map(Some),
        };
        Some(Action::Call(Call { probe: probe?, ..call? }))
    }
}

impl StepProbeDoc {
    /// `via` is the connection of the step, if it has one.
    pub(super) fn check(
        self,
        build: &mut Build<'_, '_>,
        at: &str,
        via: Option<String>,
        names: Names<'_>,
    ) -> Option<Box<StepProbe>> {
        let at = format!("{at}/probe");
        let Some(via) = self.via.or(via) else {
            build.check.fail(&at, MISSING_VIA);
            return None;
        };
        let call = Call::build(build, &at, (self.call, via), self.give, names);
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
        (operation, via): (String, String),
        give: Map<String, Value>,
        names: Names<'_>,
    ) -> Option<Self> {
        let given = give.keys().cloned().collect();
        let give = build.check.template(&format!("{at}/give"), &Value::Object(give), names)?;
        Some(Self { target: CallTarget::Operation { via, operation }, give, given, probe: None })
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
        let target = CallTarget::Script(Arc::new(script?));
        Some(Self { target, give: give?, given, probe: None })
    }

    /// What it is given now.
    ///
    /// # Errors
    /// What cannot be filled in.
    pub(crate) fn fill<'a>(&'a self, scope: &'a dyn Scope<'a>) -> Result<Value, ExprError> {
        let give = self.give.fill(scope)?;
        match &self.target {
            CallTarget::Operation { .. } => Ok(give),
            CallTarget::Script(script) => script.given(give, scope),
        }
    }

    /// What is known of its output.
    pub(super) fn gives(&self, known: &TypeEnvironment<'_>) -> Type {
        match &self.target {
            CallTarget::Operation { via, operation } => known.output_of(via, operation),
            CallTarget::Script(script) => script.gives(),
        }
    }

    /// What it does, in a line.
    pub fn does(&self) -> String {
        self.target.to_string()
    }

    pub(super) fn visit<'a>(
        &'a self,
        at: &str,
        known: &mut TypeEnvironment<'a>,
        look: &mut Visitor<'a, '_>,
    ) {
        look(&format!("{at}/give"), Evaluated::Template(&self.give), known.names());
        if let CallTarget::Script(script) = &self.target {
            look(&format!("{at}/env"), Evaluated::Template(script.env()), known.names());
        }
        if let Some(probe) = &self.probe {
            probe.call.visit(&format!("{at}/probe"), known, look);
            let mut within = known.clone();
            within.bind("result", probe.call.gives(known));
            look(&format!("{at}/probe/done"), Evaluated::Condition(&probe.done), within.names());
        }
    }

    pub(super) fn misfits(&self, at: &str, others: &dyn Others) -> Vec<Mismatch> {
        let own = match self.target.operation() {
            None => Vec::new(),
            Some((via, operation)) => match connector::operation(others, via, operation) {
                Ok((_, op)) => {
                    let whose = format!("operation `{operation}`");
                    op.takes.misfits(&format!("{at}/give"), &whose, &self.given, &self.give)
                }
                Err(missing) => {
                    let is_via = missing.what == Kind::Connection.as_str();
                    let key = if is_via { "via" } else { "call" };
                    vec![Mismatch::at(format!("{at}/{key}"), missing)]
                }
            },
        };
        let probe = self
            .probe
            .iter()
            .flat_map(|probe| probe.call.harmless(&format!("{at}/probe"), "a probe", others));
        own.into_iter().chain(probe).collect()
    }

    /// What does not fit, and whether it may be called as often as one likes.
    pub(super) fn harmless(&self, at: &str, whose: &str, others: &dyn Others) -> Vec<Mismatch> {
        let mut misfits = self.misfits(at, others);
        let Some((via, name)) = self.target.operation() else { return misfits };
        let Ok((_, operation)) = connector::operation(others, via, name) else {
            return misfits;
        };
        if operation.repeat != connector::Repeat::Safe {
            let message = format!(
                "{whose} only looks, but doing `{name}` twice is not harmless; call one that is \
                `repeat: safe`"
            );
            misfits.push(Mismatch::at(format!("{at}/call"), Fault::Unfit(message)));
        }
        if operation.callback().is_some() {
            let message = format!("`{name}` calls back, and only a step of its own waits for that");
            misfits.push(Mismatch::at(format!("{at}/call"), Fault::Unfit(message)));
        }
        misfits
    }
}
