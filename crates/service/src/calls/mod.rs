//! Calls through connections: with their secrets, in their turn, noted. Made by the steps of jobs,
//! and by hand. And the scripts of steps.

mod callback;
mod live;
mod log;
mod permits;
mod recorded;
mod script;
mod through;

pub(crate) use callback::{CallBack, answer};
pub(crate) use log::{run as run_log, write as write_log};
pub(crate) use recorded::{LONGEST_BODY, answer_kept, body_kept};
pub(crate) use script::{ScriptOut, run as run_script};
pub(crate) use through::{RunnerReport, new_claim, sealed as seal_result, work_of as runner_work};

use crate::{
    clock,
    metrics::{CallLabel, ConnectionLabel},
    node::{Node, Published, SecretScope},
    random,
};
use arvok_api::{CallState, RunnerAct};
use arvok_connect::{
    BrokerConsumer, Call, CallOutcome, Called, Drivers, HostKey, Opening, Ready, Redactor,
    Subscription, Way,
};
use arvok_core::{
    Kind, Period, Principal, TraceContext,
    connector::{Answer, CallEnd, CallbackAt, Connection, Connector, Failure, Operation, Repeat},
    expr::Template,
};
use arvok_store::calls::{Caller, NewCall};
use chrono::{DateTime, Utc};
use permits::Permit;
use serde_json::{Map, Value, json};
use std::{
    sync::Arc,
    time::{Duration, Instant},
};
use through::Through;

/// A call that is to be made.
#[derive(Debug)]
pub(crate) struct Outgoing<'a> {
    pub via: &'a str,
    pub operation: &'a str,
    pub give: &'a Map<String, Value>,
    /// The same for every try of the same step.
    pub key: &'a str,
    /// How long it may take; none: as the connection says.
    pub timeout: Option<Period>,
    /// The address at which the other side may call back.
    pub callback: Option<&'a CallbackAt>,
    /// For whom it is made.
    pub caller: Caller,
    /// Addresses that no record may have, and what stands in their place.
    pub hidden: &'a [(String, &'static str)],
    /// The span of whoever makes it.
    pub trace: Option<TraceContext>,
}

fn ready<'p>(published: &'p Published, connection: &'p Connection) -> Result<Ready<'p>, String> {
    let fill = |connection: &str, template: &Template| {
        SecretScope::of(published, Kind::Connection, connection).fill(template)
    };
    let opening =
        Opening { catalog: &published.catalog, trusted: &published.host_keys, fill: &fill };
    Ready::new(&opening, connection)
}

/// Whether a connection could be used, apart from the other side: its address, or what is missing
/// here.
pub(crate) fn address(published: &Published, connection: &Connection) -> Result<String, String> {
    match connection.through {
        Some(_) => through::address(published, connection),
        None => ready(published, connection).map(|ready| ready.base),
    }
}

fn unsent(message: String) -> Failure {
    Failure::lasting(CallEnd::NotSent, message)
}

/// What came of a call that was to be made.
#[derive(Debug)]
pub(crate) enum CallResult {
    /// It was made, or could not be.
    Ended(Box<CallOutcome>),
    /// It was not made: others of its connection come first. To be asked for again then.
    Queued(DateTime<Utc>),
}

impl CallResult {
    /// How a person's call ended, which waits for its turn.
    pub fn ended(self) -> CallOutcome {
        match self {
            Self::Ended(ended) => *ended,
            Self::Queued(_) => CallOutcome::unsent(unsent("its turn has not come".into())),
        }
    }
}

/// What is published; if it has no such operation here, with what another node has published of
/// which this one has not heard yet: a job may be quicker than that.
async fn knowing(node: &Node, via: &str, operation: &str) -> Arc<Published> {
    let published = node.published();
    if published.catalog.operation(via, operation).is_ok() {
        return published;
    }
    node.catch_up(&published, Instant::now()).await;
    node.published()
}

