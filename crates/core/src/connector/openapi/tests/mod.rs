//! Descriptions become connectors: what is taken over, what is listed, what is refused.

use super::*;
use crate::{
    connector::{Connection, tests::sent},
    document::Document,
};
use serde_json::{Value, json};

const ODD: &str = include_str!("odd.yaml");

fn made(text: &str, only: &[&str]) -> Import {
    let only: Vec<String> = only.iter().map(|one| (*one).to_owned()).collect();
    import(text, None, &only).expect("can be made")
}

/// What was made is a connector and a connection, as they are checked when they are published.
fn checked(text: &str) -> (Connector, Connection) {
    let documents = parse_file("made.yaml", text).expect("is YAML");
    let [connector, connection]: [Document; 2] = documents.try_into().expect("two documents");
    (Connector::check(&connector).expect(text), Connection::check(&connection).expect(text))
}

#[test]
fn what_is_understood_is_taken_over_and_the_rest_is_listed() {
    let import = made(ODD, &[]);
    insta::assert_snapshot!("connector", import.text);
    insta::assert_snapshot!("left_out", import.left_out.join("\n"));
    let listed = import
        .operations
        .iter()
        .map(|o| format!("{} {} = {}", if o.taken { "+" } else { "-" }, o.request, o.name));
    insta::assert_snapshot!("operations", listed.collect::<Vec<_>>().join("\n"));
    checked(&import.text);
}

#[test]
fn what_was_made_plans_the_requests_that_the_description_means() {
    let import = made(ODD, &[]);
    let (connector, _) = checked(&import.text);
    let plan = |name: &str, give: serde_json::Value| {
        let give = give.as_object().cloned().unwrap_or_default();
        let operation = &connector.operations[name];
        serde_json::to_string(
            &sent(operation, &give, "key-1").unwrap_or_else(|e| panic!("{name}: {e}")),
        )
        .expect("JSON")
    };
    let requests = [
        plan(
            "listTickets",
            json!({ "states": ["open", "held"], "filter_owner": "pat", "sort": ["a", "b"] }),
        ),
        plan("openTicket", json!({ "title": "Disk", "severity": "major" })),
        plan(
            "tickets.by_ticket_id.patch",
            json!({ "ticket_id": "t/1", "body": { "owner": null } }),
        ),
        plan("closeTicket", json!({ "ticket_id": "t1", "because": "done" })),
        plan("say", json!({ "body": "All well" })),
    ];
    insta::assert_snapshot!(requests.join("\n"));
    let wrong = connector.operations["openTicket"]
        .request(&json!({ "title": "" }).as_object().cloned().expect("a map"), "k");
    assert_eq!(
        wrong.expect_err("too short").to_string(),
        "the input `title` is wrong: \"\" is shorter than 1 character"
    );
}

#[test]
fn operations_are_chosen_by_name_path_and_tag() {
    let chosen = |only: &[&str]| -> Vec<String> {
        made(ODD, only).operations.into_iter().filter(|o| o.taken).map(|o| o.name).collect()
    };
    assert_eq!(chosen(&["listTickets"]), ["listTickets"]);
    assert_eq!(chosen(&["/tickets/*/close"]), ["closeTicket"]);
    assert_eq!(chosen(&["talking"]), ["say"]);
    assert_eq!(chosen(&["*Ticket"]), ["openTicket", "closeTicket"]);
    let none = import(ODD, None, &["boats".into()]).expect_err("none");
    assert_eq!(none.to_string(), "none of its 9 operations is chosen by boats");
}

#[test]
fn what_is_no_description_says_so() {
    let said =
        |text: &str, name: Option<&str>| import(text, name, &[]).expect_err("refused").to_string();
    insta::assert_snapshot!(
        [
            said("openapi: 3.1.0\npaths: {", None),
            said("", None),
            said("[1, 2]", None),
            said("swagger: '2.0'\npaths: {}", None),
            said("openapi: 4.0.0\npaths: {}", None),
            said("openapi: 3.1.0", None),
            said("openapi: 3.1.0\npaths: {}", None),
            said(ODD, Some("Not A Name")),
            import(ODD, None, &["a***b".into()]).expect_err("refused").to_string(),
            import(ODD, None, &["addPicture".into()]).expect_err("refused").to_string(),
        ]
        .join("\n")
    );
}

