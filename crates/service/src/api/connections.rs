//! Connections: whether they can be used and what they offer, their last calls, tests and tries by
//! hand.

use super::{
    ApiError, MAX_PUBLICATION,
    caller::{self, Caller},
    definitions::unknown,
    query::in_range,
};
use crate::{
    calls::{self, Outgoing, answer_kept},
    clock,
    node::{Node, Published, SecretScope},
    own_alarms,
};
use actix_web::{HttpRequest, get, post, web};
use arvok_api::{
    CallFilter, CallItem, CallRequest, CallState, ConnectionDetail, ConnectionItem, ConnectionTest,
    ImportRequest, Imported, NeededSecret, OfferedOperation, PAGE, Page, Problem, PulseStatus,
    TriedOperation, TryOperation,
};
use arvok_connect::{CallOutcome, Called};
use arvok_core::{
    Kind, Period, Principal, Role, TraceContext,
    connector::{CallEnd, Connection, Connector, Operation, Pulse, ShownRequest},
    runbook::Runbook,
};
use arvok_store::{
    StoreError,
    calls::{self as store, CallStatistics, Caller as For},
    entity::call::Model,
    host_keys,
    timers::{self, TimerKind},
};
use serde_json::{Map, Value};

/// Connections, by name.
#[utoipa::path(operation_id = "listConnections", tag = "connections",
    responses((status = 200, body = Page<ConnectionItem>)))]
#[get("/connections")]
pub(super) async fn list(
    node: web::Data<Node>,
    _caller: Caller,
) -> Result<web::Json<Page<ConnectionItem>>, ApiError> {
    let published = node.published();
    let all: Vec<&Connection> = published.catalog.all::<Connection>().map(|(c, _)| c).collect();
    calls::write_log(&node, &node.pools.questions).await;
    let went = store::recent_outcomes(
        &node.pools.questions,
        all.iter().map(|c| c.name.clone()).collect(),
        clock::now(),
    )
    .await?;
    let of = |name: &str| went.iter().find(|w| w.connection == name).cloned().unwrap_or_default();
    let items = all.into_iter().map(|c| item(&published, c, of(&c.name))).collect();
    Ok(web::Json(Page { items, next: None, bounded: false }))
}

fn operations<'a>(
    published: &'a Published,
    connection: &Connection,
) -> Vec<(&'a String, &'a Operation)> {
    let connector = published.catalog.get::<Connector>(&connection.connector);
    connector.into_iter().flat_map(|(connector, _)| &connector.operations).collect()
}

fn item(published: &Published, connection: &Connection, went: CallStatistics) -> ConnectionItem {
    let (address, trouble) = match calls::address(published, connection) {
        Ok(address) => (Some(address), None),
        Err(why) => (None, Some(why)),
    };
    ConnectionItem {
        name: connection.name.clone(),
        summary: connection.summary.clone(),
        connector: connection.connector.clone(),
        address,
        trouble,
        operations: operations(published, connection).len(),
        calls: went.calls,
        failed: went.failed,
        median_ms: went.median,
        last_at: went.last_at,
        last_state: went.last_ended.map(|ended| ended.0),
        last_message: went.last_message,
    }
}

pub(super) fn published_connection<'a>(
    published: &'a Published,
    name: &str,
) -> Result<&'a Connection, ApiError> {
    let found = published.catalog.get::<Connection>(name).map(|(connection, _)| connection);
    found.ok_or_else(|| unknown(published, Kind::Connection, name))
}

/// Most trusted machines that are shown of one connection.
const MOST_TRUSTED: u64 = 100;

/// One connection: what it offers, which secrets it needs, which runbooks call it.
#[utoipa::path(operation_id = "showConnection", tag = "connections", params(("name" = String,
    Path)),
    responses((status = 200, body = ConnectionDetail), (status = 404, body = Problem)))]
