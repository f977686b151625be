//! The description of the API (OpenAPI 3.1), made from the handlers.

use super::{
    access, alarms, alerts, audit, callback, connections, contacts, decisions, definitions, guards,
    halt, health, heartbeats, jobs, launch, library, memory, mutes, nodes, plans, proposals,
    rehearsal, rules, runbooks, runner_calls, runners, sources, storage, stream, subscribers,
    timeline, trials, unreadable, watch, webhook,
};
use crate::problem::PROBLEM;
use actix_web::{HttpResponse, get};
use std::sync::LazyLock;
use utoipa::{
    Modify, OpenApi,
    openapi::{
        Content, Ref, RefOr, Response,
        path::{HttpMethod, Operation, ParameterIn, PathItem},
        security::{ApiKey, ApiKeyValue, HttpAuthScheme, HttpBuilder, SecurityScheme},
    },
};

#[derive(OpenApi)]
#[openapi(
    info(title = "Arvok", description = "Event rules, remediation jobs and their effects. Errors \
        are problem documents (RFC 9457).",
        license(name = "Apache-2.0", identifier = "Apache-2.0")),
    servers((url = "/", description = "This node")),
    security(("token" = []), ("session" = [])),
    modifiers(&Security, &Answers),
    paths(webhook::receive, heartbeats::by_post, heartbeats::by_get, callback::receive, subscribers::agree, subscribers::agree_in_browser,
        health::alive, health::ready, health::metrics),
    nest((path = "/api/v1", api = Versioned), (path = "/runner/v1", api = OfRunners))
)]
struct Whole;

#[derive(OpenApi)]
#[openapi(paths(
    runner_calls::claim_calls,
    runner_calls::begin_calls,
    runner_calls::beat_calls,
    runner_calls::end_call,
))]
struct OfRunners;

#[derive(OpenApi)]
#[openapi(paths(
    access::me,
    access::sign_in,
    access::sign_out,
    access::tokens,
    access::make_token,
    access::set_automation,
    access::revoke_token,
    access::list_secrets,
    access::set_secret,
    access::remove_secret,
    audit::list,
    watch::overview,
    alerts::list,
    alerts::one,
    unreadable::list,
    timeline::of_alerts,
    timeline::of_jobs,
    unreadable::retry,
    sources::list,
    sources::forget,
    sources::suggest,
    sources::test,
    sources::one_kept,
    alarms::list,
    alarms::one,
    alarms::act,
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
    runbooks::outline,
    runbooks::try_step,
    library::list,
    library::one,
    library::copy,
    rehearsal::rehearse,
    proposals::list,
    proposals::one,
    proposals::launch,
    proposals::dismiss,
    decisions::list,
    decisions::one,
    decisions::take,
    decisions::open_link,
    decisions::take_by_link,
    trials::make,
    trials::clear,
    halt::show,
    halt::set,
    halt::lift,
    halt::begin,
    halt::end,
    memory::list,
    memory::forget,
    mutes::list,
    mutes::one,
    mutes::begin,
    mutes::lift,
    jobs::list,
    jobs::one,
    launch::form,
    launch::dry_run,
    launch::launch,
    jobs::resolve,
    jobs::go_on,
    jobs::seen,
    jobs::pause,
    jobs::resume,
    jobs::cancel,
    connections::list,
    connections::one,
    connections::last_calls,
    connections::test,
    connections::try_operation,
    connections::import,
    contacts::list,
    contacts::one,
    plans::list,
    plans::one,
    plans::all_times,
    plans::run,
    plans::dry_run,
    plans::skip,
    plans::unskip,
    guards::list,
    guards::one,
    guards::resume,
    guards::overrule,
    subscribers::list,
    subscribers::one,
    subscribers::events,
    subscribers::confirm,
    subscribers::replay,
    nodes::list,
    runners::list,
    runners::add,
    runners::remove,
    nodes::forget,
    storage::show,
    storage::keep,
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