#[test]
fn a_schema_that_leads_back_to_itself_ends_and_no_description_grows_without_bound() {
    let tree = json!({ "openapi": "3.0.3", "info": { "title": "Trees" },
        "servers": [{ "url": "https://trees.example" }],
        "paths": { "/t": { "post": { "operationId": "grow",
            "requestBody": { "content": { "application/json": {
            "schema": { "$ref": "#/components/schemas/Tree" } } } },
                "responses": { "200": { "description": "ok" } } } } },
        "components": { "schemas": {
            "Tree": { "type": "object",
                "properties": { "left": { "$ref": "#/components/schemas/Tree" },
                "wide": { "$ref": "#/components/schemas/Wide0" },
                    "round": { "$ref": "#/components/schemas/Round" } } },
            "Round": { "$ref": "#/components/schemas/Round" } } } });
    let mut tree = tree;
    // Each leads to the next ten times: written out, a billion.
    for n in 0..9 {
        let next = json!({ "$ref": format!("#/components/schemas/Wide{}", n + 1) });
        let properties: serde_json::Map<String, Value> =
            (0..10).map(|p| (format!("p{p}"), next.clone())).collect();
        tree["components"]["schemas"][format!("Wide{n}")] =
            json!({ "type": "object", "properties": properties });
    }
    let import = made(&tree.to_string(), &[]);
    assert!(import.text.len() < 40_000, "{} bytes", import.text.len());
    checked(&import.text);
}

#[test]
fn what_would_become_too_much_is_refused_before_it_is_made() {
    // Some kilobytes of references, each to the same wide schema: written out, millions of values.
    let wide: serde_json::Map<String, Value> =
        (0..300).map(|n| (format!("p{n}"), json!({ "type": "string" }))).collect();
    let body = json!({ "content": { "application/json": { "schema": { "$ref": "#/components/schemas/Wide" } } } });
    let paths: serde_json::Map<String, Value> = (0..4_000)
        .map(|n| (format!("/t{n}"), json!({ "post": { "requestBody": body, "responses": {} } })))
        .collect();
    let document = json!({ "openapi": "3.1.0", "paths": paths,
        "components": { "schemas": { "Wide": { "type": "object", "properties": wide } } } });
    let refused = import(&document.to_string(), None, &[]).expect_err("too much");
    assert_eq!(
        refused.to_string(),
        "more is made of it than there is room for; choose some of its operations"
    );
    assert!(import(&document.to_string(), None, &["t7.post".into()]).is_ok());
}

#[test]
fn a_thousand_operations_are_one_file_that_can_be_published() {
    let operation = |n: usize| {
        json!({ "operationId": format!("op{n}"), "summary": "Does one of a thousand things",
            "parameters": [{ "name": "id", "in": "path", "required": true,
                "schema": { "type": "string" } },
                { "name": "limit", "in": "query", "schema": { "type": "integer", "minimum": 1,
                    "maximum": 100 } }],
            "requestBody": { "content": { "application/json": { "schema": { "type": "object",
                "required": ["name"],
                "properties": { "name": { "type": "string" },
                    "note": { "type": "string" } } } } } },
            "responses": { "200": { "description": "ok",
                "content": { "application/json": { "schema": { "type": "object",
                "properties": { "id": { "type": "string" } } } } } } } })
    };
    let paths: serde_json::Map<String, Value> = (0..1_000)
        .map(|n| (format!("/things{n}/{{id}}"), json!({ "post": operation(n) })))
        .collect();
    let document = json!({ "openapi": "3.1.0", "info": { "title": "Large" }, "paths": paths });
    let import = made(&document.to_string(), &[]);
    // A body that may be left out is sent all the same, and then has what it must have: no default
    // stands for it.
    let first = import.text.split("op1:").next().expect("the first operation");
    let taken =
        |name: &str| first.lines().find(|line| line.trim_start().starts_with(&format!("{name}:")));
    assert!(taken("name").is_some_and(|line| !line.contains("default")), "{first}");
    assert!(taken("note").is_some_and(|line| line.contains("default")), "{first}");
    assert!(import.text.len() < MAX_FILE, "{} bytes", import.text.len());
    assert_eq!(checked(&import.text).0.operations.len(), 1_000);
}

/// Whoever writes a description must not have anything of ours filled in by whoever imports it.
#[test]
fn what_looks_like_an_expression_stays_the_text_that_it_is() {
    let text = "openapi: 3.1.0\ninfo: { title: Sly, version: '1' }\nservers: [ { url: \
        'https://h/${setting(\"yard\")}/x' } ]\n\
        security: [ { o: [] } ]\n\
        components: { securitySchemes: { o: { type: oauth2, flows: { clientCredentials: { \
        tokenUrl: 'https://h/${secret(\"yard\")}', scopes: {} } } } } }\n\
        paths: { '/a/${secret(\"yard\")}': { get: { operationId: a, responses: { '200': { \
        description: ok } } } } }\n";
    let (connector, connection) = checked(&made(text, &[]).text);
    let names: Vec<String> = connection.secrets().into_iter().collect();
    assert_eq!(names, ["sly"], "its own secret, and no other");
    assert!(connection.base.calls("setting").is_empty());
    let request = connector.operations["a"].request(&serde_json::Map::new(), "k").expect("plans");
    assert!(request.target.contains("secret"), "{}", request.target);
}

