//! What objects and notifications are called, as MIB files define it (SMIv2, RFC 2578; and SMIv1,
//! RFC 1155 and RFC 1215). Read is what a source of notifications needs: numbers, names and words
//! for values.

use super::NamedObjectDoc;
use crate::connector::snmp::ObjectId;
use std::{
    collections::{BTreeMap, BTreeSet},
    iter::Peekable,
    str::CharIndices,
};
use thiserror::Error;

/// What is known without a file (RFC 2578, section 2).
const ROOTS: [(&str, &[u32]); 16] = [
    ("ccitt", &[0]),
    ("iso", &[1]),
    ("org", &[1, 3]),
    ("dod", &[1, 3, 6]),
    ("internet", &[1, 3, 6, 1]),
    ("directory", &[1, 3, 6, 1, 1]),
    ("mgmt", &[1, 3, 6, 1, 2]),
    ("mib-2", &[1, 3, 6, 1, 2, 1]),
    ("transmission", &[1, 3, 6, 1, 2, 1, 10]),
    ("experimental", &[1, 3, 6, 1, 3]),
    ("private", &[1, 3, 6, 1, 4]),
    ("enterprises", &[1, 3, 6, 1, 4, 1]),
    ("security", &[1, 3, 6, 1, 5]),
    ("snmpV2", &[1, 3, 6, 1, 6]),
    ("snmpModules", &[1, 3, 6, 1, 6, 3]),
    ("snmpTraps", &[1, 3, 6, 1, 6, 3, 1, 1, 5]),
];
/// How far down definitions may refer to each other.
const DEEPEST: usize = 128;
/// What has a number at its end.
const MACROS: [&str; 8] = [
    "OBJECT-TYPE",
    "NOTIFICATION-TYPE",
    "MODULE-IDENTITY",
    "OBJECT-IDENTITY",
    "OBJECT-GROUP",
    "NOTIFICATION-GROUP",
    "MODULE-COMPLIANCE",
    "AGENT-CAPABILITIES",
];

/// A MIB file.
#[derive(Clone, Copy, Debug)]
pub struct MibFile<'a> {
    /// What it is called.
    pub name: &'a str,
    /// What it says.
    pub text: &'a str,
}

/// Why a MIB file cannot be read.
#[derive(Debug, PartialEq, Eq, Error)]
#[error("{file}:{line}: {message}")]
pub struct MibError {
    /// The file.
    pub file: String,
    /// The line, from 1 on.
    pub line: usize,
    /// What is wrong.
    pub message: String,
}

/// What MIB files name.
#[derive(Debug, Default, PartialEq)]
pub struct NamedObjects {
    /// Objects and notifications, by their numbers.
    pub objects: BTreeMap<ObjectId, NamedObjectDoc>,
    /// What they refer to and none of the files defines, with the module that does where it is
    /// said.
    pub missing: BTreeSet<String>,
}

