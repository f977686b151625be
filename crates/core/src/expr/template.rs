//! Values with `${ ... }` in their strings. A string that is one `${ ... }` and nothing else
//! keeps the value's type; `$${` stands for the two characters `${`.

use super::{Expr, ExprError, Names, Scope, eval::MAX_RESULT};
use crate::bounds::{depth_diagnostic, too_deep, weight};
use crate::text::clean_json;
use serde_json::{Map, Value};

/// A compiled value of a definition.
#[derive(Clone, Debug)]
pub enum Template {
    /// Nothing to fill in.
    Fixed(Value),
    /// One expression and nothing else.
    Whole(Expr),
    /// Text with expressions in it.
    Text(Vec<Part>),
    /// A list of templates.
    List(Vec<Template>),
    /// A map of templates.
    Map(Vec<(String, Template)>),
}

/// What becomes of a whole value that reads a field which is not there.
#[derive(Clone, Copy, Debug)]
enum Absent {
    Wrong,
    LeftOut,
}

/// A piece of a text.
#[derive(Clone, Debug)]
pub enum Part {
    /// As written.
    Plain(String),
    /// To be filled in.
    Fill(Expr),
}

/// What is wrong in a template: where in the value, and the expression's own diagnostic.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
#[error("{error}")]
pub struct TemplateError {
    /// JSON pointer (RFC 6901) below the template's own place.
    pub pointer: String,
    /// The expression as written.
    pub text: String,
    /// The diagnostic.
    pub error: ExprError,
}

impl Template {
    /// Compiles every string of a value; all diagnostics at once.
    pub fn compile(value: &Value, names: Names<'_>) -> Result<Self, Vec<TemplateError>> {
        let mut errors = Vec::new();
        let made = build(value, names, &mut String::new(), &mut errors);
        if errors.is_empty() { Ok(made) } else { Err(errors) }
    }

    /// The value, where nothing is to be filled in.
    pub fn fixed(&self) -> Option<Value> {
        match self {
            Self::Fixed(value) => Some(value.clone()),
            Self::Whole(_) | Self::Text(_) => None,
            Self::List(items) => {
                items.iter().map(Self::fixed).collect::<Option<_>>().map(Value::Array)
            }
            Self::Map(entries) => {
                let fixed = entries.iter().map(|(k, t)| Some((k.clone(), t.fixed()?)));
                fixed.collect::<Option<_>>().map(Value::Object)
            }
        }
    }

    /// What is written out of a map: the keys, and the values in which nothing is to be filled in.
    pub fn written_out(&self) -> Vec<(&str, Value)> {
        match self {
            Self::Map(entries) => {
                entries.iter().filter_map(|(k, t)| Some((k.as_str(), t.fixed()?))).collect()
            }
            _ => Vec::new(),
        }
    }

    /// Whether what its text begins with is filled in.
    pub fn begins_filled_in(&self) -> bool {
        match self {
            Self::Fixed(_) => false,
            Self::Text(parts) => matches!(parts.first(), Some(Part::Fill(_))),
            Self::Whole(_) | Self::List(_) | Self::Map(_) => true,
        }
    }

    /// Whether any of its expressions looks at the alert's payload.
    pub fn reads_body(&self) -> bool {
        match self {
            Self::Fixed(_) => false,
            Self::Whole(e) => e.reads_body(),
            Self::Text(parts) => parts.iter().any(|p| matches!(p, Part::Fill(e) if e.reads_body())),
            Self::List(items) => items.iter().any(Self::reads_body),
            Self::Map(entries) => entries.iter().any(|(_, t)| t.reads_body()),
        }
    }

