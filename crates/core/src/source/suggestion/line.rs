//! One suggested line.

/// A suggested line.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct SuggestedLine {
    /// The line of `read`, or of the intake.
    pub line: &'static str,
    /// What is written there, as YAML.
    pub text: String,
    /// Why.
    pub why: String,
}