/// The numbers and names of notifications that files define and of the objects that these carry;
/// or of all objects.
///
/// # Errors
/// The first place that cannot be read.
pub fn named_objects(files: &[MibFile<'_>], all: bool) -> Result<NamedObjects, MibError> {
    let mut modules = Modules::default();
    for file in files {
        let mut reading = Reading { file, tokens: Tokens::new(file.text).peekable(), line: 1 };
        let before = modules.0.len();
        while reading.tokens.peek().is_some() {
            let (name, module) = reading.module()?;
            modules.0.insert(name, module);
        }
        if modules.0.len() == before {
            return Err(reading.wrong("it defines no module: `NAME DEFINITIONS ::= BEGIN`"));
        }
    }
    let mut found = NamedObjects::default();
    for (name, module) in &modules.0 {
        modules.collect((name, module), all, &mut found);
    }
    Ok(found)
}

/// What a module defines.
#[derive(Debug, Default)]
struct Module {
    /// Which module a name comes from that is defined elsewhere.
    imports: BTreeMap<String, String>,
    numbers: BTreeMap<String, Numbered>,
    /// The words of types.
    types: BTreeMap<String, BTreeMap<String, i64>>,
}

/// Something with a number.
#[derive(Debug)]
struct Numbered {
    is: NumberedKind,
    /// The name that its number begins with, where it does not begin with a number.
    below: Option<String>,
    parts: Vec<u32>,
}

/// What has a number.
#[derive(Debug)]
enum NumberedKind {
    Place,
    /// A value, with its type and the words of that.
    Object {
        of: String,
        words: BTreeMap<String, i64>,
        is_table: bool,
    },
    /// What is sent, with the objects that it carries.
    Notification(Vec<String>),
}

#[derive(Debug, Default)]
struct Modules(BTreeMap<String, Module>);

impl Modules {
    /// The module that defines a name which another one uses.
    fn definer<'m>(
        &'m self,
        (of, module): (&'m str, &'m Module),
        name: &str,
        is_there: impl Fn(&Module) -> bool,
    ) -> Option<(&'m str, &'m Module)> {
        if is_there(module) {
            return Some((of, module));
        }
        let (from, other) = self.0.get_key_value(module.imports.get(name)?)?;
        is_there(other).then_some((from.as_str(), other))
    }

    fn number(&self, at: (&str, &Module), name: &str, depth: usize) -> Option<Vec<u32>> {
        let is_there = |module: &Module| module.numbers.contains_key(name);
        let Some(definer) = self.definer(at, name, is_there) else {
            let root = ROOTS.iter().find(|(root, _)| *root == name);
            return root.map(|(_, parts)| parts.to_vec());
        };
        let numbered = &definer.1.numbers[name];
        let mut parts = match &numbered.below {
            Some(below) if depth < DEEPEST => self.number(definer, below, depth + 1)?,
            Some(_) => return None,
            None => Vec::new(),
        };
        parts.extend(&numbered.parts);
        (parts.len() <= DEEPEST).then_some(parts)
    }

    fn collect(&self, at: (&str, &Module), all: bool, found: &mut NamedObjects) {
        for (name, numbered) in &at.1.numbers {
            match &numbered.is {
                NumberedKind::Notification(carried) => {
                    self.add(at, name, found);
                    carried.iter().for_each(|object| self.add(at, object, found));
                }
                NumberedKind::Object { is_table: false, .. } if all => self.add(at, name, found),
                _ => {}
            }
        }
    }

    fn add(&self, at: (&str, &Module), name: &str, found: &mut NamedObjects) {
        let number = self.number(at, name, 0).and_then(ObjectId::new);
        let is_there = |module: &Module| module.numbers.contains_key(name);
        let definer = self.definer(at, name, is_there);
        let (Some(number), Some(definer)) = (number, definer) else {
            let from = at.1.imports.get(name).map_or_else(String::new, |m| format!(" of {m}"));
            found.missing.insert(format!("{name}{from}"));
            return;
        };
        let mut values = BTreeMap::new();
        if let NumberedKind::Object { of, words, .. } = &definer.1.numbers[name].is {
            let known = |module: &Module| module.types.contains_key(of);
            let of_type = self.definer(definer, of, known).map(|(_, m)| &m.types[of]);
            values.clone_from(if words.is_empty() { of_type.unwrap_or(words) } else { words });
        }
        found.objects.insert(number, NamedObjectDoc { name: name.to_owned(), values });
    }
}

/// A word, a number, a text or a sign of a file.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum Token<'a> {
    Word(&'a str),
    Text,
    Sign(&'a str),
}

struct Tokens<'a> {
    text: &'a str,
    chars: Peekable<CharIndices<'a>>,
    line: usize,
}

impl<'a> Tokens<'a> {
    fn new(text: &'a str) -> Self {
        Self { text, chars: text.char_indices().peekable(), line: 1 }
    }

    fn step(&mut self) -> Option<(usize, char)> {
        let next = self.chars.next();
        self.line += usize::from(next.is_some_and(|(_, c)| c == '\n'));
        next
    }

    fn pass(&mut self, count: usize) {
        for _ in 0..count {
            self.step();
        }
    }

    fn rest(&mut self) -> &'a str {
        let at = self.chars.peek().map_or(self.text.len(), |(at, _)| *at);
        &self.text[at..]
    }

    /// A comment ends with its line, or with the next two dashes (X.680, 12.6).
    fn comment(&mut self) {
        self.step();
        self.step();
        while !self.rest().starts_with("--") {
            if self.step().is_none_or(|(_, c)| c == '\n') {
                return;
            }
        }
        self.step();
        self.step();
    }
}

impl<'a> Iterator for Tokens<'a> {
    type Item = (usize, Token<'a>);

    fn next(&mut self) -> Option<Self::Item> {
        loop {
            let rest = self.rest();
            let first = rest.chars().next()?;
            let line = self.line;
            let is_of_word = |c: char| c.is_ascii_alphanumeric() || matches!(c, '-' | '_');
            if rest.starts_with("--") {
                self.comment();
            } else if first.is_whitespace() {
                self.step();
            } else if first == '"' {
                self.step();
                while self.step().is_some_and(|(_, c)| c != '"') {}
                return Some((line, Token::Text));
            } else if is_of_word(first) {
                // Two dashes within a word begin a comment all the same.
                let end = rest.find(|c| !is_of_word(c)).unwrap_or(rest.len());
                let end = rest[..end].find("--").unwrap_or(end);
                self.pass(end);
                return Some((line, Token::Word(&rest[..end])));
            } else {
                let sign = match rest {
                    _ if rest.starts_with("::=") => 3,
                    _ if rest.starts_with("..") => 2,
                    _ => first.len_utf8(),
                };
                self.pass(rest[..sign].chars().count());
                return Some((line, Token::Sign(&rest[..sign])));
            }
        }
    }
}

/// A file while it is read.
struct Reading<'f, 'a> {
    file: &'f MibFile<'a>,
    tokens: Peekable<Tokens<'a>>,
    line: usize,
}

impl<'a> Reading<'_, 'a> {
    fn wrong(&self, message: impl Into<String>) -> MibError {
        let file = self.file.name.to_owned();
        MibError { file, line: self.line, message: message.into() }
    }

