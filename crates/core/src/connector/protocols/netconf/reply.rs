//! What a device says: its hello, and its replies (RFC 6241, sections 4 and 8.1). Read with the
//! namespaces that it declares, without document types, and within bounds.

use quick_xml::{
    NsReader,
    events::Event,
    name::{Namespace, ResolveResult},
};
use serde_json::{Map, Value};

/// The base namespace of NETCONF.
pub(super) const BASE: &str = "urn:ietf:params:xml:ns:netconf:base:1.0";
/// Deepest elements within each other, and most of them in one message.
const MAX_DEPTH: usize = 64;
const MAX_ELEMENTS: usize = 100_000;

/// An element as it came: its own name, whether it is of the base namespace, and what is in it.
#[derive(Debug, Default)]
struct Received {
    name: String,
    is_base: bool,
    message_id: Option<String>,
    children: Vec<Received>,
    text: String,
}

/// Why a device refuses (RFC 6241, section 4.3).
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub(super) struct RpcError {
    /// What kind of error, such as `lock-denied`.
    pub tag: String,
    /// Its own words.
    pub message: String,
    /// Where.
    pub path: String,
}

/// A reply to a request.
#[derive(Debug)]
pub(super) enum Reply {
    /// With what is in it; nothing where all is well and there is nothing to say.
    Ok(Value),
    /// The first error.
    Refused(RpcError),
}

/// The capabilities that a hello announces.
///
/// # Errors
/// Why it is no hello.
pub(super) fn capabilities(message: &[u8]) -> Result<Vec<String>, String> {
    let hello = read(message)?;
    if hello.name != "hello" {
        return Err(format!("began with `{}` instead of a hello", hello.name));
    }
    let all = hello.children.into_iter().filter(|child| child.name == "capabilities");
    let all: Vec<String> = all.flat_map(|all| all.children).map(|one| one.text).collect();
    match all.is_empty() {
        true => Err("announced no capabilities".into()),
        false => Ok(all.into_iter().map(|text| text.trim().to_owned()).collect()),
    }
}

/// Reads a reply to the request of that number; `None` if the message is something else, such as a
/// notification. Elements of a name of `lists` are lists, however many there are.
///
/// # Errors
/// Why it is no reply.
pub(super) fn reply(message: &[u8], id: usize, lists: &[String]) -> Result<Option<Reply>, String> {
    let reply = read(message)?;
    if reply.name != "rpc-reply" || !reply.is_base {
        return Ok(None);
    }
    // What it could not read at all has no number (RFC 6241, section 4.3).
    if reply.message_id.as_ref().is_some_and(|its| *its != id.to_string()) {
        return Err("answered another request than it was sent".into());
    }
    let is_error = |child: &&Received| child.name == "rpc-error" && child.is_base;
    let text = |error: &Received, name: &str| {
        let found = error.children.iter().find(|child| child.name == name);
        found.map(|child| child.text.trim().to_owned()).unwrap_or_default()
    };
    let errors = reply.children.iter().filter(is_error);
    if let Some(error) = errors.into_iter().find(|error| text(error, "error-severity") != "warning")
    {
        return Ok(Some(Reply::Refused(RpcError {
            tag: text(error, "error-tag"),
            message: text(error, "error-message"),
            path: text(error, "error-path"),
        })));
    }
    let said =
        reply.children.into_iter().filter(|child| !(child.is_base && child.name == "rpc-error"));
    let said: Vec<Received> = said.filter(|child| !(child.is_base && child.name == "ok")).collect();
    Ok(Some(Reply::Ok(fields(said, lists))))
}

fn fields(children: Vec<Received>, lists: &[String]) -> Value {
    let mut map = Map::new();
    for child in children {
        let (name, value) = (child.name.clone(), child.into_value(lists));
        match map.get_mut(&name) {
            Some(Value::Array(all)) => all.push(value),
            Some(one) => *one = Value::Array(vec![one.take(), value]),
            None if lists.contains(&name) => _ = map.insert(name, Value::Array(vec![value])),
            None => _ = map.insert(name, value),
        }
    }
    Value::Object(map)
}

impl Received {
    /// Its text, or a map of the elements in it.
    fn into_value(self, lists: &[String]) -> Value {
        match self.children.is_empty() {
            true => Value::String(self.text),
            false => fields(self.children, lists),
        }
    }
}

/// Reads a message: its one outermost element.
fn read(message: &[u8]) -> Result<Received, String> {
    let text = str::from_utf8(message).map_err(|_| "said something that is no UTF-8".to_owned())?;
    let wrong = |e: &dyn std::fmt::Display| format!("said something that is no XML: {e}");
    let mut reader = NsReader::from_str(text.trim_start_matches('\u{feff}').trim_start());
    reader.config_mut().expand_empty_elements = true;
    let (mut open, mut root, mut elements): (Vec<Received>, Option<Received>, usize) =
        (Vec::new(), None, 0);
    loop {
        let (namespace, event) = reader.read_resolved_event().map_err(|e| wrong(&e))?;
        let is_base = namespace == ResolveResult::Bound(Namespace(BASE));
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
                let message_id = match is_base && open.is_empty() {
                    true => start
                        .try_get_attribute("message-id")
                        .map_err(|e| wrong(&e))?
                        .map(|id| id.value.into_owned()),
                    false => None,
                };
                let name = start.local_name().into_inner().to_owned();
                open.push(Received { name, is_base, message_id, ..Received::default() });
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

fn add(open: &mut [Received], text: &str) {
    if let Some(last) = open.last_mut() {
        last.text.push_str(text);
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    proptest! {
        #[test]
        fn whatever_a_device_says_is_read_or_refused(bytes in prop::collection::vec(any::<u8>(), 0..400)) {
            let _ = (reply(&bytes, 1, &[]), capabilities(&bytes));
        }

        #[test]
        fn whatever_looks_like_xml_is_read_or_refused(
            parts in prop::collection::vec(prop::sample::select(vec![
                "<rpc-reply xmlns=\"urn:ietf:params:xml:ns:netconf:base:1.0\" message-id=\"1\">",
                "</rpc-reply>", "<ok/>", "<rpc-error>", "</rpc-error>", "<a:b>", "</a:b>", "<!--", "-->",
                "<![CDATA[", "]]>", "&amp;", "&x;", "&#0;", "<!DOCTYPE a [<!ENTITY b \"c\">]>", "text", "<", ">",
                "<data>", "</data>", "xmlns:a=\"u\"", "<?pi", "?>",
            ]), 0..30)
        ) {
            let _ = reply(parts.concat().as_bytes(), 1, &["b".to_owned()]);
        }
    }
}
