//! The description of the API, held against every answer that the journeys get: its status must be
//! described for that operation, its media type and its body must be as described.

use jsonschema::Validator;
use reqwest::{Method, header::CONTENT_TYPE};
use serde_json::{Map, Value, json};
use std::{
    collections::HashMap,
    sync::{Mutex, OnceLock},
};

struct Contract {
    api: Value,
    /// By operation, status and media type.
    validators: Mutex<HashMap<String, &'static Validator>>,
}

fn contract() -> &'static Contract {
    static CONTRACT: OnceLock<Contract> = OnceLock::new();
    CONTRACT.get_or_init(|| {
        let text = include_str!("../../../../../docs/reference/openapi.json");
        Contract { api: serde_json::from_str(text).expect("JSON"), validators: Mutex::default() }
    })
}

/// The path of the description that a request's path fits.
fn described<'a>(paths: &'a Map<String, Value>, path: &str) -> Option<(&'a str, &'a Value)> {
    let path = path.split('?').next().unwrap_or(path);
    let parts: Vec<&str> = path.trim_end_matches('/').split('/').collect();
    let fits = |template: &str| {
        let wanted: Vec<&str> = template.split('/').collect();
        wanted.len() == parts.len()
            && wanted.iter().zip(&parts).all(|(w, p)| w.starts_with('{') || w == p)
    };
    let mut found: Vec<_> = paths.iter().filter(|(template, _)| fits(template)).collect();
    found.sort_by_key(|(template, _)| template.matches('{').count());
    found.first().map(|(template, item)| (template.as_str(), *item))
}

/// Complains about an answer that is not as described. Paths that are not the API's are passed
/// over.
pub fn holds(
    method: &Method,
    path: &str,
    status: u16,
    headers: &reqwest::header::HeaderMap,
    body: &Value,
) {
    let contract = contract();
    let Some((template, item)) =
        contract.api["paths"].as_object().and_then(|paths| described(paths, path))
    else {
        return;
    };
    let Some(operation) = item.get(method.as_str().to_lowercase()) else { return };
    let name = format!("{method} {template} {status}");
    let Some(response) = operation["responses"].get(status.to_string()) else {
        panic!("the API's description does not know the answer {name}: {body}");
    };
    let Some(content) = response.get("content").and_then(Value::as_object) else {
        assert!(
            body.as_str() == Some(""),
            "{name} is described without a body, and has one: {body}"
        );
        return;
    };
    let media = headers.get(CONTENT_TYPE).and_then(|v| v.to_str().ok()).unwrap_or_default();
    let media = media.split(';').next().unwrap_or_default();
    let Some(described) = content.get(media) else {
        panic!("{name} is described as {:?}, and is {media}", content.keys().collect::<Vec<_>>());
    };
    if !media.ends_with("json") {
        return;
    }
    let mut validators =
        contract.validators.lock().unwrap_or_else(std::sync::PoisonError::into_inner);
    let validator = *validators.entry(format!("{name} {media}")).or_insert_with(|| {
        let mut schema = described["schema"].clone();
        schema["components"] = json!({ "schemas": contract.api["components"]["schemas"] });
        let made = jsonschema::draft202012::new(&schema).unwrap_or_else(|e| panic!("{name}: {e}"));
        Box::leak(Box::new(made))
    });
    drop(validators);
    let wrong: Vec<String> =
        validator.iter_errors(body).map(|e| format!("{}: {e}", e.instance_path())).collect();
    assert!(wrong.is_empty(), "{name} is not as described:\n{}\n{body:#}", wrong.join("\n"));
}
