//! Any JSON, posted by the sender. Without lines of its own a source takes the normal form.

/// What a message offers to expressions: its body, and its headers with names in lower case.
pub(super) const OFFERS: [&str; 2] = ["body", super::HEADERS];
