//! What is said of a text that cannot be read: in words of this language, and about which part.

use super::{
    Bytes, ExprError, RESERVED, characters,
    lexer::{Token, TokenKind},
};

/// What other languages write, and how it is written here.
const ELSEWHERE: [(&str, &str); 10] = [
    ("=", "=="),
    ("and", "&&"),
    ("or", "||"),
    ("not", "!"),
    ("<>", "!="),
    ("===", "=="),
    ("!==", "!="),
    ("&", "&&"),
    ("|", "||"),
    ("is", "=="),
];

/// What is said of a token that cannot stand where it does.
pub(super) fn unexpected(text: &str, tokens: &[Token<'_>], next: usize) -> ExprError {
    let token = tokens[next];
    let before = next.checked_sub(1).map(|last| tokens[last]);
    let (message, at) = worded(text, tokens, token, before);
    ExprError::new(message).at(characters(text, at))
}

fn worded(
    text: &str,
    tokens: &[Token<'_>],
    token: Token<'_>,
    before: Option<Token<'_>>,
) -> (String, Bytes) {
    let at = run(text, token);
    let found = &text[at.0..at.1];
    if let Some(here) = elsewhere(found) {
        return (meant(found, here), at);
    }
    if let Some(not) = before.filter(|b| b.is("not")) {
        return (meant("not", "!"), not.at);
    }
    if token.kind == TokenKind::End {
        return (format!("the expression ends here, and {}", missing(tokens)), token.at);
    }
    // Optional fields and elements, which the language has and we have not.
    if let (true, Some(open)) = (token.is("?"), before.filter(|b| ".[{".contains(b.text))) {
        return (format!("`{}?` is no form of the language here", open.text), open.at);
    }
    if let Some(kept) = before.into_iter().chain([token]).find(|t| reserved(t)) {
        let word = kept.text;
        return (
            format!("`{word}` is a word that the language keeps for itself; it cannot be a name"),
            kept.at,
        );
    }
    (format!("`{found}` cannot stand here"), at)
}

fn elsewhere(word: &str) -> Option<&'static str> {
    ELSEWHERE.iter().find(|(there, _)| *there == word).map(|(_, here)| *here)
}

fn meant(word: &str, here: &str) -> String {
    format!("`{word}` has no meaning here; did you mean `{here}`?")
}

fn reserved(token: &Token<'_>) -> bool {
    token.kind == TokenKind::Word && RESERVED.contains(&token.text)
}

/// The token, or all signs of comparison that stand together around it: people mean them as one.
fn run(text: &str, token: Token<'_>) -> Bytes {
    let sign = |c: char| "=<>!&|".contains(c);
    if token.kind != TokenKind::Sign || !token.text.chars().all(sign) {
        return token.at;
    }
    let from = text[..token.at.0]
        .rfind(|c| !sign(c))
        .map_or(0, |n| n + text[n..].chars().next().map_or(1, char::len_utf8));
    let to = text[token.at.0..].find(|c| !sign(c)).map_or(text.len(), |n| token.at.0 + n);
    (from, to)
}

/// What an expression that ends too early lacks.
fn missing(tokens: &[Token<'_>]) -> String {
    let ends_open =
        tokens.iter().rev().nth(1).is_some_and(|last| {
            last.kind == TokenKind::Sign && ![")", "]", "}"].contains(&last.text)
        });
    let count = |sign: &str| tokens.iter().filter(|t| t.is(sign)).count();
    [("(", ")"), ("[", "]"), ("{", "}"), ("?", ":")]
        .into_iter()
        .find(|(open, close)| !ends_open && count(open) > count(close))
        .map_or_else(
            || "something more was expected".to_owned(),
            |(_, close)| format!("a `{close}` is missing"),
        )
}
