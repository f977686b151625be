//! `memory:` of a runbook: what its runs on a target remember for those that come after them.
//!
//! Declared as inputs are, each with a default, which is what the first run finds. Only one job at
//! a time is at work on a target, so nobody writes beside the one that reads.

use crate::{
    document::Checker,
    expr::Type,
    inputs::{Inputs, InputsError},
};
use serde_json::{Map, Value};

/// Most bytes of JSON that are remembered of one target.
pub const MAX_MEMORY: usize = 16 << 10;

/// What runs of a runbook remember.
#[derive(Clone, Debug)]
pub struct RunMemory(Inputs);

impl RunMemory {
    /// What is declared.
    pub(super) fn check(check: &mut Checker<'_>, properties: Map<String, Value>) -> Option<Self> {
        for (name, _) in
            properties.iter().filter(|(_, s)| s.get("default").is_none_or(Value::is_null))
        {
            let wrong = format!("`{name}` has no default; what does the first run find?");
            check.fail(&format!("/memory/{name}"), wrong);
        }
        Inputs::check(check, "/memory", properties).map(Self)
    }

    /// Whether nothing is remembered.
    pub fn is_empty(&self) -> bool {
        self.0.properties().is_empty()
    }

    /// What expressions know of it.
    pub(super) fn as_type(&self) -> Type {
        self.0.as_type()
    }

    /// What the first run finds.
    pub fn defaults(&self) -> Value {
        Value::Object(self.0.complete(Map::new()).unwrap_or_default())
    }

    /// What a run finds where this was remembered. What is not declared any more is left out.
    ///
    /// # Errors
    /// What does not fit as it is declared now.
    pub fn recall(&self, mut remembered: Map<String, Value>) -> Result<Value, String> {
        remembered.retain(|name, _| self.0.properties().contains_key(name));
        self.0.complete(remembered).map(Value::Object).map_err(words)
    }

    /// What is remembered after some values of it are written.
    ///
    /// # Errors
    /// What does not fit, or is too much.
    pub(crate) fn after(&self, now: &Value, written: Map<String, Value>) -> Result<Value, String> {
        let mut values = now.as_object().cloned().unwrap_or_default();
        values.extend(written);
        let values = Value::Object(self.0.complete(values).map_err(words)?);
        match values.to_string().len() {
            bytes if bytes > MAX_MEMORY => {
                Err(format!("{bytes} bytes are remembered then, and {MAX_MEMORY} may be"))
            }
            _ => Ok(values),
        }
    }
}

fn words(error: InputsError) -> String {
    match error {
        InputsError::Unknown { name, near: Some(near) } => {
            format!("`memory` has no `{name}`; did you mean `{near}`?")
        }
        InputsError::Unknown { name, near: None } => format!("`memory` has no `{name}`"),
        InputsError::Missing(name) => format!("`{name}` is missing"),
        InputsError::Wrong { name, reason } => format!("`{name}` is wrong: {reason}"),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::{definition::Defined, document::parse_file, runbook::Runbook};
    use serde_json::json;

    fn memory(declared: &str) -> Result<RunMemory, String> {
        let text = format!(
            "runbook: r\ntarget: vm/a\nmemory: {declared}\nsteps: [ {{ id: a, set: {{ n: 1 }} }} ]\n"
        );
        let documents = parse_file("r.yaml", &text).expect("is YAML");
        Runbook::check(&documents[0]).map(|runbook| runbook.memory).map_err(|p| p[0].to_string())
    }

    fn map(value: Value) -> Map<String, Value> {
        value.as_object().cloned().expect("a map")
    }

    #[test]
    fn the_first_run_finds_the_defaults_and_what_is_not_declared_any_more_is_left_out() {
        let rollout = memory("{ percent: { type: integer, default: 0, maximum: 100 } }");
        let rollout = rollout.expect("checks");
        assert_eq!(rollout.defaults(), json!({ "percent": 0 }));
        let found = rollout.recall(map(json!({ "percent": 40, "region": "brack" })));
        assert_eq!(found, Ok(json!({ "percent": 40 })));
        let unfit = rollout.recall(map(json!({ "percent": "half" }))).expect_err("is no number");
        assert!(unfit.starts_with("`percent` is wrong: "), "{unfit}");
        let wrong = rollout.after(&rollout.defaults(), map(json!({ "percents": 20 })));
        assert_eq!(wrong.expect_err("none"), "`memory` has no `percents`; did you mean `percent`?");
    }

    #[test]
    fn each_has_a_default_and_there_is_an_end_to_it() {
        let said = memory("{ percent: { type: integer } }").expect_err("has no default");
        assert!(said.contains("`percent` has no default; what does the first run find?"), "{said}");
        let notes = memory("{ notes: { type: string, default: '' } }").expect("checks");
        let of = |bytes: usize| notes.after(&json!({}), map(json!({ "notes": "x".repeat(bytes) })));
        let around = json!({ "notes": "" }).to_string().len();
        assert!(of(MAX_MEMORY - around).is_ok());
        let said = of(MAX_MEMORY - around + 1).expect_err("is too much");
        assert_eq!(said, "16385 bytes are remembered then, and 16384 may be");
    }
}
