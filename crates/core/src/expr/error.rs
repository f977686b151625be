//! What is wrong with an expression.

/// What is wrong with an expression, and where in its text.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
#[error("{message}")]
pub struct ExprError {
    /// What is wrong and what to do.
    pub message: String,
    /// Characters of the expression's text, from and to, where known.
    pub span: Option<(u32, u32)>,
    /// Whether a field was missing, which in a rule's `where` means that it does not match.
    pub missing: bool,
}

impl ExprError {
    pub(super) fn new(message: impl ToString) -> Self {
        Self { message: message.to_string(), span: None, missing: false }
    }

    pub(super) fn missing(message: impl ToString) -> Self {
        Self { message: message.to_string(), span: None, missing: true }
    }

    pub(super) fn at(mut self, span: Option<(u32, u32)>) -> Self {
        self.span = self.span.or(span);
        self
    }
}
