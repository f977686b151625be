//! What a description wants to be shown, as a credential.

use super::{description::Description, escaping::written};
use serde_json::{Value, json};

/// The credential of a connection of this name, by what all operations want, or `own` of one of
/// them.
pub(super) fn credential(
    description: &Description,
    own: Option<&Value>,
    name: &str,
    left_out: &mut Vec<String>,
) -> Option<Value> {
    let secret = format!("${{secret('{name}')}}");
    let common = Some(description.security())
        .filter(|all| all.as_array().is_some_and(|all| !all.is_empty()));
    let wanted = common.or(own).and_then(Value::as_array).into_iter().flatten();
    let mut wanted: Vec<_> =
        wanted.filter_map(Value::as_object).filter(|all| !all.is_empty()).collect();
    // What asks for one thing comes before what asks for several at once.
    wanted.sort_by_key(|all| all.len());
    if let Some(together) = wanted.first().filter(|all| all.len() > 1) {
        let names: Vec<&str> = together.keys().map(String::as_str).collect();
        left_out.push(format!(
            "that it wants `{}` at once: a connection shows one of them",
            names.join("` and `")
        ));
    }
    let mut refused = Vec::new();
    for (scheme_name, scopes) in wanted.into_iter().flatten() {
        let scheme = description.scheme(scheme_name);
        let text = |key: &str| scheme[key].as_str().unwrap_or_default();
        let (kind, how) = (text("type"), text("scheme").to_ascii_lowercase());
        match (kind, how.as_str(), text("in")) {
            ("http", "bearer", _) => return Some(json!({ "bearer": secret })),
            ("http", "basic", _) => {
                return Some(json!({ "basic": { "user": "arvok", "password": secret } }));
            }
            ("apiKey", _, "header") => {
                return Some(json!({ "header": { "name": text("name"), "value": secret } }));
            }
            ("mutualTLS", ..) => return Some(json!({ "certificate": secret })),
            ("oauth2", ..) if scheme["flows"]["clientCredentials"].is_object() => {
                let flow = &scheme["flows"]["clientCredentials"];
                return Some(
                    json!({ "oauth2": { "token": written(flow["tokenUrl"].as_str().unwrap_or_default()), "client": "arvok", "secret": secret, "scopes": scopes } }),
                );
            }
            ("apiKey", _, place) => {
                refused.push(format!("`{scheme_name}`: a key in the {place} would stand in logs"))
            }
            ("oauth2", ..) => refused.push(format!(
                "`{scheme_name}`: of OAuth 2.0 only client credentials are for services"
            )),
            _ => refused.push(format!("`{scheme_name}`: {kind} {how} is not known here")),
        }
    }
    if !refused.is_empty() {
        left_out
            .push(format!("no credential can be made of what it wants: {}", refused.join("; ")));
    }
    None
}
