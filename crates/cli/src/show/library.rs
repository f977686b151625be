//! The library of ready-made runbooks.

use super::Table;
use arvok_api::LibraryRunbook;

/// All of it.
pub fn library(items: &[LibraryRunbook]) -> String {
    let mut table = Table::new(&["runbook", "summary"]);
    for one in items {
        table.row([one.name.clone(), one.summary.clone().unwrap_or_default()]);
    }
    table.text("The library is empty.")
}
