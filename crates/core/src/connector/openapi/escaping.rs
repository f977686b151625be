//! Texts of the description, as they stand in a document of ours.

/// A text of the description, where one of ours would be filled in: it stays the text that it is.
pub(super) fn written(text: &str) -> String {
    text.replace("${", "$${")
}
