//! From text to documents: events of the YAML parser become JSON values with places.
//!
//! Scalars are read by the core schema of YAML 1.2: `yes` and `no` are strings. Keys must be
//! strings and may not repeat. Depth, size and the expansion of aliases are bounded.

use super::{
    Document, MAX_EXPANDED, MAX_FILE, MAX_FOREIGN, MAX_NESTING, MAX_NODES, Parts, Place, Problem,
};
use crate::text::cut;
use saphyr_parser::{Event, Parser, ScalarStyle, Span, StrInput};
use serde_json::{Map, Value};
use std::{
    borrow::Cow,
    collections::{BTreeMap, HashMap},
    panic::{AssertUnwindSafe, catch_unwind},
    sync::Arc,
};

/// What stands where a file is not UTF-8: a character that no file means.
pub const NOT_UTF8: char = '\u{fffe}';

/// All documents of a file; a file that cannot be read as YAML gives its one diagnostic.
pub fn parse_file(file: &str, text: &str) -> Result<Vec<Document>, Problem> {
    let joined = joined_surrogates(text);
    let text = joined.as_ref();
    let lines: Arc<Vec<String>> = Arc::new(text.lines().map(str::to_owned).collect());
    let reader = Reader { file, text, lines: &lines, bounds: Bounds::DEFINITIONS };
    if let Some(at) = text.find(NOT_UTF8) {
        let line = text[..at].matches('\n').count();
        let column = text[..at].chars().rev().take_while(|c| *c != '\n').count();
        let wrong = "is not UTF-8 from here on; save the file as UTF-8".to_owned();
        return Err(reader.problem(line + 1, column + 1, wrong));
    }
    reader.bounded(|build, documents: &mut Vec<Document>, start, end| {
        documents.extend(build.finish(start, end)?);
        Ok(())
    })
}

/// The first document of a file that is none of ours, without the places of its values.
pub fn parse_value(file: &str, text: &str) -> Result<Value, Problem> {
    let joined = joined_surrogates(text);
    let text = joined.as_ref();
    let lines: Arc<Vec<String>> = Arc::new(text.lines().map(str::to_owned).collect());
    let reader = Reader { file, text, lines: &lines, bounds: Bounds::FOREIGN };
    let found: Option<Value> = reader.bounded(|build, found: &mut Option<Value>, _, _| {
        *found = found.take().or(build.root);
        Ok(())
    })?;
    found.ok_or_else(|| reader.problem(1, 1, "the file is empty".into()))
}

/// What a file may hold.
#[derive(Clone, Copy)]
struct Bounds {
    bytes: usize,
    nodes: usize,
    expanded: usize,
    /// Whether the places of its values are kept.
    placed: bool,
}

impl Bounds {
    const DEFINITIONS: Self =
        Self { bytes: MAX_FILE, nodes: MAX_NODES, expanded: MAX_EXPANDED, placed: true };
    const FOREIGN: Self = Self {
        bytes: MAX_FOREIGN,
        nodes: 10 * MAX_NODES,
        expanded: 4 * MAX_EXPANDED,
        placed: false,
    };
}

/// JSON writes characters beyond the first plane as two escapes, which YAML does not know: they
/// become the character itself. Only in what is JSON, where every text stands in double quotes.
fn joined_surrogates(text: &str) -> Cow<'_, str> {
    if !text.trim_start().starts_with(['{', '[']) || !text.contains("\\u") {
        return Cow::Borrowed(text);
    }
    let unit = |at: usize| {
        let digits = text.get(at..at + 6)?.strip_prefix("\\u")?;
        u16::from_str_radix(digits, 16).ok()
    };
    let (mut made, mut from, mut at) = (String::new(), 0, 0);
    while let Some(found) = text[at..].find('\\').map(|n| at + n) {
        let pair = [unit(found), unit(found + 6)].into_iter().collect::<Option<Vec<u16>>>();
        match pair
            .and_then(|pair| String::from_utf16(&pair).ok())
            .filter(|c| c.chars().count() == 1)
        {
            Some(character) => {
                made.push_str(&text[from..found]);
                made.push_str(&character);
                (from, at) = (found + 12, found + 12);
            }
            // The character after a backslash belongs to it.
            None => at = (found + 2).min(text.len()),
        }
        while !text.is_char_boundary(at) {
            at += 1;
        }
    }
    made.push_str(&text[from..]);
    Cow::Owned(made)
}

/// Bytes of a path of keys that cost nothing; every value's place is named by its path.
const SHORT: usize = 128;
/// Bytes of a line that are shown.
const MAX_SHOWN: usize = 400;

