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
    Comprehension(Box<Comprehension>),
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

/// A list or the keys of a map, gone through one after the other by a macro.
#[derive(Clone, Debug)]
pub(super) struct Comprehension {
    pub range: Node,
    /// The name of each.
    pub item: String,
    pub makes: Makes,
}

/// What going through a list makes.
#[derive(Clone, Debug)]
pub(super) enum Makes {
    /// Whether a condition holds for every one.
    All(Node),
    /// Whether it holds for one at least.
    Exists(Node),
    /// Whether it holds for exactly one.
    ExistsOne(Node),
    /// Those for which it holds.
    Filter(Node),
    /// What each gives, of those for which a condition holds.
    Map(Option<Node>, Node),
}

impl Makes {
    /// What is evaluated for each.
    pub(super) fn parts(&self) -> Vec<&Node> {
        match self {
            Self::All(test) | Self::Exists(test) | Self::ExistsOne(test) | Self::Filter(test) => {
                vec![test]
            }
            Self::Map(test, element) => test.iter().chain([element]).collect(),
        }
    }
}
