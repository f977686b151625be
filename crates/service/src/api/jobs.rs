//! Jobs and their steps.

use super::{
    ApiError,
    caller::Caller,
    job_steps::{JobSteps, set_doing},
    launch,
    query::in_range,
};
use crate::{clock, executor, node::Node};
use actix_web::{HttpResponse, get, post, web};
use arvok_api::{
    AlertItem, Because, Cancel, Change, DecisionItem, GoOn, GoesOn, JobDetail, JobFilter, JobItem,
    Page, Problem, Resolve, SelectiveHalt, SetAside, StepState, StepWord,
};
use arvok_core::{
    JobId, Role,
    bounds::{depth_diagnostic, too_deep},
    job::{GoingOn, JobCommand, JobState, Place, Progress, Resolution, Tried, going_on},
    runbook::{Action, Runbook, Step},
    text::{clean_json, cut},
};
use arvok_store::{
    audit::{self, Act},
    jobs,
    launches::{self, Launched},
    outside::{children, decisions},
    read::{self, JobRow},
    touches,
};
use std::{collections::BTreeMap, slice};

/// Jobs, newest first.
#[utoipa::path(
    operation_id = "listJobs", tag = "jobs", params(JobFilter),
    responses((status = 200, body = Page<JobItem>), (status = 400, body = Problem))
)]
#[get("/jobs")]
pub(super) async fn list(
    node: web::Data<Node>,
    _caller: Caller,
    query: web::Query<JobFilter>,
) -> Result<web::Json<Page<JobItem>>, ApiError> {
    let filter = query.into_inner();
    in_range(filter.limit, [filter.since, filter.until])?;
    let mut page = read::jobs(&node.pools.questions, filter).await?;
    set_doing(&mut page.items, &jobs::halts(&node.pools.questions).await?);
    Ok(web::Json(page))
}

/// One job with its inputs, its steps and how each went.
#[utoipa::path(
    operation_id = "showJob", tag = "jobs", params(("id" = i64, Path)),
    responses((status = 200, body = JobDetail), (status = 404, body = Problem))
)]
#[get("/jobs/{id}")]
pub(super) async fn one(
    node: web::Data<Node>,
    _caller: Caller,
    id: web::Path<i64>,
) -> Result<web::Json<JobDetail>, ApiError> {
    let row = read::job(&node.pools.questions, *id)
        .await?
        .ok_or_else(|| ApiError::NotFound(format!("job {id}")))?;
    let alert = match row.item.alert {
        Some(seq) => read::alert(&node.pools.questions, seq).await?.map(|a| a.alert),
        None => None,
    };
    let runbook = node.runbook(&row.item.runbook, row.item.runbook_version).await?;
    let asked = decisions::of_job(&node.pools.questions, JobId(*id)).await?;
    let decisions = asked.into_iter().map(super::decisions::item).collect();
    let (gathered, all) = read::gathered(&node.pools.questions, *id, GATHERED_SHOWN).await?;
    let acts = audit::of_job(&node.pools.questions, JobId(*id), ACTS_SHOWN).await?;
    let gathered_more = usize::try_from(all).unwrap_or_default().saturating_sub(gathered.len());
    let halts = jobs::halts(&node.pools.questions).await?;
    let detail = detail(row, runbook.as_deref(), alert, decisions, &halts);
    let touched = touches::of_job(&node.pools.questions, JobId(*id), TOUCHED_SHOWN).await?;
    Ok(web::Json(JobDetail { gathered, gathered_more, acts, touched, ..detail }))
}

/// Alerts of a gathering that are shown with its job.
const GATHERED_SHOWN: u64 = 100;
/// Acts of people that are shown with a job.
const ACTS_SHOWN: i64 = 100;
/// Resources that are shown with a job.
const TOUCHED_SHOWN: i64 = 100;

