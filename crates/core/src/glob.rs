//! Globs: `*` within a path part, `**` across parts, `?` one character; all else is itself.
//!
//! ```
//! use arvok_core::glob::Glob;
//!
//! let databases = Glob::parse("vm/*-db-?").expect("a glob");
//! assert!(databases.matches("vm/quill-booking-db-1"));
//! assert!(!databases.matches("vm/quill-booking-db-1/disk"), "`*` stays within a part");
//! assert!(Glob::parse("vm/**").expect("a glob").matches("vm/quill-booking-db-1/disk"));
//! ```

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

/// Why a text is no glob.
#[derive(Clone, Copy, Debug, PartialEq, Eq, thiserror::Error)]
pub enum GlobError {
    /// It has so many bytes.
    #[error("a name or glob has 1 to {MAX_GLOB} bytes, not {0}")]
    Length(usize),
}

/// Why a line of names and globs is none.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
pub enum GlobListError {
    /// One is neither.
    #[error("{of}: `{text}`: {why}")]
    Glob {
        /// Of what the line is.
        of: &'static str,
        /// As written.
        text: String,
        /// Why.
        why: GlobError,
    },
    /// There are too many.
    #[error("{of}: {count} names and globs; {most} are allowed")]
    TooMany {
        /// Of what the line is.
        of: &'static str,
        /// How many.
        count: usize,
        /// How many there may be.
        most: usize,
    },
}

impl Glob {
    /// Checks a line of names and globs of something, of which there may be so many.
    ///
    /// # Errors
    /// If there are more, or one is neither.
    pub fn parse_all(
        of: &'static str,
        texts: &[String],
        most: usize,
    ) -> Result<Vec<Self>, GlobListError> {
        if texts.len() > most {
            return Err(GlobListError::TooMany { of, count: texts.len(), most });
        }
        let parse = |text: &String| {
            Self::parse(text).map_err(|why| GlobListError::Glob { of, text: text.clone(), why })
        };
        texts.iter().map(parse).collect()
    }

