//! The steps of a runbook: a tree of kinds, each in a file of its own with its document, its check
//! and what it gives to the steps behind it. How each goes on while a job runs stands in
//! `job/steps`.

mod ask;
mod awaiting;
mod call;
mod check;
mod child;
mod choose;
mod document;
mod each;
mod emit;
mod finish;
mod pause;
mod reference;
mod remember;
mod require;
mod retry;
mod script;
mod set;
mod shared;
mod tell;
mod together;

pub use ask::{ANSWER_TO, Ask, LINK, To, ToDoc};
pub use awaiting::{Await, Since};
pub use call::{Call, CallTarget, Callee, FillError, FilledCall, StepProbe};
pub use check::Check;
pub use child::{Child, MAX_GENERATIONS};
pub use choose::{Branch, Choose};
pub use document::StepDoc;
pub use each::{Each, Failures, MAX_ITEMS};
pub use emit::Emit;
pub use finish::{Finish, FinishState};
pub use pause::Pause;
pub use reference::{ListedReference, Reference, ReferenceError};
pub use remember::Remember;
pub use require::Require;
pub use retry::Retry;
pub use set::Set;
pub use shared::SharedUse;
pub use tell::{Recipient, Tell};
pub use together::{Together, Until};

pub(crate) use ask::TELL;
pub(super) use check::of_confirm;
pub(super) use document::{AnyStepDoc, Build};
pub(super) use reference::globs;

use super::type_environment::{Evaluated, TypeEnvironment, Visitor};
use crate::{
    definition::{Kind, Mismatch, Others},
    expr::{Expr, Length, Type},
};

/// Deepest nesting of steps within steps.
pub const MAX_DEPTH: usize = 8;

/// A checked step.
#[derive(Clone, Debug)]
pub struct Step {
    /// Its name, unique within the runbook.
    pub id: String,
    /// One line for people.
    pub summary: Option<String>,
    /// It is passed over unless this holds.
    pub when: Option<Expr>,
    /// Whether and how it is tried again.
    pub retry: Option<Retry>,
    /// How long it may take: one try of a call, any other step as a whole.
    pub timeout: Option<Length>,
    /// What follows when it fails.
    pub on_error: OnError,
    /// What takes it back.
    pub undo: Option<Box<Step>>,
    /// The shared step that it is, with the inputs that this one and what takes it back see.
    pub shared: Option<Box<SharedUse>>,
    /// What is done.
    pub action: Action,
}

/// What follows when a step fails.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum OnError {
    /// The steps around it fail.
    Stop,
    /// The next step.
    Continue,
    /// The step at this place of the same list.
    GoTo(usize),
}

/// What a step does.
#[derive(Clone, Debug)]
pub enum Action {
    /// Calls an operation.
    Call(Call),
    /// Stops unless a condition holds.
    Require(Require),
    /// Works values out.
    Set(Set),
    /// Writes values for the runs that come after this one.
    Remember(Remember),
    /// Looks again and again until a condition holds.
    Check(Box<Check>),
    /// Takes one of several branches.
    Choose(Choose),
    /// Does the same for each item of a list.
    Each(Box<Each>),
    /// Goes several ways side by side.
    Together(Together),
    /// Puts a question to a person.
    Ask(Box<Ask>),
    /// Waits for an event.
    Await(Box<Await>),
    /// Lets time pass.
    Pause(Pause),
    /// Has another runbook done as a job of its own.
    Child(Child),
    /// Sends a message to people.
    Tell(Tell),
    /// Tells of something as an event.
    Emit(Emit),
    /// Ends the job here.
    Finish(Finish),
}

