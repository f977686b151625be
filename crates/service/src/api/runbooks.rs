//! Runbooks while they are written: how they are drawn, and one step of them that is tried.

use super::{
    ApiError,
    caller::{self, Caller},
    connections::CallByHand,
    launch,
};
use crate::{
    calls::answer_kept,
    clock,
    node::{Node, Published},
    random,
};
use actix_web::{HttpRequest, post, web};
use arvok_api::{
    Needed, OutlinePart, OutlineRequest, OutlineStep, Problem, RunbookOutline, TriedStep, TryStep,
};
use arvok_connect::Called;
use arvok_core::{
    Alert, Catalog, JobId, Kind, Role,
    alarm::Alarm,
    definition::{Defined, Others},
    document::{Document, parse_file},
    job::{Facts, StepTrial},
    runbook::{self, Prepared, Runbook},
    text::cut,
};
use serde_json::{Map, Value};
use std::sync::Arc;

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

/// The runbook that a text holds, or the one of that name, with the shared steps that it holds or
/// that stand.
fn of_text(
    text: &str,
    name: Option<&str>,
    catalog: &Catalog,
) -> Result<(Runbook, Document), ApiError> {
    let faulty = |problems: Vec<arvok_core::Problem>| {
        ApiError::Faulty(problems.into_iter().map(Into::into).collect())
    };
    let documents = parse_file(FILE, text).map_err(|problem| faulty(vec![problem]))?;
    let parts = catalog.parts(&documents);
    let is_it =
        |d: &Document| d.kind == Kind::Runbook.as_str() && name.is_none_or(|name| d.name == name);
    let mut document = documents
        .into_iter()
        .find(is_it)
        .ok_or_else(|| ApiError::BadRequest("text: holds no such `runbook:` document".into()))?;
    document.parts = parts;
    Ok((Runbook::check(&document).map_err(faulty)?, document))
}

/// One step that is tried, with all that it takes.
struct Trying {
    published: Arc<Published>,
    runbook: Arc<Runbook>,
    step: String,
    outputs: Map<String, Value>,
    facts: Facts,
    alarm: Option<Alarm>,
}

/// What is looked at: a connection, its operation, and what that is given.
type Look = (String, String, Map<String, Value>);

impl Trying {
    fn prepare(
        published: Arc<Published>,
        asked: TryStep,
        (alert, alarm): (Option<Alert>, Option<Alarm>),
    ) -> Result<Self, ApiError> {
        let runbook = match (&asked.text, &asked.runbook) {
            (Some(text), name) => Arc::new(of_text(text, name.as_deref(), &published.catalog)?.0),
            (None, Some(name)) => published
                .catalog
                .shared::<Runbook>(name)
                .map(|(runbook, _)| runbook)
                .ok_or_else(|| ApiError::NotFound(format!("runbook `{}`", cut(name, 64))))?,
            (None, None) => {
                return Err(ApiError::BadRequest(
                    "neither `text` nor `runbook` is given; which runbook?".into(),
                ));
            }
        };
        let prepared = runbook.prepare(asked.inputs, &*published.catalog);
        let Prepared { inputs, target } =
            prepared.map_err(|e| ApiError::BadRequest(e.to_string()))?;
        let facts = Facts {
            id: JobId(0),
            key: String::new(),
            inputs: Value::Object(inputs),
            target: target.to_string(),
            has_alarm: alarm.is_some(),
            alert,
            created: clock::now(),
            memory: Value::Null,
            memory_full: false,
            announce: None,
            dry: false,
        };
        let (step, outputs) = (asked.step, asked.outputs);
        Ok(Self { published, runbook, step, outputs, facts, alarm })
    }

    fn with<T>(&self, ask: impl FnOnce(StepTrial<'_, '_>) -> T) -> Result<T, ApiError> {
        let operations = |via: &str, operation: &str| {
            self.published.catalog.operation(via, operation).ok().map(|(_, op)| op)
        };
        let about = (&self.facts, self.alarm.as_ref());
        StepTrial::new(&self.runbook, &self.step, self.outputs.clone(), about, &operations)
            .map(ask)
            .ok_or_else(|| ApiError::NotFound(format!("step `{}`", cut(&self.step, 64))))
    }

    /// What the step would do, and what of that only looks.
    fn planned(&self) -> Result<(TriedStep, Option<Look>), ApiError> {
        self.with(|mut trial| {
            let would = trial.preview();
            let look = trial.look(&would);
            let look = look.map(|(via, operation, give)| (via, operation.into(), give));
            let step = launch::step(would);
            let tried = TriedStep {
                step,
                sent: false,
                answer: None,
                output: None,
                holds: None,
                failure: None,
            };
            (tried, look)
        })
    }

    /// Whether the condition of a check holds by what was found.
    fn judged(&self, tried: &mut TriedStep) -> Result<(), ApiError> {
        let Some(found) = tried.output.clone() else { return Ok(()) };
        match self.with(|mut trial| trial.holds(found))? {
            None => {}
            Some(Ok(holds)) => tried.holds = Some(holds),
            Some(Err(e)) => tried.failure = Some(format!("its condition: {e}")),
        }
        Ok(())
    }
}

/// Tries one step of a runbook by itself, published or only edited: with inputs and with what other
/// steps gave. What only looks is done, once; anything else is only shown.
#[utoipa::path(operation_id = "tryStep", tag = "definitions", request_body = TryStep,
    responses((status = 200, body = TriedStep), (status = 400, body = Problem), (status = 403,
        body = Problem), (status = 404, body = Problem), (status = 422, body = Problem)))]
#[post("/runbooks/try")]
pub(super) async fn try_step(
    node: web::Data<Node>,
    caller: Caller,
    body: web::Json<TryStep>,
    from: HttpRequest,
) -> Result<web::Json<TriedStep>, ApiError> {
    caller.must(Role::Responder)?;
    let asked = body.into_inner();
    let about = launch::about(&node, asked.alert).await?;
    let published = node.published();
    let plan = move || {
        let trying = Trying::prepare(published, asked, about)?;
        let (tried, look) = trying.planned()?;
        Ok::<_, ApiError>((trying, tried, look))
    };
    let (trying, mut tried, look) = node.capacity.evaluate(&caller.0, plan).await??;
    let Some((via, operation, give)) = look else { return Ok(web::Json(tried)) };
    let (by, trace) = (caller.principal(), caller::trace(&from));
    let key = format!("by-hand-{}", random::id());
    let call = CallByHand { via, operation, give, key, by, trace };
    let ended = call.make(node.clone()).await?;
    tried.sent = true;
    tried.answer = ended.answer.map(answer_kept);
    match ended.called {
        Ok(Called::Output(output)) => tried.output = Some(output),
        Ok(Called::Later(_)) => tried.failure = Some("it will call back".into()),
        Err(failure) => tried.failure = Some(failure.message),
    }
    let judge = move || trying.judged(&mut tried).map(|()| tried);
    Ok(web::Json(node.capacity.evaluate(&caller.0, judge).await??))
}

fn draw(text: &str, catalog: &Catalog) -> Result<RunbookOutline, ApiError> {
    let (runbook, document) = of_text(text, None, catalog)?;
    let document = &document;
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
        shared: s.shared,
        on_error: s.on_error,
        parts: s.parts.into_iter().map(|(label, steps)| part(document, label, steps)).collect(),
    };
    all.into_iter().map(step).collect()
}

fn part(document: &Document, label: String, all: Vec<runbook::OutlineStep>) -> OutlinePart {
    OutlinePart { label, steps: steps(document, all) }
}
