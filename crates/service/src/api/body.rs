//! Reading a body once it is known who sends it: so much and no more, and not for ever.

use super::ApiError;
use actix_web::web;
use std::time::Duration;

/// How long a sender may take for its body.
const WHOLE: Duration = Duration::from_secs(15);

/// The body of a request.
pub(super) async fn read(payload: web::Payload, most: usize) -> Result<web::Bytes, ApiError> {
    let reading = tokio::time::timeout(WHOLE, payload.to_bytes_limited(most)).await;
    let body = reading.map_err(|_| ApiError::Slow)?.map_err(|_| ApiError::TooLarge(most))?;
    body.map_err(|e| ApiError::BadRequest(format!("the body cannot be read: {e}")))
}
