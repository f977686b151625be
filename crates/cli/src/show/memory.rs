//! What runs of runbooks remember.

use super::{Table, ago, with_next};
use arvok_api::{MemoryItem, Page};

/// A list of it.
pub fn memory(page: &Page<MemoryItem>) -> String {
    let mut table = Table::new(&["target", "remembered", "since", "job", "step"]);
    for m in &page.items {
        let values = m.remembered.as_object().into_iter().flatten();
        let values: Vec<String> = values.map(|(name, value)| format!("{name}={value}")).collect();
        table.row([
            m.target.clone(),
            values.join(" "),
            ago(m.at),
            m.job.to_string(),
            m.step.clone(),
        ]);
    }
    with_next(table.text("Nothing is remembered."), page)
}
