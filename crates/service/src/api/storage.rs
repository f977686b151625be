//! What is stored.

use super::{ApiError, caller::Caller};
use crate::{clock, node::Node};
use actix_web::{get, web};
use arvok_api::Storage;
use arvok_store::days;

/// How much is stored, of which kind and of which day, and how long it is kept.
#[utoipa::path(operation_id = "getStorage", tag = "node", responses((status = 200, body = Storage)))]
#[get("/storage")]
pub(super) async fn show(node: web::Data<Node>, _caller: Caller) -> Result<web::Json<Storage>, ApiError> {
    Ok(web::Json(days::storage(&node.db, &node.retention, clock::now()).await?))
}