/// Says what became of the step that left a job unsure; the job goes on from there.
#[utoipa::path(operation_id = "resolveJob", tag = "jobs", params(("id" = i64, Path)),
    request_body = Resolve,
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
    let place = body.step.as_deref().map(Place::new);
    let row = read::job(&node.pools.questions, *id)
        .await?
        .ok_or_else(|| ApiError::NotFound(format!("job {id}")))?;
    let last: BTreeMap<&str, StepState> =
        row.attempts.iter().map(|(at, a)| (at.as_str(), a.state)).collect();
    let unsure: Vec<&str> = last
        .into_iter()
        .filter(|(_, state)| *state == StepState::Unsure)
        .map(|(at, _)| at)
        .collect();
    if row.item.state != JobState::Unsure && unsure.is_empty() {
        return Err(ApiError::Conflict(format!("job {id} is {}, not unsure", row.item.state)));
    }
    if let Some(place) =
        place.as_ref().filter(|place| !unsure.is_empty() && !unsure.contains(&place.as_str()))
    {
        let known = unsure.join(", ");
        return Err(ApiError::Conflict(format!(
            "step `{place}` of job {id} is not unsure; unsure is {known}"
        )));
    }
    if body.output.is_some() && word != Resolution::Done {
        return Err(ApiError::BadRequest(
            "output: only what was done gave something; say `as: done` with it".into(),
        ));
    }
    let output = body.output.clone().unwrap_or_default();
    if too_deep(&output) {
        return Err(ApiError::BadRequest(format!("output: {}", depth_diagnostic())));
    }
    let at = place.as_ref().map_or_else(String::new, |place| format!("step `{place}` "));
    let became = match word {
        Resolution::Done => "was done",
        Resolution::Again => "is done again",
        Resolution::Failed => "has failed",
    };
    let detail = format!("{at}{became}{}", because(body.why.as_deref()));
    let word = JobCommand::Resolve { place, word, output: clean_json(output) };
    command(&node, &caller, *id, word, ("job.resolved", &detail)).await
}

/// Makes a job that goes on from where another failed: what that one did stands, its outputs too,
/// after a look that it still does where a step has a `probe`; what was taken back is done again,
/// and so is all behind it.
#[utoipa::path(operation_id = "goOnFromFailed", tag = "jobs", params(("id" = i64, Path)),
    request_body = GoOn,
    responses((status = 201, body = GoesOn), (status = 200, body = GoesOn), (status = 404,
        body = Problem),
        (status = 409, body = Problem)))]
#[post("/jobs/{id}/go-on")]
pub(super) async fn go_on(
    node: web::Data<Node>,
    caller: Caller,
    id: web::Path<i64>,
    body: web::Json<GoOn>,
) -> Result<HttpResponse, ApiError> {
    caller.must(Role::Responder)?;
    let row = read::job(&node.pools.questions, *id)
        .await?
        .ok_or_else(|| ApiError::NotFound(format!("job {id}")))?;
    let conflict =
        |why: String| ApiError::Conflict(format!("job {id} cannot be gone on from: {why}"));
    if let Some(parent) = row.item.parent {
        return Err(conflict(format!("it is a step of job {parent}; go on from that one")));
    }
    let published = node.published();
    let (runbook, version) = launch::runbook(&published.catalog, &row.item.runbook)?;
    caller.must(runbook.launch)?;
    let before = node.runbook(&row.item.runbook, row.item.runbook_version).await?;
    let before = before.ok_or_else(|| conflict("its runbook cannot be read any more".into()))?;
    let going = still_the_same(&row, &before, &runbook).map_err(conflict)?;
    let looks = |step: &&Step| matches!(&step.action, Action::Call(call) if call.probe.is_some());
    let looked_at =
        runbook.steps[..going.stand.len()].iter().filter(looks).map(|s| s.id.clone()).collect();
    let mut goes_on =
        GoesOn { job: None, stand: going.stand.clone(), looked_at, from: going.from.clone() };
    if body.dry_run {
        return Ok(HttpResponse::Ok().json(goes_on));
    }
    let because = because(body.why.as_deref());
    let made = launches::go_on(
        &node.pools.questions,
        launches::GoOn {
            of: JobId(*id),
            version,
            progress: &going.progress,
            stand: going.stand,
            by: &caller.principal(),
            reason: format!(
                "launched by {}, from `{}` on, where job {id} ended{because}",
                caller.0.name, going.from
            ),
        },
        clock::now(),
    )
    .await?;
    let made = match made.ok_or_else(|| ApiError::NotFound(format!("job {id}")))? {
        Launched::New(made) => made,
        Launched::Known(known) | Launched::Other(known) => {
            goes_on.job = Some(known.0);
            return Ok(HttpResponse::Ok().json(goes_on));
        }
    };
    tracing::info!(
        job = made.0,
        from = id.into_inner(),
        by = caller.0.name,
        "a job goes on from where another failed"
    );
    node.announcer.tell(Change { jobs: vec![made.0], ..Change::default() });
    node.wakeups.jobs.notify_one();
    goes_on.job = Some(made.0);
    Ok(HttpResponse::Created().json(goes_on))
}

/// Holds a job: what is under way comes to its end, and no further step is begun.
#[utoipa::path(operation_id = "pauseJob", tag = "jobs", params(("id" = i64, Path)),
    request_body = Because,
    responses((status = 202), (status = 404, body = Problem), (status = 409, body = Problem)))]
