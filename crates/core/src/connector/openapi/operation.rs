//! One operation of a description as one of a connector's.

use super::{
    described::Found,
    description::Description,
    escaping::written,
    schema::{Side, one_line, written_out},
};
use serde_json::{Map, Value, json};
use std::collections::BTreeSet;

/// Properties of a body that become inputs of their own.
const MOST_INPUTS: usize = 40;

/// An operation as it will be written.
#[derive(Debug, Default)]
pub(super) struct ImportedOperation {
    pub name: String,
    pub summary: Option<String>,
    pub takes: Map<String, Value>,
    pub request: Map<String, Value>,
    pub output: Option<String>,
    pub gives: Map<String, Value>,
    pub repeat: Option<&'static str>,
    pub key_header: Option<String>,
    /// What it refuses with: statuses and what they mean.
    pub refuses: Vec<String>,
    /// What of it was left out.
    pub notes: Vec<String>,
    /// What it wants to be shown, where that is its own.
    pub security: Value,
}

/// The name of an operation: its own id, or one made of its path and method.
pub(super) fn name(method: &str, path: &str, item: &Value) -> String {
    let plain = |c: char| c.is_ascii_alphanumeric() || matches!(c, '_' | '-' | '.');
    if let Some(id) = item["operationId"].as_str().filter(|id| !id.is_empty()) {
        let id: String = id.chars().map(|c| if plain(c) { c } else { '_' }).collect();
        return crate::text::cut(&id, 100).to_owned();
    }
    let parts = path.split('/').filter(|part| !part.is_empty());
    let words = parts.map(|part| match part.strip_prefix('{') {
        Some(parameter) => format!("by_{}", plain_name(parameter.trim_end_matches('}'))),
        None => part.chars().map(|c| if plain(c) { c } else { '_' }).collect(),
    });
    words.chain([method.to_owned()]).collect::<Vec<_>>().join(".")
}

/// A name as inputs have it.
fn plain_name(name: &str) -> String {
    let plain: String = name
        .chars()
        .map(|c| if c.is_ascii_alphanumeric() { c.to_ascii_lowercase() } else { '_' })
        .collect();
    // Names that were good stay as they are.
    let good = !name.is_empty() && name.chars().all(|c| c.is_ascii_alphanumeric() || c == '_');
    let made = if good { name.to_owned() } else { plain.trim_matches('_').to_owned() };
    if made.is_empty() { "value".into() } else { made }
}

/// Makes it.
///
/// # Errors
/// Why it cannot be said in a connector.
pub(super) fn make(
    description: &Description,
    found: &Found<'_>,
) -> Result<ImportedOperation, String> {
    let mut made = ImportedOperation {
        name: found.name.clone(),
        summary: found.summary(),
        ..ImportedOperation::default()
    };
    made.security = found.item["security"].clone();
    elsewhere(description, found)?;
    let mut taking =
        Taking { description, found, made: &mut made, query: Map::new(), headers: Map::new() };
    let path = taking.parameters()?;
    taking.body()?;
    let Taking { query, headers, .. } = taking;
    let method = found.method.to_uppercase();
    let mut request =
        Map::from_iter([("method".to_owned(), json!(method)), ("path".to_owned(), json!(path))]);
    for (key, fields) in [("query", query), ("headers", headers)] {
        if !fields.is_empty() {
            request.insert(key.into(), fields.into());
        }
    }
    request.append(&mut made.request);
    made.request = request;
    made.repeat = match (found.method, &made.key_header) {
        (_, Some(_)) => Some("keyed"),
        // Idempotent by their definition (RFC 9110, section 9.2.2).
        ("put" | "delete", None) => Some("safe"),
        _ => None,
    };
    answers(description, found, &mut made);
    beside(description, found, &mut made);
    Ok(made)
}

