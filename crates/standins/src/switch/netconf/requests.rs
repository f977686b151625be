//! What the switch does when it is asked over NETCONF (RFC 6241, sections 7 and 8).

use super::{super::configuration::Switch, tree::Node};
use serde_json::Value;
use std::time::Duration;

/// The base namespace.
pub(super) const BASE: &str = "urn:ietf:params:xml:ns:netconf:base:1.0";
const INTERFACES: &str = "urn:ietf:params:xml:ns:yang:ietf-interfaces";
const LLDP: &str = "urn:ieee:std:802.1AB:yang:ieee802-dot1ab-lldp";
/// How long a commit waits to be confirmed if it does not say so (section 8.4.5.1).
const CONFIRM_WITHIN: u64 = 600;

/// An error: its tag, and its words.
type Refused = (&'static str, String);

/// Does what is asked for: what stands in the reply, `<ok/>` if nothing.
pub(super) fn answered(
    switch: &mut Switch,
    asked: &Node,
    session: u32,
) -> Result<Vec<Node>, Refused> {
    switch.settle();
    let target = || asked.child("target").and_then(|target| target.children.first());
    match asked.name.as_str() {
        "get" => Ok(vec![data(all(switch, true), asked)]),
        "get-config" => {
            let source = asked.child("source").and_then(|source| source.children.first());
            match source.map(|source| source.name.as_str()) {
                Some("running") => Ok(vec![data(all(switch, false), asked)]),
                _ => Err(("operation-not-supported", "only running is read".to_owned())),
            }
        }
        "lock" | "unlock" => {
            let which = which(target())?;
            let lock = &mut switch.locks[which];
            match (asked.name.as_str(), *lock) {
                ("lock", None) => *lock = Some(session),
                ("unlock", Some(holder)) if holder == session => *lock = None,
                (_, holder) => {
                    let holder = holder.map_or("nobody".to_owned(), |id| format!("session {id}"));
                    return Err(("lock-denied", format!("the lock is held by {holder}")));
                }
            }
            Ok(Vec::new())
        }
        "edit-config" => {
            if which(target())? != 1 {
                return Err(("operation-not-supported", "the candidate is edited".to_owned()));
            }
            is_free(switch, 1, session)?;
            edited(switch, asked)?;
            Ok(Vec::new())
        }
        "discard-changes" => {
            is_free(switch, 1, session)?;
            switch.candidate = switch.running();
            Ok(Vec::new())
        }
        "validate" => Ok(Vec::new()),
        "commit" => committed(switch, asked, session),
        "cancel-commit" => match switch.waits_for(asked.text_of("persist-id"), session) {
            Some(true) => {
                switch.take_back();
                Ok(Vec::new())
            }
            _ => Err(("invalid-value", "no such commit waits to be confirmed".to_owned())),
        },
        other => Err(("operation-not-supported", format!("{other} is not known here"))),
    }
}

fn committed(switch: &mut Switch, asked: &Node, session: u32) -> Result<Vec<Node>, Refused> {
    is_free(switch, 0, session)?;
    is_free(switch, 1, session)?;
    let persist_id = asked.text_of("persist-id");
    match switch.waits_for(persist_id, session) {
        Some(false) if persist_id.is_none() => {
            let why = "another commit waits to be confirmed".to_owned();
            return Err(("in-use", why));
        }
        Some(true) => {}
        None if persist_id.is_none() => {}
        _ => return Err(("invalid-value", "no such commit waits to be confirmed".to_owned())),
    }
    let confirm_within = asked.child("confirmed").map(|_| {
        let seconds = asked.text_of("confirm-timeout").and_then(|text| text.parse().ok());
        Duration::from_secs(seconds.unwrap_or(CONFIRM_WITHIN))
    });
    switch.commit(confirm_within, asked.text_of("persist").map(str::to_owned), session);
    Ok(Vec::new())
}

/// Which configuration is meant: 0 the running one, 1 the candidate.
fn which(target: Option<&Node>) -> Result<usize, Refused> {
    match target.map(|target| target.name.as_str()) {
        Some("running") => Ok(0),
        Some("candidate") => Ok(1),
        _ => Err(("invalid-value", "there are running and candidate".to_owned())),
    }
}

fn is_free(switch: &Switch, which: usize, session: u32) -> Result<(), Refused> {
    match switch.locks[which] {
        Some(holder) if holder != session => {
            Err(("in-use", format!("it is locked by session {holder}")))
        }
        _ => Ok(()),
    }
}

/// Changes the candidate, or leaves it as it is.
fn edited(switch: &mut Switch, asked: &Node) -> Result<(), Refused> {
    let invalid = |why: String| ("invalid-value", why);
    let config = asked.child("config").ok_or_else(|| invalid("there is no config".to_owned()))?;
    let mut candidate = switch.candidate.clone();
    for interfaces in &config.children {
        if (interfaces.namespace.as_str(), interfaces.name.as_str()) != (INTERFACES, "interfaces") {
            return Err(("unknown-element", format!("{} is not known here", interfaces.name)));
        }
        for interface in &interfaces.children {
            let name = interface.text_of("name").unwrap_or_default();
            let Some(port) = candidate.get_mut(name) else {
                return Err(invalid(format!("there is no port {name}")));
            };
            if !matches!(interface.attribute("operation"), None | Some("merge" | "replace")) {
                return Err((
                    "operation-not-supported",
                    "ports are not made or removed".to_owned(),
                ));
            }
            match interface.text_of("enabled") {
                None => {}
                Some("true") => port.enabled = true,
                Some("false") => port.enabled = false,
                Some(other) => return Err(invalid(format!("enabled is no boolean: {other}"))),
            }
            if let Some(description) = interface.child("description") {
                port.description.clone_from(&description.text);
            }
        }
    }
    switch.candidate = candidate;
    Ok(())
}

/// What is read, as far as the filter wants it.
fn data(all: Vec<Node>, asked: &Node) -> Node {
    let children = match asked.child("filter") {
        None => all,
        Some(filter) => {
            let wanted = |node: &Node| filter.children.iter().find_map(|one| node.filtered(one));
            all.iter().filter_map(wanted).collect()
        }
    };
    Node::new(BASE, "data", children)
}

/// Everything: the configuration, and the state as well.
fn all(switch: &Switch, with_state: bool) -> Vec<Node> {
    let interfaces = switch.ports.iter().map(|(name, port)| {
        let Value::Object(fields) = super::super::restconf::interface(name, port) else {
            return Node::default();
        };
        let is_kept = |name: &str| with_state || !name.ends_with("-status") && name != "statistics";
        let fields = fields.into_iter().filter(|(name, _)| is_kept(name));
        Node::new(INTERFACES, "interface", fields.map(|(name, value)| node(&name, value)).collect())
    });
    let mut all = vec![Node::new(INTERFACES, "interfaces", interfaces.collect())];
    if with_state {
        let ports = switch.ports.iter().filter(|(_, port)| port.is_up());
        let ports = ports.filter_map(|(name, port)| {
            let (system, its_port) = port.neighbour.as_ref()?;
            let leaf = |name: &str, text: &str| Node::leaf(LLDP, name, text);
            let remote = vec![leaf("system-name", system), leaf("port-id", its_port)];
            let remote = Node::new(LLDP, "remote-systems-data", remote);
            Some(Node::new(LLDP, "port", vec![leaf("name", name), remote]))
        });
        all.push(Node::new(LLDP, "lldp", ports.collect()));
    }
    all
}

/// A field of a port, from what RESTCONF says.
fn node(name: &str, value: Value) -> Node {
    match value {
        Value::Object(fields) => {
            let children = fields.into_iter().map(|(name, value)| node(&name, value)).collect();
            Node::new(INTERFACES, name, children)
        }
        Value::String(text) => Node::leaf(INTERFACES, name, text),
        other => Node::leaf(INTERFACES, name, other.to_string()),
    }
}
