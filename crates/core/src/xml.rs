//! XML that other sides say (Namespaces in XML 1.0), as values: read without document types, and
//! within bounds.

use quick_xml::{
    NsReader,
    events::Event,
    name::{Namespace, ResolveResult},
};
use serde_json::{Map, Value};

/// Deepest elements within each other, and most of them in one text.
const MAX_DEPTH: usize = 64;
const MAX_ELEMENTS: usize = 100_000;
/// The key of the text of an element that has attributes.
const TEXT: &str = "$";

/// An element as it came.
#[derive(Debug, Default)]
pub(crate) struct XmlElement {
    /// Its name without a prefix.
    pub name: String,
    /// Whether it is of the namespace that was asked for.
    pub is_base: bool,
    /// Names without a prefix, with values; those that declare namespaces are left out.
    pub attributes: Vec<(String, String)>,
    pub children: Vec<XmlElement>,
    pub text: String,
}

/// Which elements are lists, however many there are, and whether attributes are a part of values.
#[derive(Clone, Copy, Debug)]
pub(crate) struct XmlValues<'l> {
    pub lists: &'l [String],
    pub attributes: bool,
}

impl XmlElement {
    /// The value of an attribute.
    pub fn attribute(&self, name: &str) -> Option<&str> {
        self.attributes.iter().find(|(its, _)| its == name).map(|(_, value)| value.as_str())
    }

    /// Its text, or a map of the elements in it.
    pub fn into_value(self, values: XmlValues<'_>) -> Value {
        let attributes = match values.attributes {
            true => self.attributes,
            false => Vec::new(),
        };
        if attributes.is_empty() && self.children.is_empty() {
            return Value::String(self.text);
        }
        let named = attributes.into_iter();
        let mut map: Map<String, Value> =
            named.map(|(name, value)| (format!("@{name}"), Value::String(value))).collect();
        match self.children.is_empty() {
            true => _ = map.insert(TEXT.to_owned(), Value::String(self.text)),
            false => add_fields(&mut map, self.children, values),
        }
        Value::Object(map)
    }
}

/// A map of elements: those of one name are a list.
pub(crate) fn fields(children: Vec<XmlElement>, values: XmlValues<'_>) -> Value {
    let mut map = Map::new();
    add_fields(&mut map, children, values);
    Value::Object(map)
}

fn add_fields(map: &mut Map<String, Value>, children: Vec<XmlElement>, values: XmlValues<'_>) {
    for child in children {
        let (name, value) = (child.name.clone(), child.into_value(values));
        match map.get_mut(&name) {
            Some(Value::Array(all)) => all.push(value),
            Some(one) => *one = Value::Array(vec![one.take(), value]),
            None if values.lists.contains(&name) => {
                map.insert(name, Value::Array(vec![value]));
            }
            None => _ = map.insert(name, value),
        }
    }
}

/// Reads a text: its one outermost element.
///
/// # Errors
/// Why it is none that is read.
pub(crate) fn read(text: &[u8], base: &str) -> Result<XmlElement, String> {
    let text = str::from_utf8(text).map_err(|_| "said something that is no UTF-8".to_owned())?;
    let wrong = |e: &dyn std::fmt::Display| format!("said something that is no XML: {e}");
    let mut reader = NsReader::from_str(text.trim_start_matches('\u{feff}').trim_start());
    reader.config_mut().expand_empty_elements = true;
    let (mut open, mut root, mut elements): (Vec<XmlElement>, Option<XmlElement>, usize) =
        (Vec::new(), None, 0);
    loop {
        let (namespace, event) = reader.read_resolved_event().map_err(|e| wrong(&e))?;
        let is_base = namespace == ResolveResult::Bound(Namespace(base));
        match event {
            Event::Start(start) => {
                elements += 1;
                if open.len() >= MAX_DEPTH || elements > MAX_ELEMENTS {
                    return Err(format!(
                        "said more than is read: {MAX_ELEMENTS} elements, {MAX_DEPTH} deep"
                    ));
                }
                if root.is_some() {
                    return Err(wrong(&"two elements where one was expected"));
                }
                let mut attributes = Vec::new();
                for attribute in start.attributes() {
                    let attribute = attribute.map_err(|e| wrong(&e))?;
                    if attribute.key.as_namespace_binding().is_none() {
                        let name = attribute.key.local_name().into_inner().to_owned();
                        attributes.push((name, attribute.value.into_owned()));
                    }
                }
                let name = start.local_name().into_inner().to_owned();
                open.push(XmlElement { name, is_base, attributes, ..XmlElement::default() });
            }
            Event::End(_) => {
                let Some(ended) = open.pop() else { return Err(wrong(&"it ends too early")) };
                match open.last_mut() {
                    Some(parent) => parent.children.push(ended),
                    None => root = Some(ended),
                }
            }
            Event::Text(text) => add(&mut open, &text.xml10_content()),
            Event::CData(text) => add(&mut open, &text.xml10_content()),
            Event::GeneralRef(reference) => {
                let text = format!("&{};", reference.into_inner());
                let unescaped = quick_xml::escape::unescape(&text).map_err(|e| wrong(&e))?;
                add(&mut open, &unescaped);
            }
            Event::DocType(_) => return Err("said a document type, which is not read".into()),
            Event::Eof => break,
            Event::Empty(_) | Event::Comment(_) | Event::Decl(_) | Event::PI(_) => {}
        }
    }
    match root {
        Some(root) if open.is_empty() => Ok(root),
        _ => Err("said something that is no XML: it ends in the middle".into()),
    }
}

fn add(open: &mut [XmlElement], text: &str) {
    if let Some(last) = open.last_mut() {
        last.text.push_str(text);
    }
}

/// Text as it stands in an element or an attribute, line ends and all.
pub(crate) fn escaped(text: &str) -> String {
    let mut out = String::with_capacity(text.len());
    for c in text.chars() {
        match c {
            '&' => out.push_str("&amp;"),
            '<' => out.push_str("&lt;"),
            '>' => out.push_str("&gt;"),
            '"' => out.push_str("&quot;"),
            '\'' => out.push_str("&apos;"),
            '\t' => out.push_str("&#9;"),
            '\n' => out.push_str("&#10;"),
            '\r' => out.push_str("&#13;"),
            c => out.push(c),
        }
    }
    out
}
