//! Whatever the API shows goes through here: secrets and sealed links are taken out of every answer
//! in JSON, wherever they stand in it. What jobs, rules and definitions work with is not touched by
//! that.

use crate::node::Node;
use actix_web::{
    Error,
    body::{BodySize, BoxBody, MessageBody, to_bytes},
    dev::{ServiceRequest, ServiceResponse},
    http::header::CONTENT_TYPE,
    middleware::Next,
    web,
};

/// What authors wrote is shown as it is, since it is edited and published again; a token is shown
/// once, to whoever made it; descriptions hold nothing of anybody's; a runner is handed what it
/// needs for its calls.
const AS_WRITTEN: [&str; 8] = [
    "/api/v1/definitions",
    "/api/v1/publish",
    "/api/v1/library",
    "/api/v1/tokens",
    "/api/v1/runners",
    "/runner/v1/claim",
    "/api/v1/schemas",
    "/api/v1/openapi.json",
];

/// Hides what no answer may show.
pub(crate) async fn secrets(
    request: ServiceRequest,
    next: Next<impl MessageBody + 'static>,
) -> Result<ServiceResponse<BoxBody>, Error> {
    let node = request.app_data::<web::Data<Node>>().cloned();
    let as_written = AS_WRITTEN.iter().any(|path| request.path().starts_with(path));
    let response = next.call(request).await?.map_into_boxed_body();
    let is_json =
        response.headers().get(CONTENT_TYPE).and_then(|v| v.to_str().ok()).is_some_and(is_json);
    let whole = matches!(response.response().body().size(), BodySize::Sized(_));
    let Some(node) = node.filter(|_| is_json && whole && !as_written) else { return Ok(response) };
    let (request, response) = response.into_parts();
    let (response, body) = response.into_parts();
    let body = to_bytes(body).await.map_err(|_| crate::problem::ApiError::Internal)?;
    let redactor = node.published().redactor.clone();
    let shown = redactor.json(&body).map_or(body, web::Bytes::from);
    Ok(ServiceResponse::new(request, response.set_body(BoxBody::new(shown))))
}

fn is_json(kind: &str) -> bool {
    let kind = kind.split(';').next().unwrap_or_default().trim();
    kind == "application/json" || kind.ends_with("+json")
}
