//! Reads numbers, strings and bytes that are written out.

use super::{
    Const,
    lexer::{Token, TokenKind},
};

/// The value of a token.
pub(super) fn read(token: Token<'_>, negative: bool) -> Result<Const, String> {
    match token.kind {
        TokenKind::Int => integer(token.text, negative),
        TokenKind::UInt => {
            let text = token.text.trim_end_matches(['u', 'U']);
            let value = match text.strip_prefix("0x") {
                Some(hex) => u64::from_str_radix(hex, 16),
                None => text.parse(),
            };
            value.map(Const::UInt).map_err(|_| too_large(token.text))
        }
        TokenKind::Float => {
            let value: f64 = token.text.parse().map_err(|_| too_large(token.text))?;
            Ok(Const::Double(if negative { -value } else { value }))
        }
        TokenKind::Binary => string(&token.text[1..], true).map(|bytes| Const::Bytes(bytes.into())),
        _ => {
            let text = String::from_utf8(string(token.text, false)?);
            text.map(Const::Str).map_err(|_| "is no text in UTF-8".to_owned())
        }
    }
}

/// The sign belongs to it: the least integer has no positive counterpart.
fn integer(text: &str, negative: bool) -> Result<Const, String> {
    let (digits, radix) = text.strip_prefix("0x").map_or((text, 10), |hex| (hex, 16));
    let signed = if negative { format!("-{digits}") } else { digits.to_owned() };
    i64::from_str_radix(&signed, radix).map(Const::Int).map_err(|_| too_large(text))
}

fn too_large(text: &str) -> String {
    format!("`{}` is larger than a number can be", crate::text::cut(text, 40))
}

/// The bytes that a string in quotes stands for; a line of its own ends with a line feed.
fn string(written: &str, binary: bool) -> Result<Vec<u8>, String> {
    let raw = written.starts_with(['r', 'R']);
    let quoted = &written[usize::from(raw)..];
    let quotes = if quoted.len() >= 6 && (quoted.starts_with("\"\"\"") || quoted.starts_with("'''"))
    {
        3
    } else {
        1
    };
    let inner = quoted[quotes..quoted.len() - quotes].replace("\r\n", "\n").replace('\r', "\n");
    if raw {
        return Ok(inner.into_bytes());
    }
    let mut made = Vec::with_capacity(inner.len());
    let mut rest = inner.as_str();
    while let Some(at) = rest.find('\\') {
        made.extend_from_slice(&rest.as_bytes()[..at]);
        rest = escaped(&rest[at + 1..], binary, &mut made)?;
    }
    made.extend_from_slice(rest.as_bytes());
    Ok(made)
}

/// Reads what stands behind a backslash, and gives what follows it.
fn escaped<'a>(text: &'a str, binary: bool, made: &mut Vec<u8>) -> Result<&'a str, String> {
    let wrong = || {
        let shown: String = text.chars().take(1).collect();
        format!("`\\{shown}` is no escape of the language here; a backslash itself is `\\\\`")
    };
    let first = text.chars().next().ok_or_else(wrong)?;
    let (digits, radix) = match first {
        'x' | 'X' => (text.get(1..3), 16),
        'u' if !binary => (text.get(1..5), 16),
        'U' if !binary => (text.get(1..9), 16),
        '0'..='3' => (text.get(..3), 8),
        _ => {
            made.push(plain(first).ok_or_else(wrong)?);
            return Ok(&text[first.len_utf8()..]);
        }
    };
    let digits = digits.filter(|d| d.chars().all(|c| c.is_digit(radix))).ok_or_else(wrong)?;
    let number = u32::from_str_radix(digits, radix).map_err(|_| wrong())?;
    if binary {
        made.push(u8::try_from(number).map_err(|_| wrong())?);
    } else {
        let c = char::from_u32(number).ok_or_else(wrong)?;
        made.extend_from_slice(c.encode_utf8(&mut [0; 4]).as_bytes());
    }
    Ok(&text[digits.len() + usize::from(radix == 16)..])
}

/// The byte that a letter behind a backslash stands for.
fn plain(letter: char) -> Option<u8> {
    Some(match letter {
        'a' => 0x07,
        'b' => 0x08,
        'f' => 0x0c,
        'n' => b'\n',
        'r' => b'\r',
        't' => b'\t',
        'v' => 0x0b,
        '"' | '\'' | '\\' | '?' | '`' => letter as u8,
        _ => return None,
    })
}