#[post("/jobs/{id}/pause")]
pub(super) async fn pause(
    node: web::Data<Node>,
    caller: Caller,
    id: web::Path<i64>,
    body: web::Json<Because>,
) -> Result<HttpResponse, ApiError> {
    let words = by("paused", &caller, body.why.as_deref());
    let act = ("job.paused", body.why.as_deref().unwrap_or_default());
    let answer =
        command(&node, &caller, *id, JobCommand::Pause { words: words.clone() }, act).await?;
    command_below(&node, *id, &JobCommand::Pause { words }).await?;
    Ok(answer)
}

/// Lets a job go on that a person held.
#[utoipa::path(operation_id = "resumeJob", tag = "jobs", params(("id" = i64, Path)),
    request_body = Because,
    responses((status = 202), (status = 404, body = Problem), (status = 409, body = Problem)))]
#[post("/jobs/{id}/resume")]
pub(super) async fn resume(
    node: web::Data<Node>,
    caller: Caller,
    id: web::Path<i64>,
    body: web::Json<Because>,
) -> Result<HttpResponse, ApiError> {
    let act = ("job.resumed", body.why.as_deref().unwrap_or_default());
    let answer = command(&node, &caller, *id, JobCommand::Resume, act).await?;
    command_below(&node, *id, &JobCommand::Resume).await?;
    Ok(answer)
}

/// How a job goes on by a runbook as it stands, if that is the same up to the step with which it
/// begins.
fn still_the_same(row: &JobRow, before: &Runbook, runbook: &Runbook) -> Result<GoingOn, String> {
    let progress =
        Progress::read(row.progress.clone()).map_err(|_| "it cannot be read".to_owned())?;
    let mut ended: Vec<_> = row.attempts.iter().filter(|(_, a)| a.finished_at.is_some()).collect();
    ended.sort_by_key(|(_, a)| a.finished_at);
    let tried: Vec<Tried> = ended
        .into_iter()
        .map(|(place, a)| Tried {
            place: Place::new(place.as_str()),
            done: a.state == StepState::Done,
        })
        .collect();
    let going = going_on(before, &progress, row.item.state, &tried)?;
    let as_before = runbook.steps.iter().zip(&before.steps).take(going.stand.len() + 1);
    if as_before.clone().count() <= going.stand.len()
        || as_before
            .clone()
            .any(|(now, then)| (&now.id, now.action.kind()) != (&then.id, then.action.kind()))
    {
        let from = &going.from;
        return Err(format!(
            "the steps of its runbook are others by now, up to `{from}`; launch it once more"
        ));
    }
    Ok(going)
}

/// Sets a job that ended badly aside from what needs a person, or back to it.
#[utoipa::path(operation_id = "seeJob", tag = "jobs", params(("id" = i64, Path)),
    request_body = SetAside,
    responses((status = 204), (status = 404, body = Problem), (status = 409, body = Problem)))]
#[post("/jobs/{id}/seen")]
pub(super) async fn seen(
    node: web::Data<Node>,
    caller: Caller,
    id: web::Path<i64>,
    body: web::Json<SetAside>,
) -> Result<HttpResponse, ApiError> {
    caller.must(Role::Responder)?;
    let by = (!body.undo).then(|| caller.principal());
    if !jobs::see(&node.pools.questions, JobId(*id), by.as_ref(), clock::now()).await? {
        let row = read::job(&node.pools.questions, *id)
            .await?
            .ok_or_else(|| ApiError::NotFound(format!("job {id}")))?;
        let more =
            if row.item.state == JobState::Unsure { "; say what became of its step" } else { "" };
        let state = row.item.state;
        return Err(ApiError::Conflict(format!(
            "job {id} is {state}; only what ended badly is set aside{more}"
        )));
    }
    node.announcer.tell(Change { jobs: vec![*id], ..Change::default() });
    Ok(HttpResponse::NoContent().finish())
}

/// Stops a job: what is under way comes to its end, what was done is taken back if wished, and what
/// its runbook does always is done.
#[utoipa::path(operation_id = "cancelJob", tag = "jobs", params(("id" = i64, Path)),
    request_body = Cancel,
    responses((status = 202), (status = 404, body = Problem), (status = 409, body = Problem)))]