#[get("/connections/{name}")]
pub(super) async fn one(
    node: web::Data<Node>,
    _caller: Caller,
    name: web::Path<String>,
) -> Result<web::Json<ConnectionDetail>, ApiError> {
    let published = node.published();
    let connection = published_connection(&published, &name)?;
    calls::write_log(&node, &node.pools.questions).await;
    let went =
        store::recent_outcomes(&node.pools.questions, vec![connection.name.clone()], clock::now())
            .await?
            .into_iter()
            .next();
    let calls_it = |runbook: &&Runbook| runbook.may_call(&connection.name);
    let runbooks = published.catalog.all::<Runbook>().map(|(runbook, _)| runbook).filter(calls_it);
    let connector = published.catalog.get::<Connector>(&connection.connector);
    let others = |is_one: &dyn Fn(&Connection) -> bool| {
        let all = published.catalog.all::<Connection>().map(|(other, _)| other);
        all.filter(|other| is_one(other)).map(|other| other.name.clone()).collect()
    };
    Ok(web::Json(ConnectionDetail {
        item: item(&published, connection, went.unwrap_or_default()),
        operations: operations(&published, connection)
            .into_iter()
            .map(|(name, op)| offered(name, op))
            .collect(),
        test: connector.and_then(|(connector, _)| connector.test.clone()),
        credential: connection.credential.as_ref().map(|c| c.key().to_owned()),
        secrets: secrets(&published, connection),
        used_by: runbooks.map(|runbook| runbook.name.clone()).collect(),
        at_once: connection.at_once,
        rate: connection.rate.map(|rate| format!("{} in {}", rate.calls, rate.per)),
        hosts: connection.hosts.iter().map(|glob| glob.as_str().to_owned()).collect(),
        jump: connection.jump.clone(),
        runners: connection.through.clone().map(|labels| labels.0),
        runner_secrets: connection.runner_secrets.iter().cloned().collect(),
        jump_for: others(&|other| other.jump.as_deref() == Some(&*connection.name)),
        also: connection.also.clone(),
        also_for: others(&|other| other.also.contains(&connection.name)),
        host_keys: connection.host_keys.clone(),
        trusted: host_keys::of_connection(&node.pools.questions, &connection.name, MOST_TRUSTED)
            .await?,
        pulse: match &connection.pulse {
            None => None,
            Some(pulse) => Some(pulse_status(&node, &connection.name, pulse).await?),
        },
    }))
}

async fn pulse_status(node: &Node, name: &str, pulse: &Pulse) -> Result<PulseStatus, StoreError> {
    let db = &node.pools.questions;
    let alarms = own_alarms::shown(db).await?;
    Ok(PulseStatus {
        operation: pulse.operation.clone(),
        every: pulse.every.to_string(),
        next_at: timers::due(db, TimerKind::Pulse, name).await?,
        failure: timers::failure(db, TimerKind::Pulse, name).await?,
        held_by: pulse.held_by(&alarms).into_iter().map(|a| a.summary.clone()).collect(),
    })
}

fn offered(name: &str, operation: &Operation) -> OfferedOperation {
    let gives = match operation.gives.as_fields() {
        Value::Object(fields) => fields,
        _ => Map::new(),
    };
    OfferedOperation {
        name: name.to_owned(),
        summary: operation.summary.clone(),
        takes: operation.takes.properties().clone(),
        gives,
        repeat: operation.repeat.as_str().to_owned(),
        looks: operation.only_looks(),
        request: operation.line().to_owned(),
        follows: operation.follows().map(str::to_owned),
    }
}

fn secrets(published: &Published, connection: &Connection) -> Vec<NeededSecret> {
    let scope = SecretScope::of(published, Kind::Connection, &connection.name);
    connection
        .secrets()
        .into_iter()
        .map(|name| NeededSecret { ready: scope.may_open(&name), name })
        .collect()
}

/// The last calls of a connection, the latest first: for which step or by whom, how long they took,
/// how they ended.
#[utoipa::path(operation_id = "listCalls", tag = "connections", params(("name" = String, Path),
    CallFilter),
    responses((status = 200, body = Page<CallItem>), (status = 400, body = Problem), (status = 404,
        body = Problem)))]