/// A description with one operation, a POST.
fn one(operation: &str, more: &str) -> String {
    format!(
        "openapi: 3.1.0\ninfo: {{ title: One, version: '1' }}\nservers: [ {{ url: \
        'http://here/api' }} ]\n{more}\npaths:\n  \
         /look: {{ get: {{ operationId: look, responses: {{ '200': {{ description: ok }} }} }} \
         }}\n  \
         /things/{{key}}:\n    post:\n      operationId: things/make\n      {operation}\n      \
         parameters: [ {{ name: key, in: path, required: true, schema: {{ type: string }} }} ]\n      \
         \
         \
         \
         \
         \
         \
         \
         \
         \
         \
         \
         \
         \
         \
         \
         \
         \
         \
         \
         \
         \
         \
         \
         \
         \
         \
         \
         \
         \
         \
         \
         \
         \
         \
         \
         \
         \
         \
         \
         responses: {{ '200': {{ description: ok }} }}\n"
    )
}

#[test]
fn what_stands_elsewhere_or_goes_elsewhere_is_said_and_not_made_half() {
    let said = |operation: &str, more: &str| {
        let import = made(&one(operation, more), &[]);
        let taken = import.operations.iter().any(|o| o.taken && o.name == "things_make");
        (taken, import.left_out.join("\n"))
    };
    let left = |operation: &str, part: &str| {
        let (taken, told) = said(operation, "");
        assert!(!taken && told.contains(part), "{operation}: {told}");
    };
    left("requestBody: { $ref: 'other.yaml#/Body' }", "told in another document");
    left(
        "requestBody: { $ref: 'other.yaml#/Body' }",
        "`other.yaml#/Body` leads out of this document",
    );
    left(
        "servers: [ { url: 'http://uploads/api' } ]",
        "it is at `http://uploads/api`, not where the others are",
    );
    left(
        "requestBody: { content: { multipart/form-data: { schema: { type: object } } } }",
        "multipart/form-data, which is not sent",
    );
    assert_eq!(
        said("servers: [ { url: 'http://here/api/' } ]", ""),
        (true, String::new()),
        "the same place"
    );
    let noted = |operation: &str, more: &str, part: &str| {
        let (taken, told) = said(operation, more);
        assert!(taken && told.contains(part), "{operation}: {told}");
    };
    let schemes = "components: { securitySchemes: { a: { type: http, scheme: bearer }, b: { type: \
        http, scheme: basic } } }";
    noted("callbacks: { done: {} }", "", "that it calls back (`done`)");
    noted(
        "summary: x",
        &format!("security: [ {{ a: [], b: [] }} ]\n{schemes}"),
        "wants `a` and `b` at once",
    );
    noted(
        "security: [ { b: [] } ]",
        &format!("security: [ {{ a: [] }} ]\n{schemes}"),
        "that it wants `b` and not what the others want",
    );
    noted(
        "requestBody: { required: true, content: { application/json: { schema: { $ref: \
        '#/components/schemas/No' } } } }",
        "",
        "`#/components/schemas/No` leads out",
    );
    let later = one("summary: x", "").replace(
        "responses: { '200': { description: ok } }\n",
        "responses: { '202': { description: ok, headers: { Location: {} } } }\n",
    );
    assert!(made(&later, &[]).left_out.join("").contains("may be done later"));
    let slashes = one("summary: x", "")
        .replace("schema: { type: string } }", "example: a/b, schema: { type: string } }");
    assert!(made(&slashes, &[]).left_out.join("").contains("may have a `/`"));
    let paths =
        one("summary: x", "").replace("/look: {", "/gone: { $ref: 'gone.yaml' }\n  /look: {");
    assert!(
        made(&paths, &[])
            .left_out
            .join("")
            .contains("/gone: what it offers is told in another document")
    );
    let chosen = made(&one("summary: x", ""), &["things/*"]);
    assert_eq!(
        chosen.operations.iter().filter(|o| o.taken).map(|o| o.name.as_str()).collect::<Vec<_>>(),
        ["things_make"]
    );
}
