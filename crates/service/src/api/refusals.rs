//! What was refused to whom is recorded.

use crate::node::Node;
use actix_web::{HttpRequest, web};
use arvok_core::Principal;
use arvok_store::audit;

/// Where a request comes from, as far as that can be told.
pub(super) fn from(request: &HttpRequest) -> String {
    request.peer_addr().map_or_else(|| "unknown".to_owned(), |peer| peer.ip().to_string())
}

/// Notes that a sign-in or a token was refused; whoever is refused does not wait for it, and nobody
/// is refused for it.
pub(super) fn refused(
    node: &web::Data<Node>,
    request: &HttpRequest,
    act: &'static str,
    what: &str,
) {
    let (node, from, what) = (node.clone(), from(request), what.to_owned());
    // Of a flood of guesses what does not find a place to wait is only in the metrics of the door.
    let Ok(place) = std::sync::Arc::clone(&node.capacity.refusals).try_acquire_owned() else {
        return;
    };
    actix_web::rt::spawn(async move {
        // One after the other, so that whoever guesses keeps no connection from anybody else.
        let _turn = node.capacity.recorded_refusal.acquire().await;
        if let Err(e) =
            audit::refused(&node.pools.questions, &Principal::stranger(&from), act, &what).await
        {
            tracing::warn!("a refusal is not recorded: {e}");
        }
        drop(place);
    });
}