#[get("/connections/{name}/calls")]
pub(super) async fn last_calls(
    node: web::Data<Node>,
    _caller: Caller,
    name: web::Path<String>,
    filter: web::Query<CallFilter>,
) -> Result<web::Json<Page<CallItem>>, ApiError> {
    in_range(filter.limit, [])?;
    published_connection(&node.published(), &name)?;
    let limit = filter.limit.unwrap_or(PAGE);
    calls::write_log(&node, &node.pools.questions).await;
    let found = store::last(&node.pools.questions, &name, filter.after, limit).await?;
    let next = found.last().filter(|_| found.len() as u64 == limit).map(|call| call.id.to_string());
    Ok(web::Json(Page { items: found.into_iter().map(call_item).collect(), next, bounded: false }))
}

fn call_item(call: Model) -> CallItem {
    CallItem {
        id: call.id,
        operation: call.operation,
        job: call.job_id,
        step: call.place,
        attempt: call.attempt,
        by: call.by.map(|by| by.0),
        at: call.at,
        millis: call.millis.into(),
        state: call.ended.0,
        message: call.message,
        trace: call.trace,
    }
}

fn state(end: CallEnd) -> CallState {
    match end {
        CallEnd::NotSent => CallState::NotSent,
        CallEnd::Refused => CallState::Refused,
        CallEnd::Unknown => CallState::Unknown,
        CallEnd::Done => CallState::Useless,
    }
}

/// Tests a connection: calls the operation that its connector names for that, or else looks whether
/// anybody answers.
#[utoipa::path(operation_id = "testConnection", tag = "connections", params(("name" = String,
    Path)),
    responses((status = 200, body = ConnectionTest), (status = 404, body = Problem)))]
#[post("/connections/{name}/test")]
pub(super) async fn test(
    node: web::Data<Node>,
    caller: Caller,
    name: web::Path<String>,
) -> Result<web::Json<ConnectionTest>, ApiError> {
    caller.must(Role::Responder)?;
    let published = node.published();
    let connection = published_connection(&published, &name)?;
    let tested = calls::test(&node, connection, &caller.principal()).await;
    let (state, message) = match tested.ended {
        Ok(said) => (CallState::Done, said),
        Err(failure) => (state(failure.end), failure.message),
    };
    Ok(web::Json(ConnectionTest {
        operation: tested.operation,
        state,
        millis: tested.millis,
        message,
    }))
}

/// Longest call by hand, in seconds; whoever asks waits a minute at most.
const BY_HAND: u64 = 45;

/// Calls an operation by hand, once; or only says what would be sent. What may change something
/// takes an author.
#[utoipa::path(operation_id = "tryOperation", tag = "connections",
    params(("name" = String, Path), ("operation" = String, Path)), request_body = TryOperation,
    responses((status = 200, body = TriedOperation), (status = 400, body = Problem), (status = 403,
        body = Problem),
        (status = 404, body = Problem)))]
