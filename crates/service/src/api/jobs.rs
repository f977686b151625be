//! Jobs and their steps.

use super::{ApiError, caller::Caller, query::in_range};
use crate::{node::Node, runner};
use actix_web::{HttpResponse, get, post, web};
use arvok_api::{JobDetail, JobFilter, JobItem, JobStep, Page, Problem, Resolve, Role, StepState, StepWord};
use arvok_core::{
    Catalog, JobId,
    job::{JobEffect, JobState, Phase, Resolution},
    runbook::{Action, Runbook, Step},
};
use arvok_store::read::{self, JobRow};

/// Jobs, newest first.
#[utoipa::path(operation_id = "listJobs", tag = "jobs", params(JobFilter), responses((status = 200, body = Page<JobItem>), (status = 400, body = Problem)))]
#[get("/jobs")]
pub(super) async fn list(
    node: web::Data<Node>,
    _caller: Caller,
    query: web::Query<JobFilter>,
) -> Result<web::Json<Page<JobItem>>, ApiError> {
    let filter = query.into_inner();
    if let Some(wrong) = filter.states().into_iter().find(|s| JobState::parse(s).is_none()) {
        let known = JobState::ALL.map(JobState::as_str).join(", ");
        return Err(ApiError::BadRequest(format!("state={wrong}: the states are {known}")));
    }
    if let Some(effect) = filter.effect.as_deref().filter(|e| JobEffect::parse(e).is_none()) {
        let known = JobEffect::ALL.map(JobEffect::as_str).join(", ");
        return Err(ApiError::BadRequest(format!("effect={effect}: the effects are {known}")));
    }
    in_range(filter.limit, [filter.since, filter.until])?;
    let mut page = read::jobs(&node.db, filter).await?;
    complete_all(&node, &mut page.items);
    Ok(web::Json(page))
}

/// One job with its inputs, its steps and how each went.
#[utoipa::path(operation_id = "showJob", tag = "jobs", params(("id" = i64, Path)), responses((status = 200, body = JobDetail), (status = 404, body = Problem)))]
#[get("/jobs/{id}")]
pub(super) async fn one(
    node: web::Data<Node>,
    _caller: Caller,
    id: web::Path<i64>,
) -> Result<web::Json<JobDetail>, ApiError> {
    let row = read::job(&node.db, *id).await?.ok_or_else(|| ApiError::NotFound(format!("job {id}")))?;
    let alert = match row.item.alert {
        Some(seq) => read::alert(&node.db, seq).await?.map(|a| a.alert),
        None => None,
    };
    let runbook = node.runbook(&row.item.runbook, row.item.runbook_version).await?;
    Ok(web::Json(detail(row, runbook.as_ref(), alert)))
}

/// Says what became of the step that left a job unsure; the job goes on from there.
#[utoipa::path(operation_id = "resolveJob", tag = "jobs", params(("id" = i64, Path)), request_body = Resolve,
    responses((status = 202), (status = 404, body = Problem), (status = 409, body = Problem)))]
#[post("/jobs/{id}/resolve")]
pub(super) async fn resolve(
    node: web::Data<Node>,
    caller: Caller,
    id: web::Path<i64>,
    body: web::Json<Resolve>,
) -> Result<HttpResponse, ApiError> {
    caller.must(Role::Responder)?;
    let word = match body.word {
        StepWord::Done => Resolution::Done,
        StepWord::Again => Resolution::Again,
        StepWord::Failed => Resolution::Failed,
    };
    let row = read::job(&node.db, *id).await?.ok_or_else(|| ApiError::NotFound(format!("job {id}")))?;
    if !runner::resolve(&node.into_inner(), JobId(*id), word).await? {
        return Err(ApiError::Conflict(format!(
            "job {id} is {}, not unsure; there is nothing to resolve",
            row.item.state
        )));
    }
    tracing::info!(job = *id, by = caller.0.name, word = ?word, "an unsure step was resolved");
    Ok(HttpResponse::Accepted().finish())
}

/// Adds to jobs of a list what only the runbook knows.
pub(super) fn complete_all(node: &Node, jobs: &mut [JobItem]) {
    let published = node.published();
    for job in jobs {
        complete(job, current(&published.catalog, job));
    }
}

fn current<'a>(catalog: &'a Catalog, job: &JobItem) -> Option<&'a Runbook> {
    catalog.get::<Runbook>(&job.runbook).filter(|(_, version)| *version == job.runbook_version).map(|(r, _)| r)
}

fn complete(job: &mut JobItem, runbook: Option<&Runbook>) {
    let steps = runbook.map_or(0, |r| r.steps.len());
    job.steps = i64::try_from(steps).unwrap_or(0);
    let step = usize::try_from(job.steps_done).ok().and_then(|n| runbook?.steps.get(n));
    let title = |s: &Step| s.summary.clone().unwrap_or_else(|| s.id.clone());
    job.doing = match (job.state, step) {
        (JobState::Queued, _) => "waits for its turn".into(),
        (JobState::Running, Some(step)) => title(step),
        (JobState::Waiting, Some(step)) => format!("waits to try again: {}", title(step)),
        (JobState::Running | JobState::Waiting, None) if steps > 0 => "waits for the alarm to clear".into(),
        (JobState::Unsure, _) => "waits for a person to resolve it".into(),
        (JobState::Succeeded, _) => job.effect.map_or_else(String::new, |e| e.to_string()),
        _ => job.failure.clone().unwrap_or_default(),
    };
}

fn detail(row: JobRow, runbook: Option<&Runbook>, alert: Option<arvok_api::AlertItem>) -> JobDetail {
    let mut job = row.item;
    complete(&mut job, runbook);
    let over = job.state.is_final();
    let steps = runbook.map_or_else(Vec::new, |r| {
        r.steps
            .iter()
            .enumerate()
            .map(|(i, step)| {
                let attempts =
                    row.attempts.iter().filter(|(step, _)| *step == i).map(|(_, a)| a.clone()).collect::<Vec<_>>();
                let state = match attempts.last() {
                    Some(_) if row.progress.step == i && matches!(row.progress.phase, Phase::Again { .. }) => {
                        StepState::Again
                    }
                    Some(last) => last.state,
                    None if over => StepState::NotRun,
                    None => StepState::Next,
                };
                JobStep {
                    id: step.id.clone(),
                    kind: step.action.kind().into(),
                    summary: step.summary.clone(),
                    does: does(step),
                    state,
                    attempts,
                }
            })
            .collect()
    });
    let confirm = runbook.and_then(|r| r.confirm).map(|c| format!("alarm cleared within {}", c.within));
    JobDetail { job, inputs: row.inputs, outputs: row.outputs, steps, confirm, alert, reason: row.reason }
}

fn does(step: &Step) -> String {
    match &step.action {
        Action::Call { operation, via, .. } => format!("{operation} via {via}"),
        Action::Require { condition, .. } => condition.text().to_owned(),
    }
}
