//! A step as written: what all kinds have in common, and the kind by the key that names it.

use super::{
    Action, MAX_DEPTH, OnError, Retry, Step, ask::AskDoc, awaiting::AwaitDoc, call::CallDoc,
    check::CheckDoc, child::ChildDoc, choose::ChooseDoc, each::EachDoc, emit::EmitDoc,
    finish::FinishDoc, pause::PauseDoc, remember::RememberDoc, require::RequireDoc,
    script::ScriptDoc, set::SetDoc, shared::UseDoc, tell::TellStepDoc, together::TogetherDoc,
};
use crate::{
    Period,
    document::Checker,
    expr::{Length, LengthDoc, Names},
    glob::Glob,
    runbook::shared_step::SharedStep,
    text::{cut, nearest},
};
use schemars::{JsonSchema, Schema, SchemaGenerator, json_schema};
use serde::{Deserialize, Serialize, de::DeserializeOwned};
use serde_json::{Map, Value};
use std::{
    borrow::Cow,
    collections::{BTreeMap, BTreeSet},
};

/// What belongs to a step of any kind.
#[derive(Clone, Debug, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
struct CommonDoc {
    /// Its name; later steps see its output as `steps.<id>`.
    id: String,
    /// One line for people.
    #[serde(default)]
    summary: Option<String>,
    /// A condition; the step is passed over unless it holds.
    #[serde(default)]
    when: Option<String>,
    /// Whether and how it is tried again: of calls.
    #[serde(default)]
    retry: Option<Retry>,
    /// How long it may take: one try of a call, any other step as a whole.
    #[serde(default)]
    timeout: Option<LengthDoc>,
    /// What follows when it fails: `stop`, `continue`, or the `id` of a later step of the same
    /// list. Left out: `stop`.
    #[serde(default)]
    on_error: Option<String>,
    /// What takes it back if the job fails later: a step without an `id`. A call goes through the
    /// same connection unless it says otherwise.
    #[serde(default)]
    #[schemars(with = "Option<AnyStepDoc>")]
    undo: Option<Map<String, Value>>,
}

const COMMON: [&str; 7] = ["id", "summary", "when", "retry", "timeout", "on_error", "undo"];

/// Parts of places that are no step's name.
const RESERVED: [&str; 6] = ["undo", "probe", "confirm", "told", "reached", "announced"];

/// A kind of step as written.
pub(super) trait KindDoc: DeserializeOwned + JsonSchema {
    /// All its keys; the first names the kind.
    const KEYS: &'static [&'static str];

    /// The checked kind.
    fn build(self, build: &mut Build<'_, '_>, at: &str, names: Names<'_>) -> Option<Action>;
}

/// A kind: its keys, how it is checked, and its schema.
struct Kind {
    keys: &'static [&'static str],
    build: fn(&mut Build<'_, '_>, &str, Value, Names<'_>) -> Option<Action>,
    schema: fn(&mut SchemaGenerator) -> Schema,
}

const fn kind<T: KindDoc>() -> Kind {
    Kind { keys: T::KEYS, build: build::<T>, schema: T::json_schema }
}

/// All kinds.
const KINDS: [Kind; 16] = [
    kind::<CallDoc>(),
    kind::<ScriptDoc>(),
    kind::<RequireDoc>(),
    kind::<SetDoc>(),
    kind::<RememberDoc>(),
    kind::<CheckDoc>(),
    kind::<ChooseDoc>(),
    kind::<EachDoc>(),
    kind::<TogetherDoc>(),
    kind::<AskDoc>(),
    kind::<AwaitDoc>(),
    kind::<PauseDoc>(),
    kind::<ChildDoc>(),
    kind::<TellStepDoc>(),
    kind::<EmitDoc>(),
    kind::<FinishDoc>(),
];

fn build<T: KindDoc>(
    build: &mut Build<'_, '_>,
    at: &str,
    value: Value,
    names: Names<'_>,
) -> Option<Action> {
    let doc: T = build.check.decode(at, &value)?;
    doc.build(build, at, names)
}

/// A step as written, for its schema: what all have in common and one kind.
#[derive(Debug)]
pub struct StepDoc;

/// The same without an `id`.
#[derive(Debug)]
pub(in crate::runbook) struct AnyStepDoc;

