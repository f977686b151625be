//! The nodes.

use super::{ApiError, caller::Caller};
use crate::node::Node;
use actix_web::{HttpResponse, delete, get, web};
use arvok_api::{Nodes, Problem};
use arvok_core::Role;
use arvok_store::{
    audit,
    nodes::{self, Forgotten},
};

/// All nodes over this database with their lag, leases and clocks, and what waits for them.
#[utoipa::path(operation_id = "listNodes", tag = "node", responses((status = 200, body = Nodes)))]
#[get("/nodes")]
pub(super) async fn list(
    node: web::Data<Node>,
    _caller: Caller,
) -> Result<web::Json<Nodes>, ApiError> {
    let (nodes, backlog) =
        (nodes::all(&node.pools.questions).await?, nodes::backlog(&node.pools.questions).await?);
    Ok(web::Json(Nodes { nodes, backlog }))
}

/// Forgets a node that is gone and will not come back: nobody misses it any more. One that is heard
/// of is not forgotten.
#[utoipa::path(operation_id = "forgetNode", tag = "node", params(("name" = String, Path)),
    responses((status = 204), (status = 404, body = Problem), (status = 409, body = Problem)))]
#[delete("/nodes/{name}")]
pub(super) async fn forget(
    node: web::Data<Node>,
    caller: Caller,
    name: web::Path<String>,
) -> Result<HttpResponse, ApiError> {
    caller.must(Role::Admin)?;
    match nodes::forget(&node.pools.questions, &name).await? {
        Forgotten::Unknown => Err(ApiError::NotFound(format!("node {name}"))),
        Forgotten::Alive => {
            Err(ApiError::Conflict(format!("node {name} was heard of within the last 30 s")))
        }
        Forgotten::Gone => {
            audit::record(&node.pools.questions, &caller.principal(), "node.forgotten", &name, "")
                .await?;
            Ok(HttpResponse::NoContent().finish())
        }
    }
}
