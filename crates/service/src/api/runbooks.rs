//! Runbooks as they are drawn, published or only edited.

use super::{ApiError, caller::Caller};
use crate::node::Node;
use actix_web::{post, web};
use arvok_api::{Needed, OutlinePart, OutlineRequest, OutlineStep, Problem, RunbookOutline};
use arvok_core::{
    Catalog, Kind,
    definition::{Defined, Others},
    document::{Document, parse_file},
    runbook::{self, Runbook},
};

/// The name under which an edited text is complained about.
const FILE: &str = "runbook.yaml";

/// Draws a runbook from its text: the tree of its steps, what expressions know, and whom it needs.
#[utoipa::path(operation_id = "outlineRunbook", tag = "definitions", request_body = OutlineRequest,
    responses((status = 200, body = RunbookOutline), (status = 422, body = Problem)))]
#[post("/runbooks/outline")]
pub(super) async fn outline(
    node: web::Data<Node>,
    caller: Caller,
    body: web::Json<OutlineRequest>,
) -> Result<web::Json<RunbookOutline>, ApiError> {
    let published = node.published();
    let drawn =
        node.capacity.evaluate(&caller.0, move || draw(&body.text, &published.catalog)).await??;
    Ok(web::Json(drawn))
}

fn draw(text: &str, catalog: &Catalog) -> Result<RunbookOutline, ApiError> {
    let faulty = |problems: Vec<arvok_core::Problem>| {
        ApiError::Faulty(problems.into_iter().map(Into::into).collect())
    };
    let documents = parse_file(FILE, text).map_err(|problem| faulty(vec![problem]))?;
    let document = documents.iter().find(|d| d.kind == Kind::Runbook.as_str());
    let document = document
        .ok_or_else(|| ApiError::BadRequest("text: holds no `runbook:` document".into()))?;
    let runbook = Runbook::check(document).map_err(faulty)?;
    let drawn = runbook.outline(catalog);
    let operation = |via: &str, name: &String| catalog.operation(via, name).is_ok();
    let connections = drawn.connections.into_iter().map(|(name, operations)| Needed {
        published: operations.iter().all(|o| operation(&name, o)),
        name,
        operations,
    });
    let runbooks = drawn.runbooks.into_iter().map(|name| Needed {
        published: catalog.definition(Kind::Runbook, &name).is_some(),
        name,
        operations: Vec::new(),
    });
    let part =
        |(label, steps): (&str, Vec<runbook::OutlineStep>)| part(document, label.to_owned(), steps);
    Ok(RunbookOutline {
        steps: steps(document, drawn.steps),
        further: drawn.further.into_iter().map(part).collect(),
        known: drawn.known.into_iter().map(|(name, of)| (name, of.as_fields())).collect(),
        connections: connections.collect(),
        runbooks: runbooks.collect(),
    })
}

fn steps(document: &Document, all: Vec<runbook::OutlineStep>) -> Vec<OutlineStep> {
    let step = |s: runbook::OutlineStep| OutlineStep {
        line: document.line(&s.pointer),
        id: s.id,
        kind: s.kind.to_owned(),
        summary: s.summary,
        does: s.does,
        when: s.when,
        on_error: s.on_error,
        parts: s.parts.into_iter().map(|(label, steps)| part(document, label, steps)).collect(),
    };
    all.into_iter().map(step).collect()
}

fn part(document: &Document, label: String, all: Vec<runbook::OutlineStep>) -> OutlinePart {
    OutlinePart { label, steps: steps(document, all) }
}