/// Calls an operation; what came of it, and whether doing it twice is harmless.
pub(crate) async fn call(node: &Node, out: Outgoing<'_>) -> (CallResult, Repeat) {
    let published = knowing(node, out.via, out.operation).await;
    let (connection, operation) = match published.catalog.operation(out.via, out.operation) {
        Ok(found) => found,
        Err(missing) => {
            return (
                CallResult::Ended(Box::new(CallOutcome::unsent(unsent(missing.to_string())))),
                Repeat::Never,
            );
        }
    };
    (noted(node, &published, connection, operation, out).await, operation.repeat)
}

/// Asks the operation's own probe whether a call with this was done.
pub(crate) async fn probe(node: &Node, out: Outgoing<'_>) -> (CallResult, Repeat) {
    let published = knowing(node, out.via, out.operation).await;
    let mut answer = None;
    let mut queued = None;
    let asked = async {
        let found = published.catalog.operation(out.via, out.operation);
        let (connection, operation) = found.map_err(|missing| unsent(missing.to_string()))?;
        let (give, of) = (out.give, out.operation);
        let probe =
            operation.probe.as_ref().ok_or_else(|| unsent(format!("`{of}` has no probe")))?;
        let asking = probe.give(give).map_err(|e| unsent(format!("its probe: {e}")))?;
        let (_, tells) = published
            .catalog
            .operation(out.via, &probe.operation)
            .map_err(|m| unsent(m.to_string()))?;
        let out = Outgoing { operation: &probe.operation, give: &asking, ..out };
        let ended = match noted(node, &published, connection, tells, out).await {
            CallResult::Ended(ended) => *ended,
            CallResult::Queued(until) => {
                queued = Some(until);
                return Err(unsent("its turn has not come".into()));
            }
        };
        answer = ended.answer;
        match ended.called? {
            Called::Output(result) => {
                let done = probe
                    .done(give, &result)
                    .map_err(|e| unsent(format!("it does not tell: {e}")))?;
                Ok(Called::Output(json!({ "done": done, "result": result })))
            }
            Called::Later(_) => Err(unsent("it answers later".into())),
        }
    };
    let called = asked.await;
    let made = queued.map_or_else(
        || CallResult::Ended(Box::new(CallOutcome { called, answer })),
        CallResult::Queued,
    );
    (made, Repeat::Safe)
}

/// Calls, and notes how it went.
async fn noted(
    node: &Node,
    published: &Published,
    connection: &Connection,
    operation: &Operation,
    out: Outgoing<'_>,
) -> CallResult {
    let (at, begun) = (clock::now(), Instant::now());
    let caller = out.caller.clone();
    let trace = out.trace.map(|caller| caller.child(random::span()));
    let out = Outgoing { trace, ..out };
    let (via, name, hidden) = (out.via.to_owned(), out.operation.to_owned(), out.hidden);
    let called = match perform(node, published, connection, operation, out).await {
        Ok(CallResult::Ended(ended)) => hide(*ended, hidden),
        Ok(queued @ CallResult::Queued(_)) => return queued,
        Err(failure) => hide(CallOutcome::unsent(failure), hidden),
    };
    let (ended, message) = match &called.called {
        Ok(Called::Output(_)) => (CallState::Done, None),
        Ok(Called::Later(_)) => (CallState::Later, None),
        Err(Failure { end, message, .. }) => (CallState::from(*end), Some(message.clone())),
    };
    let label = CallLabel { connection: via.clone(), ended: ended.as_str() };
    node.metrics.work.calls.get_or_create(&label).inc();
    let label = ConnectionLabel { connection: via.clone() };
    node.metrics.work.call_seconds.get_or_create(&label).observe(begun.elapsed().as_secs_f64());
    let millis = i32::try_from(begun.elapsed().as_millis()).unwrap_or(i32::MAX);
    node.calls.log.note(NewCall {
        connection: via,
        operation: name,
        caller,
        at,
        millis,
        ended,
        message,
        trace,
    });
    CallResult::Ended(Box::new(called))
}

