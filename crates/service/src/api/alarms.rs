//! Alarms.

use super::{ApiError, caller::Caller, query::in_range};
use crate::{
    clock,
    intake::{NotCleared, clear_alarm},
    node::Node,
};
use actix_web::{HttpResponse, get, post, web};
use arvok_api::{
    AlarmDetail, AlarmFilter, AlarmItem, Change, MAX_PAGE, MuteFilter, MuteItem, NewAlarmAct, Page,
    Problem,
};
use arvok_core::{
    AlarmId, AlertState, Role,
    alarm::AlarmAct,
    mute::{Muted, MutedSubject},
    rule::Rule,
    source::{OWN, Source},
};
use arvok_store::{alarm_acts, jobs, mutes, read};
use std::collections::{BTreeMap, BTreeSet};

/// Alarms, newest first.
#[utoipa::path(
    operation_id = "listAlarms", tag = "alarms", params(AlarmFilter),
    responses((status = 200, body = Page<AlarmItem>), (status = 400, body = Problem))
)]
#[get("/alarms")]
pub(super) async fn list(
    node: web::Data<Node>,
    _caller: Caller,
    query: web::Query<AlarmFilter>,
) -> Result<web::Json<Page<AlarmItem>>, ApiError> {
    let filter = query.into_inner();
    if filter.state == Some(AlertState::Noted) {
        return Err(ApiError::BadRequest(
            "`noted` is no state of an alarm: it is one of raised, cleared".into(),
        ));
    }
    in_range(filter.limit, [filter.since, filter.until])?;
    Ok(web::Json(read::alarms(&node.pools.questions, filter).await?))
}

/// One alarm with its newest alerts and jobs.
#[utoipa::path(
    operation_id = "showAlarm", tag = "alarms", params(("id" = i64, Path)),
    responses((status = 200, body = AlarmDetail), (status = 404, body = Problem))
)]
#[get("/alarms/{id}")]
pub(super) async fn one(
    node: web::Data<Node>,
    _caller: Caller,
    id: web::Path<i64>,
) -> Result<web::Json<AlarmDetail>, ApiError> {
    let mut found = read::alarm(&node.pools.questions, *id)
        .await?
        .ok_or_else(|| ApiError::NotFound(format!("alarm {id}")))?;
    super::job_steps::set_doing(&mut found.jobs, &[]);
    found.mutes = mutes_of(&node, &found).await?;
    Ok(web::Json(found))
}

/// Most bytes of what is said of an alarm.
const MOST: usize = 2_000;

/// Keeps what a person does about an alarm. To clear one by hand is an alert of its source that
/// clears it, so that all follows which follows any clearing; its source may raise it anew.
#[utoipa::path(
    operation_id = "actOnAlarm", tag = "alarms", params(("id" = i64, Path)),
    request_body = NewAlarmAct,
    responses((status = 204), (status = 400, body = Problem), (status = 403, body = Problem),
        (status = 404, body = Problem), (status = 409, body = Problem))
)]
#[post("/alarms/{id}/acts")]
pub(super) async fn act(
    node: web::Data<Node>,
    caller: Caller,
    id: web::Path<i64>,
    body: web::Json<NewAlarmAct>,
) -> Result<HttpResponse, ApiError> {
    caller.must(Role::Responder)?;
    let NewAlarmAct { act, text } = body.into_inner();
    let text = text.trim();
    if text.len() > MOST || (text.is_empty() && act != AlarmAct::Acknowledged) {
        return Err(ApiError::BadRequest(format!("text: say it, in {MOST} bytes at most")));
    }
    let unknown = || ApiError::NotFound(format!("alarm {id}"));
    let by = caller.principal();
    if act == AlarmAct::Cleared {
        let alarm =
            jobs::alarm_of(&node.pools.questions, AlarmId(*id)).await?.ok_or_else(unknown)?;
        if !alarm.raised {
            return Err(ApiError::Conflict(format!("alarm {id} does not stand")));
        }
        let found = read::alarm(&node.pools.questions, *id).await?.ok_or_else(unknown)?;
        if found.alarm.source == OWN {
            return Err(ApiError::Conflict(
                "it tells of this installation, and ends when that is so no more".into(),
            ));
        }
        let labels = found.alerts.first().map(|alert| alert.labels.clone()).unwrap_or_default();
        let summary = format!("cleared by {}: {text}", by.shown());
        clear_alarm(&node, &found.alarm, labels, alarm.last_sent_at, &summary).await.map_err(
            |e| match e {
                NotCleared::Impossible(e) => {
                    ApiError::Conflict(format!("it cannot be cleared: {e}"))
                }
                NotCleared::Busy => ApiError::Busy,
            },
        )?;
    }
    let published = node.published();
    let sent_to = published.catalog.all::<Source>().filter(|(source, _)| {
        source.write_back.as_ref().is_some_and(|back| back.call(act).is_some())
    });
    let sent_to = sent_to.map(|(source, _)| source.name.clone()).collect();
    if !alarm_acts::add(&node.pools.questions, *id, (&by, act, text), sent_to).await? {
        return Err(unknown());
    }
    node.wakeups.write_back.notify_one();
    node.announcer.tell(Change { alarms: vec![*id], ..Change::default() });
    Ok(HttpResponse::NoContent().finish())
}

/// Mutes that cover an alarm or will, for all rules or for one of those that its newest alerts
/// concern.
async fn mutes_of(node: &Node, found: &AlarmDetail) -> Result<Vec<MuteItem>, ApiError> {
    let none = BTreeMap::new();
    let subject = MutedSubject {
        source: &found.alarm.source,
        kind: &found.alarm.kind,
        severity: found.alarm.severity,
        resource: &found.alarm.resource,
        labels: found.alerts.first().map_or(&none, |alert| &alert.labels),
    };
    let filter = MuteFilter { limit: Some(MAX_PAGE), ..MuteFilter::default() };
    let mut open = mutes::list(&node.pools.questions, &filter, clock::now()).await?.items;
    let published = node.published();
    let verdicts = found.alerts.iter().flat_map(|alert| &alert.verdicts);
    let rules: BTreeSet<&str> = verdicts.map(|verdict| verdict.rule.as_str()).collect();
    let rules: Vec<&Rule> =
        rules.into_iter().filter_map(|name| Some(published.catalog.get::<Rule>(name)?.0)).collect();
    open.retain(|mute| {
        let Ok(muted) = Muted::check(&mute.covers.clone().into()) else { return false };
        let concerns = |rule: &&Rule| {
            let runbooks = rule.dispatch.iter().map(|entry| entry.runbook.as_str());
            muted.covers(&rule.name, runbooks, Some(subject))
        };
        muted.covers_for_all(&subject) || rules.iter().any(concerns)
    });
    Ok(open)
}
