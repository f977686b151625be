//! Plans: what is to come and what was, and what people say to them.

use super::{
    ApiError,
    caller::{self, Caller},
    launch,
    query::in_range,
};
use crate::{
    clock,
    node::{Node, Published},
    plan_runs::PlanRun,
};
use actix_web::{HttpRequest, HttpResponse, get, http::StatusCode, post, web};
use arvok_api::{
    DryRun, Launched, Page, PlanDetail, PlanEntry, PlanFreeze, PlanItem, PlanTimes,
    PlanTimesFilter, Problem, RunPlan, SkipPlan, UnskipPlan,
};
use arvok_core::{
    Role,
    plan::{self, NoRun, Omission, Plan, PlannedFreeze},
    runbook::Runbook,
    text::cut,
};
use arvok_store::{
    memory,
    plans::{self, MOST_SKIPPED, OmittedRun, RunLaunched, RunOmitted},
};
use chrono::{DateTime, SecondsFormat, TimeDelta, Utc};
use std::{collections::BTreeMap, sync::Arc};

/// Most bytes of a reason.
const MOST_REASON: usize = 400;
/// How many times to come, and how many that were, are shown with a plan.
const COMING: usize = 10;
const PAST: i64 = 50;
/// Most times of all plans together that are worked out for a span, and from how many on those of
/// an hour of one plan are one.
const OF_TIMES: usize = 20_000;
const OFTEN: usize = 200;
/// Most that is told of a span.
const OF_ALL: usize = 2_000;
/// Longest span.
const SPAN: TimeDelta = TimeDelta::days(100);
/// How far ahead a next time is looked for that nobody has skipped.
const AHEAD: TimeDelta = TimeDelta::days(3_660);

/// Plans, by name, each with its next time and its last run.
#[utoipa::path(operation_id = "listPlans", tag = "plans",
    responses((status = 200, body = Page<PlanItem>)))]
#[get("/plans")]
pub(super) async fn list(
    node: web::Data<Node>,
    caller: Caller,
) -> Result<web::Json<Page<PlanItem>>, ApiError> {
    let published = node.published();
    let names: Vec<String> =
        published.catalog.all::<Plan>().map(|(plan, _)| plan.name.clone()).collect();
    let items = items(&node, &caller, published, names).await?;
    Ok(web::Json(Page { items, next: None, bounded: false }))
}

/// One plan with its times, its runs and what is remembered.
#[utoipa::path(operation_id = "showPlan", tag = "plans", params(("name" = String, Path)),
    responses((status = 200, body = PlanDetail), (status = 404, body = Problem)))]
#[get("/plans/{name}")]
pub(super) async fn one(
    node: web::Data<Node>,
    caller: Caller,
    name: web::Path<String>,
) -> Result<web::Json<PlanDetail>, ApiError> {
    let published = node.published();
    let (plan, _) = found(&published, &name)?;
    let names = vec![plan.name.clone()];
    let db = &node.pools.questions;
    let job = plan::job_name(&plan.name);
    let remembered = memory::recall(db, &job, &job).await?.remembered;
    let memory = plan.runbook.memory.recall(remembered).unwrap_or_default();
    let now = clock::now();
    let span = (DateTime::UNIX_EPOCH, now);
    let mut past = plans::runs(db, &names, span, PAST).await?;
    past.extend(plans::omissions(db, &names, span, PAST).await?);
    past.sort_by_key(|entry| std::cmp::Reverse(entry.at));
    past.truncate(usize::try_from(PAST).unwrap_or_default());
    let skipped = skipped(&node, &names, now).await?;
    let (of, span) = (Arc::clone(&published), (now, now + AHEAD));
    let coming = move || {
        let found = of.catalog.get::<Plan>(&name);
        found.map_or_else(Vec::new, |(plan, _)| coming(&of, plan, span, COMING, &skipped))
    };
    let coming = node.capacity.evaluate(&caller.0, coming).await?;
    let item = items(&node, &caller, published, names).await?.into_iter().next();
    let plan = item.ok_or_else(|| ApiError::NotFound("plan".into()))?;
    Ok(web::Json(PlanDetail { plan, coming, past, memory }))
}