    fn next(&mut self) -> Result<Token<'a>, MibError> {
        match self.tokens.next() {
            Some((line, token)) => {
                self.line = line;
                Ok(token)
            }
            None => Err(self.wrong("it ends within a definition")),
        }
    }

    fn word(&mut self, of: &str) -> Result<&'a str, MibError> {
        match self.next()? {
            Token::Word(word) => Ok(word),
            _ => Err(self.wrong(format!("{of} is missing"))),
        }
    }

    fn expect(&mut self, wanted: Token<'_>, of: &str) -> Result<(), MibError> {
        match self.next()? {
            token if token == wanted => Ok(()),
            _ => Err(self.wrong(format!("{of} is missing"))),
        }
    }

    fn skip_to(&mut self, wanted: Token<'_>) -> Result<(), MibError> {
        while self.next()? != wanted {}
        Ok(())
    }

    fn is_next(&mut self, wanted: Token<'_>) -> bool {
        self.tokens.peek().is_some_and(|(_, token)| *token == wanted)
    }

    fn module(&mut self) -> Result<(String, Module), MibError> {
        let name = self.word("the name of a module")?.to_owned();
        if self.is_next(Token::Sign("{")) {
            self.skip_to(Token::Sign("}"))?;
        }
        self.expect(Token::Word("DEFINITIONS"), "`DEFINITIONS ::= BEGIN`")?;
        self.skip_to(Token::Word("BEGIN"))?;
        let mut module = Module::default();
        loop {
            match self.next()? {
                Token::Word("END") => return Ok((name, module)),
                Token::Word("IMPORTS") => self.imports(&mut module)?,
                Token::Word("EXPORTS") => self.skip_to(Token::Sign(";"))?,
                Token::Word(name) => self.definition(name, &mut module)?,
                _ => {}
            }
        }
    }

    fn imports(&mut self, module: &mut Module) -> Result<(), MibError> {
        let mut names = Vec::new();
        loop {
            match self.next()? {
                Token::Sign(";") => return Ok(()),
                Token::Word("FROM") => {
                    let from = self.word("the name of a module")?;
                    let names =
                        names.drain(..).map(|name: &str| (name.to_owned(), from.to_owned()));
                    module.imports.extend(names);
                }
                Token::Word(name) => names.push(name),
                _ => {}
            }
        }
    }

    fn definition(&mut self, name: &str, module: &mut Module) -> Result<(), MibError> {
        match self.next()? {
            Token::Word("MACRO") => self.skip_to(Token::Word("END")),
            Token::Word("OBJECT") if self.is_next(Token::Word("IDENTIFIER")) => {
                self.skip_to(Token::Sign("::="))?;
                self.numbered(name, NumberedKind::Place, module)
            }
            Token::Word("TRAP-TYPE") => self.trap(name, module),
            Token::Word(kind) if MACROS.contains(&kind) => {
                let is = self.clauses(kind)?;
                self.numbered(name, is, module)
            }
            Token::Sign("::=") => {
                if self.is_next(Token::Word("TEXTUAL-CONVENTION")) {
                    self.skip_to(Token::Word("SYNTAX"))?;
                }
                let (_, words) = self.syntax()?;
                module.types.insert(name.to_owned(), words);
                Ok(())
            }
            // What else there may be has no number.
            _ => Ok(()),
        }
    }

    /// The type, and the words of its values where it has some.
    fn syntax(&mut self) -> Result<(String, BTreeMap<String, i64>), MibError> {
        let of = match self.next()? {
            Token::Word(of) => of.to_owned(),
            _ => String::new(),
        };
        let mut words = BTreeMap::new();
        if of != "INTEGER" || !self.is_next(Token::Sign("{")) {
            return Ok((of, words));
        }
        self.next()?;
        loop {
            match self.next()? {
                Token::Sign("}") => return Ok((of, words)),
                Token::Word(word) => {
                    self.expect(Token::Sign("("), "the number of a value")?;
                    let number = self.word("the number of a value")?;
                    let parsed = number.parse();
                    let wrong = |_| self.wrong(format!("`{number}` is not a number"));
                    words.insert(word.to_owned(), parsed.map_err(wrong)?);
                    self.expect(Token::Sign(")"), "`)`")?;
                }
                _ => {}
            }
        }
    }

    /// What is said of something that has a number, up to that.
    fn clauses(&mut self, kind: &str) -> Result<NumberedKind, MibError> {
        let mut is = match kind {
            "OBJECT-TYPE" => {
                NumberedKind::Object { of: String::new(), words: BTreeMap::new(), is_table: false }
            }
            "NOTIFICATION-TYPE" => NumberedKind::Notification(Vec::new()),
            _ => NumberedKind::Place,
        };
        loop {
            match (self.next()?, &mut is) {
                (Token::Sign("::="), _) => return Ok(is),
                (Token::Word("SYNTAX"), NumberedKind::Object { of, words, .. })
                    if of.is_empty() =>
                {
                    (*of, *words) = self.syntax()?;
                }
                // A table and its rows have no value; what rows are told apart by may be one.
                (Token::Word("INDEX" | "AUGMENTS"), NumberedKind::Object { is_table, .. }) => {
                    *is_table = true;
                }
                (Token::Word("OF"), NumberedKind::Object { of, is_table, .. })
                    if of == "SEQUENCE" =>
                {
                    *is_table = true;
                }
                (Token::Word("OBJECTS"), NumberedKind::Notification(carried)) => {
                    *carried = self.names()?;
                }
                _ => {}
            }
        }
    }

    fn names(&mut self) -> Result<Vec<String>, MibError> {
        self.expect(Token::Sign("{"), "`{`")?;
        let mut names = Vec::new();
        loop {
            match self.next()? {
                Token::Sign("}") => return Ok(names),
                Token::Word(name) => names.push(name.to_owned()),
                _ => {}
            }
        }
    }

    /// A notification of version 1: its number is below its enterprise's (RFC 3584, section 3.1).
    fn trap(&mut self, name: &str, module: &mut Module) -> Result<(), MibError> {
        let (mut below, mut carried) = (None, Vec::new());
        loop {
            match self.next()? {
                Token::Word("ENTERPRISE") => below = Some(self.enterprise()?),
                Token::Word("VARIABLES") => carried = self.names()?,
                Token::Sign("::=") => break,
                _ => {}
            }
        }
        let number = self.word("the number of a trap")?;
        let number: u32 =
            number.parse().map_err(|_| self.wrong(format!("`{number}` is not a number")))?;
        // Those that every agent may send are numbered by RFC 3418.
        let (below, parts) = match below.as_deref() {
            Some("snmp") => (Some("snmpTraps".to_owned()), vec![number.saturating_add(1)]),
            _ => (below, vec![0, number]),
        };
        let made = Numbered { is: NumberedKind::Notification(carried), below, parts };
        module.numbers.insert(name.to_owned(), made);
        Ok(())
    }

    fn enterprise(&mut self) -> Result<String, MibError> {
        match self.next()? {
            Token::Word(name) => Ok(name.to_owned()),
            Token::Sign("{") => {
                let name = self.word("the name of an enterprise")?.to_owned();
                self.expect(Token::Sign("}"), "`}`")?;
                Ok(name)
            }
            _ => Err(self.wrong("the name of an enterprise is missing")),
        }
    }

    /// The number of something: `{ parent 3 }`, `{ iso org(3) dod(6) 1 }`.
    fn numbered(
        &mut self,
        name: &str,
        is: NumberedKind,
        module: &mut Module,
    ) -> Result<(), MibError> {
        self.expect(Token::Sign("{"), "a number such as `{ enterprises 3 }`")?;
        let (mut below, mut parts) = (None, Vec::new());
        loop {
            match self.next()? {
                Token::Sign("}") => break,
                Token::Word(word) if word.starts_with(|c: char| c.is_ascii_digit()) => {
                    let parsed = word.parse();
                    parts.push(parsed.map_err(|_| self.wrong(format!("`{word}` is no number")))?);
                }
                Token::Word(word) if self.is_next(Token::Sign("(")) => {
                    self.next()?;
                    let number = self.word("a number")?;
                    let parsed = number.parse();
                    parts.push(
                        parsed
                            .map_err(|_| self.wrong(format!("{word}({number}) has no number")))?,
                    );
                    self.expect(Token::Sign(")"), "`)`")?;
                }
                Token::Word(word) if below.is_none() && parts.is_empty() => {
                    below = Some(word.to_owned());
                }
                _ => return Err(self.wrong(format!("the number of {name} cannot be read"))),
            }
        }
        module.numbers.insert(name.to_owned(), Numbered { is, below, parts });
        Ok(())
    }
}
