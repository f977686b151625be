//! Cuts a text into tokens.

use super::{
    super::ExprError,
    place::{Bytes, characters},
};

/// What a token is.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum TokenKind {
    /// A name or a word of the language.
    Word,
    /// The name of a field in backticks.
    Quoted,
    Int,
    UInt,
    Float,
    Text,
    /// A string of bytes.
    Binary,
    /// An operator, a bracket, or whatever else cannot be part of the others.
    Sign,
    End,
}

/// A piece of the text.
#[derive(Clone, Copy, Debug)]
pub(super) struct Token<'a> {
    pub kind: TokenKind,
    pub text: &'a str,
    pub at: Bytes,
}

impl Token<'_> {
    /// Whether it is this operator, bracket or word.
    pub(super) fn is(&self, sign: &str) -> bool {
        matches!(self.kind, TokenKind::Sign | TokenKind::Word) && self.text == sign
    }
}

/// Operators of two characters.
const PAIRS: [&str; 6] = ["==", "!=", "<=", ">=", "&&", "||"];

/// All tokens, and one more for the end.
pub(super) fn tokens(text: &str) -> Result<Vec<Token<'_>>, ExprError> {
    let mut found = Vec::new();
    let mut from = 0;
    loop {
        from += blank(&text[from..]);
        let rest = &text[from..];
        let Some(first) = rest.chars().next() else {
            let end = text.trim_end().len();
            found.push(Token { kind: TokenKind::End, text: "", at: (end, end) });
            return Ok(found);
        };
        let (kind, length) = token(rest, first).ok_or_else(|| {
            ExprError::new(format!(
                "a text begins here and does not end; the closing {} is missing",
                rest.chars().find(|c| matches!(c, '"' | '\'' | '`')).unwrap_or(first)
            ))
            .at(characters(text, (from, from + first.len_utf8())))
        })?;
        found.push(Token { kind, text: &rest[..length], at: (from, from + length) });
        from += length;
    }
}

/// Bytes of spaces and comments.
fn blank(text: &str) -> usize {
    let mut rest = text;
    loop {
        rest = rest.trim_start_matches(['\t', ' ', '\r', '\n', '\u{c}']);
        if !rest.starts_with("//") {
            return text.len() - rest.len();
        }
        rest = rest.find('\n').map_or("", |end| &rest[end..]);
    }
}

/// What stands first, and its bytes; none for a string without an end.
fn token(text: &str, first: char) -> Option<(TokenKind, usize)> {
    if let Some((kind, prefix)) = string_prefix(text) {
        let raw = text[..prefix].contains(['r', 'R']);
        return Some((kind, prefix + string(&text[prefix..], raw)?));
    }
    let word = |c: char| c.is_ascii_alphanumeric() || c == '_';
    let digit_behind = text.as_bytes().get(1).is_some_and(u8::is_ascii_digit);
    match first {
        '`' => quoted(text).map(|length| (TokenKind::Quoted, length)),
        '0'..='9' => Some(number(text)),
        '.' if digit_behind => Some(number(text)),
        'a'..='z' | 'A'..='Z' | '_' => {
            Some((TokenKind::Word, text.find(|c| !word(c)).unwrap_or(text.len())))
        }
        _ if PAIRS.iter().any(|pair| text.starts_with(pair)) => Some((TokenKind::Sign, 2)),
        other => Some((TokenKind::Sign, other.len_utf8())),
    }
}

/// What a string begins with before its quotes: of text nothing or `r`, of bytes `b` or `br`.
fn string_prefix(text: &str) -> Option<(TokenKind, usize)> {
    let bytes = text.as_bytes();
    let is = |at: usize, letter: u8| bytes.get(at).is_some_and(|b| b.eq_ignore_ascii_case(&letter));
    let binary = usize::from(is(0, b'b'));
    let length = binary + usize::from(is(binary, b'r'));
    let quote = matches!(bytes.get(length), Some(b'"' | b'\''));
    quote.then_some((if binary == 1 { TokenKind::Binary } else { TokenKind::Text }, length))
}

/// Bytes of a string with its quotes. Only in three quotes it goes over several lines.
fn string(text: &str, raw: bool) -> Option<usize> {
    let quote = &text[..1];
    let triple = quote.repeat(3);
    let (quotes, lines) =
        if text.starts_with(&triple) { (triple.as_str(), true) } else { (quote, false) };
    let mut at = quotes.len();
    loop {
        let rest = text.get(at..)?;
        if rest.starts_with(quotes) {
            return Some(at + quotes.len());
        }
        let c = rest.chars().next()?;
        if !lines && matches!(c, '\n' | '\r') {
            return None;
        }
        at += c.len_utf8();
        if c == '\\' && !raw {
            at += text.get(at..)?.chars().next()?.len_utf8();
        }
    }
}

/// Bytes of a field's name with its backticks.
fn quoted(text: &str) -> Option<usize> {
    let inner = |c: char| c.is_ascii_alphanumeric() || "_.-/ ".contains(c);
    let end = 1 + text[1..].find(|c| !inner(c))?;
    (end > 1 && text[end..].starts_with('`')).then_some(end + 1)
}

/// A number without its sign.
fn number(text: &str) -> (TokenKind, usize) {
    let digits = |from: usize| {
        text[from..].find(|c: char| !c.is_ascii_digit()).map_or(text.len(), |n| from + n)
    };
    let whole = |end: usize| {
        if text[end..].starts_with(['u', 'U']) {
            (TokenKind::UInt, end + 1)
        } else {
            (TokenKind::Int, end)
        }
    };
    if let Some(hex) = text.strip_prefix("0x") {
        let end = hex.find(|c: char| !c.is_ascii_hexdigit()).unwrap_or(hex.len());
        if end > 0 {
            return whole(2 + end);
        }
    }
    let mut end = digits(0);
    let fraction = text[end..].starts_with('.') && digits(end + 1) > end + 1;
    if fraction {
        end = digits(end + 1);
    }
    let exponent = exponent(&text[end..]);
    if fraction || exponent > 0 { (TokenKind::Float, end + exponent) } else { whole(end) }
}

/// Bytes of `e5`, `E-5` and the like.
fn exponent(text: &str) -> usize {
    let Some(rest) = text.strip_prefix(['e', 'E']) else { return 0 };
    let unsigned = rest.strip_prefix(['+', '-']).unwrap_or(rest);
    let digits = unsigned.find(|c: char| !c.is_ascii_digit()).unwrap_or(unsigned.len());
    if digits == 0 { 0 } else { text.len() - unsigned.len() + digits }
}
