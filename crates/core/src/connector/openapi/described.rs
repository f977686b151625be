//! An operation as the description has it.

use crate::glob::Glob;
use serde_json::Value;

/// An operation as the description has it.
pub(super) struct Found<'d> {
    pub name: String,
    pub method: &'static str,
    pub path: &'d str,
    /// What all operations of the path have in common.
    pub shared: &'d Value,
    pub item: &'d Value,
}

impl Found<'_> {
    pub fn summary(&self) -> Option<String> {
        let said = [&self.item["summary"], &self.item["description"]]
            .into_iter()
            .find_map(Value::as_str)?;
        let line = said.lines().map(str::trim).find(|line| !line.is_empty())?;
        Some(crate::text::cut(line.trim_end_matches('.'), 120).to_owned())
    }

    pub fn is_chosen(&self, glob: &Glob) -> bool {
        let tags = self.item["tags"].as_array().into_iter().flatten().filter_map(Value::as_str);
        let id = self.item["operationId"].as_str();
        glob.matches(&self.name)
            || id.is_some_and(|id| glob.matches(id))
            || glob.matches(self.path)
            || glob.matches(self.path.trim_start_matches('/'))
            || tags.into_iter().any(|tag| glob.matches(tag))
    }
}