impl JsonSchema for StepDoc {
    fn schema_name() -> Cow<'static, str> {
        "Step".into()
    }

    fn json_schema(generator: &mut SchemaGenerator) -> Schema {
        let mut kinds = schemas(generator, true);
        kinds.push(UseDoc::json_schema(generator));
        json_schema!({ "anyOf": kinds })
    }
}

impl JsonSchema for AnyStepDoc {
    fn schema_name() -> Cow<'static, str> {
        "StepWithoutId".into()
    }

    fn json_schema(generator: &mut SchemaGenerator) -> Schema {
        json_schema!({ "anyOf": schemas(generator, false) })
    }
}

/// A schema for each kind of step.
fn schemas(generator: &mut SchemaGenerator, has_id: bool) -> Vec<Schema> {
    let mut common = CommonDoc::json_schema(generator);
    if let (false, Some(Value::Object(properties))) = (has_id, common.get_mut("properties")) {
        properties.remove("id");
    }
    let id = has_id.then(|| Value::from("id"));
    let one = |kind: &Kind| {
        let mut whole = (kind.schema)(generator);
        let own = whole.get("required").and_then(Value::as_array).cloned().unwrap_or_default();
        whole.insert("required".into(), id.iter().cloned().chain(own).collect());
        if let (Some(Value::Object(properties)), Some(Value::Object(common))) =
            (whole.get_mut("properties"), common.get("properties"))
        {
            properties.extend(common.clone());
        }
        whole
    };
    KINDS.iter().map(one).collect()
}

/// Checks the steps of one runbook.
pub(crate) struct Build<'c, 'd> {
    pub(crate) check: &'c mut Checker<'d>,
    seen: BTreeSet<String>,
    depth: usize,
    /// How long the steps may take together, where that is written out.
    pub(super) limit: Option<Period>,
    /// How many loops and ways side by side stand around.
    beside: usize,
    /// The files of the runbook, by name.
    pub(super) files: &'c BTreeMap<String, String>,
    /// The connections that a `via` may give that is worked out and lists none itself.
    pub(super) connections: &'c [Glob],
    /// The shared steps that were asked for; none of one that cannot be used.
    pub(super) shared: BTreeMap<String, Option<SharedStep>>,
    /// How many bytes these have.
    pub(super) bytes: usize,
}

impl<'c, 'd> Build<'c, 'd> {
    pub(crate) fn new(
        check: &'c mut Checker<'d>,
        files: &'c BTreeMap<String, String>,
        connections: &'c [Glob],
        limit: Option<Period>,
    ) -> Self {
        Self {
            check,
            seen: BTreeSet::new(),
            depth: 0,
            limit,
            beside: 0,
            files,
            connections,
            shared: BTreeMap::new(),
            bytes: 0,
        }
    }

    /// A length of time that a step waits; complains about one that the steps together do not have.
    pub(super) fn within(
        &mut self,
        at: &str,
        within: LengthDoc,
        names: Names<'_>,
    ) -> Option<Length> {
        let within = self.check.length(at, within, names)?;
        if let (Some(written), Some(limit)) = (within.written(), self.limit)
            && written > limit
        {
            let message = format!(
                "{within} is longer than all steps may take together; `timeout` is {limit}"
            );
            self.check.fail(at, message);
        }
        Some(within)
    }

    /// How many steps there were so far.
    pub(crate) fn count(&self) -> usize {
        self.seen.len()
    }

    /// A list of steps beside which others run. None of them can end the job: what of the others?
    pub(super) fn steps_beside(
        &mut self,
        at: &str,
        docs: Vec<Map<String, Value>>,
        names: Names<'_>,
    ) -> Option<Vec<Step>> {
        self.beside += 1;
        let made = self.steps(at, docs, names);
        self.beside -= 1;
        made
    }

    /// Whether other steps may run beside this one.
    pub(super) fn is_beside(&self) -> bool {
        self.beside > 0
    }