/// The times of plans within a span: those to come, with what would hold them back, and those that
/// were, with their jobs.
#[utoipa::path(operation_id = "listPlanTimes", tag = "plans", params(PlanTimesFilter),
    responses((status = 200, body = PlanTimes), (status = 400, body = Problem), (status = 404,
        body = Problem)))]
#[get("/plan-times")]
pub(super) async fn all_times(
    node: web::Data<Node>,
    caller: Caller,
    query: web::Query<PlanTimesFilter>,
) -> Result<web::Json<PlanTimes>, ApiError> {
    let PlanTimesFilter { plan, from, until } = query.into_inner();
    in_range(None, [from, until])?;
    let now = clock::now();
    let from = from.unwrap_or(now - TimeDelta::days(7));
    let until = until.unwrap_or_else(|| (now + TimeDelta::days(14)).max(from));
    if until < from {
        return Err(ApiError::BadRequest("until: is before `from`".into()));
    }
    if until - from > SPAN {
        let days = SPAN.num_days();
        return Err(ApiError::BadRequest(format!("until: at most {days} days after `from`")));
    }
    let published = node.published();
    let names: Vec<String> = match plan {
        Some(name) => vec![found(&published, &name)?.0.name.clone()],
        None => published.catalog.all::<Plan>().map(|(plan, _)| plan.name.clone()).collect(),
    };
    let db = &node.pools.questions;
    let most = i64::try_from(OF_ALL).unwrap_or(i64::MAX);
    let mut entries = plans::runs(db, &names, (from, until), most).await?;
    entries.extend(plans::omissions(db, &names, (from, until.min(now)), most).await?);
    let mut more = entries.len() >= OF_ALL;
    if until > now {
        let skipped = skipped(&node, &names, now).await?;
        let ahead = move || {
            let known = names.iter().filter_map(|name| published.catalog.get::<Plan>(name));
            let span = (from.max(now), until);
            // One that runs often takes nothing from the others.
            let most = (OF_TIMES / names.len().max(1)).max(OFTEN / 4);
            let mut is_cut = false;
            let of_one = |(plan, _): (&Plan, i32)| {
                let found = coming(&published, plan, span, most, &skipped);
                is_cut |= found.len() == most;
                if found.len() > OFTEN { by_hour(found) } else { found }
            };
            let all: Vec<PlanEntry> = known.flat_map(of_one).collect();
            (all, is_cut)
        };
        let (ahead, is_cut) = node.capacity.evaluate(&caller.0, ahead).await?;
        more |= is_cut;
        entries.extend(ahead);
    }
    entries.sort_by(|a, b| (a.at, &a.plan).cmp(&(b.at, &b.plan)));
    more |= entries.len() > OF_ALL;
    entries.truncate(OF_ALL);
    Ok(web::Json(PlanTimes { entries, more }))
}

/// Runs a plan now, whatever its times. Not while a run of it is under way. The same run asked for
/// twice with the same `Idempotency-Key` makes one job.
#[utoipa::path(operation_id = "runPlan", tag = "plans", params(("name" = String, Path),
    ("Idempotency-Key" = Option<String>, Header)), request_body = RunPlan,
    responses((status = 201, body = Launched), (status = 200, body = Launched), (status = 403,
        body = Problem), (status = 404, body = Problem), (status = 409, body = Problem)))]