/// Whether it is at another address than the connection's.
fn elsewhere(description: &Description, found: &Found<'_>) -> Result<(), String> {
    let url = |servers: &Value| {
        servers[0]["url"].as_str().map(|url| url.trim_end_matches('/').to_owned())
    };
    let usual = url(description.servers());
    match [&found.item["servers"], &found.shared["servers"]].into_iter().find_map(url) {
        Some(other) if Some(&other) != usual.as_ref() => Err(format!(
            "it is at `{other}`, not where the others are; import it by itself, for a connection \
            of its own"
        )),
        _ => Ok(()),
    }
}

/// What else it says that a connector has to be told by hand.
fn beside(description: &Description, found: &Found<'_>, made: &mut ImportedOperation) {
    let mut note = |what: String| made.notes.push(format!("{}: {what}", found.name));
    if let Some(callbacks) = found.item["callbacks"].as_object().filter(|all| !all.is_empty()) {
        let names: Vec<&str> = callbacks.keys().map(String::as_str).collect();
        note(format!("that it calls back (`{}`): say so with `callback`", names.join("`, `")));
    }
    let accepted = description.resolved(&found.item["responses"]["202"]);
    let looks = |name: &str| {
        name.eq_ignore_ascii_case("location") || name.to_ascii_lowercase().ends_with("-location")
    };
    if accepted["headers"].as_object().is_some_and(|all| all.keys().any(|name| looks(name)))
        || accepted["links"].as_object().is_some_and(|all| !all.is_empty())
    {
        note("that it may be done later, and where to look (202): say so with `until`".into());
    }
    let own = found.item["security"].as_array().filter(|own| !own.is_empty());
    let common = description.security().as_array().filter(|common| !common.is_empty());
    if let (Some(own), Some(common)) = (own, common)
        && own != common
    {
        let wants: Vec<&str> = own
            .iter()
            .filter_map(Value::as_object)
            .flat_map(|o| o.keys().map(String::as_str))
            .collect();
        note(format!(
            "that it wants `{}` and not what the others want: the connection shows one thing",
            wants.join("`, `")
        ));
    }
}

struct Taking<'a, 'd> {
    description: &'d Description,
    found: &'a Found<'d>,
    made: &'a mut ImportedOperation,
    query: Map<String, Value>,
    headers: Map<String, Value>,
}

impl Taking<'_, '_> {
    /// An input under a name that no other has.
    fn add_input(&mut self, name: &str, schema: Value, required: bool) -> String {
        let wanted = plain_name(name);
        let numbered = (2..).map(|n| format!("{wanted}_{n}"));
        let free = std::iter::once(wanted.clone())
            .chain(numbered)
            .find(|n| !self.made.takes.contains_key(n));
        let name = free.unwrap_or(wanted);
        let Value::Object(mut schema) = schema else { return name };
        if required {
            schema.remove("default");
        } else if !schema.contains_key("default") {
            schema.insert("default".into(), Value::Null);
        }
        self.made.takes.insert(name.clone(), schema.into());
        name
    }

    /// A schema of what is given.
    fn given(&mut self, schema: &Value) -> Value {
        let (schema, notes) = written_out(self.description, schema, Side::Given);
        notes.into_iter().for_each(|note| self.note(note));
        schema
    }

    fn note(&mut self, what: String) {
        self.made.notes.push(format!("{}: {what}", self.made.name));
    }

    /// Takes the parameters; the path with them filled in.
    fn parameters(&mut self) -> Result<String, String> {
        let mut path = written(self.found.path);
        let mut seen = BTreeSet::new();
        // Those of the operation come before those that all operations of the path have.
        for list in [&self.found.item["parameters"], &self.found.shared["parameters"]] {
            for parameter in list.as_array().into_iter().flatten() {
                if self.description.is_elsewhere(parameter) {
                    return Err("what one of its parameters is, is told in another document".into());
                }
                let parameter = self.description.resolved(parameter);
                let (Some(name), Some(place)) =
                    (parameter["name"].as_str(), parameter["in"].as_str())
                else {
                    self.note("a parameter without a name or a place".into());
                    continue;
                };
                if seen.insert((name.to_owned(), place.to_owned())) {
                    self.parameter(parameter, name, place, &mut path)?;
                }
            }
        }
        if let Some(open) = path.split('/').find(|part| part.starts_with('{')) {
            return Err(format!("nothing says what {open} in its path is"));
        }
        Ok(path)
    }

