//! Everything over HTTP. One file for each part; what each says is in the OpenAPI document that
//! is made from these handlers.

mod access;
mod access_log;
mod alarms;
mod alerts;
mod audit;
mod automation;
mod body;
mod calendars;
mod callback;
mod caller;
mod connections;
mod contacts;
mod decisions;
mod definitions;
mod guards;
mod halt;
mod handshake;
mod health;
mod heartbeats;
mod host_keys;
mod job_steps;
mod jobs;
mod launch;
mod library;
mod memory;
mod mutes;
mod nodes;
mod not_found;
mod openapi;
mod plans;
mod proposals;
mod query;
mod redaction;
mod refusals;
mod rehearsal;
mod rules;
mod runbooks;
mod runner_calls;
mod runners;
mod sender;
mod sources;
mod storage;
mod stream;
mod subscribers;
mod timeline;
mod trials;
mod unreadable;
mod watch;
mod webhook;

use crate::problem::{self, ApiError};
pub(crate) use access_log::access_log;
pub(crate) use decisions::too_late;
pub(crate) use definitions::approvals_of;
pub(crate) use health::fault;
pub use openapi::document as openapi_document;
pub(crate) use redaction::secrets as hide_secrets;

use actix_web::{
    Error,
    body::MessageBody,
    dev::{ServiceRequest, ServiceResponse},
    http::{
        ConnectionType,
        header::{self, HeaderValue},
    },
    middleware::{Next, from_fn},
    web,
};

/// Largest body of a delivery or a request, in bytes.
pub(crate) const MAX_BODY: usize = 1 << 20;
/// Largest body of a publication: all files together.
pub(crate) const MAX_PUBLICATION: usize = 8 << 20;

/// All routes.
pub(crate) fn configure(config: &mut web::ServiceConfig) {
    config
        .app_data(web::PayloadConfig::new(MAX_BODY))
        .app_data(problem::json_config(MAX_BODY))
        .app_data(problem::query_config())
        .app_data(problem::path_config())
        .service(webhook::receive)
        .service(handshake::by_query)
        .service(heartbeats::by_get)
        .service(heartbeats::by_post)
        .service(heartbeats::by_head)
        .service(handshake::by_options)
        .service(handshake::by_head)
        .service(handshake::only_post)
        .service(callback::receive)
        .service(subscribers::agree)
        .service(subscribers::agree_in_browser)
        .service(health::alive)
        .service(health::ready)
        .service(health::metrics)
        .service(
            web::scope("/api/v1")
                .wrap(from_fn(caller::before_the_body))
                .service(access::me)
                .service(access::sign_in)
                .service(access::sign_out)
                .service(access::tokens)
                .service(access::make_token)
                .service(access::set_automation)
                .service(access::revoke_token)
                .service(access::list_secrets)
                .service(access::set_secret)
                .service(access::remove_secret)
                .service(audit::list)
                .service(watch::overview)
                .service(alerts::list)
                .service(timeline::of_alerts)
                .service(timeline::of_jobs)
                .service(alerts::one)
                .service(unreadable::list)
                .service(unreadable::retry)
                .configure(of_sources)
                .service(alarms::list)
                .service(alarms::one)
                .service(alarms::act)
                .service(definitions::list)
                .service(definitions::one)
                .service(definitions::publish)
                .service(definitions::history)
                .service(definitions::schema)
                .configure(of_rules)
                .service(proposals::list)
                .service(proposals::one)
                .service(proposals::launch)
                .service(proposals::dismiss)
                .configure(of_decisions)
                .configure(of_jobs)
                .configure(of_connections)
                .configure(of_subscribers)
                .service(nodes::list)
                .service(nodes::forget)
                .service(runners::list)
                .service(runners::add)
                .service(runners::remove)
                .service(storage::show)
                .service(storage::keep)
                .service(stream::follow)
                .service(openapi::serve)
                .default_service(web::to(not_found::no_such_path)),
        )
        .service(
            web::scope("/runner/v1")
                .wrap(from_fn(runner_calls::known_runner))
                .service(runner_calls::claim_calls)
                .service(runner_calls::begin_calls)
                .service(runner_calls::beat_calls)
                .service(runner_calls::end_call)
                .default_service(web::to(not_found::no_such_path)),
        )
        .default_service(web::to(not_found::page));
}

