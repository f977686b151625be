//! Elements of XML (Namespaces in XML 1.0) as they are written in a document: a map whose keys are
//! the names of elements. Values are filled into the text of elements and attributes and nowhere
//! else, so that whatever they hold cannot become an element.

use crate::{
    connector::protocols::{RequestError, shared::CallScope},
    document::Checker,
    expr::{Names, Template},
    text::cut,
    xml::escaped,
};
use serde_json::{Map, Value};

/// Begins the name of an attribute, and is that of the text beside attributes.
const ATTRIBUTE: char = '@';
const TEXT: &str = "$";
/// The prefix that is declared for the base namespace of NETCONF.
pub(super) const BASE_PREFIX: &str = "nc";
/// Deepest elements within each other.
const MAX_DEPTH: usize = 32;

/// A checked element.
#[derive(Clone, Debug)]
struct Element {
    name: String,
    attributes: Vec<(String, Template)>,
    content: Content,
}

#[derive(Clone, Debug)]
enum Content {
    Elements(Vec<Element>),
    /// Text; a list that is filled in is as many elements.
    Text(Template),
}

/// Checked elements.
#[derive(Clone, Debug, Default)]
pub(super) struct Elements(Vec<Element>);

/// What names may be used in a place.
#[derive(Clone, Copy)]
struct Declared<'d> {
    prefixes: &'d [String],
    depth: usize,
}

impl Elements {
    /// Checks elements, each of which says its namespace if it must.
    pub fn check(
        check: &mut Checker<'_>,
        at: &str,
        written: &Map<String, Value>,
        names: Names<'_>,
        must_say_namespace: bool,
    ) -> Option<Self> {
        let base = [BASE_PREFIX.to_owned()];
        let declared = Declared { prefixes: &base, depth: 0 };
        let elements = elements(check, at, written, names, declared);
        for name in written.keys().filter(|name| must_say_namespace && !name.contains(':')) {
            let says = |value: &Value| value.get("@xmlns").is_some();
            let is_said = match &written[name] {
                Value::Array(all) => all.iter().all(says),
                one => says(one),
            };
            if !is_said {
                let wrong =
                    "says no namespace: write it as `\"@xmlns\"`, as the YANG module has it";
                check.fail(&pointer(at, name), wrong);
            }
        }
        elements.map(Self)
    }

    /// The names of the outermost elements.
    pub fn names(written: &Map<String, Value>) -> String {
        written.keys().map(String::as_str).collect::<Vec<_>>().join(", ")
    }

    /// As XML, with everything filled in.
    ///
    /// # Errors
    /// What cannot be filled in, or is no text.
    pub fn fill(&self, view: &CallScope<'_>) -> Result<String, RequestError> {
        let mut xml = String::new();
        for element in &self.0 {
            element.write(&mut xml, view)?;
        }
        Ok(xml)
    }
}

fn pointer(at: &str, key: &str) -> String {
    format!("{at}/{}", key.replace('~', "~0").replace('/', "~1"))
}

fn elements(
    check: &mut Checker<'_>,
    at: &str,
    written: &Map<String, Value>,
    names: Names<'_>,
    declared: Declared<'_>,
) -> Option<Vec<Element>> {
    let mut made = Some(Vec::new());
    for (name, value) in written {
        let at = pointer(at, name);
        let each: Vec<(String, &Value)> = match value {
            Value::Array(all) => {
                all.iter().enumerate().map(|(n, one)| (format!("{at}/{n}"), one)).collect()
            }
            one => vec![(at, one)],
        };
        for (at, value) in each {
            let element = element(check, &at, name, value, names, declared);
            made = made.zip(element).map(|(mut all, one)| {
                all.push(one);
                all
            });
        }
    }
    made
}