/// Operations that need no token.
const OPEN: [&str; 11] = [
    "callBack",
    "alive",
    "ready",
    "metrics",
    "describe",
    "showSchema",
    "signIn",
    "consent",
    "consentInBrowser",
    "openDecisionLink",
    "takeDecisionByLink",
];

/// What any operation may answer besides its own, and that errors are problem documents.
struct Answers;

impl Modify for Answers {
    fn modify(&self, api: &mut utoipa::openapi::OpenApi) {
        for item in api.paths.paths.values_mut() {
            for (method, operation) in operations(item) {
                complete(&method, operation);
            }
        }
    }
}

fn operations(item: &mut PathItem) -> impl Iterator<Item = (HttpMethod, &mut Operation)> {
    let PathItem { get, put, post, delete, .. } = item;
    let all = [
        (HttpMethod::Get, get),
        (HttpMethod::Put, put),
        (HttpMethod::Post, post),
        (HttpMethod::Delete, delete),
    ];
    all.into_iter().filter_map(|(method, operation)| Some((method, operation.as_mut()?)))
}

fn complete(method: &HttpMethod, operation: &mut Operation) {
    // A summary is one line, however the comment that it is made of is wrapped.
    operation.summary = operation.summary.take().map(|summary| summary.replace('\n', " "));
    let parameters = operation.parameters.iter().flatten();
    let named =
        parameters.clone().any(|p| matches!(p, RefOr::T(p) if p.parameter_in == ParameterIn::Path));
    let asked = parameters.count() > 0 || operation.request_body.is_some();
    let open = operation.operation_id.as_deref().is_some_and(|id| OPEN.contains(&id));
    if open {
        operation.security = Some(Vec::new());
    }
    let more = [
        ("400", asked, "The question is not as described; `detail` says what is wrong."),
        ("401", !open, "No token, or none that is known."),
        (
            "403",
            !open
                && (*method != HttpMethod::Get
                    || operation.tags.iter().flatten().any(|t| t == "access")),
            "The role does not allow it, or the console's header is missing.",
        ),
        ("404", named, "There is no such thing."),
        ("408", operation.request_body.is_some(), "The body took too long."),
        ("413", operation.request_body.is_some(), "The body is too large."),
        ("429", !open, "Too much at once; `Retry-After` says when to try again."),
        ("503", !open, "The records cannot be reached at the moment; try again."),
    ];
    for (status, given, description) in more {
        if given && !operation.responses.responses.contains_key(status) {
            let content = Content::new(Some(Ref::from_schema_name("Problem")));
            let mut response = Response::new(description);
            response.content.insert(PROBLEM.to_owned(), RefOr::T(content));
            operation.responses.responses.insert(status.to_owned(), RefOr::T(response));
        }
    }
    for (status, response) in &mut operation.responses.responses {
        if let RefOr::T(response) = response
            && status.starts_with(['4', '5'])
            && let Some(content) = response.content.shift_remove("application/json")
        {
            response.content.insert(PROBLEM.to_owned(), content);
        }
    }
}

/// The methods of a path, for whoever asks by another.
pub(super) fn methods(path: &str) -> Vec<&'static str> {
    static PATHS: LazyLock<Vec<(String, Vec<&'static str>)>> = LazyLock::new(|| {
        let named = |(path, mut item): (String, PathItem)| {
            let names = operations(&mut item).map(|(method, _)| match method {
                HttpMethod::Get => "GET, HEAD",
                HttpMethod::Put => "PUT",
                HttpMethod::Post => "POST",
                _ => "DELETE",
            });
            (path, names.collect())
        };
        Whole::openapi().paths.paths.into_iter().map(named).collect()
    });
    let fits = |described: &str| {
        let (mut described, mut asked) = (described.split('/'), path.split('/'));
        loop {
            match (described.next(), asked.next()) {
                (None, None) => return true,
                (Some(d), Some(a)) if d == a || (d.starts_with('{') && !a.is_empty()) => {}
                _ => return false,
            }
        }
    };
    PATHS
        .iter()
        .filter(|(described, _)| fits(described))
        .flat_map(|(_, methods)| methods.clone())
        .collect()
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