    /// Whether any of its expressions may look at the payloads of gathered alerts.
    pub fn reads_gathered_bodies(&self) -> bool {
        match self {
            Self::Fixed(_) => false,
            Self::Whole(e) => e.reads_gathered_bodies(),
            Self::Text(parts) => {
                parts.iter().any(|p| matches!(p, Part::Fill(e) if e.reads_gathered_bodies()))
            }
            Self::List(items) => items.iter().any(Self::reads_gathered_bodies),
            Self::Map(entries) => entries.iter().any(|(_, t)| t.reads_gathered_bodies()),
        }
    }

    /// Whether any of its expressions starts from this name.
    pub fn reads(&self, name: &str) -> bool {
        match self {
            Self::Fixed(_) => false,
            Self::Whole(e) => e.reads(name),
            Self::Text(parts) => parts.iter().any(|p| matches!(p, Part::Fill(e) if e.reads(name))),
            Self::List(items) => items.iter().any(|t| t.reads(name)),
            Self::Map(entries) => entries.iter().any(|(_, t)| t.reads(name)),
        }
    }

    /// What stands under each key of a map.
    pub fn entries(&self) -> Vec<(String, Self)> {
        match self {
            Self::Map(entries) => entries.clone(),
            Self::Fixed(Value::Object(map)) => {
                map.iter().map(|(k, v)| (k.clone(), Self::Fixed(v.clone()))).collect()
            }
            _ => Vec::new(),
        }
    }

    /// Its expressions, each with the JSON pointer (RFC 6901) of its string.
    pub fn expressions(&self) -> Vec<(String, &Expr)> {
        fn below<'t>(key: &str, template: &'t Template) -> Vec<(String, &'t Expr)> {
            let key = key.replace('~', "~0").replace('/', "~1");
            template.expressions().into_iter().map(|(at, e)| (format!("/{key}{at}"), e)).collect()
        }
        match self {
            Self::Fixed(_) => Vec::new(),
            Self::Whole(e) => vec![(String::new(), e)],
            Self::Text(parts) => parts
                .iter()
                .filter_map(|p| match p {
                    Part::Fill(e) => Some((String::new(), e)),
                    Part::Plain(_) => None,
                })
                .collect(),
            Self::List(items) => {
                items.iter().enumerate().flat_map(|(i, t)| below(&i.to_string(), t)).collect()
            }
            Self::Map(entries) => entries.iter().flat_map(|(k, t)| below(k, t)).collect(),
        }
    }

    /// Every call of a function of one argument: the text that it is given, where that is written
    /// out.
    pub fn calls(&self, function: &str) -> Vec<Option<String>> {
        match self {
            Self::Fixed(_) => Vec::new(),
            Self::Whole(e) => e.calls(function).collect(),
            Self::Text(parts) => parts
                .iter()
                .flat_map(|p| match p {
                    Part::Fill(e) => e.calls(function).collect(),
                    Part::Plain(_) => Vec::new(),
                })
                .collect(),
            Self::List(items) => items.iter().flat_map(|t| t.calls(function)).collect(),
            Self::Map(entries) => entries.iter().flat_map(|(_, t)| t.calls(function)).collect(),
        }
    }

    /// The value with everything filled in.
    ///
    /// # Errors
    /// What goes wrong in an expression, and a value that is too large or nested too deeply.
    pub fn fill<'a>(&'a self, scope: &'a dyn Scope<'a>) -> Result<Value, ExprError> {
        let value = self.filled(scope, &mut 0)?;
        if too_deep(&value) {
            return Err(ExprError::new(depth_diagnostic()));
        }
        Ok(clean_json(value))
    }

    /// Fills in part by part and counts what has been made so far.
    fn filled<'a>(
        &'a self,
        scope: &'a dyn Scope<'a>,
        made: &mut usize,
    ) -> Result<Value, ExprError> {
        Ok(self.filled_as(scope, made, Absent::Wrong)?.unwrap_or(Value::Null))
    }

    fn filled_as<'a>(
        &'a self,
        scope: &'a dyn Scope<'a>,
        made: &mut usize,
        absent: Absent,
    ) -> Result<Option<Value>, ExprError> {
        let value = match self {
            Self::Fixed(v) => v.clone(),
            Self::Whole(e) => match named(e, e.eval(scope)) {
                Ok(value) => value.to_json(),
                Err(e) if e.missing && matches!(absent, Absent::LeftOut) => return Ok(None),
                Err(e) => return Err(e),
            },
            Self::Text(parts) => Value::String(join(parts, scope, str::to_owned)?),
            Self::List(items) => {
                let items = items
                    .iter()
                    .map(|i| i.filled_as(scope, made, absent))
                    .collect::<Result<Vec<_>, _>>()?;
                return Ok(Some(Value::Array(items.into_iter().flatten().collect())));
            }
            Self::Map(entries) => {
                let mut map = Map::new();
                for (key, item) in entries {
                    if let Some(value) = item.filled_as(scope, made, absent)? {
                        map.insert(key.clone(), value);
                    }
                }
                return Ok(Some(Value::Object(map)));
            }
        };
        let bytes = weight(&value, MAX_RESULT);
        *made += bytes;
        pay(scope, bytes)?;
        if *made > MAX_RESULT {
            Err(ExprError::new("the result is too large"))
        } else {
            Ok(Some(value))
        }
    }

    /// As [`fill`](Self::fill), but for what is not there: a whole value that reads a missing field
    /// is none, and so is a key of a map with such a value.
    ///
    /// # Errors
    /// As `fill`.
    pub fn fill_given<'a>(&'a self, scope: &'a dyn Scope<'a>) -> Result<Option<Value>, ExprError> {
        let value = self.filled_as(scope, &mut 0, Absent::LeftOut)?;
        if value.as_ref().is_some_and(too_deep) {
            return Err(ExprError::new(depth_diagnostic()));
        }
        Ok(value.map(clean_json))
    }

    /// As a string in which what is filled in was encoded, and what was written was not.
    pub fn fill_encoded<'a>(
        &'a self,
        scope: &'a dyn Scope<'a>,
        encode: fn(&str) -> String,
    ) -> Result<String, ExprError> {
        match self {
            Self::Text(parts) => join(parts, scope, encode),
            Self::Whole(e) => Ok(encode(&named(e, e.eval(scope))?.text())),
            _ => self.fill_text(scope),
        }
    }

    /// As a string, whatever the value's type.
    pub fn fill_text<'a>(&'a self, scope: &'a dyn Scope<'a>) -> Result<String, ExprError> {
        Ok(match self.fill(scope)? {
            Value::String(s) => s,
            other => other.to_string(),
        })
    }
}

