//! What a text says below its escapes: each view is its bytes once decoded, and knows from where
//! each of them came.

use std::{borrow::Cow, ops::Range};

/// A text as it reads once some of its escapes are undone.
#[derive(Clone, Debug)]
pub(super) struct View<'t> {
    pub bytes: Cow<'t, [u8]>,
    /// Where each byte begins in the text, and where the last one ends; none: as in the text
    /// itself.
    at: Option<Vec<u32>>,
}

/// How often escapes are undone, one over the other.
const DEEP: usize = 3;
/// Most views of one text.
const MOST: usize = 24;

/// Undoes one escape: the bytes that it stands for, and its length; none if there is none here.
type Undo = fn(&[u8]) -> Option<(Vec<u8>, usize)>;

/// The escapes, each with a byte without which it is not there.
const ESCAPES: [(u8, Undo); 4] = [(b'%', percent), (b'+', form), (b'&', html), (b'\\', backslash)];

impl View<'_> {
    /// Where a range of this view stands in the text.
    pub fn original(&self, range: Range<usize>) -> Range<usize> {
        match &self.at {
            None => range,
            Some(at) => {
                let of = |n: usize| at.get(n).or(at.last()).map_or(0, |n| *n as usize);
                of(range.start)..of(range.end)
            }
        }
    }

    fn undone(&self, undo: Undo) -> Option<View<'static>> {
        let (mut bytes, mut at) =
            (Vec::with_capacity(self.bytes.len()), Vec::with_capacity(self.bytes.len() + 1));
        let (mut here, mut changed) = (0, false);
        let origin = |n: usize| u32::try_from(self.original(n..n).start).unwrap_or(u32::MAX);
        while here < self.bytes.len() {
            let (stands_for, length) = match undo(&self.bytes[here..]) {
                Some(undone) => {
                    changed = true;
                    undone
                }
                None => (vec![self.bytes[here]], 1),
            };
            at.extend(stands_for.iter().map(|_| origin(here)));
            bytes.extend(stands_for);
            here += length;
        }
        at.push(origin(self.bytes.len()));
        changed.then_some(View { bytes: Cow::Owned(bytes), at: Some(at) })
    }
}

/// All views of a text, itself among them.
pub(super) fn views_of(text: &str) -> Vec<View<'_>> {
    let mut views = vec![View { bytes: Cow::Borrowed(text.as_bytes()), at: None }];
    let mut newest = 0..1;
    for _ in 0..DEEP {
        let before = views.len();
        for n in newest {
            for (marker, undo) in ESCAPES {
                if views.len() < MOST && views[n].bytes.contains(&marker) {
                    let undone = views[n].undone(undo);
                    let is_new =
                        |view: &View<'_>| views.iter().all(|known| known.bytes != view.bytes);
                    if let Some(view) = undone.filter(is_new) {
                        views.push(view);
                    }
                }
            }
        }
        newest = before..views.len();
    }
    views
}

fn byte(digits: &[u8]) -> Option<u8> {
    let digits = digits.get(..2).filter(|d| d.iter().all(u8::is_ascii_hexdigit))?;
    u8::from_str_radix(std::str::from_utf8(digits).ok()?, 16).ok()
}

/// `%41` (RFC 3986, section 2.1).
fn percent(text: &[u8]) -> Option<(Vec<u8>, usize)> {
    let rest = text.strip_prefix(b"%")?;
    byte(rest).map(|b| (vec![b], 3))
}

/// The same, and `+` for a space, as forms are written.
fn form(text: &[u8]) -> Option<(Vec<u8>, usize)> {
    if text.first() == Some(&b'+') { Some((vec![b' '], 1)) } else { percent(text) }
}

/// `&amp;` and `&#38;`.
fn html(text: &[u8]) -> Option<(Vec<u8>, usize)> {
    let rest = text.strip_prefix(b"&")?;
    let end = rest.iter().take(10).position(|b| *b == b';')?;
    let name = std::str::from_utf8(&rest[..end]).ok()?;
    let character = match name {
        "amp" => '&',
        "lt" => '<',
        "gt" => '>',
        "quot" => '"',
        "apos" => '\'',
        _ => {
            let number = name.strip_prefix('#')?;
            let hexadecimal = number.strip_prefix(['x', 'X']);
            let code = match hexadecimal {
                Some(digits) => u32::from_str_radix(digits, 16).ok()?,
                None => number.parse().ok()?,
            };
            char::from_u32(code)?
        }
    };
    Some((character.to_string().into_bytes(), end + 2))
}

/// `\"` and `\u00e9` (RFC 8259, section 7).
fn backslash(text: &[u8]) -> Option<(Vec<u8>, usize)> {
    let rest = text.strip_prefix(b"\\")?;
    let plain = |byte: u8| Some((vec![byte], 2));
    match rest.first()? {
        byte @ (b'"' | b'\\' | b'/' | b'\'') => plain(*byte),
        b'n' => plain(b'\n'),
        b't' => plain(b'\t'),
        b'r' => plain(b'\r'),
        b'u' => {
            let first = unit(&rest[1..])?;
            let second = rest.get(5..7).filter(|two| *two == b"\\u").and_then(|_| unit(&rest[7..]));
            let pair = second
                .map(|second| [first, second])
                .and_then(|pair| String::from_utf16(&pair).ok());
            match String::from_utf16(&[first]) {
                Ok(one) => Some((one.into_bytes(), 6)),
                Err(_) => pair.map(|two| (two.into_bytes(), 12)),
            }
        }
        _ => None,
    }
}

fn unit(digits: &[u8]) -> Option<u16> {
    Some(u16::from_be_bytes([byte(digits)?, byte(digits.get(2..)?)?]))
}
