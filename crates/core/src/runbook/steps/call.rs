//! `call`: an operation of a connector.

use super::{
    Action,
    document::{Build, KindDoc},
};
use crate::{
    connector,
    definition::{Fault, Kind, Mismatch, Others},
    expr::{Expr, Names, Template},
    runbook::type_environment::{Evaluated, TypeEnvironment, Visitor},
};
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use serde_json::{Map, Value};

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
    /// The operation.
    pub operation: String,
    /// The connection.
    pub via: String,
    /// What it is given.
    pub give: Template,
    /// The names of what it is given.
    given: Vec<String>,
    /// How to find out whether it was done.
    pub probe: Option<Box<StepProbe>>,
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
            build
                .check
                .fail(at, "the key `via` is missing here: through which connection is it called?");
            return None;
        };
        let call = Call::build(build, at, (self.call, via.clone()), self.give, names);
        let probe = match self.probe {
            None => Some(None),
            Some(doc) => {
                let at = format!("{at}/probe");
                let through = (doc.call, doc.via.unwrap_or(via));
                let call = Call::build(build, &at, through, doc.give, names);
                let roots = [names.roots, &["result"]].concat();
                let done = build.check.condition(
                    &format!("{at}/done"),
                    &doc.done,
                    Names { roots: &roots, ..names },
                );
                call.zip(done).map(|(call, done)| Some(Box::new(StepProbe { call, done })))
            }
        };
        Some(Action::Call(Call { probe: probe?, ..call? }))
    }
}

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
        Some(Self { operation, via, give, given, probe: None })
    }

    /// What it does, in a line.
    pub fn does(&self) -> String {
        format!("{} via {}", self.operation, self.via)
    }

    pub(super) fn visit<'a>(
        &'a self,
        at: &str,
        known: &mut TypeEnvironment<'a>,
        look: &mut Visitor<'a, '_>,
    ) {
        look(&format!("{at}/give"), Evaluated::Template(&self.give), known.names());
        if let Some(probe) = &self.probe {
            probe.call.visit(&format!("{at}/probe"), known, look);
            let mut within = known.clone();
            within.bind("result", known.output_of(&probe.call.via, &probe.call.operation));
            look(&format!("{at}/probe/done"), Evaluated::Condition(&probe.done), within.names());
        }
    }

    pub(super) fn misfits(&self, at: &str, others: &dyn Others) -> Vec<Mismatch> {
        let own = match connector::operation(others, &self.via, &self.operation) {
            Ok((_, op)) => {
                let whose = format!("operation `{}`", self.operation);
                op.takes.misfits(&format!("{at}/give"), &whose, &self.given, &self.give)
            }
            Err(missing) => {
                let key = if missing.what == Kind::Connection.as_str() { "via" } else { "call" };
                vec![Mismatch::at(format!("{at}/{key}"), missing)]
            }
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
        let Ok((_, operation)) = connector::operation(others, &self.via, &self.operation) else {
            return misfits;
        };
        if operation.repeat != connector::Repeat::Safe {
            let message = format!(
                "{whose} only looks, but doing `{}` twice is not harmless; call one that is \
                `repeat: safe`",
                self.operation
            );
            misfits.push(Mismatch::at(format!("{at}/call"), Fault::Unfit(message)));
        }
        if operation.callback().is_some() {
            let message = format!(
                "`{}` calls back, and only a step of its own waits for that",
                self.operation
            );
            misfits.push(Mismatch::at(format!("{at}/call"), Fault::Unfit(message)));
        }
        misfits
    }
}
