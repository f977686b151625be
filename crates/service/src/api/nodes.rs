//! The nodes.

use super::{ApiError, caller::Caller};
use crate::node::Node;
use actix_web::{get, web};
use arvok_api::Nodes;
use arvok_store::nodes;

/// All nodes over this database with their lag, leases and clocks, and what waits for them.
#[utoipa::path(operation_id = "listNodes", tag = "node", responses((status = 200, body = Nodes)))]
#[get("/nodes")]
pub(super) async fn list(node: web::Data<Node>, _caller: Caller) -> Result<web::Json<Nodes>, ApiError> {
    let (nodes, backlog) = (nodes::all(&node.db).await?, nodes::backlog(&node.db).await?);
    Ok(web::Json(Nodes { nodes, backlog }))
}
