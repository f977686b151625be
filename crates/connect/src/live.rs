//! What a command or a script writes while it runs, for whoever wants to see it.

use arvok_core::text::cut;
use std::fmt;

/// Is shown everything that is written, as soon as it comes.
#[derive(Clone, Copy)]
pub struct LiveOutput<'a>(pub &'a (dyn Fn(&[u8]) + Sync));

impl LiveOutput<'_> {
    /// Nobody looks.
    pub const NOBODY: LiveOutput<'static> = LiveOutput(&|_| {});
}

impl fmt::Debug for LiveOutput<'_> {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("LiveOutput")
    }
}

/// Bytes of the last lines that are kept, and that are shown.
const KEPT: usize = 32 << 10;
const SHOWN: usize = 8 << 10;
/// A line that does not end within so many bytes is taken for one.
const LONGEST_LINE: usize = 4 << 10;

/// The last of what was written so far.
#[derive(Debug, Default)]
pub struct OutputTail {
    /// The last bytes, whole lines and the beginning of the next.
    tail: Vec<u8>,
    lines: i64,
}

impl OutputTail {
    /// More was written.
    pub fn push(&mut self, bytes: &[u8]) {
        self.lines += i64::try_from(bytes.iter().filter(|b| **b == b'\n').count()).unwrap_or(0);
        self.tail.extend_from_slice(bytes);
        if let Some(over) = self.tail.len().checked_sub(KEPT) {
            self.tail.drain(..over);
        }
    }

    /// How many lines have ended.
    pub fn lines(&self) -> i64 {
        self.lines
    }

    /// The whole lines among what is kept. What is cut off in the middle may be a part of what is
    /// to be hidden, at the beginning as well as at the end.
    pub fn whole(&self) -> String {
        let end = self.tail.iter().rposition(|b| *b == b'\n').map_or(0, |at| at + 1);
        let is_cut = self.tail.len() >= KEPT;
        let first = self.tail[..end].iter().position(|b| *b == b'\n').map_or(0, |at| at + 1);
        String::from_utf8_lossy(&self.tail[if is_cut { first } else { 0 }..end]).into_owned()
    }
}

/// The last lines of a text, as many as are shown, none longer than is shown.
pub fn last_lines(text: &str) -> String {
    let mut shown: Vec<String> = Vec::new();
    let mut room = SHOWN;
    for line in text.lines().rev() {
        let line = plain(cut(line, LONGEST_LINE));
        match room.checked_sub(line.len() + 1) {
            Some(left) => room = left,
            None => break,
        }
        shown.push(line);
    }
    shown.reverse();
    shown.join("\n")
}

/// A line without what moves a terminal or colours it (ECMA-48, section 5.4), and with nothing that
/// no text may hold.
fn plain(line: &str) -> String {
    let mut plain = String::with_capacity(line.len());
    let mut rest = line.chars().peekable();
    while let Some(c) = rest.next() {
        if c == '\u{1b}' {
            if rest.next_if_eq(&'[').is_some() {
                while rest.next().is_some_and(|c| !('@'..='~').contains(&c)) {}
            }
        } else if c == '\t' || !c.is_control() {
            plain.push(c);
        }
    }
    plain
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn only_whole_lines_are_shown_and_the_last_of_many() {
        let mut written = OutputTail::default();
        written.push(b"one\ntw");
        assert_eq!((written.whole().as_str(), written.lines), ("one\n", 1));
        written.push(b"o\n");
        assert_eq!((written.whole().as_str(), written.lines), ("one\ntwo\n", 2));
        for n in 0..20_000 {
            written.push(format!("line {n}\n").as_bytes());
        }
        assert!(written.tail.len() <= KEPT);
        let whole = written.whole();
        assert!(whole.starts_with("line ") && whole.ends_with("line 19999\n"));
        let shown = last_lines(&whole);
        assert!(
            shown.len() <= SHOWN && shown.starts_with("line ") && shown.ends_with("line 19999")
        );
        assert_eq!(last_lines(&"x".repeat(10_000)).len(), LONGEST_LINE);
        assert_eq!(
            last_lines("\u{1b}[1;31mred\u{1b}[0m\0\tand\u{1b}]0;\u{7}\u{9b}1"),
            "red\tand]0;1"
        );
    }
}
