//! Reading a body once it is known who sends it: so much and no more, and not for ever.

use super::ApiError;
use crate::admission::Admission;
use actix_web::web;
use futures_util::StreamExt;
use std::time::Duration;

/// How long a sender may take for its body.
const WHOLE: Duration = Duration::from_secs(15);

/// The body of a delivery, each part of it charged to its sender as it comes.
pub(super) async fn read_charged(
    mut payload: web::Payload,
    most: usize,
    admission: &mut Admission,
) -> Result<web::BytesMut, ApiError> {
    let reading = async {
        let mut body = web::BytesMut::new();
        while let Some(part) = payload.next().await {
            let part =
                part.map_err(|e| ApiError::BadRequest(format!("the body cannot be read: {e}")))?;
            if body.len() + part.len() > most {
                return Err(ApiError::TooLarge(most));
            }
            if !admission.charge(part.len()) {
                return Err(ApiError::Busy);
            }
            body.extend_from_slice(&part);
        }
        Ok(body)
    };
    tokio::time::timeout(WHOLE, reading).await.map_err(|_| ApiError::Slow)?
}

/// The body of a request.
pub(super) async fn read(payload: web::Payload, most: usize) -> Result<web::Bytes, ApiError> {
    let reading = tokio::time::timeout(WHOLE, payload.to_bytes_limited(most)).await;
    let body = reading.map_err(|_| ApiError::Slow)?.map_err(|_| ApiError::TooLarge(most))?;
    body.map_err(|e| ApiError::BadRequest(format!("the body cannot be read: {e}")))
}
