//! The description of the API (OpenAPI 3.1), made from the handlers.

use super::{access, alarms, alerts, definitions, health, intake, jobs, proposals, rehearsal, rules, stream, watch};
use actix_web::{HttpResponse, get};
use utoipa::{
    Modify, OpenApi,
    openapi::security::{ApiKey, ApiKeyValue, HttpAuthScheme, HttpBuilder, SecurityScheme},
};

#[derive(OpenApi)]
#[openapi(
    info(title = "Arvok", description = "Event rules, remediation jobs and their effects. Errors are problem documents (RFC 9457).",
        license(name = "Apache-2.0", identifier = "Apache-2.0")),
    servers((url = "/", description = "This node")),
    security(("token" = []), ("session" = [])),
    modifiers(&Security),
    paths(intake::take, health::alive, health::ready, health::metrics),
    nest((path = "/api/v1", api = Versioned))
)]
struct Whole;

#[derive(OpenApi)]
#[openapi(paths(
    access::me,
    access::sign_in,
    access::sign_out,
    access::tokens,
    access::make_token,
    access::revoke_token,
    access::secrets,
    access::set_secret,
    access::remove_secret,
    watch::overview,
    alerts::list,
    alerts::one,
    alerts::unreadable,
    alarms::list,
    alarms::one,
    definitions::list,
    definitions::one,
    definitions::publish,
    definitions::history,
    definitions::schema,
    rules::explain,
    rules::why_alert,
    rules::verdicts,
    rules::example,
    rules::draft,
    rules::vocabulary,
    rehearsal::rehearse,
    proposals::list,
    proposals::one,
    proposals::launch,
    proposals::dismiss,
    jobs::list,
    jobs::one,
    jobs::settle,
    stream::follow,
    serve
))]
struct Versioned;

struct Security;

impl Modify for Security {
    fn modify(&self, api: &mut utoipa::openapi::OpenApi) {
        let components = api.components.get_or_insert_default();
        let bearer = HttpBuilder::new().scheme(HttpAuthScheme::Bearer).build();
        components.add_security_scheme("token", SecurityScheme::Http(bearer));
        let cookie = ApiKey::Cookie(ApiKeyValue::new(super::caller::COOKIE));
        components.add_security_scheme("session", SecurityScheme::ApiKey(cookie));
    }
}

/// The description as JSON, indented.
pub fn document() -> String {
    Whole::openapi().to_pretty_json().unwrap_or_default()
}

/// This description. Needs no token.
#[utoipa::path(operation_id = "describe", tag = "node", responses((status = 200, body = Object)))]
#[get("/openapi.json")]
pub(super) async fn serve() -> HttpResponse {
    HttpResponse::Ok().content_type("application/json").body(document())
}