/// What can be asked of sources, published or only edited.
fn of_sources(config: &mut web::ServiceConfig) {
    config
        .service(sources::list)
        .service(sources::forget)
        .service(sources::suggest)
        .service(sources::test)
        .service(sources::one_kept);
}

/// What can be asked of rules and runbooks, published or only edited.
fn of_rules(config: &mut web::ServiceConfig) {
    config
        .service(rules::explain)
        .service(rules::why_alert)
        .service(rules::verdicts)
        .service(rules::example)
        .service(rules::draft)
        .service(rules::vocabulary)
        .service(runbooks::outline)
        .service(runbooks::try_step)
        .service(library::list)
        .service(library::one)
        .service(library::copy)
        .service(rehearsal::rehearse);
}

/// What jobs ask people.
fn of_decisions(config: &mut web::ServiceConfig) {
    config
        .service(decisions::list)
        .service(decisions::open_link)
        .service(decisions::take_by_link)
        .service(decisions::one)
        .service(decisions::take);
}

/// What can be asked of jobs, and said to them.
fn of_jobs(config: &mut web::ServiceConfig) {
    config
        .service(trials::make)
        .service(trials::clear)
        .service(halt::show)
        .service(halt::set)
        .service(halt::lift)
        .service(halt::begin)
        .service(halt::end)
        .service(mutes::list)
        .service(mutes::one)
        .service(mutes::begin)
        .service(mutes::lift)
        .service(memory::list)
        .service(memory::forget)
        .service(jobs::list)
        .service(jobs::one)
        .service(launch::form)
        .service(launch::dry_run)
        .service(launch::launch)
        .service(jobs::resolve)
        .service(jobs::go_on)
        .service(jobs::seen)
        .service(jobs::pause)
        .service(jobs::resume)
        .service(jobs::cancel);
}

/// What can be reached, and how that goes.
fn of_connections(config: &mut web::ServiceConfig) {
    config
        .service(connections::list)
        .service(connections::one)
        .service(connections::last_calls)
        .service(connections::test)
        .service(host_keys::look)
        .service(host_keys::trust)
        .service(host_keys::forget)
        .service(connections::try_operation)
        .service(connections::import);
}

/// How it stands with those to whom events leave.
fn of_subscribers(config: &mut web::ServiceConfig) {
    config
        .service(contacts::list)
        .service(contacts::one)
        .service(plans::list)
        .service(plans::one)
        .service(plans::all_times)
        .service(plans::run)
        .service(plans::dry_run)
        .service(plans::skip)
        .service(plans::unskip)
        .service(guards::list)
        .service(guards::one)
        .service(guards::resume)
        .service(guards::overrule)
        .service(subscribers::list)
        .service(subscribers::one)
        .service(subscribers::events)
        .service(subscribers::confirm)
        .service(subscribers::replay);
}

/// Headers that every answer carries: nothing may frame the console, load from elsewhere or guess
/// types, and nobody on the way keeps what the API says.
pub(crate) async fn guard_headers(
    request: ServiceRequest,
    next: Next<impl MessageBody>,
) -> Result<ServiceResponse<impl MessageBody>, Error> {
    let is_api = ["/api/", "/runner/"].iter().any(|part| request.path().starts_with(part));
    let leaving = request
        .app_data::<web::Data<crate::node::Node>>()
        .is_some_and(|node| node.vitals.is_leaving());
    let mut response = next.call(request).await?;
    if leaving {
        response.response_mut().head_mut().set_connection_type(ConnectionType::Close);
    }
    let headers = response.headers_mut();
    if is_api && !headers.contains_key(header::CACHE_CONTROL) {
        headers.insert(header::CACHE_CONTROL, HeaderValue::from_static("no-store"));
    }
    for (name, value) in [
        (
            header::CONTENT_SECURITY_POLICY,
            "default-src 'self'; style-src 'self' 'unsafe-inline'; img-src 'self' data:; \
            frame-ancestors 'none'",
        ),
        (header::X_CONTENT_TYPE_OPTIONS, "nosniff"),
        (header::REFERRER_POLICY, "same-origin"),
        (header::X_FRAME_OPTIONS, "DENY"),
    ] {
        headers.insert(name, HeaderValue::from_static(value));
    }
    Ok(response)
}
