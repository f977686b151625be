//! The token that a stand-in wants to see.

use actix_web::{HttpRequest, HttpResponse, http::header};
use serde_json::json;

/// The answer to a request that does not show the token.
pub(crate) fn refusal(request: &HttpRequest, token: &str) -> Option<HttpResponse> {
    let shown = request.headers().get(header::AUTHORIZATION).and_then(|v| v.to_str().ok());
    if shown.and_then(|s| s.strip_prefix("Bearer ")) == Some(token) {
        return None;
    }
    Some(
        HttpResponse::Unauthorized()
            .json(json!({"error": "a bearer token is needed, and not this one"})),
    )
}