impl Action {
    /// The word for the kind of step.
    pub const fn kind(&self) -> &'static str {
        match self {
            Self::Call(call) => match call.callee {
                Callee::Operation { .. } => "call",
                Callee::Script(_) => "script",
            },
            Self::Require(_) => "require",
            Self::Set(_) => "set",
            Self::Remember(_) => "remember",
            Self::Check(_) => "check",
            Self::Choose(_) => "choose",
            Self::Each(_) => "each",
            Self::Together(_) => "together",
            Self::Ask(_) => "ask",
            Self::Await(_) => "await",
            Self::Pause(_) => "pause",
            Self::Child(_) => "runbook",
            Self::Tell(_) => "tell",
            Self::Emit(_) => "emit",
            Self::Finish(_) => "finish",
        }
    }

    /// The lists of steps within it, each with its JSON pointer below the step.
    pub fn inner(&self) -> Vec<(String, &[Step])> {
        match self {
            Self::Choose(choose) => choose.inner(),
            Self::Each(each) => vec![("/steps".into(), &each.steps)],
            Self::Together(together) => together.inner(),
            Self::Call(_)
            | Self::Require(_)
            | Self::Set(_)
            | Self::Remember(_)
            | Self::Check(_)
            | Self::Ask(_)
            | Self::Await(_) => Vec::new(),
            Self::Pause(_) | Self::Child(_) | Self::Tell(_) | Self::Emit(_) | Self::Finish(_) => {
                Vec::new()
            }
        }
    }

    /// What it does, in a line.
    pub fn does(&self) -> String {
        match self {
            Self::Call(call) => call.does(),
            Self::Require(require) => require.condition.text().to_owned(),
            Self::Set(set) => set.names().join(", "),
            Self::Remember(remember) => remember.does(),
            Self::Check(check) => check.does(),
            Self::Choose(choose) => choose.does(),
            Self::Each(each) => each.does(),
            Self::Together(together) => together.does(),
            Self::Ask(ask) => ask.does(),
            Self::Await(event) => event.does(),
            Self::Pause(pause) => pause.does(),
            Self::Child(child) => child.runbook.to_string(),
            Self::Tell(tell) => tell.does(),
            Self::Emit(emit) => emit.kind.clone(),
            Self::Finish(finish) => finish.outcome.as_str().to_owned(),
        }
    }

    /// The same, where it is known through which connection it calls.
    pub fn does_via(&self, via: &str) -> String {
        let called = self.call().and_then(|call| Some((call, call.callee.operation()?.1)));
        called.map_or_else(
            || self.does(),
            |(call, operation)| {
                self.does().replace(&call.does(), &format!("{operation} via {via}"))
            },
        )
    }

    /// What it calls as what it does itself, or to look.
    pub fn call(&self) -> Option<&Call> {
        match self {
            Self::Call(call) => Some(call),
            Self::Check(check) => check.call.as_ref(),
            _ => None,
        }
    }

    /// Whom it reaches.
    pub fn recipient(&self) -> Option<&Recipient> {
        match self {
            Self::Ask(ask) => ask.to.recipient(),
            Self::Tell(tell) => Some(&tell.to),
            _ => None,
        }
    }

    /// How long it waits at most, or lets pass.
    pub const fn within(&self) -> Option<&Length> {
        match self {
            Self::Check(check) => Some(&check.within),
            Self::Ask(ask) => Some(&ask.within),
            Self::Await(event) => Some(&event.within),
            Self::Pause(pause) => Some(&pause.long),
            Self::Each(each) => each.between.as_ref(),
            _ => None,
        }
    }

    /// The connections and operations that it calls itself, with the key that names each.
    pub(super) fn calls(&self) -> Vec<&Call> {
        match self {
            Self::Call(call) => call.probe.iter().map(|p| &p.call).chain([call]).collect(),
            Self::Check(check) => check.call.iter().collect(),
            Self::Ask(ask) => ask.tell.iter().collect(),
            _ => Vec::new(),
        }
    }

    /// What names the connections that it calls, and the runbook that it has done.
    pub(super) fn references(&self) -> Vec<&Reference> {
        let called = self.calls().into_iter().filter_map(|call| call.callee.operation());
        let child = match self {
            Self::Child(child) => Some(&child.runbook),
            _ => None,
        };
        called.map(|(via, _)| via).chain(child).collect()
    }

    fn visit<'a>(&'a self, at: &str, known: &mut TypeEnvironment<'a>, look: &mut Visitor<'a, '_>) {
        match self {
            Self::Call(call) => call.visit(at, known, look),
            Self::Require(require) => require.visit(at, known, look),
            Self::Set(set) => {
                look(&format!("{at}/set"), Evaluated::Template(&set.values), known.names())
            }
            Self::Remember(remember) => look(
                &format!("{at}/remember"),
                Evaluated::Template(&remember.values),
                known.names(),
            ),
            Self::Check(check) => check.visit(at, known, look),
            Self::Choose(choose) => choose.visit(at, known, look),
            Self::Each(each) => each.visit(at, known, look),
            Self::Together(together) => together.visit(at, known, look),
            Self::Ask(ask) => ask.visit(at, known, look),
            Self::Await(event) => event.visit(at, known, look),
            Self::Pause(pause) => {
                look_at_length(&format!("{at}/pause"), Some(&pause.long), known, look)
            }
            Self::Child(child) => child.visit(at, known, look),
            Self::Tell(tell) => tell.visit(at, known, look),
            Self::Emit(emit) => emit.visit(at, known, look),
            Self::Finish(finish) => finish.visit(at, known, look),
        }
    }

    /// What is known of its output.
    fn gives(&self, known: &TypeEnvironment<'_>) -> Type {
        match self {
            Self::Call(call) => call.gives(known),
            Self::Require(_) => Type::Bool,
            Self::Set(set) => set.gives(),
            Self::Remember(_) => known.memory(),
            Self::Check(check) => check.gives(known),
            Self::Ask(_) => Ask::gives(),
            Self::Await(_) => Await::gives(),
            Self::Child(_) => Child::gives(),
            Self::Tell(_) => Tell::gives(),
            Self::Choose(_)
            | Self::Together(_)
            | Self::Pause(_)
            | Self::Emit(_)
            | Self::Finish(_) => Type::Any,
            Self::Each(_) => Type::List(std::sync::Arc::new(Type::Any)),
        }
    }

    fn misfits(&self, at: &str, others: &dyn Others) -> Vec<Mismatch> {
        match self {
            Self::Call(call) => call.misfits(at, others),
            Self::Check(check) => check.misfits(at, others),
            Self::Ask(ask) => ask.misfits(at, others),
            Self::Child(child) => child.misfits(at, others),
            Self::Tell(tell) => tell.to.misfits(&format!("{at}/to"), others),
            _ => Vec::new(),
        }
    }
}

