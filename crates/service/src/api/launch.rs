//! Launching runbooks by hand: the form, the dry run, the launch.

use super::{
    ApiError,
    caller::{self, Caller},
};
use crate::{clock, node::Node};
use actix_web::{HttpRequest, HttpResponse, get, http::StatusCode, post, web};
use arvok_api::{
    CallRequest, Change, DryPart, DryRun, DryStep, Launch, Launched, Preview, PreviewedInput,
    Problem, RunbookForm,
};
use arvok_connect::SECRET_MARK;
use arvok_core::{
    Alert, Catalog, JobId, Period, Role,
    alarm::Alarm,
    connector::ShownRequest,
    job::{self, Facts},
    plan,
    rule::Urgency,
    runbook::{Prepared, Runbook},
    text::cut,
};
use arvok_store::{jobs, launches, memory, read};
use chrono::{DateTime, Utc};
use serde_json::{Map, Value};
use std::sync::Arc;

/// Longest reason that is kept, and longest key, in bytes.
pub(super) const LONGEST_WHY: usize = 300;
const LONGEST_KEY: usize = 100;

/// A runbook, or what the runs of a plan are jobs of.
pub(super) fn runbook(catalog: &Catalog, name: &str) -> Result<(Arc<Runbook>, i32), ApiError> {
    catalog.runbook(name).ok_or_else(|| ApiError::NotFound(format!("runbook `{}`", cut(name, 64))))
}

fn prepared(runbook: &Runbook, asked: &Launch, catalog: &Catalog) -> Result<Prepared, ApiError> {
    let prepared = runbook.prepare(asked.inputs.clone(), catalog);
    prepared.map_err(|e| ApiError::BadRequest(e.to_string()))
}

/// Most values of an input that are offered.
const MOST_CHOICES: usize = 200;

/// The inputs, with the values from which a connection or a runbook is chosen.
fn chosen(runbook: &Runbook, catalog: &Catalog) -> Map<String, Value> {
    let mut inputs = runbook.inputs.properties().clone();
    for (name, choices) in runbook.choices(catalog) {
        let Some(Value::Object(schema)) = inputs.get_mut(&name) else { continue };
        let is_text = schema.get("type").is_some_and(|of| of == "string");
        if is_text && (1..=MOST_CHOICES).contains(&choices.len()) {
            schema.entry("enum").or_insert_with(|| choices.into());
        }
    }
    inputs
}

/// What a form for a runbook is made from: its inputs, and of those by which a connection or a
/// runbook is chosen the values from which that is done, as `enum`.
#[utoipa::path(operation_id = "showRunbookForm", tag = "jobs", params(("name" = String, Path)),
    responses((status = 200, body = RunbookForm), (status = 404, body = Problem)))]
#[get("/runbooks/{name}")]
pub(super) async fn form(
    node: web::Data<Node>,
    _caller: Caller,
    name: web::Path<String>,
) -> Result<web::Json<RunbookForm>, ApiError> {
    let published = node.published();
    let (runbook, version) = runbook(&published.catalog, &name)?;
    Ok(web::Json(RunbookForm {
        runbook: runbook.name.clone(),
        version,
        summary: runbook.summary.clone(),
        inputs: chosen(&runbook, &published.catalog),
        role: runbook.launch,
        confirm: runbook.confirm.as_ref().map(ToString::to_string),
    }))
}

/// What a job would do, without doing anything.
#[utoipa::path(operation_id = "dryRun", tag = "jobs", request_body = Launch,
    responses((status = 200, body = DryRun), (status = 400, body = Problem), (status = 404,
        body = Problem)))]
#[post("/jobs/dry-run")]
pub(super) async fn dry_run(
    node: web::Data<Node>,
    caller: Caller,
    body: web::Json<Launch>,
) -> Result<web::Json<DryRun>, ApiError> {
    let asked = body.into_inner();
    let (alert, alarm) = about(&node, asked.alert).await?;
    let published = node.published();
    let prepare = move || {
        let (runbook, version) = runbook(&published.catalog, &asked.runbook)?;
        let prepared = prepared(&runbook, &asked, &published.catalog)?;
        Ok::<_, ApiError>((runbook, version, prepared))
    };
    let (runbook, version, prepared) = node.capacity.evaluate(&caller.0, prepare).await??;
    Ok(web::Json(dry(&node, &caller, (runbook, version), prepared, (alert, alarm)).await?))
}