#[post("/plans/{name}/run")]
pub(super) async fn run(
    node: web::Data<Node>,
    caller: Caller,
    name: web::Path<String>,
    body: web::Json<RunPlan>,
    request: HttpRequest,
) -> Result<HttpResponse, ApiError> {
    caller.must(Role::Responder)?;
    let published = node.published();
    let (plan, version) = found(&published, &name)?;
    caller.must(plan.runbook.launch)?;
    // Nobody launches through a plan what they may not launch themselves.
    if let Some((runbook, _)) = published.catalog.get::<Runbook>(&plan.runs) {
        caller.must(runbook.launch)?;
    }
    let now = clock::now();
    let inputs = plan.inputs(&*published.catalog, &[], (None, now)).map_err(cannot_run)?;
    let why = body.why.as_deref().map(str::trim).filter(|why| !why.is_empty());
    let why = why.map_or_else(String::new, |why| format!(": {}", cut(why, launch::LONGEST_WHY)));
    let key = launch::key(&request)?;
    let by = caller.principal();
    let run = PlanRun {
        plan,
        version,
        due: None,
        inputs,
        deadline: None,
        by: &by,
        key: key.as_deref(),
        reason: format!("plan {} run by {}{why}", plan.name, caller.0.name),
        trace: caller::trace(&request),
    };
    let launched = run.launch(&node, now).await?.map_err(|e| ApiError::Conflict(e.to_string()))?;
    let answer = |status: StatusCode, job: i64, known: bool| {
        Ok(HttpResponse::build(status).json(Launched { job, known }))
    };
    match launched {
        RunLaunched::New(job) => answer(StatusCode::CREATED, job.0, false),
        RunLaunched::Known(job) => answer(StatusCode::OK, job.0, true),
        RunLaunched::Other(job) => Err(launch::key_taken(job)),
        RunLaunched::UnderWay(job) => {
            Err(ApiError::Conflict(format!("a run of plan {} is under way: job {job}", plan.name)))
        }
        RunLaunched::Omitted => Err(ApiError::Conflict("the run was skipped".into())),
    }
}

/// What a run of a plan would do now, without doing anything.
#[utoipa::path(operation_id = "dryRunPlan", tag = "plans", params(("name" = String, Path)),
    responses((status = 200, body = DryRun), (status = 404, body = Problem), (status = 409,
        body = Problem)))]
#[post("/plans/{name}/dry-run")]
pub(super) async fn dry_run(
    node: web::Data<Node>,
    caller: Caller,
    name: web::Path<String>,
) -> Result<web::Json<DryRun>, ApiError> {
    let published = node.published();
    let (plan, version) = found(&published, &name)?;
    let given = (None, clock::now());
    let inputs = plan.inputs(&*published.catalog, &[], given).map_err(cannot_run)?;
    let prepared = plan.runbook.prepare(inputs, &*published.catalog);
    let prepared = prepared.map_err(|e| ApiError::Conflict(e.to_string()))?;
    let runbook = (Arc::clone(&plan.runbook), version);
    Ok(web::Json(launch::dry(&node, &caller, runbook, prepared, (None, None)).await?))
}

/// Says that a plan does not run at one of its times to come.
#[utoipa::path(operation_id = "skipPlan", tag = "plans", params(("name" = String, Path)),
    request_body = SkipPlan,
    responses((status = 200, body = PlanEntry), (status = 400, body = Problem), (status = 403,
        body = Problem), (status = 404, body = Problem), (status = 409, body = Problem)))]
#[post("/plans/{name}/skip")]
pub(super) async fn skip(
    node: web::Data<Node>,
    caller: Caller,
    name: web::Path<String>,
    body: web::Json<SkipPlan>,
) -> Result<web::Json<PlanEntry>, ApiError> {
    caller.must(Role::Responder)?;
    let SkipPlan { due, reason } = body.into_inner();
    let reason = reason.trim();
    if reason.is_empty() || reason.len() > MOST_REASON {
        let wrong = format!("reason: say why, in {MOST_REASON} bytes at most");
        return Err(ApiError::BadRequest(wrong));
    }
    let published = node.published();
    let (plan, _) = found(&published, &name)?;
    caller.must(plan.runbook.launch)?;
    let now = clock::now();
    let due = match due {
        Some(due) => is_time(&published, plan, due, now)?,
        None => {
            let skipped = skipped(&node, std::slice::from_ref(&plan.name), now).await?;
            let next = next(&published, plan, now, &skipped);
            next.ok_or_else(|| {
                ApiError::Conflict(format!("plan {} has no time to come", plan.name))
            })?
        }
    };
    let by = caller.principal();
    let omitted = OmittedRun { plan: &plan.name, due, why: Omission::Skipped, reason, by: &by };
    match plans::skip(&node.pools.questions, &omitted, now).await? {
        RunOmitted::Many => Err(ApiError::Conflict(format!(
            "{MOST_SKIPPED} times of plan {} to come are skipped already; withdraw it, or give it \
            other times",
            plan.name
        ))),
        RunOmitted::Ran(job) => Err(ApiError::Conflict(format!(
            "plan {} runs for {} already: job {job}",
            plan.name,
            text(due)
        ))),
        RunOmitted::Done | RunOmitted::Known(_) => {
            let skipped = skipped(&node, std::slice::from_ref(&plan.name), now).await?;
            Ok(web::Json(entry(plan, due, &skipped, None)))
        }
    }
}

