//! Alarms.

use super::{ApiError, caller::Caller, query::in_range};
use crate::{clock, node::Node};
use actix_web::{get, web};
use arvok_api::{
    AlarmDetail, AlarmFilter, AlarmItem, MAX_PAGE, MuteFilter, MuteItem, Page, Problem,
};
use arvok_core::{
    AlertState,
    mute::{Muted, MutedSubject},
    rule::Rule,
};
use arvok_store::{mutes, read};
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
    super::job_steps::set_doing(&mut found.jobs);
    found.mutes = mutes_of(&node, &found).await?;
    Ok(web::Json(found))
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