struct Reader<'a> {
    file: &'a str,
    text: &'a str,
    lines: &'a Arc<Vec<String>>,
    bounds: Bounds,
}

/// What is being built around the next value.
enum Frame {
    List { items: Vec<Value>, anchor: usize },
    Map { map: Map<String, Value>, key: Option<(String, Span)>, anchor: usize },
}

struct Build<'a> {
    reader: &'a Reader<'a>,
    frames: Vec<Frame>,
    path: Vec<String>,
    places: BTreeMap<String, Place>,
    anchors: HashMap<usize, Anchored>,
    spent: Spent,
    root: Option<Value>,
    first_key: Option<String>,
}

/// What a file has used up of its bounds, all its documents together.
#[derive(Clone, Copy, Debug, Default)]
struct Spent {
    nodes: usize,
    /// Bytes that anchors keep, aliases repeat and places are named by.
    bytes: usize,
}

/// A value that aliases may repeat, and what each of them costs.
struct Anchored {
    value: Value,
    size: Size,
}

#[derive(Clone, Copy, Debug, Default)]
struct Size {
    nodes: usize,
    bytes: usize,
}

impl Reader<'_> {
    /// Reads all documents, each handed over when it is whole, with its first and its last line.
    fn bounded<T: Default>(
        &self,
        whole: impl Fn(Build<'_>, &mut T, usize, usize) -> Result<(), Problem>,
    ) -> Result<T, Problem> {
        if self.text.len() > self.bounds.bytes {
            let (has, most) = (self.text.len(), self.bounds.bytes);
            return Err(self.problem(
                1,
                1,
                format!("the file has {has} bytes; {most} are allowed"),
            ));
        }
        catch_unwind(AssertUnwindSafe(|| self.read(whole)))
            .unwrap_or_else(|_| Err(self.problem(1, 1, "the file cannot be read as YAML".into())))
    }

    fn problem(&self, line: usize, column: usize, message: String) -> Problem {
        let text = self.lines.get(line.saturating_sub(1)).map(|l| shown(l)).unwrap_or_default();
        Problem {
            file: self.file.to_owned(),
            line,
            column,
            length: 1,
            message,
            text,
            warning: None,
        }
    }

    fn here(&self, span: Span, message: impl Into<String>) -> Problem {
        self.problem(span.start.line(), span.start.col() + 1, message.into())
    }

    fn read<T: Default>(
        &self,
        whole: impl Fn(Build<'_>, &mut T, usize, usize) -> Result<(), Problem>,
    ) -> Result<T, Problem> {
        let (mut made, mut count) = (T::default(), 0);
        let mut parser: Parser<'_, StrInput<'_>> = Parser::new_from_str(self.text);
        let mut build = Build::new(self, Spent::default());
        let mut start = 1;
        while let Some(event) = parser.next_event() {
            let (event, span) = event.map_err(|e| {
                let message = format!("is not YAML: {}", e.info());
                self.problem(e.marker().line().max(1), e.marker().col() + 1, message)
            })?;
            match event {
                Event::DocumentStart(_) => {
                    build = Build::new(self, build.spent);
                    start = if count == 0 { 1 } else { span.start.line() };
                }
                Event::DocumentEnd => {
                    let end = span.start.line();
                    let spent = build.spent;
                    let is_something = build.root.as_ref().is_some_and(|root| !root.is_null());
                    whole(build, &mut made, start, end)?;
                    count += usize::from(is_something);
                    build = Build::new(self, spent);
                }
                Event::StreamStart | Event::StreamEnd | Event::Nothing => {}
                event => build.event(event, span)?,
            }
        }
        Ok(made)
    }
}

impl<'a> Build<'a> {
    fn new(reader: &'a Reader<'a>, spent: Spent) -> Self {
        Self {
            reader,
            frames: Vec::new(),
            path: Vec::new(),
            places: BTreeMap::new(),
            anchors: HashMap::new(),
            spent,
            root: None,
            first_key: None,
        }
    }

    fn event(&mut self, event: Event<'_>, span: Span) -> Result<(), Problem> {
        self.count(1, span)?;
        match event {
            Event::Scalar(text, style, anchor, tag) => {
                self.scalar(&text, style, anchor, tag.is_some(), span)
            }
            Event::SequenceStart(anchor, _) => {
                self.open(span)?;
                self.frames.push(Frame::List { items: Vec::new(), anchor });
                Ok(())
            }
            Event::MappingStart(anchor, _) => {
                self.open(span)?;
                self.frames.push(Frame::Map { map: Map::new(), key: None, anchor });
                Ok(())
            }
            Event::SequenceEnd | Event::MappingEnd => self.close(span),
            Event::Alias(anchor) => {
                let size = self.anchors.get(&anchor).map_or(Size::default(), |a| a.size);
                self.count(size.nodes, span)?;
                self.expand(size.bytes, span)?;
                let value = self.anchors.get(&anchor).map_or(Value::Null, |a| a.value.clone());
                self.place(span, None)?;
                self.value(value, span)
            }
            _ => Ok(()),
        }
    }

    fn count(&mut self, nodes: usize, span: Span) -> Result<(), Problem> {
        self.spent.nodes += nodes;
        let most = self.reader.bounds.nodes;
        if self.spent.nodes > most {
            return Err(self.reader.here(span, format!("the file has more than {most} values")));
        }
        Ok(())
    }

    fn expand(&mut self, bytes: usize, span: Span) -> Result<(), Problem> {
        self.spent.bytes = self.spent.bytes.saturating_add(bytes);
        if self.spent.bytes > self.reader.bounds.expanded {
            let most = self.reader.bounds.expanded >> 20;
            return Err(self.reader.here(
                span,
                format!(
                    "the file makes more than {most} MiB with its aliases and long keys written out"
                ),
            ));
        }
        Ok(())
    }

    /// Keeps a value for the aliases to come.
    fn anchor(&mut self, anchor: usize, value: &Value, span: Span) -> Result<(), Problem> {
        if anchor > 0 {
            let size = size(value);
            self.expand(size.bytes, span)?;
            self.anchors.insert(anchor, Anchored { value: value.clone(), size });
        }
        Ok(())
    }

    fn open(&mut self, span: Span) -> Result<(), Problem> {
        if self.frames.len() >= MAX_NESTING {
            return Err(self
                .reader
                .here(span, format!("is nested deeper than {MAX_NESTING} levels")));
        }
        if let Some(Frame::Map { key: None, .. }) = self.frames.last() {
            return Err(self.reader.here(span, "a key must be a plain string"));
        }
        self.place(span, None)
    }

    fn scalar(
        &mut self,
        text: &str,
        style: ScalarStyle,
        anchor: usize,
        tagged: bool,
        span: Span,
    ) -> Result<(), Problem> {
        if let Some(Frame::Map { map, key, .. }) = self.frames.last_mut()
            && key.is_none()
        {
            if map.contains_key(text) {
                return Err(self
                    .reader
                    .here(span, format!("the key `{text}` stands here a second time")));
            }
            if self.path.is_empty() && self.first_key.is_none() {
                self.first_key = Some(text.to_owned());
            }
            *key = Some((text.to_owned(), span));
            self.path.push(text.to_owned());
            return Ok(());
        }
        let plain = style == ScalarStyle::Plain;
        let value = if plain && !tagged { resolve(text) } else { Value::String(text.to_owned()) };
        let quoted = matches!(style, ScalarStyle::SingleQuoted | ScalarStyle::DoubleQuoted);
        let inner = ((plain || quoted) && span.start.line() == span.end.line())
            .then(|| span.start.col() + 1 + usize::from(quoted));
        self.place(span, inner)?;
        self.anchor(anchor, &value, span)?;
        self.value(value, span)
    }

    fn close(&mut self, span: Span) -> Result<(), Problem> {
        let (value, anchor) = match self.frames.pop() {
            Some(Frame::List { items, anchor }) => (Value::Array(items), anchor),
            Some(Frame::Map { map, anchor, .. }) => (Value::Object(map), anchor),
            None => return Ok(()),
        };
        self.anchor(anchor, &value, span)?;
        self.value(value, span)
    }

    /// Puts a finished value where it belongs.
    fn value(&mut self, value: Value, span: Span) -> Result<(), Problem> {
        match self.frames.last_mut() {
            None => self.root = Some(value),
            Some(Frame::List { items, .. }) => items.push(value),
            Some(Frame::Map { map, key, .. }) => match key.take() {
                Some((key, _)) => {
                    map.insert(key, value);
                    self.path.pop();
                }
                None => return Err(self.reader.here(span, "a key must be a plain string")),
            },
        }
        Ok(())
    }

    fn place(&mut self, span: Span, inner: Option<usize>) -> Result<(), Problem> {
        if !self.reader.bounds.placed {
            return Ok(());
        }
        let long: usize = self.path.iter().map(String::len).sum();
        self.expand(long.saturating_sub(SHORT), span)?;
        let mut pointer = String::new();
        let mut keys = self.path.iter();
        for frame in &self.frames {
            pointer.push('/');
            match frame {
                Frame::List { items, .. } => pointer.push_str(&items.len().to_string()),
                Frame::Map { .. } => {
                    pointer.push_str(
                        &keys
                            .next()
                            .map_or_else(String::new, |k| k.replace('~', "~0").replace('/', "~1")),
                    );
                }
            }
        }
        let key = match self.frames.last() {
            Some(Frame::Map { key: Some((_, s)), .. }) => {
                Some((s.start.line(), s.start.col() + 1, s.len()))
            }
            _ => None,
        };
        let one_line = span.start.line() == span.end.line();
        let (line, column) = (span.start.line(), span.start.col() + 1);
        self.places.insert(
            pointer,
            Place { key, line, column, length: if one_line { span.len() } else { 1 }, inner },
        );
        Ok(())
    }

    fn finish(self, start: usize, end: usize) -> Result<Option<Document>, Problem> {
        let reader = self.reader;
        let value = match self.root {
            None | Some(Value::Null) => return Ok(None),
            Some(value) => value,
        };
        let (Value::Object(map), Some(kind)) = (&value, self.first_key) else {
            return Err(reader.problem(
                start,
                1,
                "a definition is a map whose first key says what it is".into(),
            ));
        };
        let Some(Value::String(name)) = map.get(&kind) else {
            let place = self.places.get(&format!("/{kind}")).copied().unwrap_or_default();
            return Err(reader.problem(
                place.line.max(1),
                place.column.max(1),
                format!("`{kind}:` must be followed by a name"),
            ));
        };
        // The parser may count more lines than there are: a lone carriage return is one to it.
        let last = reader.lines.len();
        let from = start.saturating_sub(1).min(last);
        let to = if end >= last { last } else { end.saturating_sub(1).clamp(from, last) };
        let body = &reader.lines[from..to];
        let text: Vec<&str> = body
            .iter()
            .map(String::as_str)
            .skip_while(|l| l.trim() == "---")
            .take_while(|l| l.trim() != "---")
            .collect();
        Ok(Some(Document {
            file: reader.file.to_owned(),
            text: format!("{}\n", text.join("\n").trim_end()),
            bytes: self.spent.bytes,
            kind,
            name: name.clone(),
            places: self.places,
            lines: Arc::clone(reader.lines),
            value,
            parts: Parts::default(),
        }))
    }
}

/// What is shown of a line.
pub(super) fn shown(line: &str) -> String {
    match cut(line, MAX_SHOWN) {
        whole if whole.len() == line.len() => whole.to_owned(),
        beginning => format!("{beginning} ..."),
    }
}

fn size(value: &Value) -> Size {
    let mut all = Size { nodes: 1, bytes: size_of::<Value>() };
    let mut add = |key: usize, item: &Value| {
        let Size { nodes, bytes } = size(item);
        all = Size { nodes: all.nodes + nodes, bytes: all.bytes + key + bytes };
    };
    match value {
        Value::Array(items) => items.iter().for_each(|item| add(0, item)),
        Value::Object(map) => map.iter().for_each(|(key, item)| add(key.len(), item)),
        Value::String(text) => all.bytes += text.len(),
        _ => {}
    }
    all
}

/// YAML 1.2, section 10.3.2: the core schema.
fn resolve(text: &str) -> Value {
    match text {
        "" | "~" | "null" | "Null" | "NULL" => return Value::Null,
        "true" | "True" | "TRUE" => return Value::Bool(true),
        "false" | "False" | "FALSE" => return Value::Bool(false),
        _ => {}
    }
    let radix =
        |prefix, base| text.strip_prefix(prefix).and_then(|d| i64::from_str_radix(d, base).ok());
    let numeric = text.starts_with(|c: char| c.is_ascii_digit() || matches!(c, '-' | '+' | '.'))
        && text.chars().all(|c| c.is_ascii_digit() || matches!(c, '-' | '+' | '.' | 'e' | 'E'))
        && text.contains(|c: char| c.is_ascii_digit());
    let whole = radix("0x", 16)
        .or_else(|| radix("0o", 8))
        .or_else(|| numeric.then(|| text.parse().ok())?);
    if let Some(i) = whole {
        return Value::from(i);
    }
    match numeric.then(|| text.parse::<f64>()) {
        Some(Ok(f)) if f.is_finite() => Value::from(f),
        _ => Value::String(text.to_owned()),
    }
}
