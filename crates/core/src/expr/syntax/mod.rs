//! From text to a tree: the grammar of the Common Expression Language.
//!
//! `lexer` cuts the text into tokens, `literal` reads numbers and strings, and `wrong` says what
//! cannot be read in words of the language. Which names and functions there are is not known here:
//! `lower` asks that of the tree. Nesting is bounded where it is descended into, and chains of one
//! operator are gone through without descending, so that no text overflows a stack.

mod diagnostics;
mod lexer;
mod literal;
mod place;

pub(super) use place::{Bytes, characters};

use super::{ExprError, MAX_DEPTH, node::Binary, value::Const};
use lexer::{Token, TokenKind};

/// A part of an expression as it is written.
pub(super) struct Tree {
    pub form: Form,
    pub at: Bytes,
}

/// What a part of an expression is.
pub(super) enum Form {
    Literal(Const),
    Name(String),
    Select(Box<Tree>, String),
    Index(Box<Tree>, Box<Tree>),
    /// A call, with what stands before its dot.
    Call(Option<Box<Tree>>, String, Vec<Tree>),
    List(Vec<Tree>),
    Map(Vec<(Tree, Tree)>),
    Not(Box<Tree>),
    Negate(Box<Tree>),
    Operation(Binary, Box<Tree>, Box<Tree>),
    /// A chain of `&&`: at least two.
    All(Vec<Tree>),
    /// A chain of `||`: at least two.
    Any(Vec<Tree>),
    /// A condition, and what it gives if it holds and if not.
    Choose(Box<[Tree; 3]>),
}

type Parsed = Result<Tree, ExprError>;

/// The tree of a text. A diagnostic says which characters it is about.
pub(super) fn parse(text: &str) -> Parsed {
    let mut parser = Parser { text, tokens: lexer::tokens(text)?, next: 0, depth: 0 };
    let tree = parser.expression()?;
    if parser.token().kind == TokenKind::End { Ok(tree) } else { Err(parser.unexpected()) }
}

struct Parser<'a> {
    text: &'a str,
    /// The last one is the end of the text.
    tokens: Vec<Token<'a>>,
    next: usize,
    depth: u16,
}