/// What a job of a runbook would do that is given so and so, and about an alert.
pub(super) async fn dry(
    node: &Node,
    caller: &Caller,
    (runbook, version): (Arc<Runbook>, i32),
    Prepared { inputs, target }: Prepared,
    (alert, alarm): (Option<Alert>, Option<Alarm>),
) -> Result<DryRun, ApiError> {
    let published = node.published();
    let memory = remembered(node, &runbook, target.as_str()).await?;
    let told = move || {
        let facts = Facts {
            memory,
            memory_full: false,
            announce: None,
            dry: false,
            created: clock::now(),
            id: JobId(0),
            key: String::new(),
            inputs: Value::Object(inputs.clone()),
            target: target.to_string(),
            has_alarm: alarm.is_some(),
            alert,
        };
        let operations = |via: &str, operation: &str| {
            published.catalog.operation(via, operation).ok().map(|(_, op)| op)
        };
        let dry = job::dry_run(&runbook, &facts, alarm.as_ref(), &operations);
        DryRun {
            runbook: runbook.name.clone(),
            version,
            inputs,
            target: target.to_string(),
            steps: dry.steps.into_iter().map(step).collect(),
            further: dry.further.into_iter().map(part).collect(),
        }
    };
    node.capacity.evaluate(&caller.0, told).await
}

/// What runs of a runbook remember of a target, as the next would find it.
pub(super) async fn remembered(
    node: &Node,
    runbook: &Runbook,
    target: &str,
) -> Result<Value, ApiError> {
    if runbook.memory.is_empty() {
        return Ok(Value::Null);
    }
    let found = memory::recall(&node.pools.questions, &runbook.name, target).await?;
    let memory = runbook.memory.recall(found.remembered);
    memory.map_err(|why| {
        ApiError::Conflict(format!("what is remembered of {target} does not fit any more: {why}"))
    })
}

/// The alert that a job would be about, and its alarm as it stands.
pub(super) async fn about(
    node: &Node,
    alert: Option<i64>,
) -> Result<(Option<Alert>, Option<Alarm>), ApiError> {
    let Some(seq) = alert else { return Ok((None, None)) };
    let alert = read::whole_alert(&node.pools.questions, seq)
        .await?
        .ok_or_else(|| ApiError::NotFound(format!("alert {seq}")))?;
    let alarm = match launches::alarm_of_alert(&node.pools.questions, seq).await? {
        Some(id) => jobs::alarm_of(&node.pools.questions, id).await?,
        None => None,
    };
    Ok((Some(alert), alarm))
}

fn preview(value: job::Preview) -> Preview {
    match value {
        job::Preview::Known(value) => Preview { value: Some(value), ..Preview::default() },
        job::Preview::Unknown(on) => Preview { unknown: Some(on), ..Preview::default() },
        job::Preview::Wrong(why) => Preview { wrong: Some(why), ..Preview::default() },
    }
}

pub(super) fn step(s: job::DryStep) -> DryStep {
    DryStep {
        place: s.place.to_string(),
        id: s.id,
        kind: s.kind.to_owned(),
        summary: s.summary,
        does: s.does,
        when: s.when.map(preview),
        given: s
            .given
            .into_iter()
            .map(|(name, t)| PreviewedInput { name, preview: preview(t) })
            .collect(),
        request: s.request.map(|ShownRequest { method, target, body }| CallRequest {
            method,
            target,
            body,
            via: None,
            unsent: false,
        }),
        parts: s.parts.into_iter().map(part).collect(),
        left_out: s.left_out,
    }
}

fn part(p: job::DryPart) -> DryPart {
    DryPart { label: p.label, taken: p.taken, steps: p.steps.into_iter().map(step).collect() }
}

/// Refuses inputs that were copied from where a secret was hidden: the mark would be taken for the
/// value.
pub(super) fn refuse_marks(inputs: &Map<String, Value>) -> Result<(), ApiError> {
    match inputs.iter().find(|(_, value)| value.to_string().contains(SECRET_MARK)) {
        None => Ok(()),
        Some((name, _)) => Err(ApiError::BadRequest(format!(
            "inputs: `{}` has {SECRET_MARK}, which stands where something was hidden; give the \
            value itself",
            cut(name, 60)
        ))),
    }
}