/// Says that a plan runs at a time that was skipped.
#[utoipa::path(operation_id = "unskipPlan", tag = "plans", params(("name" = String, Path)),
    request_body = UnskipPlan,
    responses((status = 200, body = PlanEntry), (status = 400, body = Problem), (status = 403,
        body = Problem), (status = 404, body = Problem), (status = 409, body = Problem)))]
#[post("/plans/{name}/unskip")]
pub(super) async fn unskip(
    node: web::Data<Node>,
    caller: Caller,
    name: web::Path<String>,
    body: web::Json<UnskipPlan>,
) -> Result<web::Json<PlanEntry>, ApiError> {
    caller.must(Role::Responder)?;
    let published = node.published();
    let (plan, _) = found(&published, &name)?;
    caller.must(plan.runbook.launch)?;
    let due = is_time(&published, plan, body.due, clock::now())?;
    if !plans::unskip(&node.pools.questions, &plan.name, due, &caller.principal()).await? {
        let wrong = format!("plan {} is not skipped at {}", plan.name, text(due));
        return Err(ApiError::Conflict(wrong));
    }
    Ok(web::Json(entry(plan, due, &Skipped::new(), None)))
}

fn found<'p>(published: &'p Published, name: &str) -> Result<(&'p Plan, i32), ApiError> {
    let found = published.catalog.get::<Plan>(name);
    found.ok_or_else(|| ApiError::NotFound(format!("plan `{}`", cut(name, 64))))
}

fn cannot_run(none: NoRun) -> ApiError {
    ApiError::Conflict(none.to_string())
}

fn text(at: DateTime<Utc>) -> String {
    at.to_rfc3339_opts(SecondsFormat::Secs, true)
}

/// A time to come at which a plan runs.
fn is_time(
    published: &Published,
    plan: &Plan,
    due: DateTime<Utc>,
    now: DateTime<Utc>,
) -> Result<DateTime<Utc>, ApiError> {
    in_range(None, [Some(due)])?;
    if due <= now {
        return Err(ApiError::Conflict(format!("due: {} is over", text(due))));
    }
    let next = |after| plan.at.as_ref().and_then(|at| at.next(&*published.catalog, after));
    if next(due - TimeDelta::seconds(1)) == Some(due) {
        return Ok(due);
    }
    let hint = next(now).map_or_else(String::new, |at| format!("; its next time is {}", text(at)));
    Err(ApiError::BadRequest(format!(
        "due: plan {} does not run at {}{hint}",
        plan.name,
        text(due)
    )))
}

/// Times to come at which plans do not run, by plan and time.
type Skipped = BTreeMap<(String, DateTime<Utc>), PlanEntry>;

async fn skipped(node: &Node, names: &[String], now: DateTime<Utc>) -> Result<Skipped, ApiError> {
    let plans = i64::try_from(names.len()).unwrap_or(i64::MAX);
    let most = plans.saturating_mul(MOST_SKIPPED);
    let found = plans::omissions(&node.pools.questions, names, (now, now + AHEAD), most).await?;
    Ok(found.into_iter().map(|entry| ((entry.plan.clone(), entry.at), entry)).collect())
}

