//! Where one message of a stream ends and the next begins (RFC 6587): by octets counted beforehand,
//! or by line ends. Each message says by its first character which it is.

use super::message::LONGEST;
use std::io;
use tokio_util::{
    bytes::{Buf, BytesMut},
    codec::Decoder,
};

/// Digits of the longest count.
const DIGITS: usize = 9;

/// Takes a stream apart. Of a message that is too long its beginning is given, and its rest left
/// out.
#[derive(Debug, Default)]
pub(super) struct Framing {
    rest: Rest,
}

/// What is left of a message that was too long.
#[derive(Debug, Default)]
enum Rest {
    #[default]
    None,
    Octets(usize),
    Line,
}

impl Decoder for Framing {
    type Item = Vec<u8>;
    type Error = io::Error;

    fn decode(&mut self, from: &mut BytesMut) -> io::Result<Option<Vec<u8>>> {
        if !self.leaves_out(from) {
            return Ok(None);
        }
        // Between messages there may be line ends, also after counted ones.
        let blank = from.iter().take_while(|b| matches!(b, b'\n' | b'\r' | 0)).count();
        from.advance(blank);
        match counted(from) {
            Count::Wait => Ok(None),
            Count::Octets { head, octets } => {
                let given = octets.min(LONGEST);
                if from.len() < head + given {
                    return Ok(None);
                }
                from.advance(head);
                self.rest = if octets > given { Rest::Octets(octets - given) } else { Rest::None };
                Ok(Some(from.split_to(given).to_vec()))
            }
            Count::None => {
                Ok(match from.iter().take(LONGEST).position(|b| matches!(b, b'\n' | 0)) {
                    Some(end) => {
                        let line = from.split_to(end).to_vec();
                        from.advance(1);
                        Some(line)
                    }
                    None if from.len() >= LONGEST => {
                        self.rest = Rest::Line;
                        Some(from.split_to(LONGEST).to_vec())
                    }
                    None => None,
                })
            }
        }
    }

    /// What a stream ends with is a message as well.
    fn decode_eof(&mut self, from: &mut BytesMut) -> io::Result<Option<Vec<u8>>> {
        match self.decode(from)? {
            None if from.is_empty() || !matches!(self.rest, Rest::None) => Ok(None),
            None => Ok(Some(from.split().to_vec())),
            some => Ok(some),
        }
    }
}

impl Framing {
    /// Leaves out the rest of a message that was too long; whether all of it is.
    fn leaves_out(&mut self, from: &mut BytesMut) -> bool {
        match self.rest {
            Rest::None => true,
            Rest::Octets(left) => {
                let some = left.min(from.len());
                from.advance(some);
                self.rest = if some == left { Rest::None } else { Rest::Octets(left - some) };
                some == left
            }
            Rest::Line => match from.iter().position(|b| *b == b'\n') {
                Some(end) => {
                    from.advance(end + 1);
                    self.rest = Rest::None;
                    true
                }
                None => {
                    from.clear();
                    false
                }
            },
        }
    }
}

enum Count {
    /// More must come before it can be told.
    Wait,
    /// So many octets after so many that say so.
    Octets { head: usize, octets: usize },
    /// The message is a line.
    None,
}

/// A message begins with `<`, a count with a digit that is not 0.
fn counted(from: &[u8]) -> Count {
    let digits = from.iter().take(DIGITS).take_while(|b| b.is_ascii_digit()).count();
    let count = || std::str::from_utf8(&from[..digits]).ok()?.parse().ok();
    match (from.first(), from.get(digits)) {
        (Some(b'1'..=b'9'), None) if digits < DIGITS => Count::Wait,
        (Some(b'1'..=b'9'), Some(b' ')) => match count() {
            Some(octets) => Count::Octets { head: digits + 1, octets },
            None => Count::None,
        },
        _ => Count::None,
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    /// The messages of a stream that comes in pieces of so many bytes.
    fn messages(stream: &[u8], piece: usize) -> Vec<String> {
        let (mut framing, mut from, mut found) = (Framing::default(), BytesMut::new(), Vec::new());
        for piece in stream.chunks(piece) {
            from.extend_from_slice(piece);
            while let Some(message) = framing.decode(&mut from).expect("never fails") {
                found.push(message);
            }
        }
        while let Some(message) = framing.decode_eof(&mut from).expect("never fails") {
            found.push(message);
        }
        found.into_iter().map(|message| String::from_utf8_lossy(&message).into_owned()).collect()
    }

    #[test]
    fn messages_are_found_however_the_stream_comes_in() {
        let stream = b"<13>one\n<14>two\r\n10 <15>th\nree\n7 <16>fo\n<17>five\0<18>six";
        for piece in [1, 2, 3, 7, 100] {
            assert_eq!(
                messages(stream, piece),
                ["<13>one", "<14>two\r", "<15>th\nree", "<16>fo\n", "<17>five", "<18>six"],
                "in pieces of {piece}"
            );
        }
        assert_eq!(messages(b"2026-11-27 no priority\n", 5), ["2026-11-27 no priority"]);
        assert_eq!(messages(b"0123456789 12\n", 5), ["0123456789 12"]);
        assert!(messages(b"\n\n\0\n", 1).is_empty());
        assert_eq!(
            messages(b"20 <13>cut off", 3),
            ["20 <13>cut off"],
            "what is cut off is kept as it came"
        );
    }

    #[test]
    fn of_what_is_too_long_the_beginning_is_given_and_the_next_is_found() {
        let long = "x".repeat(LONGEST + 5_000);
        for piece in [1_000, 8_192, 1 << 20] {
            let line = format!("<13>{long}\n<14>next\n");
            let found = messages(line.as_bytes(), piece);
            assert_eq!((found.len(), found[0].len(), found[1].as_str()), (2, LONGEST, "<14>next"));
            let counted = format!("{} <13>{long}8 <14>next", long.len() + 4);
            let found = messages(counted.as_bytes(), piece);
            assert_eq!((found.len(), found[0].len(), found[1].as_str()), (2, LONGEST, "<14>next"));
        }
    }
}
