//! The text of what was written in HTML, as it would be read.

use crate::{connector::visit::PageReader, text::cut};

/// How much is read, in bytes, in which pieces, and how many nodes it may have.
const LONGEST: usize = 32 << 10;
const PIECE: usize = 64;
const MAX_NODES: usize = 10_000;

/// The lines of a page; none of one that makes very much of little.
pub(crate) fn text_of_html(html: &str) -> String {
    let (mut reader, mut rest) = (PageReader::default(), cut(html, LONGEST));
    while !rest.is_empty() && reader.nodes() <= MAX_NODES {
        let (piece, more) = rest.split_at(rest.ceil_char_boundary(PIECE.min(rest.len())));
        reader.read(piece);
        rest = more;
    }
    if rest.is_empty() { reader.finish().lines() } else { String::new() }
}
