//! Server-sent events (WHATWG HTML, section 9.2.6) out of whatever pieces the network makes of
//! them.

/// Bytes of an event that has no end yet above which it is given up.
const MOST: usize = 1 << 20;

/// Puts events together.
#[derive(Debug, Default)]
pub struct Events {
    rest: Vec<u8>,
}

impl Events {
    /// The data of the events that a piece completes.
    pub fn push(&mut self, piece: &[u8]) -> Vec<String> {
        self.rest.extend_from_slice(piece);
        let mut found = Vec::new();
        while let Some((event, behind)) = split(&self.rest) {
            found.extend(data(event));
            self.rest.drain(..behind);
        }
        if self.rest.len() > MOST {
            self.rest.clear();
        }
        found
    }
}

/// The bytes of the first event, and where the next one begins.
fn split(bytes: &[u8]) -> Option<(&[u8], usize)> {
    let ends: [&[u8]; 3] = [b"\n\n", b"\r\n\r\n", b"\r\r"];
    let at =
        |end: &[u8]| bytes.windows(end.len()).position(|w| w == end).map(|at| (at, at + end.len()));
    let (end, next) = ends.into_iter().filter_map(at).min()?;
    Some((&bytes[..end], next))
}

/// The data of an event; comments and other fields have none.
fn data(event: &[u8]) -> Option<String> {
    let text = String::from_utf8_lossy(event);
    let lines: Vec<&str> = text
        .split(['\n', '\r'])
        .filter_map(|line| line.strip_prefix("data:"))
        .map(|line| line.strip_prefix(' ').unwrap_or(line))
        .collect();
    (!lines.is_empty()).then(|| lines.join("\n"))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn an_event_is_the_same_however_it_is_cut() {
        let text = ": hello\n\nid: 1\ndata: {\"jobs\":\ndata: [7]}\n\nretry: 5\n\ndata: é\r\n\r\n"
            .as_bytes();
        for size in 1..text.len() {
            let mut events = Events::default();
            let found: Vec<String> =
                text.chunks(size).flat_map(|piece| events.push(piece)).collect();
            assert_eq!(found, ["{\"jobs\":\n[7]}", "é"], "pieces of {size}");
        }
    }

    #[test]
    fn what_never_ends_is_given_up() {
        let mut events = Events::default();
        assert!(events.push(&vec![b'x'; MOST + 1]).is_empty());
        assert_eq!(events.push(b"data: a\n\n"), ["a"]);
    }
}