/// The key that the same launch has each time it is sent.
pub(super) fn key(request: &HttpRequest) -> Result<Option<String>, ApiError> {
    match request.headers().get("Idempotency-Key").map(|v| v.to_str()) {
        None => Ok(None),
        Some(Ok(key)) if !key.is_empty() && key.len() <= LONGEST_KEY => Ok(Some(key.to_owned())),
        Some(_) => Err(ApiError::BadRequest(format!(
            "Idempotency-Key: 1 to {LONGEST_KEY} visible characters of ASCII"
        ))),
    }
}

/// That a key stands for another launch.
pub(super) fn key_taken(job: JobId) -> ApiError {
    ApiError::Conflict(format!(
        "something else was launched under this Idempotency-Key before, as job {job}; take another \
        key"
    ))
}

fn deadline(asked: &Launch, now: DateTime<Utc>) -> Result<Option<DateTime<Utc>>, ApiError> {
    let Some(text) = &asked.deadline else { return Ok(None) };
    let within = Period::parse(text).map_err(|e| ApiError::BadRequest(format!("deadline: {e}")))?;
    Ok(Some(now + within.delta()))
}

/// Launches a runbook. The same launch sent twice with the same `Idempotency-Key` makes one job.
#[utoipa::path(operation_id = "launchJob", tag = "jobs", request_body = Launch,
    params(("Idempotency-Key" = Option<String>, Header)),
    responses((status = 201, body = Launched), (status = 200, body = Launched), (status = 400,
        body = Problem),
        (status = 404, body = Problem), (status = 409, body = Problem)))]
#[post("/jobs")]
pub(super) async fn launch(
    node: web::Data<Node>,
    caller: Caller,
    body: web::Json<Launch>,
    request: HttpRequest,
) -> Result<HttpResponse, ApiError> {
    let published = node.published();
    let asked = body.into_inner();
    caller.must(Role::Responder)?;
    if let Some(plan) = plan::of_job_name(&asked.runbook) {
        let how = format!("a plan is run by `POST /api/v1/plans/{plan}/run` (arvok plan run)");
        return Err(ApiError::BadRequest(how));
    }
    let (runbook, version) = runbook(&published.catalog, &asked.runbook)?;
    caller.must(runbook.launch)?;
    refuse_marks(&asked.inputs)?;
    let Prepared { inputs, target } = prepared(&runbook, &asked, &published.catalog)?;
    let key = key(&request)?;
    if let Some(seq) = asked.alert
        && read::alert(&node.pools.questions, seq).await?.is_none()
    {
        return Err(ApiError::NotFound(format!("alert {seq}")));
    }
    let now = clock::now();
    let why =
        asked.why.as_deref().map(str::trim).filter(|w| !w.is_empty()).map(|w| cut(w, LONGEST_WHY));
    let because = why.map_or_else(String::new, |w| format!(": {w}"));
    let made = launches::launch(
        &node.pools.questions,
        launches::Launch {
            runbook: &runbook.name,
            version,
            inputs: Value::Object(inputs),
            target: target.to_string(),
            urgency: asked.urgency.unwrap_or(Urgency::Normal),
            deadline: deadline(&asked, now)?,
            alert: asked.alert,
            by: &caller.principal(),
            key: key.as_deref(),
            reason: format!("launched by {}{because}", caller.0.name),
            trace: caller::trace(&request),
        },
        now,
    )
    .await?;
    let (status, launched) = match made {
        launches::Launched::New(id) => (StatusCode::CREATED, Launched { job: id.0, known: false }),
        launches::Launched::Known(id) => (StatusCode::OK, Launched { job: id.0, known: true }),
        launches::Launched::Other(id) => {
            return Err(key_taken(id));
        }
    };
    if !launched.known {
        tracing::info!(
            job = launched.job,
            by = caller.0.name,
            runbook = runbook.name,
            "a job was launched"
        );
        node.announcer.tell(Change { jobs: vec![launched.job], ..Change::default() });
        node.wakeups.jobs.notify_one();
    }
    Ok(HttpResponse::build(status).json(launched))
}