/// Pays for bytes that are made of what an evaluation gave.
fn pay<'a>(scope: &'a dyn Scope<'a>, bytes: usize) -> Result<(), ExprError> {
    let Some(left) = scope.allowance() else { return Ok(()) };
    let steps = u32::try_from(bytes / super::BYTES_A_STEP).unwrap_or(u32::MAX);
    left.set(left.get().saturating_sub(steps));
    if left.get() == 0 { Err(super::too_much_together()) } else { Ok(()) }
}

fn join<'a>(
    parts: &'a [Part],
    scope: &'a dyn Scope<'a>,
    encode: fn(&str) -> String,
) -> Result<String, ExprError> {
    let mut text = String::new();
    for part in parts {
        match part {
            Part::Plain(p) => text.push_str(p),
            Part::Fill(e) => {
                let filled = encode(&named(e, e.eval(scope))?.text());
                pay(scope, filled.len())?;
                text.push_str(&filled);
            }
        }
        if text.len() > MAX_RESULT {
            return Err(ExprError::new("the result is too large"));
        }
    }
    Ok(text)
}

fn named<T>(e: &Expr, result: Result<T, ExprError>) -> Result<T, ExprError> {
    result.map_err(|mut err| {
        err.message = format!("${{{}}}: {}", e.text().trim(), err.message);
        err
    })
}

