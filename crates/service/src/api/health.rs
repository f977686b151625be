//! Whether the node lives, whether it can work, and its numbers.

use super::ApiError;
use crate::{clock, log, metrics::PoolLabel, node::Node};
use actix_web::{HttpResponse, get, web};
use arvok_api::Problem;
use chrono::TimeDelta;

/// Answers as long as the process lives.
#[utoipa::path(operation_id = "alive", tag = "node", responses((status = 200, body = String)))]
#[get("/healthz")]
pub(super) async fn alive() -> &'static str {
    "alive\n"
}

/// How far the node's own clock may be from the database's.
const MOST_OFFSET: TimeDelta = TimeDelta::seconds(30);

/// Answers 200 when the node does its work: it has committed of late, its background tasks are
/// alive, all that is published can be compiled, and the clock is not too far off. Else it says
/// what is wrong. It asks nobody, and so answers at once.
#[utoipa::path(
    operation_id = "ready", tag = "node",
    responses((status = 200, body = String), (status = 503, body = Problem))
)]
#[get("/readyz")]
pub(super) async fn ready(node: web::Data<Node>) -> Result<&'static str, ApiError> {
    node.vitals
        .fault()
        .or_else(|| fault(&node))
        .map_or(Ok("ready\n"), |fault| Err(ApiError::NotReady(fault)))
}

/// Why a node that reaches its database is not ready all the same.
pub(crate) fn fault(node: &Node) -> Option<String> {
    if let Some(fault) = &node.calls.key_fault {
        return Some(fault.clone());
    }
    let published = node.published();
    if let Some(faulty) = published.faulty.first() {
        let more = published.faulty.len() - 1;
        let more = if more > 0 { format!(" and {more} more") } else { String::new() };
        return Some(format!(
            "{faulty}{more} cannot be compiled by this node; what was before stays"
        ));
    }
    let off = clock::offset();
    (off.abs() > MOST_OFFSET).then(|| {
        format!(
            "this node's clock is {:.1} s off the database's; set it right",
            off.as_seconds_f64()
        )
    })
}

/// The node's numbers in the OpenMetrics text format.
#[utoipa::path(
    operation_id = "metrics", tag = "node",
    responses((status = 200, body = String, content_type = "application/openmetrics-text"))
)]
#[get("/metrics")]
pub(super) async fn metrics(node: web::Data<Node>) -> HttpResponse {
    // What stands still is shown as it is now, also when nobody sets it any more.
    node.metrics.own.commit_age.set(node.vitals.age_of_commit().as_secs_f64());
    node.metrics.own.database_up.set(i64::from(node.vitals.is_fresh()));
    node.metrics.intake.oldest_delivery.set(node.admission.oldest().as_secs_f64());
    node.metrics.own.log_lines_lost.set(i64::try_from(log::lost()).unwrap_or(i64::MAX));
    for (pool, db) in [
        ("work", &node.pools.work),
        ("door", &node.pools.door),
        ("questions", &node.pools.questions),
        ("replay", &node.pools.replay),
    ] {
        let opened = arvok_store::connections(db);
        for (state, number) in [("idle", opened.idle), ("used", opened.used), ("most", opened.most)]
        {
            node.metrics.own.connections.get_or_create(&PoolLabel { pool, state }).set(number);
        }
    }
    HttpResponse::Ok()
        .content_type("application/openmetrics-text; version=1.0.0; charset=utf-8")
        .body(node.metrics.text())
}
