//! Where something stands in the text of an expression.

/// Bytes of the text, from and to.
pub(in crate::expr) type Bytes = (usize, usize);

/// A span in characters, as diagnostics have it.
pub(in crate::expr) fn characters(text: &str, (from, to): Bytes) -> Option<(u32, u32)> {
    let count = |to: usize| text.get(..to)?.chars().count().try_into().ok();
    let (from, to): (u32, u32) = (count(from)?, count(to)?);
    Some((from, to.max(from + 1)))
}