#[post("/jobs/{id}/cancel")]
pub(super) async fn cancel(
    node: web::Data<Node>,
    caller: Caller,
    id: web::Path<i64>,
    body: web::Json<Cancel>,
) -> Result<HttpResponse, ApiError> {
    caller.must(Role::Responder)?;
    let words = by("cancelled", &caller, body.why.as_deref());
    let act = ("job.cancelled", body.why.as_deref().unwrap_or_default());
    if jobs::cancel_queued(&node.pools.questions, JobId(*id), &words, Some(act_of(&caller, act)))
        .await?
    {
        tracing::info!(job = *id, by = caller.0.name, "a job was cancelled before it began");
        node.announcer.tell(Change { jobs: vec![*id], ..Change::default() });
        return Ok(HttpResponse::Accepted().finish());
    }
    command(&node, &caller, *id, JobCommand::Cancel { undo: body.undo, words }, act).await
}

/// Longest reason that is kept.
const LONGEST_WHY: usize = 300;

/// A reason behind what it is for; nothing where none was given.
fn because(why: Option<&str>) -> String {
    let why = why.map(str::trim).filter(|why| !why.is_empty()).map(|why| cut(why, LONGEST_WHY));
    why.map_or_else(String::new, |why| format!(": {why}"))
}

fn by(what: &str, caller: &Caller, why: Option<&str>) -> String {
    format!("{what} by {}{}", caller.0.name, because(why))
}

fn act_of<'a>(caller: &'a Caller, (act, detail): (&'static str, &'a str)) -> Act<'a> {
    Act { by: caller.principal(), act, detail: detail.trim() }
}

/// Says something to a job, and records who did. Whoever executes it hears of it, at once if that
/// is this node.
async fn command(
    node: &Node,
    caller: &Caller,
    id: i64,
    command: JobCommand,
    act: (&'static str, &str),
) -> Result<HttpResponse, ApiError> {
    caller.must(Role::Responder)?;
    if !jobs::command(&node.pools.questions, JobId(id), &command, Some(act_of(caller, act))).await?
    {
        let row = read::job(&node.pools.questions, id)
            .await?
            .ok_or_else(|| ApiError::NotFound(format!("job {id}")))?;
        let can = command.states().iter().map(|s| s.as_str()).collect::<Vec<_>>().join(" or ");
        let state = row.item.state;
        return Err(ApiError::Conflict(if command.states().contains(&state) {
            format!("job {id} has not heard yet what was said to it before; look again in a moment")
        } else {
            format!("job {id} is {state}, not {can}")
        }));
    }
    tracing::info!(job = id, by = caller.0.name, command = ?command, "a person commands a job");
    node.wakeups.jobs.notify_one();
    executor::hear(node).await;
    Ok(HttpResponse::Accepted().finish())
}

/// Says the same to the jobs of its steps, as far as it can be said to them.
async fn command_below(node: &Node, id: i64, command: &JobCommand) -> Result<(), ApiError> {
    for below in children::alive_below(&node.pools.questions, JobId(id)).await? {
        jobs::command(&node.pools.questions, below, command, None).await?;
    }
    node.wakeups.jobs.notify_one();
    executor::hear(node).await;
    Ok(())
}

fn detail(
    row: JobRow,
    runbook: Option<&Runbook>,
    alert: Option<AlertItem>,
    decisions: Vec<DecisionItem>,
    halts: &[SelectiveHalt],
) -> JobDetail {
    let mut job = row.item;
    set_doing(slice::from_mut(&mut job), halts);
    let tree = runbook.map(|r| {
        let waiting =
            Progress::read(row.progress).map(|p| p.waiting(r, clock::now())).unwrap_or_default();
        let jobs = row
            .children
            .iter()
            .map(|(place, child)| (place.clone(), (child.id, child.runbook.clone())));
        let asked = decisions.iter().map(|d| (d.step.clone(), d.id)).collect();
        (
            JobSteps::new(row.attempts, waiting, job.state.is_final(), r)
                .with(jobs.collect(), asked),
            r,
        )
    });
    let steps = tree.as_ref().map_or_else(Vec::new, |(p, r)| p.steps(&r.steps, &Place::new("")));
    let further = tree.as_ref().map_or_else(Vec::new, |(p, r)| p.further(r));
    let confirm = runbook.and_then(|r| r.confirm.as_ref()).map(ToString::to_string);
    let mut children: Vec<JobItem> = row.children.into_iter().map(|(_, child)| child).collect();
    set_doing(&mut children, halts);
    JobDetail {
        job,
        inputs: row.inputs,
        outputs: row.outputs,
        steps,
        further,
        confirm,
        decisions,
        children,
        alert,
        gathered: Vec::new(),
        gathered_more: 0,
        reason: row.reason,
        seen: row.seen,
        goes_on_as: row.goes_on_as,
        acts: Vec::new(),
        trace: row.trace,
        overruled: row.overruled,
        touched: Vec::new(),
    }
}
