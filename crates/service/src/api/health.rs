//! Whether the node lives, whether it can work, and its numbers.

use super::ApiError;
use crate::node::Node;
use actix_web::{HttpResponse, get, web};
use arvok_api::Problem;
use arvok_store::access;

/// Answers as long as the process lives.
#[utoipa::path(operation_id = "alive", tag = "node", responses((status = 200, body = String)))]
#[get("/healthz")]
pub(super) async fn alive() -> &'static str {
    "alive\n"
}

/// Answers 200 when the database can be reached.
#[utoipa::path(operation_id = "ready", tag = "node", responses((status = 200, body = String), (status = 503, body = Problem)))]
#[get("/readyz")]
pub(super) async fn ready(node: web::Data<Node>) -> Result<&'static str, ApiError> {
    access::any_token(&node.db).await?;
    Ok("ready\n")
}

/// The node's numbers in the OpenMetrics text format.
#[utoipa::path(operation_id = "metrics", tag = "node", responses((status = 200, body = String)))]
#[get("/metrics")]
pub(super) async fn metrics(node: web::Data<Node>) -> HttpResponse {
    HttpResponse::Ok()
        .content_type("application/openmetrics-text; version=1.0.0; charset=utf-8")
        .body(node.metrics.text())
}