/// Shows a length of time that is made by an expression.
fn look_at_length<'a>(
    at: &str,
    length: Option<&'a Length>,
    known: &TypeEnvironment<'a>,
    look: &mut Visitor<'a, '_>,
) {
    if let Some(template) = length.and_then(Length::template) {
        look(at, Evaluated::Template(template), known.names());
    }
}

/// The references of steps that do not depend on a condition, where these are worked out of the
/// inputs alone: each with its step.
pub(super) fn references_of_inputs(steps: &[Step]) -> Vec<(&Step, &ListedReference)> {
    let mut found = Vec::new();
    // The inputs of a shared step are not those of the job.
    for step in steps.iter().filter(|step| step.when.is_none() && step.shared.is_none()) {
        let named = step.action.references().into_iter();
        found.extend(named.filter_map(Reference::of_inputs).map(|reference| (step, reference)));
        if !matches!(step.action, Action::Choose(_)) {
            let within = step.action.inner().into_iter();
            found.extend(within.flat_map(|(_, steps)| references_of_inputs(steps)));
        }
    }
    found
}

/// All steps of a list, what is within them, and what takes them back.
pub fn all(steps: &[Step]) -> Vec<&Step> {
    let mut found = Vec::new();
    for step in steps {
        found.push(step);
        step.action.inner().into_iter().for_each(|(_, within)| found.extend(all(within)));
        found.extend(step.undo.as_deref());
    }
    found
}

/// Shows everything that is evaluated, in the order in which it runs, with what is known there.
pub(super) fn visit<'a>(
    steps: &'a [Step],
    at: &str,
    known: &mut TypeEnvironment<'a>,
    look: &mut Visitor<'a, '_>,
) {
    // Steps that a jump passes over, by the place that it leads to.
    let mut passed: Vec<(usize, usize)> = Vec::new();
    for (i, step) in steps.iter().enumerate() {
        for (from, _) in passed.iter().filter(|(_, to)| *to == i) {
            steps[*from..i].iter().for_each(|s| known.may_have_run(s));
        }
        let at = format!("{at}/{i}");
        step.visit(&at, known, look);
        match step.on_error {
            OnError::Stop => {}
            OnError::Continue => known.may_have_run(step),
            OnError::GoTo(to) => passed.push((i, to)),
        }
    }
}

impl Step {
    pub(super) fn visit<'a>(
        &'a self,
        at: &str,
        known: &mut TypeEnvironment<'a>,
        look: &mut Visitor<'a, '_>,
    ) {
        let mut within = known.clone();
        if let Some(when) = &self.when {
            look(&format!("{at}/when"), Evaluated::Condition(when), known.names());
            within.guard(when);
        }
        match &self.shared {
            // What it does was looked at where it stands.
            Some(shared) => {
                look(&format!("{at}/give"), Evaluated::Template(&shared.give), within.names());
            }
            None => {
                look_at_length(&format!("{at}/timeout"), self.timeout.as_ref(), &within, look);
                self.action.visit(at, &mut within, look);
            }
        }
        within.ran(&self.id, self.action.gives(&within));
        if let (None, Some(undo)) = (&self.shared, &self.undo) {
            undo.visit(&format!("{at}/undo"), &mut within.clone(), look);
        }
        if self.when.is_some() {
            known.take_over(&within);
            known.may_have_run(self);
        } else {
            *known = within;
        }
    }

    /// What does not fit with connections and their operations, in it and within it.
    pub(super) fn misfits(&self, at: &str, others: &dyn Others) -> Vec<Mismatch> {
        if let Some(shared) = &self.shared {
            let missing = others.must_have(Kind::Step, &shared.name).err();
            return missing
                .map(|missing| Mismatch::at(format!("{at}/use"), missing))
                .into_iter()
                .collect();
        }
        let own = self.action.misfits(at, others);
        let undo = self.undo.iter().flat_map(|u| u.misfits(&format!("{at}/undo"), others));
        let inner = self.action.inner().into_iter().flat_map(|(below, steps)| {
            steps
                .iter()
                .enumerate()
                .flat_map(move |(i, s)| s.misfits(&format!("{at}{below}/{i}"), others))
        });
        own.into_iter().chain(undo).chain(inner).collect()
    }
}