/// The next time of a plan that nobody has skipped.
fn next(
    published: &Published,
    plan: &Plan,
    now: DateTime<Utc>,
    skipped: &Skipped,
) -> Option<DateTime<Utc>> {
    let times = plan.at.as_ref()?;
    let mut after = now;
    loop {
        let next = times.next(&*published.catalog, after)?;
        if !skipped.contains_key(&(plan.name.clone(), next)) {
            return Some(next);
        }
        after = next;
    }
}

/// The times of a plan within a span to come, so many at most.
fn coming(
    published: &Published,
    plan: &Plan,
    span: (DateTime<Utc>, DateTime<Utc>),
    most: usize,
    skipped: &Skipped,
) -> Vec<PlanEntry> {
    let Some(times) = &plan.at else { return Vec::new() };
    let times = times.between(&*published.catalog, span, most);
    let freezes = plan.freezes(&*published.catalog, &times);
    let freezes = freezes.into_iter().chain(std::iter::repeat(None));
    times.into_iter().zip(freezes).map(|(due, freeze)| entry(plan, due, skipped, freeze)).collect()
}

/// Those of an hour that are alike as one.
fn by_hour(entries: Vec<PlanEntry>) -> Vec<PlanEntry> {
    let mut found: Vec<PlanEntry> = Vec::new();
    for entry in entries {
        let alike = found.last_mut().filter(|last| {
            last.at.timestamp() / 3600 == entry.at.timestamp() / 3600
                && (last.omitted, &last.frozen) == (entry.omitted, &entry.frozen)
        });
        match alike {
            Some(last) => last.times += 1,
            None => found.push(entry),
        }
    }
    found
}

fn entry(
    plan: &Plan,
    due: DateTime<Utc>,
    skipped: &Skipped,
    freeze: Option<PlannedFreeze>,
) -> PlanEntry {
    let skipped = skipped.get(&(plan.name.clone(), due));
    PlanEntry {
        plan: plan.name.clone(),
        due: Some(due),
        at: due,
        coming: true,
        times: 1,
        omitted: skipped.and_then(|skipped| skipped.omitted),
        reason: skipped.and_then(|skipped| skipped.reason.clone()),
        by: skipped.and_then(|skipped| skipped.by.clone()),
        job: None,
        state: None,
        effect: None,
        frozen: freeze.map(|freeze| PlanFreeze {
            too_late: freeze.until.is_none_or(|until| until > due + plan.begin_within.delta()),
            guard: freeze.guard,
            because: freeze.because,
            until: freeze.until,
        }),
    }
}

async fn items(
    node: &Node,
    caller: &Caller,
    published: Arc<Published>,
    names: Vec<String>,
) -> Result<Vec<PlanItem>, ApiError> {
    let now = clock::now();
    let mut last = plans::last_runs(&node.pools.questions, &names).await?;
    let skipped = skipped(node, &names, now).await?;
    let items = move || {
        let item = |name: &String| {
            let (plan, version) = published.catalog.get::<Plan>(name)?;
            let next = next(&published, plan, now, &skipped);
            let freeze = next.and_then(|at| {
                plan.freezes(&*published.catalog, &[at]).into_iter().next().flatten()
            });
            let resources = plan.resources(&*published.catalog);
            Some(PlanItem {
                name: plan.name.clone(),
                summary: plan.summary.clone(),
                version,
                runbook: plan.runs.clone(),
                times: plan.at.as_ref().map(ToString::to_string),
                trouble: resources.as_ref().err().cloned(),
                resources: resources
                    .map(|names| names.into_iter().map(str::to_owned).collect())
                    .unwrap_or_default(),
                next: next.map(|at| entry(plan, at, &Skipped::new(), freeze)),
                last: last.remove(name),
            })
        };
        names.iter().filter_map(item).collect()
    };
    node.capacity.evaluate(&caller.0, items).await
}
