//! What is stored, and how long it is kept.

use super::{ApiError, caller::Caller};
use crate::{clock, config::too_short, node::Node};
use actix_web::{get, put, web};
use arvok_api::{KeepRequest, Problem, RetentionChange, Storage};
use arvok_core::{Period, Role, document::check_name};
use arvok_store::{
    days,
    retention::{self, Change, RecordKind},
};
use chrono::TimeDelta;

/// Most sources that have a time of their own.
const MOST_SOURCES: usize = 500;

/// How much is stored, of which kind and of which day, and how long it is kept.
#[utoipa::path(
    operation_id = "getStorage", tag = "node", responses((status = 200, body = Storage))
)]
#[get("/storage")]
pub(super) async fn show(
    node: web::Data<Node>,
    _caller: Caller,
) -> Result<web::Json<Storage>, ApiError> {
    let retention = retention::now(&node.pools.questions).await?;
    Ok(web::Json(days::storage(&node.pools.questions, &retention, clock::now()).await?))
}

/// Changes how long things are kept, for all nodes; or, as a dry run, only tells what would change
/// and go.
#[utoipa::path(operation_id = "keepFor", tag = "node", request_body = KeepRequest,
    responses((status = 200, body = RetentionChange), (status = 400, body = Problem), (status = 403,
        body = Problem)))]
#[put("/storage/retention")]
pub(super) async fn keep(
    node: web::Data<Node>,
    caller: Caller,
    body: web::Json<KeepRequest>,
) -> Result<web::Json<RetentionChange>, ApiError> {
    caller.must(Role::Admin)?;
    let change = wanted(&body)?;
    let before = retention::now(&node.pools.questions).await?;
    let after = before.clone().with(&change);
    if after.sources.len() > MOST_SOURCES {
        return Err(ApiError::BadRequest(format!(
            "sources: more than {MOST_SOURCES} have a time of their own"
        )));
    }
    let goes = arvok_store::goes(&node.pools.questions, &after, clock::now()).await?;
    let after = match body.dry_run {
        true => after,
        false => retention::change(&node.pools.questions, &change, &caller.principal()).await?,
    };
    Ok(web::Json(RetentionChange { before: before.times(), after: after.times(), goes }))
}

/// A change as it was asked for.
fn wanted(request: &KeepRequest) -> Result<Change, ApiError> {
    let time = |name: &str, text: &str| -> Result<TimeDelta, ApiError> {
        Period::parse(text)
            .map(Period::delta)
            .map_err(|e| ApiError::BadRequest(format!("{name}: {e}")))
    };
    let mut change = Change::default();
    let named = [
        (RecordKind::Alerts, &request.alerts),
        (RecordKind::Unreadable, &request.unreadable),
        (RecordKind::Attempts, &request.attempts),
    ];
    for (what, text) in named {
        if let Some(text) = text {
            change.all.insert(what, time(what.as_str(), text)?);
        }
    }
    for (source, text) in &request.sources {
        check_name(source).map_err(|e| ApiError::BadRequest(format!("sources: {e}")))?;
        let kept =
            text.as_deref().map(|text| time(&format!("sources.{source}"), text)).transpose()?;
        change.sources.insert(source.clone(), kept);
    }
    if change == Change::default() {
        return Err(ApiError::BadRequest(
            "nothing is to change: name alerts, sources, unreadable or attempts".into(),
        ));
    }
    too_short(&change).map_or(Ok(change), |short| Err(ApiError::BadRequest(short)))
}
