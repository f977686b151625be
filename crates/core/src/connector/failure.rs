//! How a call can fail, and what is known of the other side then.

use crate::Period;

/// Why a call failed, and what is known of the other side.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Failure {
    /// What happened.
    pub message: String,
    /// What became of the request.
    pub end: CallEnd,
    /// Whether every other try would end the same way.
    pub lasting: bool,
    /// How long the other side asked to be left alone (RFC 9110, section 10.2.3).
    pub retry_after: Option<Period>,
}

crate::words! {
    /// What is known of a request that failed.
    pub enum CallEnd("end of a call") {
        /// It never left, or nobody was there to take it: nothing was done.
        NotSent = "not-sent",
        /// The other side said no: nothing was done.
        Refused = "refused",
        /// It may have been done: no answer came, or one that does not tell.
        Unknown = "unknown",
        /// It was done, but what came back cannot be used.
        Done = "useless",
    }
}

/// Hides what no text for people may have; asked before anything that the other side said is cut.
#[derive(Clone, Copy)]
pub struct Hiding<'h>(pub &'h (dyn Fn(&str) -> String + Sync));

impl std::fmt::Debug for Hiding<'_> {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str("Hiding")
    }
}

impl Hiding<'static> {
    /// Hides nothing.
    pub const NOTHING: Self = Self(&str::to_owned);
}

impl Hiding<'_> {
    /// At most so many bytes of a text, hidden before it is cut.
    pub(crate) fn cut(self, text: &str, most: usize) -> String {
        crate::text::cut(&(self.0)(text), most).to_owned()
    }
}

impl Failure {
    /// A failure after which another try may end otherwise.
    pub fn new(end: CallEnd, message: impl Into<String>) -> Self {
        Self { message: message.into(), end, lasting: false, retry_after: None }
    }

    /// A failure that every try would meet.
    pub fn lasting(end: CallEnd, message: impl Into<String>) -> Self {
        Self { lasting: true, ..Self::new(end, message) }
    }
}
