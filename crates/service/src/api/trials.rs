//! Trials: made up, and cleared away.

use super::{ApiError, caller::Caller, definitions::unknown};
use crate::{
    intake::{ReceivedMessage, accept},
    node::Node,
};
use actix_web::{HttpResponse, delete, post, web};
use arvok_api::{Change, ClearedTrials, DeliveryAnswer, NewTrial, Problem};
use arvok_core::{Kind, Role, Trial, source::Source};
use arvok_store::trials;

/// Makes an alert of a source up: in the normal form, or as its sender would send it. It is marked
/// wherever it is seen, is counted nowhere, and nothing that changes anything leaves for it; with
/// the role author it may be one whose jobs act.
#[utoipa::path(operation_id = "makeTrial", tag = "alerts", request_body = NewTrial,
    responses((status = 202, body = DeliveryAnswer), (status = 400, body = Problem),
        (status = 403, body = Problem), (status = 404, body = Problem),
        (status = 422, body = Problem), (status = 429, body = Problem),
        (status = 503, body = Problem)))]
#[post("/trials")]
pub(super) async fn make(
    node: web::Data<Node>,
    caller: Caller,
    body: web::Json<NewTrial>,
) -> Result<HttpResponse, ApiError> {
    let NewTrial { source: name, alert, payload, acting } = body.into_inner();
    let (needed, trial) =
        if acting { (Role::Author, Trial::Acting) } else { (Role::Responder, Trial::Dry) };
    caller.must(needed)?;
    let (raw, normal) = match (alert, payload) {
        (Some(alert), None) => (alert.to_string(), true),
        (None, Some(payload)) => (payload.to_string(), false),
        _ => {
            return Err(ApiError::BadRequest(
                "give an `alert` in the normal form, or a `payload` as its sender would send it"
                    .into(),
            ));
        }
    };
    let published = node.published();
    let (source, _) = published
        .catalog
        .get::<Source>(&name)
        .ok_or_else(|| unknown(&published, Kind::Source, &name))?;
    let admission = node.admission.admit(&name, raw.len()).ok_or(ApiError::Busy)?;
    let message = ReceivedMessage {
        raw: raw.as_bytes(),
        properties: serde_json::Map::new(),
        normal,
        key: None,
        trial: Some(trial),
    };
    let taken = accept(&node, &published, source, message, admission).await?;
    Ok(HttpResponse::Accepted().json(taken))
}

/// Removes what was made up: the alerts, alarms, proposals and ended jobs of trials, and what rules
/// remember of them. What is real stays as it is.
#[utoipa::path(operation_id = "clearTrials", tag = "alerts",
    responses((status = 200, body = ClearedTrials), (status = 403, body = Problem)))]
#[delete("/trials")]
pub(super) async fn clear(
    node: web::Data<Node>,
    caller: Caller,
) -> Result<web::Json<ClearedTrials>, ApiError> {
    caller.must(Role::Responder)?;
    let cleared = trials::clear(&node.pools.questions, &caller.principal()).await?;
    node.announcer.tell(Change { reset: true, ..Change::default() });
    Ok(web::Json(cleared))
}
