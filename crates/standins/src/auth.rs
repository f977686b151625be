//! The token that a stand-in wants to see.

use actix_web::{HttpRequest, HttpResponse, http::header};
use serde_json::json;

/// Whether the request shows the token, or the answer it gets if not.
pub(crate) fn check(request: &HttpRequest, token: &str) -> Result<(), HttpResponse> {
    let shown = request.headers().get(header::AUTHORIZATION).and_then(|v| v.to_str().ok());
    if shown.and_then(|s| s.strip_prefix("Bearer ")) == Some(token) {
        return Ok(());
    }
    Err(HttpResponse::Unauthorized().json(json!({"error": "a bearer token is needed, and not this one"})))
}
