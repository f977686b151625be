//! The switch over RESTCONF (RFC 8040): ports of `ietf-interfaces`, neighbours of
//! `ieee802-dot1ab-lldp`.

use super::configuration::{Port, Switch};
use crate::office::Office;
use actix_web::{HttpRequest, HttpResponse, web};
use serde_json::{Value, json};

type Kept = web::Data<Office<Switch>>;

const INTERFACES: &str = "ietf-interfaces:interfaces";
const NEIGHBOURS: &str = "ieee802-dot1ab-lldp:lldp";

pub(super) async fn about(kept: Kept, request: HttpRequest) -> HttpResponse {
    kept.serve(&request, |switch| {
        Ok((200, json!({ "component": switch.name, "version": "22.4R3" })))
    })
    .await
}

pub(super) fn interface(name: &str, port: &Port) -> Value {
    let status = |is_up| if is_up { "up" } else { "down" };
    let [received, sent, errors] = port.counters;
    json!({
        "name": name,
        "description": port.description,
        "type": "iana-if-type:ethernetCsmacd",
        "enabled": port.enabled,
        "admin-status": status(port.enabled),
        "oper-status": status(port.is_up()),
        // Counters are texts in JSON (RFC 7951, section 6.1).
        "statistics": {
            "in-octets": received.to_string(),
            "out-octets": sent.to_string(),
            "in-errors": errors,
        },
    })
}

fn neighbours(switch: &Switch) -> Value {
    let port = |(name, port): (&String, &Port)| {
        let up = port.neighbour.as_ref().filter(|_| port.is_up());
        let remote = up.map(|(system, its_port)| {
            json!({ "time-mark": 1, "remote-index": 1, "system-name": system,
                    "port-id-subtype": "interface-name", "port-id": its_port })
        });
        json!({ "name": name, "remote-systems-data": remote.into_iter().collect::<Vec<_>>() })
    };
    json!({ NEIGHBOURS: { "port": switch.ports.iter().map(port).collect::<Vec<_>>() } })
}

/// The port that a path names: `ietf-interfaces:interfaces/interface=ge-0%2F0%2F7`, which has come
/// without its escapes.
fn named(path: &str) -> Option<&str> {
    path.strip_prefix(INTERFACES)?.strip_prefix("/interface=")
}

fn missing(path: &str) -> (u16, String) {
    (404, format!("there is no data at {path}"))
}

pub(super) async fn look(
    kept: Kept,
    path: web::Path<String>,
    request: HttpRequest,
) -> HttpResponse {
    kept.serve(&request, |switch| {
        switch.settle();
        if let Some(name) = named(&path) {
            let port = switch.ports.get(name).ok_or_else(|| missing(&path))?;
            return Ok((200, json!({ "ietf-interfaces:interface": [interface(name, port)] })));
        }
        match path.as_str() {
            INTERFACES => {
                let all: Vec<_> = switch.ports.iter().map(|(n, p)| interface(n, p)).collect();
                Ok((200, json!({ INTERFACES: { "interface": all } })))
            }
            NEIGHBOURS => Ok((200, neighbours(switch))),
            _ => Err(missing(&path)),
        }
    })
    .await
}

/// A plain patch (RFC 8040, section 4.6.1): what is said is merged.
pub(super) async fn change(
    kept: Kept,
    path: web::Path<String>,
    body: web::Json<Value>,
    request: HttpRequest,
) -> HttpResponse {
    kept.serve(&request, |switch| {
        switch.settle();
        let name = named(&path).ok_or_else(|| missing(&path))?;
        let said = &body["ietf-interfaces:interface"];
        let said = said.get(0).unwrap_or(said);
        if said.is_null() {
            return Err((400, "the body has no ietf-interfaces:interface".to_owned()));
        }
        if switch.locks[0].is_some() {
            return Err((409, "the configuration is locked by a session of NETCONF".to_owned()));
        }
        let mut configuration = switch.running();
        let port = configuration.get_mut(name).ok_or_else(|| missing(&path))?;
        match &said["enabled"] {
            Value::Null => {}
            Value::Bool(enabled) => port.enabled = *enabled,
            other => return Err((400, format!("enabled is no boolean: {other}"))),
        }
        if let Some(description) = said["description"].as_str() {
            description.clone_into(&mut port.description);
        }
        switch.apply(&configuration);
        if switch.locks[1].is_none() {
            switch.candidate = switch.running();
        }
        Ok((204, Value::Null))
    })
    .await
}
