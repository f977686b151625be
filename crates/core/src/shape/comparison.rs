//! Two kinds side by side: what the one has and the other lacks.

use super::{FieldShape, Shape};
use std::collections::BTreeSet;

/// A field of one of two shapes, or of both.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct ComparedField<'s> {
    /// Its path.
    pub path: &'s str,
    /// What the first knows of it.
    pub left: Option<&'s FieldShape>,
    /// What the second knows of it.
    pub right: Option<&'s FieldShape>,
}

impl ComparedField<'_> {
    /// Whether only one has it, or they have it with no type in common.
    pub fn differs(&self) -> bool {
        match (self.left, self.right) {
            (Some(left), Some(right)) => !left.types.keys().any(|of| right.types.contains_key(of)),
            _ => true,
        }
    }
}

/// The fields of two shapes by their paths.
pub fn compare<'s>(left: &'s Shape, right: &'s Shape) -> Vec<ComparedField<'s>> {
    let paths: BTreeSet<&String> = left.fields.keys().chain(right.fields.keys()).collect();
    let field =
        |path| ComparedField { path, left: left.fields.get(path), right: right.fields.get(path) };
    paths.into_iter().map(|path| field(path.as_str())).collect()
}
