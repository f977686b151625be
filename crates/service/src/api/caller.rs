//! Who is asking: a bearer token, or the console's cookie.

use super::ApiError;
use crate::{clock, node::Node};
use actix_web::{FromRequest, HttpRequest, dev::Payload, http::Method, http::header, web};
use arvok_api::{Role, Who};
use arvok_store::access;
use std::{future::Future, pin::Pin};

/// The cookie of the console. The prefix makes browsers insist on its being secure and bound to
/// this very host.
pub(super) const COOKIE: &str = "__Host-arvok";

/// A caller who is known.
pub(super) struct Caller(pub Who);

impl Caller {
    /// Insists on a role.
    pub fn must(&self, needed: Role) -> Result<(), ApiError> {
        if self.0.role >= needed { Ok(()) } else { Err(ApiError::role(needed, self.0.role)) }
    }
}

/// The text behind `Authorization: Bearer`.
pub(super) fn bearer(request: &HttpRequest) -> Option<&str> {
    let value = request.headers().get(header::AUTHORIZATION)?.to_str().ok()?;
    let (scheme, token) = value.split_once(' ')?;
    scheme.eq_ignore_ascii_case("bearer").then(|| token.trim())
}

impl FromRequest for Caller {
    type Error = ApiError;
    type Future = Pin<Box<dyn Future<Output = Result<Self, ApiError>>>>;

    fn from_request(request: &HttpRequest, _: &mut Payload) -> Self::Future {
        let request = request.clone();
        Box::pin(async move {
            let node = request.app_data::<web::Data<Node>>().ok_or(ApiError::Internal)?;
            if let Some(token) = bearer(&request) {
                let known = access::by_token(&node.db, token).await?;
                return known.map(|(_, who)| Self(who)).ok_or(ApiError::BadToken);
            }
            let cookie = request.cookie(COOKIE).ok_or(ApiError::NoToken)?;
            let who = access::by_session(&node.db, cookie.value(), clock::now()).await?.ok_or(ApiError::BadToken)?;
            // A foreign page can send the cookie's owner here, but cannot set this header.
            let reads = matches!(*request.method(), Method::GET | Method::HEAD);
            if !reads && !request.headers().contains_key("x-arvok-console") {
                return Err(ApiError::CrossSite);
            }
            Ok(Self(who))
        })
    }
}
