//! What a job would do, worked out without doing anything: every value that can be known
//! beforehand, each request as it would be sent, and of the rest what it depends on.

use super::{Facts, Place, execution::EVALUATED_AT_ONCE};
use crate::{
    alarm::Alarm,
    bounds::weight,
    connector::{Operation, ShownRequest},
    expr::{Expr, ExprError, Length, Template},
    runbook::{
        ANNOUNCED, Action, Announce, Callee, Choose, Each, JobScope, Reference, Runbook, Step, To,
        all,
    },
    script::Script,
    text::{clean_json, cut},
};
use serde_json::{Map, Value, json};
use std::{
    cell::Cell,
    collections::{BTreeMap, BTreeSet},
};

/// Items of a list that are shown one by one.
const ITEMS_SHOWN: usize = 100;
/// About how many bytes are shown in all: of lists within lists, and of large inputs at many
/// places, there is no end.
const ROOM: usize = 4 << 20;
/// What a step takes of it beside its values.
const STEP: usize = 512;

/// A value, as far as it can be known.
#[derive(Clone, Debug, PartialEq)]
pub enum Preview {
    /// It is this.
    Known(Value),
    /// It depends on what these will be, such as `steps.look`.
    Unknown(Vec<String>),
    /// It cannot be worked out, and why.
    Wrong(String),
}

/// What a step would do.
#[derive(Clone, Debug, PartialEq)]
pub struct DryStep {
    /// Where it stands.
    pub place: Place,
    /// Its `id`.
    pub id: String,
    /// The word for its kind.
    pub kind: &'static str,
    /// One line for people.
    pub summary: Option<String>,
    /// What it does, in a line.
    pub does: String,
    /// Whether it is run at all.
    pub when: Option<Preview>,
    /// What it is given, by name.
    pub given: Vec<(String, Preview)>,
    /// The request that would be sent, if all of it is known.
    pub request: Option<ShownRequest>,
    /// What stands within it.
    pub parts: Vec<DryPart>,
    /// How many items of a list are not among these.
    pub left_out: usize,
}

/// Steps within a step.
#[derive(Clone, Debug, PartialEq)]
pub struct DryPart {
    /// A condition, an item, a name.
    pub label: String,
    /// Whether it is gone, if that is known.
    pub taken: Option<bool>,
    /// Its steps.
    pub steps: Vec<DryStep>,
}

/// What a job would do.
#[derive(Clone, Debug, PartialEq)]
pub struct DryRun {
    /// Its steps.
    pub steps: Vec<DryStep>,
    /// What else it may do: `announce`, `confirm`, `otherwise`, `recover`, `always`.
    pub further: Vec<DryPart>,
}

/// Finds the operation of a connection.
pub type Operations<'a> = dyn Fn(&str, &str) -> Option<&'a Operation> + 'a;

/// Works out what a job would do.
pub fn dry_run(
    runbook: &Runbook,
    facts: &Facts,
    alarm: Option<&Alarm>,
    operations: &Operations<'_>,
) -> DryRun {
    let mut dry = Dry::new(runbook, facts, alarm, operations);
    let steps = dry.list(&runbook.steps, &Place::new(""));
    let announced = runbook.announce.as_ref().map(|announce| dry.announcement(announce));
    // What stands behind the steps knows how these went.
    dry.later.insert("job");
    let lists = runbook.lists().into_iter().skip(1).filter(|(_, steps)| !steps.is_empty());
    let part = |(at, steps): (&str, &[Step])| DryPart {
        label: at.trim_start_matches('/').to_owned(),
        taken: None,
        steps: dry.list(steps, &Place::new("")),
    };
    DryRun { steps, further: announced.into_iter().chain(lists.map(part)).collect() }
}

/// One step of a runbook by itself, where others have given what is said.
pub struct StepTrial<'a, 'o> {
    step: &'a Step,
    dry: Dry<'a, 'o>,
}

impl<'a, 'o> StepTrial<'a, 'o> {
    /// The step of that id; none if there is none. What other steps gave is told by their ids,
    /// items of the lists that it stands in by their names.
    pub fn new(
        runbook: &'a Runbook,
        id: &str,
        mut gave: Map<String, Value>,
        (facts, alarm): (&'a Facts, Option<&'a Alarm>),
        operations: &'a Operations<'o>,
    ) -> Option<Self>
    where
        'o: 'a,
    {
        let every = || runbook.lists().into_iter().flat_map(|(_, steps)| all(steps));
        let step = every().find(|step| step.id == id)?;
        let mut dry = Dry::new(runbook, facts, alarm, operations);
        for around in every() {
            if let Action::Each(each) = &around.action
                && all(&each.steps).iter().any(|within| within.id == id)
            {
                let item = gave.remove(&each.name);
                dry.bind(&each.name, item);
            }
        }
        // No step has this name where runs remember something.
        if let Some(memory) = gave.remove("memory").filter(|_| !runbook.memory.is_empty()) {
            dry.memory = memory;
        }
        dry.outputs = gave.into_iter().collect();
        Some(Self { step, dry })
    }