    fn parameter(
        &mut self,
        parameter: &Value,
        name: &str,
        place: &str,
        path: &mut String,
    ) -> Result<(), String> {
        let required = parameter["required"] == Value::Bool(true) || place == "path";
        let mut schema = self.given(&parameter["schema"]);
        if let (Some(said), Some(schema)) =
            (parameter["description"].as_str(), schema.as_object_mut())
        {
            schema.entry("description").or_insert_with(|| one_line(said).into());
        }
        let style =
            parameter["style"].as_str().unwrap_or(if place == "query" { "form" } else { "simple" });
        let is_list = schema["type"] == "array";
        let odd = parameter.get("schema").is_none()
            || schema["type"] == "object"
            || !matches!((place, style), ("query", "form") | ("path" | "header", "simple"));
        match place {
            "query" | "path" | "header" if odd && required => {
                return Err(format!(
                    "the parameter `{name}` is written in a way (`{style}`) that is not known here"
                ));
            }
            "query" | "path" | "header" if odd => {
                self.note(format!(
                    "the parameter `{name}`, written in a way (`{style}`) that is not known here"
                ));
            }
            "path" => {
                let told = [&parameter["example"], &schema["pattern"], &schema["default"]];
                let slashes =
                    told.into_iter().filter_map(Value::as_str).any(|text| text.contains('/'));
                if slashes || parameter["allowReserved"] == Value::Bool(true) {
                    self.note(format!("that `{name}` may have a `/`: in a path it is sent as %2F"));
                }
                let name_of = self.add_input(name, schema, true);
                *path = path.replace(&format!("{{{name}}}"), &format!("${{give.{name_of}}}"));
            }
            "query" => {
                let whole = parameter["explode"] == Value::Bool(false) && is_list;
                let name_of = self.add_input(name, schema, required);
                let filled = if whole {
                    format!("${{give.{name_of}.map(one, string(one)).join(',')}}")
                } else {
                    format!("${{give.{name_of}}}")
                };
                self.query.insert(name.to_owned(), filled.into());
            }
            "header" => self.header(name, schema, required),
            _ if required => {
                return Err(format!("the parameter `{name}` is a {place}, which is not sent"));
            }
            _ => self.note(format!("the parameter `{name}`: a {place} is not sent")),
        }
        Ok(())
    }

    fn header(&mut self, name: &str, schema: Value, required: bool) {
        match name.to_ascii_lowercase().as_str() {
            // Said by the body, the answer and the credential (OpenAPI 3.1, section 4.8.12.2).
            "accept" | "content-type" | "authorization" => {}
            "idempotency-key" => self.made.key_header = Some(name.to_owned()),
            _ => {
                let name_of = self.add_input(name, schema, required);
                self.headers.insert(name.to_owned(), format!("${{give.{name_of}}}").into());
            }
        }
    }

