//! Paths and methods that nobody serves.

use super::{ApiError, openapi};
use crate::console;
use actix_web::{HttpRequest, HttpResponse, ResponseError};
use arvok_core::text::cut;

/// Of a path that is served by other methods: which (RFC 9110, 15.5.6).
fn by_another(request: &HttpRequest) -> Option<HttpResponse> {
    let allowed = openapi::methods(request.path());
    (!allowed.is_empty()).then(|| ApiError::Method(allowed.join(", ")).error_response())
}

/// What is no path of the API.
pub(super) async fn no_such_path(request: HttpRequest) -> HttpResponse {
    by_another(&request).unwrap_or_else(|| {
        let shown = cut(request.path(), 80);
        let what =
            format!("{} {shown}; the API is described at /api/v1/openapi.json", request.method());
        ApiError::NotFound(what).error_response()
    })
}

/// What is not the API's: the console's, if it is asked for by a method that serves it.
pub(super) async fn page(request: HttpRequest) -> HttpResponse {
    match by_another(&request) {
        Some(refused) => refused,
        None => console::file(request).await,
    }
}