#[post("/connections/{name}/operations/{operation}/try")]
pub(super) async fn try_operation(
    node: web::Data<Node>,
    caller: Caller,
    path: web::Path<(String, String)>,
    body: web::Json<TryOperation>,
    from: HttpRequest,
) -> Result<web::Json<TriedOperation>, ApiError> {
    let (name, operation) = path.into_inner();
    let published = node.published();
    published_connection(&published, &name)?;
    let found = published.catalog.operation(&name, &operation);
    let (_, described) = found.map_err(|missing| {
        ApiError::NotFound(missing.to_string().replacen("there is no ", "", 1))
    })?;
    caller.must(if described.only_looks() { Role::Responder } else { Role::Author })?;
    let TryOperation { give, dry_run } = body.into_inner();
    if described.callback().is_some() && !dry_run {
        return Err(ApiError::BadRequest(format!(
            "`{operation}` calls back, and only the step of a job waits for that"
        )));
    }
    let key = format!("by-hand-{}", crate::random::id());
    let planned =
        described.request(&give, &key).map_err(|e| ApiError::BadRequest(format!("give: {e}")))?;
    let ShownRequest { method, target, body } = planned;
    let request = CallRequest { method, target, body, via: None, unsent: false };
    let planned = TriedOperation {
        state: None,
        millis: 0,
        request,
        answer: None,
        output: None,
        message: None,
    };
    if dry_run {
        return Ok(web::Json(planned));
    }
    tracing::info!(
        connection = name,
        operation,
        by = caller.0.name,
        "an operation is called by hand"
    );
    let begun = std::time::Instant::now();
    let (by, trace) = (caller.principal(), caller::trace(&from));
    let call = CallByHand { via: name, operation, give, key, by, trace };
    let ended = call.make(node.clone()).await?;
    let millis = begun.elapsed().as_millis().try_into().unwrap_or(i64::MAX);
    Ok(web::Json(tried(TriedOperation { millis, ..planned }, ended)))
}

/// A call that a person makes, once.
pub(super) struct CallByHand {
    pub via: String,
    pub operation: String,
    pub give: Map<String, Value>,
    pub key: String,
    pub by: Principal,
    pub trace: Option<TraceContext>,
}

impl CallByHand {
    /// Makes it. It goes on, and is noted, though whoever asked may be gone.
    pub async fn make(self, node: web::Data<Node>) -> Result<CallOutcome, ApiError> {
        let longest = Period::from_secs(BY_HAND);
        let published = node.published();
        let takes = published.catalog.operation(&self.via, &self.operation);
        let takes = takes.map(|(connection, operation)| operation.longest(connection.timeout));
        let timeout = takes.is_ok_and(|takes| takes > longest).then_some(longest);
        let calling = actix_web::rt::spawn(async move {
            let Self { via, operation, give, key, by, trace } = self;
            let out = Outgoing {
                via: &via,
                operation: &operation,
                give: &give,
                key: &key,
                timeout,
                callback: None,
                caller: For::Person(by),
                hidden: &[],
                trace,
            };
            calls::call(&node, out).await.0.ended()
        });
        calling.await.map_err(|_| ApiError::Internal)
    }
}

/// A call by hand as it ended.
fn tried(planned: TriedOperation, ended: CallOutcome) -> TriedOperation {
    let (state, output, message) = match ended.called {
        Ok(Called::Output(output)) => (CallState::Done, Some(output), None),
        Ok(Called::Later(_)) => (CallState::Later, None, None),
        Err(failure) => (state(failure.end), None, Some(failure.message)),
    };
    TriedOperation {
        state: Some(state),
        answer: ended.answer.map(answer_kept),
        output,
        message,
        ..planned
    }
}

/// Makes a connector, and a connection that uses it, of a description of an API (OpenAPI 3.0 or
/// 3.1). Nothing is published.
#[utoipa::path(operation_id = "importConnector", tag = "connections", request_body = ImportRequest,
    responses((status = 200, body = Imported), (status = 400, body = Problem), (status = 413,
        body = Problem)))]
#[post("/connectors/import")]
pub(super) async fn import(
    node: web::Data<Node>,
    caller: Caller,
    payload: web::Payload,
) -> Result<web::Json<Imported>, ApiError> {
    caller.must(Role::Author)?;
    // The description of a large API is larger than a request otherwise may be.
    let body = super::body::read(payload, MAX_PUBLICATION).await?;
    let ImportRequest { text, name, only } = serde_json::from_slice(&body)
        .map_err(|e| ApiError::BadRequest(format!("the body is not as expected: {e}")))?;
    let made = node
        .capacity
        .evaluate(&caller.0, move || arvok_core::connector::import(&text, name.as_deref(), &only))
        .await?;
    let made = made.map_err(|e| ApiError::BadRequest(e.to_string()))?;
    Ok(web::Json(made.into()))
}