    /// A list of steps that stands at a pointer.
    pub(crate) fn steps(
        &mut self,
        at: &str,
        docs: Vec<Map<String, Value>>,
        names: Names<'_>,
    ) -> Option<Vec<Step>> {
        if self.depth == MAX_DEPTH {
            self.check.fail(at, format!("steps within steps stand at most {MAX_DEPTH} deep"));
            return None;
        }
        if docs.is_empty() {
            self.check.fail(at, "there are no steps here; give it one at least");
            return None;
        }
        self.depth += 1;
        let ids: Vec<String> = docs
            .iter()
            .map(|d| d.get("id").and_then(Value::as_str).unwrap_or_default().to_owned())
            .collect();
        let one = |(i, doc)| self.step(&format!("{at}/{i}"), doc, names, &ids[i..]);
        let made: Vec<Option<Step>> = docs.into_iter().enumerate().map(one).collect();
        self.depth -= 1;
        let offset = |(i, step): (usize, Option<Step>)| {
            let mut step = step?;
            if let OnError::GoTo(ahead) = step.on_error {
                step.on_error = OnError::GoTo(i + ahead);
            }
            Some(step)
        };
        made.into_iter().enumerate().map(offset).collect()
    }

    /// One step; `ids` are its own and those behind it in the same list.
    fn step(
        &mut self,
        at: &str,
        mut doc: Map<String, Value>,
        names: Names<'_>,
        ids: &[String],
    ) -> Option<Step> {
        if doc.contains_key("use") {
            return self.shared_step(at, doc, names, ids);
        }
        let kind = self.kind(at, &doc)?;
        self.known_keys(at, kind, &mut doc);
        let (common, own) = doc.into_iter().partition(|(key, _)| COMMON.contains(&key.as_str()));
        let common: Option<CommonDoc> = self.check.decode(at, &Value::Object(common));
        let named = common.as_ref().is_some_and(|c| self.name(at, &c.id));
        let action = (kind.build)(self, at, Value::Object(own), names);
        let common = common.filter(|_| named)?;
        let when = match &common.when {
            None => Some(None),
            Some(text) => self.check.condition(&format!("{at}/when"), text, names).map(Some),
        };
        let timeout = match common.timeout {
            None => Some(None),
            Some(timeout) => self.check.length(&format!("{at}/timeout"), timeout, names).map(Some),
        };
        let on_error = self.on_error(at, common.on_error.as_deref(), ids);
        let undo = match common.undo {
            None => Some(None),
            Some(doc) => self.undo(at, doc, action.as_ref(), names).map(|u| Some(Box::new(u))),
        };
        self.retry(at, common.retry, action.as_ref());
        let action = action?;
        Some(Step {
            id: common.id,
            summary: common.summary,
            when: when?,
            retry: common.retry,
            timeout: timeout?,
            on_error: on_error?,
            undo: undo?,
            shared: None,
            action,
        })
    }