    /// What it would do.
    pub fn preview(&mut self) -> DryStep {
        self.dry.step(self.step, &Place::new("").within(&self.step.id))
    }

    /// What it would call, and what that would be given, if it is run, all of it is known, and it
    /// changes nothing.
    pub fn look(&self, would: &DryStep) -> Option<(String, &'a str, Map<String, Value>)> {
        let call = self.step.action.call()?;
        let (via, operation) = call.callee.operation()?;
        let via = self.dry.reference(via).ok()?;
        let is_run = matches!(would.when, None | Some(Preview::Known(Value::Bool(true))));
        if !is_run || !(self.dry.operations)(&via, operation)?.only_looks() {
            return None;
        }
        Some((via, operation, known(&would.given)?))
    }

    /// Whether the condition of a check holds where its look gave this; none of any other step.
    ///
    /// # Errors
    /// Why that cannot be said.
    pub fn holds(&mut self, result: Value) -> Option<Result<bool, ExprError>> {
        let Action::Check(check) = &self.step.action else { return None };
        let bound = self.dry.bound.len();
        _ = self.dry.bind_inputs(self.step);
        self.dry.bind("result", Some(result));
        let held = self.dry.see(|scope| check.condition.holds(scope));
        self.dry.bound.truncate(bound);
        Some(held)
    }
}

struct Dry<'a, 'o> {
    facts: &'a Facts,
    alarm: Option<&'a Alarm>,
    operations: &'a Operations<'o>,
    job: Value,
    /// What is remembered, where that can be known.
    memory: Value,
    /// What steps give, where that can be known.
    outputs: BTreeMap<String, Value>,
    /// Steps that are not run for certain: that they gave nothing is known as well.
    absent: BTreeSet<String>,
    /// Whether what is looked at is not run for certain: it has no values.
    passed_over: bool,
    /// Items of lists and inputs of shared steps: where they are not known, what they depend on.
    bound: Vec<(String, Result<Value, Vec<String>>)>,
    /// Names of which nothing is known before.
    later: BTreeSet<&'static str>,
    /// For how many bytes there is room.
    room: Cell<usize>,
}

impl<'a, 'o> Dry<'a, 'o> {
    fn new(
        runbook: &Runbook,
        facts: &'a Facts,
        alarm: Option<&'a Alarm>,
        operations: &'a Operations<'o>,
    ) -> Self {
        let job = json!({ "id": facts.id, "runbook": runbook.name, "target": facts.target,
            "failure": null,
            "failed_step": null, "state": null, "effect": null, "errors": {} });
        Self {
            facts,
            alarm,
            operations,
            job,
            memory: facts.remembered(runbook),
            outputs: BTreeMap::new(),
            absent: BTreeSet::new(),
            passed_over: false,
            bound: Vec::new(),
            later: BTreeSet::new(),
            room: Cell::new(ROOM),
        }
    }

    /// What is said before anything is changed; what that is shows only then.
    fn announcement(&mut self, announce: &Announce) -> DryPart {
        let mut step = self.step(&announce.step, &Place::new(ANNOUNCED));
        step.given.retain(|(name, _)| name != "ask");
        DryPart { label: "announce".into(), taken: None, steps: vec![step] }
    }

    fn list(&mut self, steps: &[Step], around: &Place) -> Vec<DryStep> {
        steps.iter().map(|step| self.step(step, &around.within(&step.id))).collect()
    }

