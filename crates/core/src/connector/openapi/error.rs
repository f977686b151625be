//! Why no connector can be made of a description.

/// Why no connector can be made.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
pub enum ImportError {
    /// It cannot be read.
    #[error("{0}")]
    Unreadable(String),
    /// It describes something else.
    #[error("this is no description of an API by OpenAPI 3.0 or 3.1: {0}")]
    Other(String),
    /// There is nothing to be taken.
    #[error("{0}")]
    Nothing(String),
    /// All of it is more than one file can hold.
    #[error("{0}; choose some of its operations")]
    TooLarge(String),
    /// The name cannot be one.
    #[error("name: {0}")]
    Name(String),
    /// What was chosen is not a glob.
    #[error("only: `{0}`: {1}")]
    Only(String, String),
}
