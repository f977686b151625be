//! The tree of a compiled expression.

use super::value::Const;
use crate::glob::Glob;

/// A node of the compiled program.
#[derive(Clone, Debug)]
pub(super) struct Node {
    pub op: Op,
    pub span: Option<(u32, u32)>,
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