    fn step(&mut self, step: &Step, place: &Place) -> DryStep {
        self.charge(STEP);
        // Of another item it may have been known.
        self.absent.remove(&step.id);
        let when = step.when.as_ref().map(|when| self.condition(when));
        let mut told = DryStep {
            place: place.clone(),
            id: step.id.clone(),
            kind: step.action.kind(),
            summary: step.summary.clone(),
            does: step.action.does(),
            when,
            given: Vec::new(),
            request: None,
            parts: Vec::new(),
            left_out: 0,
        };
        let around = self.passed_over;
        let passed_over = around || told.when == Some(Preview::Known(Value::Bool(false)));
        self.passed_over = passed_over;
        let bound = self.bound.len();
        let wrong = self.bind_inputs(step);
        self.action(step, place, &mut told);
        told.given.extend(wrong.map(|why| ("use".to_owned(), Preview::Wrong(why))));
        // Whether it runs is not known, or it does not: what it would give is not known to have
        // been given.
        if passed_over || !matches!(told.when, None | Some(Preview::Known(Value::Bool(true)))) {
            self.outputs.remove(&step.id);
        }
        if let Some(undo) = &step.undo {
            let undo = self.step(undo, &place.within("undo"));
            told.parts.push(DryPart { label: "undo".into(), taken: None, steps: vec![undo] });
        }
        self.bound.truncate(bound);
        if passed_over {
            self.absent.insert(step.id.clone());
            (told.given, told.request) = (Vec::new(), None);
            told.when = told.when.filter(|_| !around);
            told.parts.iter_mut().for_each(|part| part.taken = Some(false));
        }
        self.passed_over = around;
        told
    }

    /// A name of its own from here on.
    fn bind(&mut self, name: &str, value: Option<Value>) {
        self.bound.push((name.to_owned(), value.ok_or_else(|| vec![name.to_owned()])));
    }

    /// Of a shared step: has it see what it is given as its inputs. Why that cannot be.
    fn bind_inputs(&mut self, step: &Step) -> Option<String> {
        let shared = step.shared.as_ref()?;
        let given = self.values(&shared.give);
        let mut depends = Vec::new();
        let mut wrong = Vec::new();
        for (name, value) in &given {
            match value {
                Preview::Known(_) => {}
                Preview::Unknown(on) => depends.extend(on.iter().cloned()),
                Preview::Wrong(why) => wrong.push(format!("{name}: {why}")),
            }
        }
        let inputs = known(&given).map(|given| shared.complete(given)).transpose();
        let bound = match inputs {
            Ok(Some(inputs)) => Ok(inputs),
            Ok(None) => Err(depends),
            Err(why) => {
                wrong.push(why);
                Err(Vec::new())
            }
        };
        let bound = bound.map_err(|on| if on.is_empty() { vec!["inputs".to_owned()] } else { on });
        self.bound.push(("inputs".to_owned(), bound));
        (!wrong.is_empty()).then(|| wrong.join("; "))
    }

    /// Steps of a way that may not be gone.
    fn way(&mut self, steps: &[Step], place: &Place, taken: Option<bool>) -> Vec<DryStep> {
        let around = self.passed_over;
        self.passed_over |= taken == Some(false);
        let told = self.list(steps, place);
        self.passed_over = around;
        if taken != Some(true) {
            steps.iter().for_each(|step| _ = self.outputs.remove(&step.id));
        }
        told
    }

    fn action(&mut self, step: &Step, place: &Place, told: &mut DryStep) {
        match &step.action {
            Action::Call(_) | Action::Check(_) => self.call(&step.action, told),
            Action::Require(require) => {
                let held = self.condition(&require.condition);
                if let Preview::Known(held) = &held {
                    self.outputs.insert(step.id.clone(), held.clone());
                }
                told.given.push(("require".into(), held));
            }
            Action::Set(set) => {
                let values = self.values(&set.values);
                if let Some(all) = known(&values) {
                    self.outputs.insert(step.id.clone(), Value::Object(all));
                }
                told.given = values;
            }
            Action::Remember(remember) => {
                let values = self.values(&remember.values);
                self.remembers(&step.id, &values);
                told.given = values;
            }
            Action::Choose(choose) => self.choose(choose, place, told),
            Action::Each(each) => self.each(each, place, told),
            Action::Together(together) => {
                for (name, steps) in &together.ways {
                    let steps = self.list(steps, place);
                    told.parts.push(DryPart { label: name.clone(), taken: Some(true), steps });
                }
            }
            Action::Ask(ask) => {
                told.given.push(("ask".into(), self.template(&ask.text)));
                if let To::Contact(to) = &ask.to {
                    told.given.push(("to".into(), Preview::Known(to.contact.clone().into())));
                }
                let choices =
                    ask.choices.iter().map(|(name, words)| (name.clone(), self.template(words)));
                told.given.extend(choices.collect::<Vec<_>>());
            }
            Action::Await(event) => {
                told.given.extend(
                    event.chooses().map(|(key, t)| (key, self.template(t))).collect::<Vec<_>>(),
                );
                let condition = event
                    .condition
                    .iter()
                    .map(|c| ("where".into(), Preview::Known(c.text().into())));
                told.given.extend(condition);
            }
            Action::Child(child) => {
                told.given = self.values(&child.give);
                match self.reference(&child.runbook) {
                    Ok(name) => told.does = name,
                    Err(why) => told.given.push(("runbook".into(), why)),
                }
            }
            Action::Tell(tell) => {
                told.given.push(("tell".into(), self.template(&tell.text)));
                told.given.push(("to".into(), Preview::Known(tell.to.contact.clone().into())));
            }
            Action::Emit(emit) => {
                told.given = self.values(&emit.values);
            }
            Action::Pause(pause) => told.given.push(("pause".into(), self.length(&pause.long))),
            Action::Finish(finish) => {
                told.given.extend(
                    finish.because.iter().map(|text| ("because".into(), self.template(text))),
                );
            }
        }
    }

