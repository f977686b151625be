//! What a function is: its name, what it takes and gives, and what it does.

use crate::expr::{ExprError, types::Type, value::Val};
use std::sync::Arc;

/// What a function takes in one place.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Takes {
    /// Anything.
    Any,
    /// A string.
    Text,
    /// A number.
    Number,
    /// A string or a number.
    TextOrNumber,
    /// A string or a length of time.
    TextOrSpan,
    /// A length of time.
    Span,
    /// A time or a length of time.
    TimeOrSpan,
    /// A list.
    List,
}

impl Takes {
    /// The types that fit; none where anything does.
    pub(in crate::expr) fn types(self) -> Vec<Type> {
        match self {
            Self::Any => vec![],
            Self::Text => vec![Type::Text],
            Self::Number => vec![Type::Number],
            Self::TextOrNumber => vec![Type::Text, Type::Number, Type::Time],
            Self::TextOrSpan => vec![Type::Text, Type::Span],
            Self::Span => vec![Type::Span],
            Self::TimeOrSpan => vec![Type::Time, Type::Span],
            Self::List => vec![Type::List(Arc::new(Type::Any))],
        }
    }

    fn word(self) -> &'static str {
        match self {
            Self::Any => "value",
            Self::Text => "text",
            Self::Number => "number",
            Self::TextOrNumber => "text or number",
            Self::TextOrSpan => "text or length",
            Self::Span => "length",
            Self::TimeOrSpan => "time or length",
            Self::List => "list",
        }
    }
}

/// What a function gives.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Gives {
    /// What cannot be told beforehand.
    Any,
    /// true or false
    Bool,
    /// A number.
    Number,
    /// A string.
    Text,
    /// Bytes.
    Bytes,
    /// An instant.
    Time,
    /// A length of time.
    Span,
    /// A list of strings.
    Texts,
    /// A list.
    List,
}

impl Gives {
    pub(in crate::expr) fn as_type(self) -> Type {
        match self {
            Self::Any => Type::Any,
            Self::Bool => Type::Bool,
            Self::Number => Type::Number,
            Self::Text => Type::Text,
            Self::Bytes => Type::Bytes,
            Self::Time => Type::Time,
            Self::Span => Type::Span,
            Self::Texts => Type::List(Arc::new(Type::Text)),
            Self::List => Type::List(Arc::new(Type::Any)),
        }
    }

    fn word(self) -> &'static str {
        match self {
            Self::Any => "a value",
            Self::Bool => "true or false",
            Self::Number => "a number",
            Self::Text => "a text",
            Self::Bytes => "bytes",
            Self::Time => "a time",
            Self::Span => "a length of time",
            Self::Texts => "a list of texts",
            Self::List => "a list",
        }
    }
}

/// One function.
#[derive(Debug)]
pub struct Function {
    /// Its name, as it is called.
    pub name: &'static str,
    /// What it takes, the value before the dot first.
    pub takes: &'static [Takes],
    /// How many of these may be left out, from the end.
    pub optional: usize,
    /// What it gives.
    pub gives: Gives,
    /// What it does, in one line.
    pub says: &'static str,
    /// Whether a call with values that are all written out is tried before anything is published.
    pub(super) tried: bool,
    pub(super) call: Call,
}

/// What a function makes of its values; nothing where it cannot take them.
pub(super) type FunctionResult<'a> = Option<Result<Val<'a>, ExprError>>;

type Call = for<'a> fn(&[Val<'a>]) -> FunctionResult<'a>;

impl Function {
    pub(super) const fn new(
        name: &'static str,
        takes: &'static [Takes],
        gives: Gives,
        says: &'static str,
        call: Call,
    ) -> Self {
        Self { name, takes, optional: 0, gives, says, tried: false, call }
    }

    /// Whether it stands for a value of another kind: then a text that is none is found out early.
    pub(super) const fn tried(mut self) -> Self {
        self.tried = true;
        self
    }

    pub(super) const fn optional(mut self, optional: usize) -> Self {
        self.optional = optional;
        self
    }

    /// How it is written.
    pub fn form(&self) -> String {
        let least = self.takes.len() - self.optional;
        let shown =
            self.takes.iter().enumerate().map(|(i, t)| {
                if i < least { t.word().to_owned() } else { format!("[{}]", t.word()) }
            });
        format!("{}({}): {}", self.name, shown.collect::<Vec<_>>().join(", "), self.gives.word())
    }
}
