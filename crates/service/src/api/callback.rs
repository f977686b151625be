//! The door at which other sides call back: each address is that of one try of one step, and needs
//! no token.

use super::{ApiError, body};
use crate::{
    calls::{CallBack, answer},
    clock,
    node::Node,
};
use actix_web::{HttpRequest, HttpResponse, post, web};
use arvok_api::Problem;
use arvok_connect::unsigned;
use arvok_core::{
    bounds::too_deep,
    text::{clean_json, cut},
};
use serde_json::{Map, Value, json};

/// Largest body of a call back, in bytes.
const MOST: usize = 256 << 10;
/// Longest value of a header that is told.
const LONGEST_HEADER: usize = 1_000;
/// Headers that are kept from expressions and records.
const HIDDEN: [&str; 3] = ["authorization", "cookie", "proxy-authorization"];

/// The other side of a call says what came of it, at the address that it was given with the
/// request; once. Any body is taken, JSON or not.
#[utoipa::path(operation_id = "callBack", tag = "jobs", params(("link" = String, Path)),
    request_body = Object,
    responses((status = 202, body = String, content_type = "text/plain"), (status = 404,
        body = Problem),
        (status = 401, body = Problem), (status = 409, body = Problem), (status = 413,
            body = Problem)))]
#[post("/callback/{link}")]
pub(super) async fn receive(
    node: web::Data<Node>,
    link: web::Path<String>,
    request: HttpRequest,
    payload: web::Payload,
) -> Result<HttpResponse, ApiError> {
    let missing = || {
        ApiError::NotFound("a call behind this address: it is cut short, or none of ours".into())
    };
    let back = CallBack::open(&node, &link).ok_or_else(missing)?;
    let raw = body::read(payload, MOST).await?;
    if let Some(signed) = back.signed(&node) {
        let header = |name: &str| request.headers().get(name)?.to_str().ok().map(str::to_owned);
        if let Some(why) =
            unsigned(&signed, &back.key(&node), clock::now().timestamp(), header, &raw)
        {
            return Err(ApiError::Unsigned(why));
        }
    }
    let told = match serde_json::from_slice::<Value>(&raw) {
        Ok(json) if !too_deep(&json) => json,
        _ if raw.is_empty() => Value::Null,
        _ => Value::String(String::from_utf8_lossy(&raw).into_owned()),
    };
    let shown = request.headers().iter().filter(|(name, _)| !HIDDEN.contains(&name.as_str()));
    let header = |(name, value): (
        &actix_web::http::header::HeaderName,
        &actix_web::http::header::HeaderValue,
    )| {
        Some((name.to_string(), Value::from(cut(value.to_str().ok()?, LONGEST_HEADER))))
    };
    let headers: Map<String, Value> = shown.filter_map(header).collect();
    let called = json!({ "headers": headers, "body": clean_json(told) });
    if !answer(&node, &back, called).await? {
        return Err(ApiError::Conflict(
            "nobody waits for this any more: it was answered, or the job is over".into(),
        ));
    }
    tracing::info!(job = back.of.job.0, step = %back.of.place, "a call was called back");
    Ok(HttpResponse::Accepted().content_type("text/plain; charset=utf-8").body("Taken.\n"))
}