    fn body(&mut self) -> Result<(), String> {
        if self.description.is_elsewhere(&self.found.item["requestBody"]) {
            return Err("what its body is, is told in another document".into());
        }
        let body = self.description.resolved(&self.found.item["requestBody"]);
        let Some(content) = body["content"].as_object().filter(|content| !content.is_empty())
        else {
            return Ok(());
        };
        let kind = |wanted: &dyn Fn(&str) -> bool| {
            content
                .iter()
                .find(|(kind, _)| wanted(kind.split(';').next().unwrap_or_default().trim()))
        };
        let is_json =
            |kind: &str| kind == "application/json" || kind.ends_with("+json") || kind == "*/*";
        let required = body["required"] == Value::Bool(true);
        if let Some((kind, of)) = kind(&is_json) {
            self.fields("body", &of["schema"], required);
            if kind.ends_with("+json") {
                self.headers.insert("Content-Type".into(), kind.as_str().into());
            }
            return Ok(());
        }
        if let Some((_, of)) = kind(&|kind| kind == "application/x-www-form-urlencoded") {
            self.fields("form", &of["schema"], required);
            return Ok(());
        }
        if let Some((kind, _)) =
            kind(&|kind| kind.starts_with("text/") || kind == "application/xml")
        {
            let name = self.add_input("body", json!({ "type": "string" }), required);
            self.made.request.insert("text".into(), format!("${{give.{name}}}").into());
            self.headers.insert("Content-Type".into(), kind.as_str().into());
            return Ok(());
        }
        let kinds: Vec<&str> = content.keys().map(String::as_str).collect();
        let why = format!("its body is {}, which is not sent", kinds.join(" or "));
        // Without its body it would do something else, or nothing.
        if required || matches!(self.found.method, "post" | "put" | "patch") {
            return Err(why);
        }
        self.note(why);
        Ok(())
    }

    /// A body whose fields are inputs of their own, where they have names for that; else one that
    /// is given as a whole.
    fn fields(&mut self, key: &str, schema: &Value, required: bool) {
        let schema = self.given(schema);
        let plain = |name: &String| {
            !name.is_empty() && name.chars().all(|c| c.is_ascii_alphanumeric() || c == '_')
        };
        let properties = schema["properties"].as_object().filter(|properties| {
            !properties.is_empty()
                && properties.len() <= MOST_INPUTS
                && properties.keys().all(plain)
                && properties.keys().all(|name| !self.made.takes.contains_key(name))
                && schema.get("anyOf").is_none()
                && !schema["additionalProperties"].is_object()
        });
        let Some(properties) = properties else {
            if key == "form" {
                return self.note("the fields of its form are not told".into());
            }
            let name = self.add_input("body", schema, required);
            self.made.request.insert(key.into(), format!("${{give.{name}}}").into());
            return;
        };
        let must = |name: &String| {
            schema["required"].as_array().is_some_and(|all| all.iter().any(|one| one == name))
        };
        let mut fields = Map::new();
        for (name, property) in properties.clone() {
            // The body may be left out in its description; it is always sent, and then it has what
            // it must have.
            let taken = self.add_input(&name, property, must(&name));
            fields.insert(name, format!("${{give.{taken}}}").into());
        }
        self.made.request.insert(key.into(), fields.into());
    }
}

/// What is known of the answers.
fn answers(description: &Description, found: &Found<'_>, made: &mut ImportedOperation) {
    let answers = found.item["responses"].as_object().into_iter().flatten();
    let mut good = None;
    for (status, answer) in answers {
        let answer = description.resolved(answer);
        if status.starts_with('2') {
            good = good.or(Some(answer));
        } else if let (Ok(status), Some(said)) =
            (status.parse::<u16>(), answer["description"].as_str())
        {
            let line = said.lines().next().unwrap_or_default().trim_end_matches('.');
            made.refuses.push(format!("{status} {}", crate::text::cut(line, 80)));
        }
    }
    let Some(content) = good.and_then(|good| good["content"].as_object()) else { return };
    let json = content.iter().find(|(kind, _)| kind.contains("json")).map(|(_, of)| &of["schema"]);
    let Some(schema) = json else { return };
    let (schema, _) = written_out(description, schema, Side::Got);
    let plain = |name: &str| {
        !name.is_empty() && name.chars().all(|c| c.is_ascii_alphanumeric() || c == '_')
    };
    match (schema["type"].as_str(), schema["properties"].as_object()) {
        (Some("array"), _) => {
            made.output = Some("{'items': response.body}".into());
            made.gives.insert("items".into(), schema);
        }
        // What expressions could not name is still there, but not typed.
        (_, Some(properties)) if properties.keys().all(|name| plain(name)) => {
            made.gives = properties.clone()
        }
        _ => {}
    }
}