impl<'a> Parser<'a> {
    fn token(&self) -> Token<'a> {
        self.tokens[self.next]
    }

    fn advance(&mut self) -> Token<'a> {
        let token = self.token();
        self.next = (self.next + 1).min(self.tokens.len() - 1);
        token
    }

    /// Takes a sign or a word, if it is the next.
    fn eat(&mut self, sign: &str) -> bool {
        let found = self.token().is(sign);
        if found {
            self.advance();
        }
        found
    }

    fn expect(&mut self, sign: &str) -> Result<(), ExprError> {
        if self.eat(sign) { Ok(()) } else { Err(self.unexpected()) }
    }

    fn unexpected(&self) -> ExprError {
        diagnostics::unexpected(self.text, &self.tokens, self.next)
    }

    /// From where a part began to the end of the token before the next.
    fn since(&self, from: usize) -> Bytes {
        (from, self.next.checked_sub(1).map_or(from, |last| self.tokens[last].at.1))
    }

    /// A part in brackets of any kind: one level deeper.
    fn within<T>(
        &mut self,
        read: impl FnOnce(&mut Self) -> Result<T, ExprError>,
    ) -> Result<T, ExprError> {
        if self.depth == MAX_DEPTH {
            return Err(too_deep());
        }
        self.depth += 1;
        let found = read(self);
        self.depth -= 1;
        found
    }

    /// `a ? b : c ? d : e`: what stands behind a colon may choose again.
    fn expression(&mut self) -> Parsed {
        let mut chosen = Vec::new();
        let mut last = self.any()?;
        while self.eat("?") {
            let then = self.any()?;
            self.expect(":")?;
            chosen.push((last, then));
            last = self.any()?;
        }
        Ok(chosen.into_iter().rev().fold(last, |otherwise, (test, then)| Tree {
            at: (test.at.0, otherwise.at.1),
            form: Form::Choose(Box::new([test, then, otherwise])),
        }))
    }

    fn any(&mut self) -> Parsed {
        self.chain("||", Self::all, Form::Any)
    }

    fn all(&mut self) -> Parsed {
        self.chain("&&", |parser| parser.operation(0), Form::All)
    }

    fn chain(
        &mut self,
        sign: &str,
        read: impl Fn(&mut Self) -> Parsed,
        form: fn(Vec<Tree>) -> Form,
    ) -> Parsed {
        let first = read(self)?;
        if !self.token().is(sign) {
            return Ok(first);
        }
        let from = first.at.0;
        let mut parts = vec![first];
        while self.eat(sign) {
            parts.push(read(self)?);
        }
        Ok(Tree { form: form(parts), at: self.since(from) })
    }

    /// Operators of two sides that bind at least so tightly, those of one tightness from the left.
    fn operation(&mut self, tightness: usize) -> Parsed {
        let Some(operators) = OPERATORS.get(tightness) else { return self.unary() };
        let mut left = self.operation(tightness + 1)?;
        loop {
            let token = self.token();
            let Some((_, operator)) = operators.iter().find(|(sign, _)| token.is(sign)) else {
                return Ok(left);
            };
            self.advance();
            let right = self.operation(tightness + 1)?;
            let at = (left.at.0, right.at.1);
            left = Tree { form: Form::Operation(*operator, Box::new(left), Box::new(right)), at };
        }
    }

    /// Any number of `!`, or any number of `-`; one before a number is the number's own.
    fn unary(&mut self) -> Parsed {
        let (sign, form): (_, fn(Box<Tree>) -> Form) = match self.token() {
            token if token.is("!") => ("!", Form::Not),
            token if token.is("-") => ("-", Form::Negate),
            _ => return self.member(),
        };
        let mut begins = Vec::new();
        while self.token().is(sign) && !(sign == "-" && self.peek_number()) {
            begins.push(self.advance().at.0);
            if begins.len() > usize::from(MAX_DEPTH) {
                return Err(too_deep());
            }
        }
        let inner = self.member()?;
        Ok(begins.into_iter().rev().fold(inner, |inner, from| {
            let at = (from, inner.at.1);
            Tree { form: form(Box::new(inner)), at }
        }))
    }

    fn peek_number(&self) -> bool {
        self.tokens
            .get(self.next + 1)
            .is_some_and(|t| matches!(t.kind, TokenKind::Int | TokenKind::Float))
    }

    /// Fields, calls and elements of something.
    fn member(&mut self) -> Parsed {
        let mut on = self.primary()?;
        loop {
            let from = on.at.0;
            let form = if self.eat(".") {
                let (name, plain) = self.field()?;
                if plain && self.eat("(") {
                    let args = self.within(|parser| parser.listed(")", Self::expression))?;
                    Form::Call(Some(Box::new(on)), name, args)
                } else {
                    Form::Select(Box::new(on), name)
                }
            } else if self.eat("[") {
                let at = self.within(Self::expression)?;
                self.expect("]")?;
                Form::Index(Box::new(on), Box::new(at))
            } else if let (true, Some(path)) = (self.token().is("{"), path(&on)) {
                let made = format!("makes a `{path}`; only lists and maps can be made here");
                return Err(ExprError::new(made).at(characters(self.text, self.since(from))));
            } else {
                return Ok(on);
            };
            on = Tree { form, at: self.since(from) };
        }
    }

    /// The name of a field, and whether it is written without backticks.
    fn field(&mut self) -> Result<(String, bool), ExprError> {
        let token = self.token();
        match token.kind {
            TokenKind::Word if !LITERALS.contains(&token.text) => {
                Ok((self.advance().text.to_owned(), true))
            }
            TokenKind::Quoted => Ok((self.advance().text.trim_matches('`').to_owned(), false)),
            _ => Err(self.unexpected()),
        }
    }

    fn primary(&mut self) -> Parsed {
        let token = self.token();
        let from = token.at.0;
        let form = match token.kind {
            TokenKind::Word => self.name_or_call()?,
            TokenKind::Sign if token.text == "." => {
                self.advance();
                if self.token().kind != TokenKind::Word {
                    return Err(self.unexpected());
                }
                self.name_or_call()?
            }
            TokenKind::Sign if token.text == "(" => {
                self.advance();
                let inner = self.within(Self::expression)?;
                self.expect(")")?;
                inner.form
            }
            TokenKind::Sign if token.text == "[" => {
                self.advance();
                Form::List(self.within(|parser| parser.listed("]", Self::expression))?)
            }
            TokenKind::Sign if token.text == "{" => {
                self.advance();
                Form::Map(self.within(|parser| parser.listed("}", Self::entry))?)
            }
            TokenKind::Sign if token.text == "-" && self.peek_number() => {
                self.advance();
                let token = self.advance();
                Form::Literal(self.literal(token, true)?)
            }
            TokenKind::Int
            | TokenKind::UInt
            | TokenKind::Float
            | TokenKind::Text
            | TokenKind::Binary => {
                self.advance();
                Form::Literal(self.literal(token, false)?)
            }
            _ => return Err(self.unexpected()),
        };
        Ok(Tree { form, at: self.since(from) })
    }

    fn literal(&self, token: Token<'_>, negative: bool) -> Result<Const, ExprError> {
        literal::read(token, negative)
            .map_err(|wrong| ExprError::new(wrong).at(characters(self.text, token.at)))
    }

    /// A name, a call without anything before it, or one of the values that are words.
    fn name_or_call(&mut self) -> Result<Form, ExprError> {
        let word = self.token().text;
        match word {
            "true" | "false" => {
                self.advance();
                return Ok(Form::Literal(Const::Bool(word == "true")));
            }
            "null" => {
                self.advance();
                return Ok(Form::Literal(Const::Null));
            }
            "in" => return Err(self.unexpected()),
            _ if RESERVED.contains(&word) => return Err(self.unexpected()),
            _ => self.advance(),
        };
        if !self.eat("(") {
            return Ok(Form::Name(word.to_owned()));
        }
        let args = self.within(|parser| parser.listed(")", Self::expression))?;
        Ok(Form::Call(None, word.to_owned(), args))
    }

    fn entry(&mut self) -> Result<(Tree, Tree), ExprError> {
        let key = self.expression()?;
        self.expect(":")?;
        Ok((key, self.expression()?))
    }

    /// What stands between commas up to a closing bracket; in lists and maps a comma may be last.
    fn listed<T>(
        &mut self,
        close: &str,
        read: fn(&mut Self) -> Result<T, ExprError>,
    ) -> Result<Vec<T>, ExprError> {
        let mut found = Vec::new();
        let may_be_last = close != ")";
        if may_be_last && self.token().is(",") && self.next_is(close) {
            self.advance();
        }
        while !self.token().is(close) {
            found.push(read(self)?);
            if !self.eat(",") {
                break;
            }
            if !may_be_last && self.token().is(close) {
                return Err(self.unexpected());
            }
        }
        self.expect(close)?;
        Ok(found)
    }

    fn next_is(&self, sign: &str) -> bool {
        self.tokens.get(self.next + 1).is_some_and(|t| t.is(sign))
    }
}

