//! Which machines a connection trusts: the key that one shows now, and an admin's word that it is
//! the right one.

use super::{ApiError, caller::Caller, connections::published_connection};
use crate::{calls, node::Node};
use actix_web::{HttpResponse, delete, post, put, web};
use arvok_api::{Change, HostKeyItem, HostKeyState, Machine, Problem, TrustKey};
use arvok_connect::HostKey;
use arvok_core::{Role, connector::Connection, text::cut};
use arvok_store::{
    changes,
    host_keys::{self, NewTrust},
};

/// Asks a machine for its key; nothing else is said to it.
async fn shown(
    node: &Node,
    connection: &Connection,
    host: Option<&str>,
) -> Result<HostKeyItem, ApiError> {
    if !connection.host_keys.is_empty() {
        let why = "its document lists `host_keys`, and no others are trusted; change them there";
        return Err(ApiError::BadRequest(format!("connection `{}`: {why}", connection.name)));
    }
    let published = node.published();
    let shown = calls::host_key(node, &published, connection, host).await;
    let HostKey { machine, algorithm, fingerprint } =
        shown.map_err(|failure| ApiError::BadRequest(failure.message))?;
    let trusted = published.host_keys.get(&connection.name).and_then(|keys| keys.get(&machine));
    let state = match trusted {
        None => HostKeyState::New,
        Some(trusted) if *trusted == fingerprint => HostKeyState::Trusted,
        Some(_) => HostKeyState::Changed,
    };
    Ok(HostKeyItem { machine, algorithm, fingerprint, state, trusted: trusted.cloned() })
}

/// The key that a machine shows now, and whether it is the trusted one.
#[utoipa::path(operation_id = "lookAtHostKey", tag = "connections", params(("name" = String,
    Path)), request_body = Machine,
    responses((status = 200, body = HostKeyItem), (status = 400, body = Problem), (status = 404,
        body = Problem)))]
#[post("/connections/{name}/host-key")]
pub(super) async fn look(
    node: web::Data<Node>,
    caller: Caller,
    name: web::Path<String>,
    body: web::Json<Machine>,
) -> Result<web::Json<HostKeyItem>, ApiError> {
    caller.must(Role::Admin)?;
    let published = node.published();
    let connection = published_connection(&published, &name)?;
    Ok(web::Json(shown(&node, connection, body.host.as_deref()).await?))
}

/// Trusts the key that a machine shows, if it is still the one that was looked at.
#[utoipa::path(operation_id = "trustHostKey", tag = "connections", params(("name" = String,
    Path)), request_body = TrustKey,
    responses((status = 200, body = HostKeyItem), (status = 400, body = Problem), (status = 404,
        body = Problem), (status = 409, body = Problem)))]
#[put("/connections/{name}/host-key")]
pub(super) async fn trust(
    node: web::Data<Node>,
    caller: Caller,
    name: web::Path<String>,
    body: web::Json<TrustKey>,
) -> Result<web::Json<HostKeyItem>, ApiError> {
    caller.must(Role::Admin)?;
    let published = node.published();
    let connection = published_connection(&published, &name)?;
    let item = shown(&node, connection, body.host.as_deref()).await?;
    if item.fingerprint != body.fingerprint {
        return Err(ApiError::Conflict(format!(
            "{} shows {}, and not {}; nothing was trusted",
            item.machine,
            item.fingerprint,
            cut(&body.fingerprint, 80)
        )));
    }
    let key = NewTrust {
        connection: &connection.name,
        machine: &item.machine,
        algorithm: &item.algorithm,
        fingerprint: &item.fingerprint,
    };
    host_keys::trust(&node.pools.questions, key, &caller.principal()).await?;
    announce(&node).await?;
    let trusted = Some(item.fingerprint.clone());
    Ok(web::Json(HostKeyItem { state: HostKeyState::Trusted, trusted, ..item }))
}

/// Trusts the key of a machine no more.
#[utoipa::path(operation_id = "forgetHostKey", tag = "connections",
    params(("name" = String, Path), ("machine" = String, Path)),
    responses((status = 204), (status = 404, body = Problem)))]
#[delete("/connections/{name}/host-keys/{machine}")]
pub(super) async fn forget(
    node: web::Data<Node>,
    caller: Caller,
    path: web::Path<(String, String)>,
) -> Result<HttpResponse, ApiError> {
    caller.must(Role::Admin)?;
    let (name, machine) = path.into_inner();
    if !host_keys::forget(&node.pools.questions, (&name, &machine), &caller.principal()).await? {
        let what =
            format!("trusted key of `{}` in connection `{}`", cut(&machine, 80), cut(&name, 64));
        return Err(ApiError::NotFound(what));
    }
    announce(&node).await?;
    Ok(HttpResponse::NoContent().finish())
}

/// Has all nodes look at what is trusted now.
async fn announce(node: &Node) -> Result<(), ApiError> {
    changes::announce(&node.pools.questions, Change { definitions: true, ..Change::default() })
        .await?;
    node.reload().await?;
    Ok(())
}