fn element(
    check: &mut Checker<'_>,
    at: &str,
    name: &str,
    value: &Value,
    names: Names<'_>,
    declared: Declared<'_>,
) -> Option<Element> {
    if declared.depth >= MAX_DEPTH {
        check.fail(at, format!("is deeper than {MAX_DEPTH} elements"));
        return None;
    }
    let Value::Object(map) = value else {
        must_be_name(check, at, name, declared.prefixes)?;
        let content = Content::Text(check.template(at, value, names)?);
        return Some(Element { name: name.to_owned(), attributes: Vec::new(), content });
    };
    let own: Vec<String> = map
        .keys()
        .filter_map(|key| key.strip_prefix("@xmlns:").map(str::to_owned))
        .chain(declared.prefixes.iter().cloned())
        .collect();
    must_be_name(check, at, name, &own)?;
    let inner = Declared { prefixes: &own, depth: declared.depth + 1 };
    let (mut attributes, mut children, mut text) = (Some(Vec::new()), Map::new(), None);
    for (key, value) in map {
        let place = pointer(at, key);
        if let Some(attribute) = key.strip_prefix(ATTRIBUTE) {
            let is_declaration = attribute == "xmlns" || attribute.starts_with("xmlns:");
            let good = is_declaration || must_be_name(check, &place, attribute, &own).is_some();
            let fixed = value.as_str().is_some_and(|text| !text.contains("${"));
            if is_declaration && !fixed {
                check.fail(&place, "a namespace is written out");
            }
            let made = check.template(&place, value, names).filter(|_| good);
            attributes = attributes.zip(made).map(|(mut all, made)| {
                all.push((attribute.to_owned(), made));
                all
            });
        } else if key == TEXT {
            text = Some(check.template(&place, value, names));
        } else {
            children.insert(key.clone(), value.clone());
        }
    }
    let content = match text {
        Some(_) if !children.is_empty() => {
            check.fail(&pointer(at, TEXT), "stands beside attributes alone, not beside elements");
            return None;
        }
        Some(text) => Content::Text(text?),
        None => Content::Elements(elements(check, at, &children, names, inner)?),
    };
    Some(Element { name: name.to_owned(), attributes: attributes?, content })
}

/// A name as it may be written here: of ASCII, with a prefix that is declared.
fn must_be_name(check: &mut Checker<'_>, at: &str, name: &str, prefixes: &[String]) -> Option<()> {
    let is_part = |part: &str| {
        part.starts_with(|c: char| c.is_ascii_alphabetic() || c == '_')
            && part.chars().all(|c| c.is_ascii_alphanumeric() || "_-.".contains(c))
    };
    let wrong = match name.split_once(':') {
        None if is_part(name) => return Some(()),
        Some((prefix, local)) if is_part(prefix) && is_part(local) => {
            if prefixes.iter().any(|declared| declared == prefix) {
                return Some(());
            }
            format!("no `\"@xmlns:{prefix}\"` above says which namespace `{prefix}` is")
        }
        _ => "is no name of an element: letters, digits, `-`, `_` and `.`".to_owned(),
    };
    check.fail(at, wrong);
    None
}

impl Element {
    fn write(&self, xml: &mut String, view: &CallScope<'_>) -> Result<(), RequestError> {
        let mut head = format!("<{}", self.name);
        for (name, template) in &self.attributes {
            let value = text(&self.name, &template.fill(view)?)?;
            head.push_str(&format!(" {name}=\"{}\"", escaped(&value)));
        }
        match &self.content {
            Content::Elements(children) if children.is_empty() => {
                xml.push_str(&head);
                xml.push_str("/>");
            }
            Content::Elements(children) => {
                xml.push_str(&head);
                xml.push('>');
                for child in children {
                    child.write(xml, view)?;
                }
                xml.push_str(&format!("</{}>", self.name));
            }
            Content::Text(template) => {
                let values = match template.fill(view)? {
                    Value::Array(values) => values,
                    value => vec![value],
                };
                for value in values {
                    let value = escaped(&text(&self.name, &value)?);
                    match value.is_empty() {
                        true => xml.push_str(&format!("{head}/>")),
                        false => xml.push_str(&format!("{head}>{value}</{}>", self.name)),
                    }
                }
            }
        }
        Ok(())
    }
}

/// A value as the text of an element or an attribute.
fn text(name: &str, value: &Value) -> Result<String, RequestError> {
    let wrong = |why: &str| Err(RequestError::Part(format!("{name}: {why}")));
    match value {
        Value::String(text) => match text.chars().find(|c| !is_character(*c)) {
            Some(c) => wrong(&format!(
                "`{}` has U+{:04X}, which no XML can carry",
                cut(text, 40).replace(c, "\u{fffd}"),
                c as u32
            )),
            None => Ok(text.clone()),
        },
        Value::Number(_) | Value::Bool(_) => Ok(value.to_string()),
        Value::Null => wrong("is nothing (null)"),
        _ => {
            wrong("is a list or a map; elements are written out, and only their text is filled in")
        }
    }
}

/// Whether XML 1.0 has a character (section 2.2).
fn is_character(c: char) -> bool {
    matches!(c, '\t' | '\n' | '\r' | '\u{20}'..='\u{d7ff}' | '\u{e000}'..='\u{fffd}' | '\u{10000}'..)
}