/// Operators of two sides, the loosest first.
const OPERATORS: [&[(&str, Binary)]; 3] = [
    &[
        ("==", Binary::Equal),
        ("!=", Binary::Differ),
        ("<=", Binary::LessEqual),
        ("<", Binary::Less),
        (">=", Binary::GreaterEqual),
        (">", Binary::Greater),
        ("in", Binary::In),
    ],
    &[("+", Binary::Add), ("-", Binary::Subtract)],
    &[("*", Binary::Multiply), ("/", Binary::Divide), ("%", Binary::Modulo)],
];

/// Words that are values or an operator, and so neither names nor fields.
const LITERALS: [&str; 4] = ["true", "false", "null", "in"];

/// Words that the language keeps for later: fields may be called so, names not.
const RESERVED: [&str; 17] = [
    "as",
    "break",
    "const",
    "continue",
    "else",
    "for",
    "function",
    "if",
    "import",
    "let",
    "loop",
    "namespace",
    "package",
    "return",
    "var",
    "void",
    "while",
];

/// The dotted name that a tree is, if it is nothing else.
fn path(tree: &Tree) -> Option<String> {
    match &tree.form {
        Form::Name(name) => Some(name.clone()),
        Form::Select(on, field) => Some(format!("{}.{field}", path(on)?)),
        _ => None,
    }
}

fn too_deep() -> ExprError {
    ExprError::new(format!("is nested deeper than {MAX_DEPTH} levels"))
}
