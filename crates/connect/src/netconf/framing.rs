//! How messages follow each other on a line (RFC 6242, section 4): each ends with a mark, or comes
//! in chunks whose lengths are said.

/// Ends a hello, and every message where not both announce 1.1.
const END: &[u8] = b"]]>]]>";
/// Longest message that is read, in bytes.
const MAX_MESSAGE: usize = 4 << 20;
/// Longest head of a chunk: a line end, a `#`, ten digits and a line end.
const MAX_HEAD: usize = 13;

/// A message as it goes on a line.
pub(super) fn framed(message: &str, is_chunked: bool) -> Vec<u8> {
    match is_chunked {
        true => format!("\n#{}\n{message}\n##\n", message.len()).into_bytes(),
        false => [message.as_bytes(), END].concat(),
    }
}

/// Puts messages together of what comes.
#[derive(Debug, Default)]
pub(super) struct Frames {
    /// Whether messages come in chunks.
    pub is_chunked: bool,
    came: Vec<u8>,
    /// The chunks of the message that is being read.
    message: Vec<u8>,
    /// How far the mark was looked for.
    searched: usize,
}

impl Frames {
    /// More has come.
    pub fn add(&mut self, bytes: &[u8]) {
        self.came.extend_from_slice(bytes);
    }

    /// The next message, if it is whole.
    ///
    /// # Errors
    /// That it is too long, or that what came is not framed.
    pub fn next(&mut self) -> Result<Option<Vec<u8>>, String> {
        let message = match self.is_chunked {
            true => self.next_chunked()?,
            false => self.next_marked(),
        };
        let pending = self.message.len() + if self.is_chunked { 0 } else { self.came.len() };
        if message.as_ref().map_or(pending, Vec::len) > MAX_MESSAGE {
            return Err(format!("said more than the {MAX_MESSAGE} bytes that are read of it"));
        }
        Ok(message)
    }

    fn next_marked(&mut self) -> Option<Vec<u8>> {
        let from = self.searched.saturating_sub(END.len());
        let found = self.came[from..].windows(END.len()).position(|window| window == END);
        let Some(at) = found else {
            self.searched = self.came.len();
            return None;
        };
        let rest = self.came.split_off(from + at + END.len());
        let mut message = std::mem::replace(&mut self.came, rest);
        message.truncate(from + at);
        self.searched = 0;
        Some(message)
    }

    fn next_chunked(&mut self) -> Result<Option<Vec<u8>>, String> {
        let unframed = || Err("said something that is not framed in chunks".to_owned());
        if self.message.is_empty() {
            // What some say after the mark of their hello, or between messages.
            let blank = self.came.iter().take_while(|byte| byte.is_ascii_whitespace()).count();
            self.came.drain(..blank.saturating_sub(1));
        }
        loop {
            let Some(rest) = self.came.strip_prefix(b"\n#") else {
                return if b"\n#".starts_with(&self.came[..]) { Ok(None) } else { unframed() };
            };
            let Some(line_end) = rest.iter().take(MAX_HEAD).position(|byte| *byte == b'\n') else {
                return if rest.len() < MAX_HEAD { Ok(None) } else { unframed() };
            };
            let (head, start) = (&rest[..line_end], 2 + line_end + 1);
            if head == b"#" {
                self.came.drain(..start);
                return Ok(Some(std::mem::take(&mut self.message)));
            }
            let length = str::from_utf8(head).ok().filter(|head| !head.starts_with(['+', '0']));
            let Some(length) = length.and_then(|head| head.parse::<usize>().ok()) else {
                return unframed();
            };
            if self.message.len().saturating_add(length) > MAX_MESSAGE {
                return Err(format!("said more than the {MAX_MESSAGE} bytes that are read of it"));
            }
            if self.came.len() < start + length {
                return Ok(None);
            }
            self.message.extend_from_slice(&self.came[start..start + length]);
            self.came.drain(..start + length);
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn in_pieces(bytes: &[u8], is_chunked: bool, piece: usize) -> Result<Vec<String>, String> {
        let mut frames = Frames { is_chunked, ..Frames::default() };
        let mut read = Vec::new();
        for piece in bytes.chunks(piece.max(1)) {
            frames.add(piece);
            while let Some(message) = frames.next()? {
                read.push(String::from_utf8_lossy(&message).into_owned());
            }
        }
        Ok(read)
    }

    #[test]
    fn a_message_may_come_in_several_chunks() {
        let said = b"\n#4\n<rpc\n#18\n message-id=\"102\"\n\n#3\n/>\n\n##\n";
        assert_eq!(in_pieces(said, true, 1).expect("reads").len(), 1);
        for wrong in ["x", "\n#x\n", "\n#0\n", "\n#-1\n", "\n#99999999999\n", "\n#+4\nabcd"] {
            assert!(in_pieces(wrong.as_bytes(), true, 100).is_err(), "{wrong:?}");
        }
        assert!(in_pieces(b"\n#4294967295\nabc", true, 100).is_err(), "no such room is made");
        assert!(in_pieces(&vec![b'a'; MAX_MESSAGE + 1], false, 1 << 20).is_err());
    }

    proptest! {
        #[test]
        fn what_was_framed_is_read_again(
            messages in prop::collection::vec("[^\\]]{1,40}", 1..5), is_chunked: bool, piece in 1usize..50
        ) {
            let all: Vec<u8> = messages.iter().flat_map(|m| framed(m, is_chunked)).collect();
            prop_assert_eq!(in_pieces(&all, is_chunked, piece).expect("reads"), messages);
        }

        #[test]
        fn whatever_comes_is_read_or_refused(
            bytes in prop::collection::vec(prop::sample::select(b"\n#19]>a".to_vec()), 0..60), is_chunked: bool
        ) {
            let _ = in_pieces(&bytes, is_chunked, 7);
        }
    }
}