    /// The kind that the keys name.
    fn kind(&mut self, at: &str, doc: &Map<String, Value>) -> Option<&'static Kind> {
        let named: Vec<&Kind> = KINDS.iter().filter(|k| doc.contains_key(k.keys[0])).collect();
        // A kind may have the key of another beside its own.
        let has_all = |kind: &&&Kind| named.iter().all(|other| kind.keys.contains(&other.keys[0]));
        match (named.iter().find(has_all), &named[..]) {
            (Some(kind), _) => return Some(kind),
            (None, [one, other, ..]) => {
                let (one, other) = (one.keys[0], other.keys[0]);
                self.check
                    .fail(at, format!("a step is of one kind; this one has `{one}` and `{other}`"));
            }
            (None, _) => {
                let words: Vec<&str> = KINDS.iter().map(|k| k.keys[0]).chain(["use"]).collect();
                let own = doc.keys().filter(|k| !COMMON.contains(&k.as_str()));
                let hint = match own.filter_map(|k| nearest(k, words.clone())).next() {
                    Some(near) => format!("did you mean `{near}`?"),
                    None => format!("give it one of {}", words.join(", ")),
                };
                self.check.fail(at, format!("the step does nothing; {hint}"));
            }
        }
        None
    }

    /// Complains about keys that the kind does not have, and leaves them out.
    fn known_keys(&mut self, at: &str, kind: &Kind, doc: &mut Map<String, Value>) {
        let known = |key: &str| COMMON.contains(&key) || kind.keys.contains(&key);
        let strange: Vec<String> = doc.keys().filter(|k| !known(k)).cloned().collect();
        for key in strange {
            doc.remove(&key);
            let whose: Vec<String> = KINDS
                .iter()
                .filter(|k| k.keys.contains(&key.as_str()))
                .map(|k| format!("`{}`", k.keys[0]))
                .collect();
            let near = nearest(&key, COMMON.into_iter().chain(kind.keys.iter().copied()));
            let message = match (whose.is_empty(), near) {
                (false, _) => {
                    format!("`{key}` belongs to {}, not to `{}`", whose.join(" and "), kind.keys[0])
                }
                (true, Some(near)) => {
                    format!("unknown key `{}`; did you mean `{near}`?", cut(&key, 60))
                }
                (true, None) => format!(
                    "unknown key `{}`; a step with `{}` has {}",
                    cut(&key, 60),
                    kind.keys[0],
                    [&COMMON[..], kind.keys].concat().join(", ")
                ),
            };
            let pointer = format!("{at}/{}", key.replace('~', "~0").replace('/', "~1"));
            self.check.fail_key(&pointer, message);
        }
    }

    pub(super) fn name(&mut self, at: &str, id: &str) -> bool {
        let plain = |c: char| c.is_ascii_lowercase() || c.is_ascii_digit() || c == '_';
        if id == "undo" && at.ends_with("/undo") {
            return true;
        }
        let good = id.starts_with(|c: char| c.is_ascii_lowercase())
            && id.chars().all(plain)
            && id.len() <= 40;
        if RESERVED.contains(&id) {
            let message = format!(
                "`{id}` is reserved, as all of {} are; call the step otherwise",
                RESERVED.join(", ")
            );
            self.check.fail(&format!("{at}/id"), message);
            return false;
        }
        if !good {
            let rule = "use lower case letters, digits and _, at most 40, a letter first";
            self.check.fail(
                &format!("{at}/id"),
                format!("`{}` is not the name of a step; {rule}", cut(id, 60)),
            );
        } else if !self.seen.insert(id.to_owned()) {
            let message = format!(
                "another step is named `{id}` already; names are unique in the whole runbook"
            );
            self.check.fail(&format!("{at}/id"), message);
            return false;
        }
        good
    }

    pub(super) fn on_error(
        &mut self,
        at: &str,
        word: Option<&str>,
        ids: &[String],
    ) -> Option<OnError> {
        match word {
            None | Some("stop") => Some(OnError::Stop),
            Some("continue") => Some(OnError::Continue),
            Some(id) => match ids.iter().skip(1).position(|i| i == id) {
                Some(behind) => Some(OnError::GoTo(behind + 1)),
                None => {
                    let known =
                        "it is `stop`, `continue`, or the `id` of a later step of the same list";
                    self.check
                        .fail(&format!("{at}/on_error"), format!("`{}`: {known}", cut(id, 60)));
                    None
                }
            },
        }
    }

    fn retry(&mut self, at: &str, retry: Option<Retry>, action: Option<&Action>) {
        let Some(retry) = retry else { return };
        if let Some(action) = action.filter(|a| !matches!(a, Action::Call(_))) {
            let hint = "`retry` belongs to `call` and `script`, and `check` looks again until something holds";
            self.check.fail(
                &format!("{at}/retry"),
                format!("a `{}` is not tried again; {hint}", action.kind()),
            );
        }
        for (key, why) in retry.diagnostics() {
            self.check.fail(&format!("{at}/retry/{key}"), why);
        }
    }

    /// What takes a step back; a call of it goes through the connection of the step.
    fn undo(
        &mut self,
        at: &str,
        mut doc: Map<String, Value>,
        of: Option<&Action>,
        names: Names<'_>,
    ) -> Option<Step> {
        let at = format!("{at}/undo");
        for key in ["id", "undo", "on_error"] {
            if doc.remove(key).is_some() {
                self.check.fail(
                    &format!("{at}/{key}"),
                    format!("what takes a step back has no `{key}` of its own"),
                );
            }
        }
        let goes_the_same_way = doc.contains_key("call") && !doc.contains_key("via");
        if goes_the_same_way && of.is_none() {
            // Which way that is was complained about already.
            return None;
        }
        if let (true, Some(Action::Call(call))) = (goes_the_same_way, of)
            && let Some((via, _)) = call.callee.operation()
        {
            let (via, listed) = via.as_written();
            doc.insert("via".into(), via.into());
            if !listed.is_empty() {
                doc.insert("connections".into(), listed.into());
            }
        }
        // Its name is no step's: nobody reads its output, and its place is that of the step with
        // `.undo`.
        doc.insert("id".into(), "undo".into());
        let step = self.step(&at, doc, names, &[]);
        let step = step?;
        if !step.action.inner().is_empty() {
            self.check.fail(&at, "what takes a step back is a single step");
            return None;
        }
        Some(step)
    }
}
