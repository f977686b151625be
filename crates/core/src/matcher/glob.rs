//! Globs: `*` within a path part, `**` across parts, `?` one character; all else is itself.

/// Longest glob, in bytes.
const MAX_GLOB: usize = 512;

/// A checked glob.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Glob {
    text: String,
    tokens: Option<Vec<Token>>,
}

#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum Token {
    One(char),
    Any,
    Part,
    Across,
}

impl Glob {
    /// Checks a text; one without wildcards is an exact name.
    pub fn parse(text: &str) -> Result<Self, String> {
        if text.is_empty() || text.len() > MAX_GLOB {
            return Err(format!("a name or glob has 1 to {MAX_GLOB} bytes, not {}", text.len()));
        }
        let tokens = text.contains(['*', '?']).then(|| tokens(text));
        Ok(Self { text: text.to_owned(), tokens })
    }

    /// As written.
    pub fn as_str(&self) -> &str {
        &self.text
    }

    /// The name, if it has no wildcards.
    pub fn exact(&self) -> Option<&str> {
        self.tokens.is_none().then_some(&self.text)
    }

    /// Whether the whole text matches. Takes time in proportion to both lengths at most.
    pub fn matches(&self, text: &str) -> bool {
        let Some(tokens) = &self.tokens else {
            return self.text == text;
        };
        // The set of token positions reachable so far; a wildcard's position also reaches the next.
        let mut now = vec![false; tokens.len() + 1];
        now[0] = true;
        spread(tokens, &mut now);
        let mut next = vec![false; tokens.len() + 1];
        for c in text.chars() {
            next.fill(false);
            for (i, token) in tokens.iter().enumerate().filter(|(i, _)| now[*i]) {
                match token {
                    Token::One(t) if *t == c => next[i + 1] = true,
                    Token::Any if c != '/' => next[i + 1] = true,
                    Token::Part if c != '/' => next[i] = true,
                    Token::Across => next[i] = true,
                    _ => {}
                }
            }
            spread(tokens, &mut next);
            std::mem::swap(&mut now, &mut next);
            if !now.contains(&true) {
                return false;
            }
        }
        now[tokens.len()]
    }
}

fn spread(tokens: &[Token], set: &mut [bool]) {
    for (i, token) in tokens.iter().enumerate() {
        if set[i] && matches!(token, Token::Part | Token::Across) {
            set[i + 1] = true;
        }
    }
}

fn tokens(text: &str) -> Vec<Token> {
    let mut made: Vec<Token> = Vec::new();
    for c in text.chars() {
        match (c, made.last_mut()) {
            ('*', Some(last @ (Token::Part | Token::Across))) => *last = Token::Across,
            ('*', _) => made.push(Token::Part),
            ('?', _) => made.push(Token::Any),
            (c, _) => made.push(Token::One(c)),
        }
    }
    made
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    #[test]
    fn parts_and_paths() {
        for (glob, text, hit) in [
            ("vm/a", "vm/a", true),
            ("vm/*-booking-db-*", "vm/quill-booking-db-1", true),
            ("vm/*", "vm/a/eth0", false),
            ("vm/**", "vm/a/eth0", true),
            ("**/ge-0-0-7", "switch/brack-sw-2/ge-0-0-7", true),
            ("switch/*/ge-*", "switch/brack-sw-2/ge-0-0-7", true),
            ("vm/?", "vm/ab", false),
            ("*", "", true),
            ("disk.*", "disk.usage.root", true),
        ] {
            assert_eq!(Glob::parse(glob).expect("checks").matches(text), hit, "{glob} on {text}");
        }
    }

    /// The obvious way, by trying everything.
    fn slow(glob: &[char], text: &[char]) -> bool {
        match glob {
            [] => text.is_empty(),
            ['*', '*', rest @ ..] => (0..=text.len()).any(|n| slow(rest, &text[n..])) || slow(&glob[1..], text),
            ['*', rest @ ..] => {
                (0..=text.len()).take_while(|n| !text[..*n].contains(&'/')).any(|n| slow(rest, &text[n..]))
            }
            ['?', rest @ ..] => text.first().is_some_and(|c| *c != '/') && slow(rest, &text[1..]),
            [c, rest @ ..] => text.first() == Some(c) && slow(rest, &text[1..]),
        }
    }

    proptest! {
        #[test]
        fn agrees_with_trying_everything(glob in "[ab/*?]{1,8}", text in "[ab/]{0,8}") {
            let (g, t): (Vec<char>, Vec<char>) = (glob.chars().collect(), text.chars().collect());
            prop_assert_eq!(Glob::parse(&glob).expect("checks").matches(&text), slow(&g, &t));
        }
    }
}
