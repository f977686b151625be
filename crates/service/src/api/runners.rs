//! The runners: which are known, and what was last heard of them.

use super::{ApiError, caller::Caller};
use crate::{node::Node, random::secret_text};
use actix_web::{HttpResponse, delete, get, post, web};
use arvok_api::{NewRunner, Problem, RunnerItem, RunnerMade};
use arvok_core::{Labels, Role, connector::Connection, document::check_name};
use arvok_store::runners::{self as store, KnownRunner};

/// All runners by name, with what each said last of itself and the connections that it serves.
#[utoipa::path(operation_id = "listRunners", tag = "runner",
    responses((status = 200, body = [RunnerItem])))]
#[get("/runners")]
pub(super) async fn list(
    node: web::Data<Node>,
    _caller: Caller,
) -> Result<web::Json<Vec<RunnerItem>>, ApiError> {
    let published = node.published();
    let mut runners = store::all(&node.pools.questions).await?;
    for runner in &mut runners {
        let labels = Labels(runner.serves.clone().unwrap_or_else(|| runner.labels.clone()));
        let through = published.catalog.all::<Connection>().filter(|(connection, _)| {
            connection.through.as_ref().is_some_and(|through| labels.cover(through))
        });
        runner.connections = through.map(|(connection, _)| connection.name.clone()).collect();
    }
    Ok(web::Json(runners))
}

/// Makes a runner known; its token is shown this once.
#[utoipa::path(operation_id = "addRunner", tag = "runner", request_body = NewRunner,
    responses((status = 201, body = RunnerMade), (status = 400, body = Problem),
        (status = 409, body = Problem)))]
#[post("/runners")]
pub(super) async fn add(
    node: web::Data<Node>,
    caller: Caller,
    body: web::Json<NewRunner>,
) -> Result<HttpResponse, ApiError> {
    caller.must(Role::Admin)?;
    let NewRunner { name, labels } = body.into_inner();
    check_name(&name).map_err(|e| ApiError::BadRequest(e.to_string()))?;
    let labels = Labels(labels);
    labels.check().map_err(|e| ApiError::BadRequest(format!("labels: {e}")))?;
    let token = secret_text("arvok_");
    let runner = KnownRunner { name, labels };
    store::add(&node.pools.questions, &runner, &token, &caller.principal()).await?;
    let KnownRunner { name, labels } = runner;
    Ok(HttpResponse::Created().json(RunnerMade { name, labels: labels.0, token }))
}

/// Knows a runner no more: its token is worth nothing, and what it makes at the moment is lost with
/// it.
#[utoipa::path(operation_id = "removeRunner", tag = "runner", params(("name" = String, Path)),
    responses((status = 204), (status = 404, body = Problem)))]
#[delete("/runners/{name}")]
pub(super) async fn remove(
    node: web::Data<Node>,
    caller: Caller,
    name: web::Path<String>,
) -> Result<HttpResponse, ApiError> {
    caller.must(Role::Admin)?;
    match store::remove(&node.pools.questions, &name, &caller.principal()).await? {
        true => Ok(HttpResponse::NoContent().finish()),
        false => Err(ApiError::NotFound(format!("runner `{}`", arvok_core::text::cut(&name, 64)))),
    }
}