/// What came of a call, without the addresses that were put in for it: in their place stands what
/// the record has for them, so that nothing is lost. Of any other spelling of them the sealed part
/// is hidden.
fn hide(
    CallOutcome { called, answer }: CallOutcome,
    hidden: &[(String, &'static str)],
) -> CallOutcome {
    if hidden.is_empty() {
        return CallOutcome { called, answer };
    }
    let each = || hidden.iter().map(|(what, by)| (what.as_str(), *by));
    let links = Redactor::default();
    let without = |value: Value| {
        links.value(each().fold(value, |value, (what, by)| replace(value, what, by)))
    };
    let called = match called {
        Ok(Called::Output(output)) => Ok(Called::Output(without(output))),
        Ok(later) => Ok(later),
        Err(failure) => {
            let message =
                each().fold(failure.message, |message, (what, by)| message.replace(what, by));
            Err(Failure { message, ..failure })
        }
    };
    let answer = answer.map(|Answer { status, headers, body }| {
        let headers = headers.into_iter().map(|(name, value)| (name, without(value))).collect();
        Answer { status, headers, body: without(body) }
    });
    CallOutcome { called, answer }
}

/// A value with one text in the place of another, wherever it stands.
pub(crate) fn replace(value: Value, what: &str, by: &str) -> Value {
    match value {
        Value::String(text) => Value::String(text.replace(what, by)),
        Value::Array(items) => items.into_iter().map(|item| replace(item, what, by)).collect(),
        Value::Object(map) => {
            map.into_iter().map(|(key, item)| (key, replace(item, what, by))).collect()
        }
        other => other,
    }
}

async fn perform(
    node: &Node,
    published: &Published,
    connection: &Connection,
    operation: &Operation,
    out: Outgoing<'_>,
) -> Result<CallResult, Failure> {
    // What a runner needs is opened when it is handed out.
    let ready = match connection.through {
        Some(_) => None,
        None => Some(ready(published, connection).map_err(unsent)?),
    };
    let (usual, longest) = (connection.timeout, operation.longest(connection.timeout));
    let (one, whole) = match out.timeout {
        None => (usual, longest),
        // The step's own time is that of its only request.
        Some(timeout) if longest == usual => (timeout, timeout),
        Some(timeout) => (usual.min(timeout), timeout),
    };
    let millis = |period: Period| Duration::from_millis(period.millis());
    let held = match ready {
        Some(_) => millis(whole),
        None => through::longest(millis(whole)),
    };
    let slot = match permits::permit(node, connection.into(), &out.caller, held).await? {
        Permit::Granted(slot) => slot,
        Permit::Queued(until) => return Ok(CallResult::Queued(until)),
    };
    let called = match &ready {
        None => {
            let act = through::call_of(out.operation, out.give, out.key, out.callback);
            let times = (millis(one), millis(whole));
            let through = Through::of(connection, act, times).called_via(out.via);
            let through = through.by(&out.caller, out.trace);
            through::call(node, published, operation, through).await
        }
        Some(ready) => {
            let called = live::shown_live(node, &out.caller, async |live| {
                let call = Call {
                    operation,
                    give: out.give,
                    key: out.key,
                    callback: out.callback,
                    way: Way { live, trace: out.trace, ..ready.way(millis(one)) },
                    within: (whole != one).then(|| millis(whole)),
                    redactor: &published.redactor,
                };
                node.calls.drivers.call(call).await
            });
            called.await
        }
    };
    permits::over(node, slot).await;
    Ok(CallResult::Ended(Box::new(called)))
}

/// What is known of a connection after a try of it.
#[derive(Debug)]
pub(crate) struct Tested {
    /// The operation that was called; none: only its address was asked for anything.
    pub operation: Option<String>,
    pub millis: i64,
    pub ended: Result<String, Failure>,
}

/// Tries a connection: calls the operation that its connector names for that, or else looks whether
/// anybody answers.
pub(crate) async fn test(node: &Node, connection: &Connection, by: &Principal) -> Tested {
    let published = node.published();
    let begun = Instant::now();
    let connector = published.catalog.get::<Connector>(&connection.connector);
    let operation = connector.and_then(|(connector, _)| connector.test.clone());
    let ended = match &operation {
        Some(operation) => {
            let out = Outgoing {
                via: &connection.name,
                operation,
                give: &Map::new(),
                key: "test",
                timeout: None,
                callback: None,
                caller: Caller::Person(by.clone()),
                hidden: &[],
                trace: None,
            };
            call(node, out).await.0.ended().called.map(|called| match called {
                Called::Output(output) => {
                    arvok_core::text::cut(&output.to_string(), 400).to_owned()
                }
                Called::Later(_) => "it will call back".to_owned(),
            })
        }
        None => look(node, &published, connection).await,
    };
    Tested { operation, millis: begun.elapsed().as_millis().try_into().unwrap_or(i64::MAX), ended }
}

/// Looks whether anybody answers at a connection's address; what was said.
async fn look(
    node: &Node,
    published: &Published,
    connection: &Connection,
) -> Result<String, Failure> {
    let timeout = Duration::from_millis(connection.timeout.millis());
    if connection.through.is_some() {
        let through = Through::of(connection, RunnerAct::Look, (timeout, timeout));
        return through::look(node, published, through).await;
    }
    let ready = ready(published, connection).map_err(unsent)?;
    node.calls.drivers.probe(ready.way(timeout)).await
}

/// Begins to take messages from the broker of a connection.
pub(crate) async fn consume(
    node: &Node,
    via: &str,
    subscription: Subscription<'_>,
) -> Result<BrokerConsumer, String> {
    let published = node.published();
    let found = published.catalog.get::<Connection>(via);
    let (connection, _) = found.ok_or_else(|| format!("there is no connection `{via}`"))?;
    let timeout = Duration::from_millis(connection.timeout.millis());
    let ready = ready(&published, connection)?;
    let consumer = Drivers::consume(ready.way(timeout), subscription).await;
    consumer.map_err(|failure| published.redactor.text(&failure.message))
}

/// The key that a machine of a connection shows now.
pub(crate) async fn host_key(
    node: &Node,
    published: &Published,
    connection: &Connection,
    host: Option<&str>,
) -> Result<HostKey, Failure> {
    let timeout = Duration::from_millis(connection.timeout.millis());
    if connection.through.is_some() {
        let act = RunnerAct::HostKey { host: host.map(str::to_owned) };
        let through = Through::of(connection, act, (timeout, timeout));
        return through::host_key(node, published, through).await;
    }
    let ready = ready(published, connection).map_err(unsent)?;
    node.calls.drivers.host_key(ready.way(timeout), host).await
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn an_address_that_comes_back_is_hidden_in_outputs_and_in_what_went_wrong() {
        let hidden = [("http://here/callback/x7".to_owned(), "[callback]")];
        let output = json!({ "at": ["see \
            http://here/callback/x7!", 1], "b": { "c": "http://here/callback/x7" } });
        let shown = json!({ "at": ["see [callback]!", 1], "b": { "c": "[callback]" } });
        let answer = Answer { status: 200, headers: Map::new(), body: output.clone() };
        let ended =
            hide(CallOutcome { called: Ok(Called::Output(output)), answer: Some(answer) }, &hidden);
        assert_eq!(ended.called, Ok(Called::Output(shown.clone())));
        assert_eq!(ended.answer.map(|answer| answer.body), Some(shown));
        let failure = unsent("answered 400: http://here/callback/x7 is no address".into());
        let told = hide(CallOutcome::unsent(failure), &hidden).called.expect_err("a failure");
        assert_eq!(told.message, "answered 400: [callback] is no address");
    }
}
