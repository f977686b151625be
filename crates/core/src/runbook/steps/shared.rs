//! `use`: a step that stands in a document of its own (`runbook/shared_step`) and is given its
//! inputs here. What it is stands in the runbook as if it were written there: as it was when the
//! runbook was published.

use super::{Step, document::Build};
use crate::{
    definition::{Defined, Fault, Mismatch, Missing},
    document::MAX_FILE,
    expr::{Names, Scope, Template},
    inputs::Inputs,
    runbook::shared_step::SharedStep,
};
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use serde_json::{Map, Value};

/// As written.
#[derive(Clone, Debug, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub(super) struct UseDoc {
    /// Its name; later steps see its output as `steps.<id>`.
    id: String,
    /// One line for people. Left out: that of the shared step.
    #[serde(default)]
    summary: Option<String>,
    /// A condition; the step is passed over unless it holds.
    #[serde(default)]
    when: Option<String>,
    /// The name of a shared step, a `step:` document.
    #[serde(rename = "use")]
    shared: String,
    /// Its inputs.
    #[serde(default)]
    give: Map<String, Value>,
    /// What follows when it fails: `stop`, `continue`, or the `id` of a later step of the same
    /// list. Left out: `stop`.
    #[serde(default)]
    on_error: Option<String>,
}

/// The keys of a step that uses a shared one.
const KEYS: [&str; 6] = ["id", "summary", "when", "use", "give", "on_error"];

/// That a step is a shared one, and what it is given.
#[derive(Clone, Debug)]
pub struct SharedUse {
    /// The name of the shared step.
    pub name: String,
    /// Its inputs.
    pub give: Template,
    inputs: Inputs,
}

impl SharedUse {
    /// That what it is given can be worked out, and fits.
    ///
    /// # Errors
    /// Why not.
    pub fn check_given<'a>(&'a self, scope: &'a dyn Scope<'a>) -> Result<(), String> {
        match self.give.fill(scope).map_err(|e| format!("give: {e}"))? {
            Value::Object(given) => self.complete(given).map(|_| ()),
            _ => Ok(()),
        }
    }

    /// What is given with the defaults filled in.
    ///
    /// # Errors
    /// What of it does not fit.
    pub fn complete(&self, given: Map<String, Value>) -> Result<Value, String> {
        let whole = self.inputs.complete(given).map(Value::Object);
        whole.map_err(|e| format!("step `{}`: {e}", self.name))
    }

    /// What the step finds as its `inputs` once it has begun, and was checked; nothing where that
    /// cannot be worked out.
    pub fn inputs<'a>(&'a self, scope: &'a dyn Scope<'a>) -> Value {
        match self.give.fill(scope) {
            Ok(Value::Object(given)) => Value::Object(self.inputs.with_defaults(given)),
            _ => Value::Null,
        }
    }
}

impl Build<'_, '_> {
    /// A step that uses a shared one; `ids` are its own and those behind it in the same list.
    pub(super) fn shared_step(
        &mut self,
        at: &str,
        doc: Map<String, Value>,
        names: Names<'_>,
        ids: &[String],
    ) -> Option<Step> {
        let strange: Vec<&String> = doc.keys().filter(|k| !KEYS.contains(&k.as_str())).collect();
        if let Some(key) = strange.first() {
            let wrong = format!(
                "`{key}` does not stand beside `use`, but in the shared step; here stand {}",
                KEYS.join(", ")
            );
            let pointer = format!("{at}/{}", key.replace('~', "~0").replace('/', "~1"));
            self.check.fail_key(&pointer, wrong);
            return None;
        }
        let doc: UseDoc = self.check.decode(at, &Value::Object(doc))?;
        let named = self.name(at, &doc.id);
        let when = match &doc.when {
            None => Some(None),
            Some(text) => self.check.condition(&format!("{at}/when"), text, names).map(Some),
        };
        let on_error = self.on_error(at, doc.on_error.as_deref(), ids);
        let (place, given) = (format!("{at}/give"), Value::Object(doc.give.clone()));
        let give = self.check.template(&place, &given, names);
        let shared = self.find_shared(at, &doc.shared)?;
        let mut step = shared.step()?.clone();
        let give = give?;
        let given: Vec<String> = doc.give.keys().cloned().collect();
        let whose = format!("step `{}`", doc.shared);
        let misfits = shared.inputs().misfits(&place, &whose, &given, &give);
        let fits = misfits.is_empty();
        for Mismatch { pointer, fault } in misfits {
            self.check.fail(&pointer, fault);
        }
        if let (Some(within), Some(limit)) =
            (step.action.within().and_then(|within| within.written()), self.limit)
            && within > limit
        {
            let wrong = format!(
                "step `{}` waits for {within}, longer than all steps may take together; `timeout` \
                is {limit}",
                doc.shared
            );
            self.check.fail(&format!("{at}/use"), wrong);
        }
        if !(named && fits) {
            return None;
        }
        step.id = doc.id;
        step.summary = doc.summary.or_else(|| shared.summary_text());
        step.when = when?;
        step.on_error = on_error?;
        let inputs = shared.inputs().clone();
        step.shared = Some(Box::new(SharedUse { name: doc.shared, give, inputs }));
        Some(step)
    }

    /// The shared step of a name, as it stands for this runbook.
    fn find_shared(&mut self, at: &str, name: &str) -> Option<SharedStep> {
        let at = format!("{at}/use");
        if let Some(known) = self.shared.get(name) {
            if known.is_none() {
                self.check.fail(&at, format!("step `{name}` cannot be used, as above"));
            }
            return known.clone();
        }
        let parts = &self.check.document().parts;
        let found = match parts.get(name) {
            None => {
                let known = parts.keys().map(String::as_str);
                Err(Fault::from(Missing::new("step", name, known)).to_string())
            }
            Some(part) => {
                self.bytes += part.document.text.len();
                SharedStep::check(&part.document).map_err(|problems| {
                    let why = problems.first().map(|p| p.message.as_str()).unwrap_or_default();
                    format!("step `{name}` cannot be used: {why}")
                })
            }
        };
        let found = match found {
            Ok(_) if self.bytes > MAX_FILE => {
                Err(format!("the shared steps of a runbook have at most {MAX_FILE} bytes together"))
            }
            found => found,
        };
        let found = self.check.accept(&at, found);
        self.shared.insert(name.to_owned(), found.clone());
        found
    }
}
