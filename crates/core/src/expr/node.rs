//! The tree of a compiled expression.

use super::value::Const;
use crate::glob::Glob;

/// Characters of an expression's text, from and to, where known.
pub(super) type Span = Option<(u32, u32)>;

/// A node of the compiled program.
#[derive(Clone, Debug)]
pub(super) struct Node {
    pub op: Op,
    pub span: Span,
}

#[derive(Clone, Debug)]
pub(super) enum Op {
    Const(Const),
    Name(String),
    Select(Box<Node>, String),
    Has(Box<Node>, String),
    Index(Box<Node>, Box<Node>),
    Not(Box<Node>),
    Negate(Box<Node>),
    And(Box<Node>, Box<Node>),
    Or(Box<Node>, Box<Node>),
    Choose(Box<Node>, Box<Node>, Box<Node>),
    Binary(Binary, Box<Node>, Box<Node>),
    List(Vec<Node>),
    Map(Vec<(Node, Node)>),
    Call(String, Vec<Node>),
    /// `glob` with a pattern known when compiling.
    Glob(Box<Node>, Glob),
    /// `matches` with a pattern known when compiling.
    Matches(Box<Node>, regex::Regex),
    Fold(Box<Fold>),
    Ranked(Box<Ranked>),
}

#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum Binary {
    Add,
    Subtract,
    Multiply,
    Divide,
    Modulo,
    Equal,
    Differ,
    Less,
    LessEqual,
    Greater,
    GreaterEqual,
    In,
}

/// What `sortBy`, `minBy` and `maxBy` give of a list.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum Rank {
    /// The elements, the least first.
    Order,
    /// The first of the least.
    Least,
    /// The first of the greatest.
    Most,
}

impl Rank {
    /// The macro of that name.
    pub(super) fn named(name: &str) -> Option<Self> {
        Some(match name {
            "sortBy" => Self::Order,
            "minBy" => Self::Least,
            "maxBy" => Self::Most,
            _ => return None,
        })
    }

    pub(super) const fn name(self) -> &'static str {
        match self {
            Self::Order => "sortBy",
            Self::Least => "minBy",
            Self::Most => "maxBy",
        }
    }
}

/// A list whose elements are held against each other by something that each of them gives.
#[derive(Clone, Debug)]
pub(super) struct Ranked {
    pub rank: Rank,
    pub range: Node,
    pub item: String,
    pub key: Node,
}

/// What the macros `all`, `exists`, `map`, `filter` become.
#[derive(Clone, Debug)]
pub(super) struct Fold {
    pub range: Node,
    pub item: String,
    pub item2: Option<String>,
    pub accu: String,
    pub init: Node,
    pub go_on: Node,
    pub step: Node,
    pub result: Node,
}