    fn choose(&mut self, choose: &Choose, place: &Place, told: &mut DryStep) {
        // Until the first that is taken for certain, any may be.
        let mut open = Some(true);
        for branch in &choose.branches {
            let held = branch
                .when
                .as_ref()
                .map_or(Preview::Known(true.into()), |when| self.condition(when));
            let taken = match (open, &held) {
                (Some(false), _) | (_, Preview::Known(Value::Bool(false))) => Some(false),
                (Some(true), Preview::Known(_)) => Some(true),
                _ => None,
            };
            open = match (taken, open) {
                (Some(true), _) => Some(false),
                (None, Some(true)) => None,
                (_, open) => open,
            };
            let label = branch.when.as_ref().map_or("else", Expr::text).to_owned();
            let steps = self.way(&branch.steps, place, taken);
            told.parts.push(DryPart { label, taken, steps });
        }
    }

    fn each(&mut self, each: &Each, place: &Place, told: &mut DryStep) {
        let items = self.expr(&each.items);
        let list = match &items {
            Preview::Known(Value::Array(items)) => items.iter().cloned().map(Some).collect(),
            _ => vec![None],
        };
        told.given.push(("each".into(), items));
        let all = list.len();
        for (number, item) in list.into_iter().enumerate() {
            // The first shows what is done with each.
            if number > 0 && (number == ITEMS_SHOWN || self.room.get() == 0) {
                told.left_out = all - number;
                break;
            }
            let label =
                item.as_ref().map_or_else(|| each.name.clone(), |item| item_label(number, item));
            let taken = item.as_ref().map(|_| true);
            self.bind(&each.name, item);
            let steps = self.list(&each.steps, &place.item(number));
            self.bound.pop();
            told.parts.push(DryPart { label, taken, steps });
        }
        each.steps.iter().for_each(|s| _ = self.outputs.remove(&s.id));
    }

    fn call(&mut self, action: &Action, told: &mut DryStep) {
        let Some(call) = action.call() else { return };
        told.given = self.values(&call.give);
        let request = match &call.callee {
            Callee::Operation { via, operation } => {
                let give = known(&told.given);
                let via = match self.reference(via) {
                    Ok(via) => via,
                    Err(why) => {
                        told.given.push(("via".into(), why));
                        return;
                    }
                };
                told.does = action.does_via(&via);
                let (Some(give), Some(operation)) = (give, (self.operations)(&via, operation))
                else {
                    return;
                };
                operation.request(&give, "<key>")
            }
            Callee::Script(script) => {
                let given = self.values(script.env());
                let (give, env) = (known(&told.given), known(&given));
                let named = given.into_iter().map(|(name, told)| (format!("env {name}"), told));
                told.given.extend(named);
                let (Some(give), Some(env)) = (give, env) else { return };
                script.shown(&Script::call_input(give.into(), env.into()))
            }
        };
        match request {
            Ok(request) => told.request = Some(request),
            Err(e) => told.given.push(("request".into(), Preview::Wrong(e.to_string()))),
        }
    }

    fn condition(&self, condition: &Expr) -> Preview {
        match self.unknown([condition]) {
            unknown if !unknown.is_empty() => Preview::Unknown(unknown),
            _ => self.preview(|scope| condition.holds(scope).map(Value::Bool)),
        }
    }

    fn expr(&self, expr: &Expr) -> Preview {
        match self.unknown([expr]) {
            unknown if !unknown.is_empty() => Preview::Unknown(unknown),
            _ => self.preview(|scope| expr.eval(scope).map(|v| v.to_json())),
        }
    }