fn build(
    value: &Value,
    names: Names<'_>,
    at: &mut String,
    errors: &mut Vec<TemplateError>,
) -> Template {
    let mut within = |part: &str, item: &Value| {
        let before = at.len();
        at.push('/');
        at.push_str(&part.replace('~', "~0").replace('/', "~1"));
        let made = build(item, names, at, errors);
        at.truncate(before);
        made
    };
    match value {
        Value::Array(items) => Template::List(
            items.iter().enumerate().map(|(i, item)| within(&i.to_string(), item)).collect(),
        ),
        Value::Object(map) => {
            Template::Map(map.iter().map(|(k, item)| (k.clone(), within(k, item))).collect())
        }
        Value::String(s) if forgotten(s, names) => {
            let error = ExprError::new(format!(
                "is the plain text `{s}`; to fill in its value write `${{{s}}}`"
            ));
            errors.push(TemplateError { pointer: at.clone(), text: s.clone(), error });
            Template::Fixed(Value::Null)
        }
        Value::String(s) if s.contains("${") => match text(s, names) {
            Ok(t) => t,
            Err((text, error)) => {
                errors.push(TemplateError { pointer: at.clone(), text, error });
                Template::Fixed(Value::Null)
            }
        },
        other => Template::Fixed(other.clone()),
    }
}

/// Whether a text is a path from one of the names, and nothing else: then the `${ }` around it was
/// forgotten.
fn forgotten(s: &str, names: Names<'_>) -> bool {
    let Some((root, path)) = s.split_once('.') else { return false };
    let name = |part: &str| {
        let first = part.starts_with(|c: char| c.is_ascii_alphabetic() || c == '_');
        first && part.chars().all(|c| c.is_ascii_alphanumeric() || c == '_')
    };
    names.roots.contains(&root) && path.split('.').all(name)
}

fn text(s: &str, names: Names<'_>) -> Result<Template, (String, ExprError)> {
    let mut parts = Vec::new();
    let mut plain = String::new();
    let mut rest = s;
    while let Some(at) = rest.find("${") {
        if rest[..at].ends_with('$') {
            plain.push_str(&rest[..at - 1]);
            plain.push_str("${");
            rest = &rest[at + 2..];
            continue;
        }
        plain.push_str(&rest[..at]);
        let inner = &rest[at + 2..];
        let end = closing(inner)
            .ok_or_else(|| (inner.to_owned(), ExprError::new("the closing } of ${ is missing")))?;
        let expr = Expr::compile(&inner[..end], names).map_err(|e| (inner[..end].to_owned(), e))?;
        if !plain.is_empty() {
            parts.push(Part::Plain(std::mem::take(&mut plain)));
        }
        parts.push(Part::Fill(expr));
        rest = &inner[end + 1..];
    }
    plain.push_str(rest);
    if !plain.is_empty() {
        parts.push(Part::Plain(plain));
    }
    Ok(match parts.as_mut_slice() {
        [Part::Fill(_)] => match parts.pop() {
            Some(Part::Fill(e)) => Template::Whole(e),
            _ => Template::Text(parts),
        },
        [Part::Plain(p)] => Template::Fixed(Value::String(std::mem::take(p))),
        _ => Template::Text(parts),
    })
}

/// Where the brace that ends an expression stands: braces nest, strings hide them.
fn closing(text: &str) -> Option<usize> {
    let mut depth = 0u32;
    let mut quote = None;
    let mut escaped = false;
    for (i, c) in text.char_indices() {
        match (quote, c) {
            _ if escaped => escaped = false,
            (Some(_), '\\') => escaped = true,
            (Some(q), c) if c == q => quote = None,
            (Some(_), _) => {}
            (None, '"' | '\'' | '`') => quote = Some(c),
            (None, '{') => depth += 1,
            (None, '}') if depth == 0 => return Some(i),
            (None, '}') => depth -= 1,
            _ => {}
        }
    }
    None
}
