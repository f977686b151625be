//! Mutes: said, listed and lifted.

use super::{ApiError, caller::Caller, query::in_range};
use crate::{clock, node::Node};
use actix_web::{HttpResponse, delete, get, post, web};
use arvok_api::{Change, MuteFilter, MuteItem, NewMute, NewlyMuted, Page, Problem};
use arvok_core::{
    Kind, Period, Role,
    definition::Others,
    mute::{LONGEST, MuteState, Muted, MutedLines},
    source::OWN,
};
use arvok_store::mutes::{self, MuteToBegin};
use chrono::{DateTime, TimeDelta, Utc};

/// Most bytes of a reason.
const MOST: usize = 400;
/// Most jobs that are named beside a mute.
const MOST_JOBS: usize = 20;
/// How late a mute may be that was to begin now by the clock of whoever says it.
const LATE: TimeDelta = TimeDelta::minutes(5);

/// Mutes that stand or come, the one that ends first first; or all, the newest first.
#[utoipa::path(operation_id = "listMutes", tag = "mutes", params(MuteFilter),
    responses((status = 200, body = Page<MuteItem>), (status = 400, body = Problem)))]
#[get("/mutes")]
pub(super) async fn list(
    node: web::Data<Node>,
    _caller: Caller,
    query: web::Query<MuteFilter>,
) -> Result<web::Json<Page<MuteItem>>, ApiError> {
    let filter = query.into_inner();
    in_range(filter.limit, [])?;
    Ok(web::Json(mutes::list(&node.pools.questions, &filter, clock::now()).await?))
}

/// One mute.
#[utoipa::path(operation_id = "showMute", tag = "mutes", params(("id" = i64, Path)),
    responses((status = 200, body = MuteItem), (status = 404, body = Problem)))]
#[get("/mutes/{id}")]
pub(super) async fn one(
    node: web::Data<Node>,
    _caller: Caller,
    id: web::Path<i64>,
) -> Result<web::Json<MuteItem>, ApiError> {
    Ok(web::Json(found(&node, *id).await?))
}

async fn found(node: &Node, id: i64) -> Result<MuteItem, ApiError> {
    let mute = mutes::one(&node.pools.questions, id, clock::now()).await?;
    mute.ok_or_else(|| ApiError::NotFound(format!("mute {id}")))
}

/// Says a mute: from its beginning until its end no rule acts by itself on what it covers. Alerts
/// are kept and alarms raised as before, with the verdict `muted`; what still stands when it is
/// over is acted on then. Jobs that there are go on.
#[utoipa::path(operation_id = "beginMute", tag = "mutes", request_body = NewMute,
    responses((status = 201, body = NewlyMuted), (status = 400, body = Problem), (status = 403,
        body = Problem), (status = 409, body = Problem)))]
#[post("/mutes")]
pub(super) async fn begin(
    node: web::Data<Node>,
    caller: Caller,
    body: web::Json<NewMute>,
) -> Result<HttpResponse, ApiError> {
    caller.must(Role::Responder)?;
    let NewMute { covers, reason, from, until, period } = body.into_inner();
    let reason = reason.trim();
    if reason.is_empty() || reason.len() > MOST {
        return Err(ApiError::BadRequest(format!("reason: say why, in {MOST} bytes at most")));
    }
    let lines: MutedLines = covers.into();
    let muted = Muted::check(&lines).map_err(|e| ApiError::BadRequest(format!("covers: {e}")))?;
    are_published(&node, &lines)?;
    let (from, until) = span(clock::now(), from, until, period.as_deref())?;
    let said = MuteToBegin { muted: &muted, reason, from, until };
    let id = mutes::begin(&node.pools.questions, said, &caller.principal()).await?;
    announce(&node).await;
    let mute = found(&node, id).await?;
    let jobs = mutes::jobs_under_way(&node.pools.questions, &muted, MOST_JOBS).await?;
    Ok(HttpResponse::Created().json(NewlyMuted { mute, jobs }))
}

/// Refuses names that nothing has which is published: whoever mistypes one would believe that it is
/// muted.
fn are_published(node: &Node, lines: &MutedLines) -> Result<(), ApiError> {
    let published = node.published();
    let others: &dyn Others = &*published.catalog;
    let named = [
        ("rules", Kind::Rule, &lines.rules),
        ("runbooks", Kind::Runbook, &lines.runbooks),
        ("sources", Kind::Source, &lines.sources),
    ];
    for (line, kind, names) in named {
        let exact = names.iter().filter(|name| !name.contains(['*', '?']));
        for name in exact.filter(|name| !(kind == Kind::Source && *name == OWN)) {
            others
                .must_have(kind, name)
                .map_err(|e| ApiError::BadRequest(format!("covers: {line}: {e}")))?;
        }
    }
    Ok(())
}

/// From when and until when a mute lasts.
fn span(
    now: DateTime<Utc>,
    from: Option<DateTime<Utc>>,
    until: Option<DateTime<Utc>>,
    period: Option<&str>,
) -> Result<(DateTime<Utc>, DateTime<Utc>), ApiError> {
    let refused = |why: String| Err(ApiError::BadRequest(why));
    in_range(None, [from, until])?;
    let from = match from {
        Some(from) if from < now - LATE => {
            return refused(format!("from: {from} is over; what was decided then stays"));
        }
        from => from.unwrap_or(now),
    };
    let until = match (until, period) {
        (Some(until), None) => until,
        (None, Some(period)) => {
            let period =
                Period::parse(period).map_err(|e| ApiError::BadRequest(format!("for: {e}")))?;
            from + period.delta().min(LONGEST + TimeDelta::days(1))
        }
        _ => return refused("say either `until` or `for`: a mute ends by itself".into()),
    };
    if until <= now {
        return refused(format!("until: {until} is over already"));
    }
    if until <= from {
        return refused(format!("until: {until} is not after {from}, when it begins"));
    }
    if until - from > LONGEST {
        return refused(format!(
            "a mute lasts {} days at most; what is never to be acted on belongs in the rules",
            LONGEST.num_days()
        ));
    }
    Ok((from, until))
}

/// Lifts a mute before its time: what still stands is acted on.
#[utoipa::path(operation_id = "liftMute", tag = "mutes", params(("id" = i64, Path)),
    responses((status = 204), (status = 403, body = Problem), (status = 404, body = Problem),
        (status = 409, body = Problem)))]
#[delete("/mutes/{id}")]
pub(super) async fn lift(
    node: web::Data<Node>,
    caller: Caller,
    id: web::Path<i64>,
) -> Result<HttpResponse, ApiError> {
    caller.must(Role::Responder)?;
    if !mutes::lift(&node.pools.questions, *id, &caller.principal()).await? {
        let mute = found(&node, *id).await?;
        let how = match (mute.state, &mute.lifted_by) {
            (MuteState::Lifted, Some(by)) => format!("was lifted by {}", by.shown()),
            _ => format!("is over since {}", mute.until),
        };
        return Err(ApiError::Conflict(format!("mute {id} {how}")));
    }
    announce(&node).await;
    node.wakeups.due.notify_one();
    Ok(HttpResponse::NoContent().finish())
}

/// Has all nodes decide by the mutes that stand now. It is said or lifted, whether or not this node
/// can load it at this moment: no batch is decided by an older generation.
async fn announce(node: &Node) {
    node.announcer.tell(Change { definitions: true, verdicts: true, ..Change::default() });
    if let Err(e) = node.reload().await {
        tracing::warn!("mutes cannot be loaded yet: {e}");
    }
}