    fn length(&self, length: &Length) -> Preview {
        length.template().map_or_else(
            || Preview::Known(length.to_string().into()),
            |template| self.template(template),
        )
    }

    fn template(&self, template: &Template) -> Preview {
        match self.unknown(template.expressions().into_iter().map(|(_, e)| e)) {
            unknown if !unknown.is_empty() => Preview::Unknown(unknown),
            _ => self.preview(|scope| template.fill(scope)),
        }
    }

    /// The connection or the runbook that a step names, or why that is not known.
    fn reference(&self, reference: &Reference) -> Result<String, Preview> {
        let template = reference.template().into_iter();
        let unknown = self.unknown(template.flat_map(Template::expressions).map(|(_, e)| e));
        if !unknown.is_empty() {
            return Err(Preview::Unknown(unknown));
        }
        self.see(|scope| reference.resolve(scope)).map_err(|e| Preview::Wrong(e.to_string()))
    }

    /// What expressions depend on that is not known yet.
    fn unknown<'e>(&self, exprs: impl IntoIterator<Item = &'e Expr>) -> Vec<String> {
        let mut unknown = BTreeSet::new();
        for expr in exprs {
            for read in expr.fields_of("steps") {
                match read {
                    Some(id) if self.outputs.contains_key(id) || self.absent.contains(id) => {}
                    Some(id) => _ = unknown.insert(format!("steps.{id}")),
                    None => _ = unknown.insert("steps".to_owned()),
                }
            }
            let read = self.bound.iter().filter(|(name, _)| expr.reads(name));
            unknown.extend(read.filter_map(|(_, value)| value.as_ref().err()).flatten().cloned());
            let later = self.later.iter().chain(["result"].iter()).filter(|name| expr.reads(name));
            unknown.extend(later.map(|name| (*name).to_owned()));
        }
        unknown.into_iter().collect()
    }

    /// A value, as long as there is room for it.
    fn preview(&self, read: impl FnOnce(&JobScope<'_>) -> Result<Value, ExprError>) -> Preview {
        if self.room.get() == 0 {
            return Preview::Wrong("there is too much to show".to_owned());
        }
        match self.see(read) {
            Ok(value) => {
                self.charge(weight(&value, ROOM));
                Preview::Known(clean_json(value))
            }
            Err(e) => Preview::Wrong(e.to_string()),
        }
    }

    /// Values by name, as far as they can be known.
    fn values(&self, values: &Template) -> Vec<(String, Preview)> {
        let entries = values.entries().into_iter();
        entries.map(|(name, template)| (name, self.template(&template))).collect()
    }

    /// What steps behind find in the memory, where that can be known.
    fn remembers(&mut self, id: &str, values: &[(String, Preview)]) {
        match (known(values), &mut self.memory) {
            (Some(written), Value::Object(memory)) => {
                memory.extend(written);
                self.outputs.insert(id.to_owned(), self.memory.clone());
            }
            _ => _ = self.later.insert("memory"),
        }
    }

    fn charge(&self, bytes: usize) {
        self.room.set(self.room.get().saturating_sub(bytes));
    }

    fn see<T>(&self, read: impl FnOnce(&JobScope<'_>) -> T) -> T {
        read(&JobScope {
            inputs: &self.facts.inputs,
            steps: self.outputs.iter().map(|(id, output)| (id.as_str(), output)).collect(),
            job: &self.job,
            alert: self.facts.alert.as_ref(),
            alarm: self.alarm,
            memory: &self.memory,
            event: None,
            bound: self
                .bound
                .iter()
                .filter_map(|(name, item)| Some((name.as_str(), item.as_ref().ok()?)))
                .collect(),
            left: Cell::new(EVALUATED_AT_ONCE),
        })
    }
}

/// What names an item of a list: its number, and itself or what it is called.
pub fn item_label(number: usize, item: &Value) -> String {
    let named = ["name", "id", "resource"].iter().find_map(|key| item[*key].as_str());
    let text = named.or(item.as_str()).map_or_else(|| item.to_string(), str::to_owned);
    format!("{}: {}", number + 1, cut(&text, 80))
}

/// What is given, if all of it is known.
fn known(given: &[(String, Preview)]) -> Option<Map<String, Value>> {
    let one = |(name, told): &(String, Preview)| match told {
        Preview::Known(value) => Some((name.clone(), value.clone())),
        _ => None,
    };
    given.iter().map(one).collect()
}
