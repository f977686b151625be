//! The access log: a line for each request, where the settings ask for it. Never a query, a body,
//! or the link in a path.

use crate::node::Node;
use actix_web::{
    Error, HttpMessage,
    body::MessageBody,
    dev::{ServiceRequest, ServiceResponse},
    middleware::Next,
    web,
};
use arvok_api::Who;
use arvok_core::text::cut;
use std::time::Instant;

/// Longest path that is logged whole.
const LONGEST: usize = 200;

/// Logs what was asked, by whom, and how that went.
pub(crate) async fn access_log(
    request: ServiceRequest,
    next: Next<impl MessageBody>,
) -> Result<ServiceResponse<impl MessageBody>, Error> {
    if !request.app_data::<web::Data<Node>>().is_some_and(|node| node.access_log) {
        return next.call(request).await;
    }
    let begun = Instant::now();
    let method = request.method().clone();
    let (path, pattern) = (cut(request.path(), LONGEST).to_owned(), request.match_pattern());
    let path = pattern.filter(|pattern| pattern.contains("{link}")).unwrap_or(path);
    let from = request.peer_addr().map(|address| address.ip().to_string()).unwrap_or_default();
    let answered = next.call(request).await;
    let (status, by) = match &answered {
        Ok(response) => {
            let by = response.request().extensions().get::<Who>().map(|who| who.name.clone());
            (response.status().as_u16(), by)
        }
        Err(e) => (e.as_response_error().status_code().as_u16(), None),
    };
    let ms = u64::try_from(begun.elapsed().as_millis()).unwrap_or(u64::MAX);
    tracing::info!(target: "access", %method, path, status, ms, by = by.unwrap_or_default(), from,
        "asked");
    answered
}
