//! What a device says: its hello, and its replies (RFC 6241, sections 4 and 8.1). Read with the
//! namespaces that it declares, without document types, and within bounds.

use crate::xml::{XmlElement, XmlValues, fields, read};
use serde_json::Value;

/// The base namespace of NETCONF.
pub(super) const BASE: &str = "urn:ietf:params:xml:ns:netconf:base:1.0";

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
    let hello = read(message, BASE)?;
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
    let reply = read(message, BASE)?;
    if reply.name != "rpc-reply" || !reply.is_base {
        return Ok(None);
    }
    // What it could not read at all has no number (RFC 6241, section 4.3).
    if reply.attribute("message-id").is_some_and(|its| its != id.to_string()) {
        return Err("answered another request than it was sent".into());
    }
    let is_error = |child: &&XmlElement| child.name == "rpc-error" && child.is_base;
    let text = |error: &XmlElement, name: &str| {
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
    let said: Vec<XmlElement> =
        said.filter(|child| !(child.is_base && child.name == "ok")).collect();
    Ok(Some(Reply::Ok(fields(said, XmlValues { lists, attributes: false }))))
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