    /// Checks a text; one without wildcards is an exact name.
    ///
    /// # Errors
    /// If it is empty or too long.
    pub fn parse(text: &str) -> Result<Self, GlobError> {
        if text.is_empty() || text.len() > MAX_GLOB {
            return Err(GlobError::Length(text.len()));
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

    /// The longest text that everything it matches holds somewhere.
    pub fn factor(&self) -> &str {
        self.text.split(['*', '?']).max_by_key(|part| part.len()).unwrap_or_default()
    }

    /// Whether the whole text matches. Takes time in proportion to both lengths at most.
    pub fn matches(&self, text: &str) -> bool {
        match &self.tokens {
            None => self.text == text,
            Some(tokens) if tokens.iter().filter(|t| t.is_wild()).count() <= FEW => {
                greedy(tokens, text)
            }
            Some(tokens) => steady(tokens, text),
        }
    }

    /// As a regular expression of PostgreSQL ("advanced", section 9.7.3 of its documentation) for
    /// the whole text.
    pub fn pattern(&self) -> String {
        let mut pattern = String::from("^(?:");
        let exact = || self.text.chars().map(Token::One).collect();
        for token in self.tokens.clone().unwrap_or_else(exact) {
            match token {
                Token::One(c) if c.is_alphanumeric() || c.is_whitespace() => pattern.push(c),
                Token::One(c) => pattern.extend(['\\', c]),
                Token::Any => pattern.push_str("[^/]"),
                Token::Part => pattern.push_str("[^/]*"),
                Token::Across => pattern.push_str(".*"),
            }
        }
        pattern.push_str(")$");
        pattern
    }

    /// A text that it matches: each wildcard as one letter.
    pub fn sample(&self) -> String {
        let one = |t: &Token| if let Token::One(c) = t { *c } else { 'x' };
        self.tokens
            .as_ref()
            .map_or_else(|| self.text.clone(), |tokens| tokens.iter().map(one).collect())
    }

    /// Whether some text could match both.
    pub fn meets(&self, other: &Self) -> bool {
        let tokens =
            |g: &Self| g.tokens.clone().unwrap_or_else(|| g.text.chars().map(Token::One).collect());
        let (a, b) = (tokens(self), tokens(other));
        // Pairs of positions that some common text leads to.
        let mut reached = vec![vec![false; b.len() + 1]; a.len() + 1];
        reached[0][0] = true;
        for i in 0..=a.len() {
            for j in 0..=b.len() {
                if !reached[i][j] {
                    continue;
                }
                let (x, y) = (a.get(i), b.get(j));
                if x.is_some_and(|t| t.is_wild()) {
                    reached[i + 1][j] = true;
                }
                if y.is_some_and(|t| t.is_wild()) {
                    reached[i][j + 1] = true;
                }
                let (Some(x), Some(y)) = (x, y) else { continue };
                if x.shares(*y) {
                    let (down, right) =
                        (i + usize::from(!x.is_wild()), j + usize::from(!y.is_wild()));
                    reached[down][right] = true;
                }
            }
        }
        reached[a.len()][b.len()]
    }
}

/// Most wildcards for which trying again is quicker than keeping all positions.
const FEW: usize = 3;

impl Token {
    fn is_wild(self) -> bool {
        matches!(self, Self::Part | Self::Across)
    }

    fn takes(self, c: char) -> bool {
        match self {
            Self::One(t) => t == c,
            Self::Any | Self::Part => c != '/',
            Self::Across => true,
        }
    }

    /// Whether some character belongs to both.
    fn shares(self, other: Self) -> bool {
        match (self, other) {
            (Self::One(c), t) | (t, Self::One(c)) => t.takes(c),
            _ => true,
        }
    }
}

/// Lets each wildcard take as little as possible, and the last ones more when that fails.
fn greedy(tokens: &[Token], text: &str) -> bool {
    let (mut at, mut rest) = (0, text);
    // Where to go on when the rest does not fit: the token behind a wildcard, and its text.
    type Back<'a> = Option<(usize, &'a str)>;
    let (mut part, mut across): (Back<'_>, Back<'_>) = (None, None);
    loop {
        let c = rest.chars().next();
        match (tokens.get(at), c) {
            (None, None) => return true,
            (Some(Token::Part), _) => {
                at += 1;
                part = Some((at, rest));
                continue;
            }
            (Some(Token::Across), _) => {
                at += 1;
                (part, across) = (None, Some((at, rest)));
                continue;
            }
            (Some(token), Some(c)) if token.takes(c) => {
                at += 1;
                rest = &rest[c.len_utf8()..];
                continue;
            }
            _ => {}
        }
        let longer = |(at, from): (usize, &'_ str), wild: Token| {
            let c = from.chars().next().filter(|c| wild.takes(*c))?;
            Some((at, c.len_utf8()))
        };
        if let Some((from, taken)) = part
            && let Some((to, more)) = longer((from, taken), Token::Part)
        {
            part = Some((to, &taken[more..]));
            (at, rest) = (to, &taken[more..]);
        } else if let Some((from, taken)) = across
            && let Some((to, more)) = longer((from, taken), Token::Across)
        {
            (part, across) = (None, Some((to, &taken[more..])));
            (at, rest) = (to, &taken[more..]);
        } else {
            return false;
        }
    }
}

/// Keeps the set of token positions reachable so far; a wildcard's position also reaches the next.
fn steady(tokens: &[Token], text: &str) -> bool {
    let mut now = vec![false; tokens.len() + 1];
    now[0] = true;
    spread(tokens, &mut now);
    let mut next = vec![false; tokens.len() + 1];
    for c in text.chars() {
        next.fill(false);
        for (i, token) in tokens.iter().enumerate().filter(|(i, token)| now[*i] && token.takes(c)) {
            next[i + usize::from(!token.is_wild())] = true;
        }
        spread(tokens, &mut next);
        std::mem::swap(&mut now, &mut next);
        if !now.contains(&true) {
            return false;
        }
    }
    now[tokens.len()]
}

fn spread(tokens: &[Token], set: &mut [bool]) {
    for (i, token) in tokens.iter().enumerate() {
        if set[i] && token.is_wild() {
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
            ['*', '*', rest @ ..] => {
                (0..=text.len()).any(|n| slow(rest, &text[n..])) || slow(&glob[1..], text)
            }
            ['*', rest @ ..] => (0..=text.len())
                .take_while(|n| !text[..*n].contains(&'/'))
                .any(|n| slow(rest, &text[n..])),
            ['?', rest @ ..] => text.first().is_some_and(|c| *c != '/') && slow(rest, &text[1..]),
            [c, rest @ ..] => text.first() == Some(c) && slow(rest, &text[1..]),
        }
    }

    proptest! {
        #[test]
        fn agrees_with_trying_everything(glob in "[ab/*?]{1,8}", text in "[ab/]{0,8}") {
            let (g, t): (Vec<char>, Vec<char>) = (glob.chars().collect(), text.chars().collect());
            let parsed = Glob::parse(&glob).expect("checks");
            prop_assert_eq!(parsed.matches(&text), slow(&g, &t));
            let tokens = tokens(&glob);
            prop_assert_eq!(greedy(&tokens, &text), steady(&tokens, &text));
            prop_assert!(!parsed.matches(&text) || text.contains(parsed.factor()));
        }

        #[test]
        fn two_globs_meet_where_a_text_matches_both(a in "[ab/*?]{1,4}", b in "[ab/*?]{1,4}") {
            let (x, y) = (Glob::parse(&a).expect("checks"), Glob::parse(&b).expect("checks"));
            let texts = (0..=4u32).flat_map(|n| (0..3usize.pow(n)).map(move |k| {
                (0..n).map(|i| ['a', 'b', '/'][k / 3usize.pow(i) % 3]).collect::<String>()
            }));
            let common = texts.into_iter().any(|t| x.matches(&t) && y.matches(&t));
            prop_assert!(!common || x.meets(&y), "{a} and {b} meet");
            prop_assert!(common || a.contains('?') && b.contains('?') || !x.meets(&y) || a.len() + b.len() > 4, "{a} and {b} do not meet");
        }
    }
}
