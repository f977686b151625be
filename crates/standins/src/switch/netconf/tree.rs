//! XML as a tree, and subtree filters over it (RFC 6241, section 6).

use quick_xml::{
    NsReader,
    escape::{escape, unescape},
    events::Event,
    name::ResolveResult,
};
use std::fmt::Write;

/// An element.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub(super) struct Node {
    pub namespace: String,
    pub name: String,
    /// By name without a prefix.
    pub attributes: Vec<(String, String)>,
    pub children: Vec<Node>,
    pub text: String,
}

impl Node {
    pub fn new(namespace: &str, name: &str, children: Vec<Self>) -> Self {
        let (namespace, name) = (namespace.to_owned(), name.to_owned());
        Self { namespace, name, children, ..Self::default() }
    }

    pub fn leaf(namespace: &str, name: &str, text: impl Into<String>) -> Self {
        Self { text: text.into(), ..Self::new(namespace, name, Vec::new()) }
    }

    pub fn child(&self, name: &str) -> Option<&Self> {
        self.children.iter().find(|child| child.name == name)
    }

    /// The text of a child, without white space around it.
    pub fn text_of(&self, name: &str) -> Option<&str> {
        self.child(name).map(|child| child.text.trim())
    }

    pub fn attribute(&self, name: &str) -> Option<&str> {
        self.attributes.iter().find(|(its, _)| its == name).map(|(_, value)| value.as_str())
    }

    /// Reads a text; `None` if it is no XML.
    pub fn read(text: &[u8]) -> Option<Self> {
        let mut reader = NsReader::from_str(str::from_utf8(text).ok()?.trim());
        reader.config_mut().expand_empty_elements = true;
        let mut open: Vec<Self> = Vec::new();
        loop {
            let (namespace, event) = reader.read_resolved_event().ok()?;
            let namespace = match namespace {
                ResolveResult::Bound(namespace) => namespace.0.to_owned(),
                _ => String::new(),
            };
            match event {
                Event::Start(start) => {
                    let attributes = start.attributes().filter_map(Result::ok).map(|one| {
                        (one.key.local_name().into_inner().to_owned(), one.value.into_owned())
                    });
                    let attributes = attributes.collect();
                    let name = start.local_name().into_inner();
                    open.push(Self { attributes, ..Self::new(&namespace, name, Vec::new()) });
                }
                Event::End(_) => {
                    let ended = open.pop()?;
                    match open.last_mut() {
                        Some(parent) => parent.children.push(ended),
                        None => return Some(ended),
                    }
                }
                Event::Text(text) => open.last_mut()?.text.push_str(&text.xml10_content()),
                Event::CData(text) => open.last_mut()?.text.push_str(&text.xml10_content()),
                Event::GeneralRef(reference) => {
                    let text = format!("&{};", reference.into_inner());
                    open.last_mut()?.text.push_str(&unescape(&text).ok()?);
                }
                Event::DocType(_) | Event::Eof => return None,
                Event::Empty(_) | Event::Comment(_) | Event::Decl(_) | Event::PI(_) => {}
            }
        }
    }

    /// Writes it, within elements of that namespace.
    pub fn write(&self, within: &str, out: &mut String) {
        let _ = write!(out, "<{}", self.name);
        if self.namespace != within {
            let _ = write!(out, " xmlns=\"{}\"", self.namespace);
        }
        out.push('>');
        out.push_str(&escape(&self.text));
        for child in &self.children {
            child.write(&self.namespace, out);
        }
        let _ = write!(out, "</{}>", self.name);
    }

    /// What a filter leaves of it; `None` if nothing.
    pub fn filtered(&self, filter: &Self) -> Option<Self> {
        let is_named = self.name == filter.name
            && (filter.namespace.is_empty() || self.namespace == filter.namespace);
        if !is_named {
            return None;
        }
        if filter.children.is_empty() {
            let asked = filter.text.trim();
            return (asked.is_empty() || self.text.trim() == asked).then(|| self.clone());
        }
        let (matches, selects): (Vec<&Self>, Vec<&Self>) = filter
            .children
            .iter()
            .partition(|one| one.children.is_empty() && !one.text.trim().is_empty());
        let kept = |child: &Self, by: &[&Self]| by.iter().find_map(|one| child.filtered(one));
        let is_meant = |one: &&Self| self.children.iter().any(|c| c.filtered(one).is_some());
        if !matches.iter().all(is_meant) {
            return None;
        }
        let children: Vec<Self> = match selects.is_empty() {
            true => self.children.clone(),
            false => {
                let both = [matches, selects].concat();
                self.children.iter().filter_map(|child| kept(child, &both)).collect()
            }
        };
        (!children.is_empty()).then(|| Self { children, ..self.clone() })
    }
}
