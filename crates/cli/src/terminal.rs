//! What reaches the terminal: results on standard output, messages beside them, and neither with
//! what a terminal would take for an order.

use std::{borrow::Cow, io::Write};

/// Prints a result; a reader that has gone away is no error.
pub fn out(text: &str) {
    let _ = writeln!(std::io::stdout(), "{}", plain(text.trim_end()));
}

/// Prints a piece of a result that has its own lines' ends, and nothing in it that is not
/// [`plain`].
pub fn raw(text: &str) {
    let _ = write!(std::io::stdout(), "{text}");
}

/// Prints a message beside the results.
pub fn notice(text: &str) {
    let _ = writeln!(std::io::stderr(), "{}", plain(text.trim_end()));
}

/// A text without what a terminal would take for an order: an alert's words are not ours. Control
/// characters become their pictures, the others and those that turn text round a question mark.
pub fn plain(text: &str) -> Cow<'_, str> {
    let turns = |c: char| {
        matches!(c,
        '\u{202a}'..='\u{202e}' | '\u{2066}'..='\u{2069}' | '\u{200e}' | '\u{200f}')
    };
    let odd = |c: char| (c.is_control() && !matches!(c, '\n' | '\t')) || turns(c);
    if !text.contains(odd) {
        return Cow::Borrowed(text);
    }
    let shown = |c: char| match u32::from(c) {
        _ if !odd(c) => c,
        code @ 0..0x20 => char::from_u32(0x2400 + code).unwrap_or('?'),
        0x7f => '\u{2421}',
        _ => '\u{fffd}',
    };
    Cow::Owned(text.chars().map(shown).collect())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn nothing_is_an_order_to_a_terminal() {
        assert_eq!(
            plain("disk \u{1b}[31mfull\u{7}\u{9b}2J\u{202e}\n"),
            "disk \u{241b}[31mfull\u{2407}\u{fffd}2J\u{fffd}\n"
        );
        assert!(matches!(plain("Fähre übergesetzt\n"), Cow::Borrowed(_)));
    }
}
