//! Calls that runners make: asked for on the record, waited for, and taken back when nobody waits
//! any more. What a runner did not begin was not sent; what it began and did not end is unknown.

use crate::{
    node::{Node, Published, SecretScope},
    random,
    retry::retry,
};
use arvok_api::{
    CallbackAddress, OpenedValues, RunnerAct, RunnerAnswer, RunnerFailure, RunnerItem,
    RunnerResult, RunnerWork,
};
use arvok_connect::{CallOutcome, Called, HostKey};
use arvok_core::{
    Kind, Labels, TraceContext,
    connector::{Answer, CallEnd, CallbackAt, Connection, Failure, Hiding, Operation},
    text::cut,
};
use arvok_store::{
    DatabaseConnection, StoreError,
    calls::Caller,
    live_output::{self, LiveCall},
    runners::{
        self,
        calls::{self as store, AskedCall, NewRunnerCall, RunnerCallState},
    },
};
use serde::{Deserialize, Serialize};
use std::{
    collections::{BTreeMap, BTreeSet},
    time::{Duration, Instant},
};

/// What orders and results are sealed for.
const ORDER: &str = "call of a runner";
const RESULT: &str = "result of a runner";
/// How often a node says that it still wants a call.
const RENEW: Duration = Duration::from_secs(1);
/// How much longer than its call a runner may take to say what came of it.
const GRACE: Duration = Duration::from_secs(15);
/// How long a runner has to say that it is still there, once its lease has ended.
const SAYS_SO: Duration = Duration::from_secs(3);
/// Longest message of a runner, in bytes.
const LONGEST_MESSAGE: usize = 2_000;
/// Longest time for which another side may ask to be left alone.
const LONGEST_REST: u64 = 86_400_000;

/// What a runner is asked for. Its secrets are not a part of it: whichever node hands it out opens
/// them then.
#[derive(Serialize, Deserialize)]
struct Order {
    act: RunnerAct,
    via: String,
    timeout_ms: u64,
    within_ms: Option<u64>,
    trace: Option<TraceContext>,
}

/// What a runner said in the end.
#[derive(Serialize, Deserialize)]
pub(crate) struct RunnerReport {
    pub result: RunnerResult,
    pub answer: Option<RunnerAnswer>,
}

/// What is to be done through runners.
pub(super) struct Through<'a> {
    /// The connection that was named.
    via: &'a str,
    /// That by whose runners it goes.
    connection: &'a Connection,
    caller: Option<&'a Caller>,
    act: RunnerAct,
    /// How long one request may take.
    one: Duration,
    /// How long the whole may take.
    whole: Duration,
    trace: Option<TraceContext>,
}

/// How long a call may take at most whose own time is so long: it may wait for a runner as long as
/// it may take, and its runner has a moment to say what came of it.
pub(super) fn longest(whole: Duration) -> Duration {
    whole * 2 + GRACE + SAYS_SO
}

impl<'a> Through<'a> {
    /// Something that is to be done through the runners of a connection: how long one request may
    /// take, and how long the whole.
    pub fn of(
        connection: &'a Connection,
        act: RunnerAct,
        (one, whole): (Duration, Duration),
    ) -> Self {
        let via = &connection.name;
        Self { via, connection, act, one, whole, caller: None, trace: None }
    }

    /// A call of an operation of another connection, which goes by this one.
    pub fn called_via(self, via: &'a str) -> Self {
        Self { via, ..self }
    }

    /// The same for a step or a person.
    pub fn by(self, caller: &'a Caller, trace: Option<TraceContext>) -> Self {
        Self { caller: Some(caller), trace, ..self }
    }
}

/// What is called where, with what.
pub(super) fn call_of(
    operation: &str,
    give: &serde_json::Map<String, serde_json::Value>,
    key: &str,
    callback: Option<&CallbackAt>,
) -> RunnerAct {
    RunnerAct::Call {
        operation: operation.to_owned(),
        give: give.clone(),
        key: key.to_owned(),
        callback: callback
            .map(|at| CallbackAddress { address: at.address.clone(), key: at.key.clone() }),
    }
}

/// Has a call made; what came of it.
pub(super) async fn call(
    node: &Node,
    published: &Published,
    operation: &Operation,
    through: Through<'_>,
) -> CallOutcome {
    let shown = through.caller.and_then(live_call);
    let said = ask(node, through).await;
    // Whatever it has written meanwhile stands with its try from now on.
    if let Some(shown) = shown
        && let Err(e) = live_output::remove(&node.pools.work, &shown).await
    {
        tracing::debug!(job = shown.job.0, "its output is removed later: {e}");
    }
    let RunnerReport { result, answer } = match said {
        Ok(said) => said,
        Err(failure) => return CallOutcome::unsent(failure),
    };
    let hide = |text: &str| published.redactor.text(text);
    let shown = |value| published.redactor.value(value);
    let answer = answer.map(|RunnerAnswer { status, headers, body }| {
        let headers = headers.into_iter().map(|(name, value)| (name, shown(value))).collect();
        Answer { status, headers, body: shown(body) }
    });
    let useless = |why: String| Failure::lasting(CallEnd::Done, why);
    let called = match result {
        RunnerResult::Output { output } => operation
            .accept(output, Hiding(&hide))
            .map(Called::Output)
            .map_err(|why| useless(format!("its runner made no output of the answer: {why}"))),
        RunnerResult::Later => match operation.callback() {
            Some(callback) => Ok(Called::Later(callback.within)),
            None => Err(useless("its runner waits for a call back that never comes".to_owned())),
        },
        RunnerResult::Failed(failure) => Err(failed(failure, &hide)),
        _ => Err(useless("its runner said what does not belong to a call".to_owned())),
    };
    CallOutcome { called, answer }
}

/// Looks whether anybody answers there; what was said.
pub(super) async fn look(
    node: &Node,
    published: &Published,
    through: Through<'_>,
) -> Result<String, Failure> {
    let hide = |text: &str| published.redactor.text(text);
    match ask(node, through).await?.result {
        RunnerResult::Seen { text } => Ok(cut(&hide(&text), LONGEST_MESSAGE).to_owned()),
        RunnerResult::Failed(failure) => Err(failed(failure, &hide)),
        _ => Err(unsent("its runner said what does not belong to a look".into())),
    }
}

/// The key that a machine shows there.
pub(super) async fn host_key(
    node: &Node,
    published: &Published,
    through: Through<'_>,
) -> Result<HostKey, Failure> {
    match ask(node, through).await?.result {
        RunnerResult::HostKey { machine, algorithm, fingerprint } => {
            let plain = |text: &str| cut(text, 300).to_owned();
            Ok(HostKey {
                machine: plain(&machine),
                algorithm: plain(&algorithm),
                fingerprint: plain(&fingerprint),
            })
        }
        RunnerResult::Failed(failure) => {
            Err(failed(failure, &|text: &str| published.redactor.text(text)))
        }
        _ => Err(unsent("its runner said what does not belong to a key".into())),
    }
}

fn failed(mut failure: RunnerFailure, hide: &dyn Fn(&str) -> String) -> Failure {
    failure.message = cut(&hide(&failure.message), LONGEST_MESSAGE).to_owned();
    failure.retry_after_ms = failure.retry_after_ms.map(|ms| ms.min(LONGEST_REST));
    failure.into()
}

fn live_call(caller: &Caller) -> Option<LiveCall> {
    match caller {
        Caller::Step { job, place, attempt } => {
            Some(LiveCall { job: *job, place: place.clone(), attempt: *attempt })
        }
        Caller::Person(_) => None,
    }
}

/// A call that is asked for; dropped before its end, nobody wants it any more.
struct Asked<'n> {
    db: &'n DatabaseConnection,
    number: i64,
    is_over: bool,
}

impl Drop for Asked<'_> {
    fn drop(&mut self) {
        if self.is_over {
            return;
        }
        let (db, number) = (self.db.clone(), self.number);
        tokio::spawn(async move {
            if let Err(e) = store::withdraw(&db, number).await {
                tracing::debug!(number, "a runner's call ends by itself: {e}");
            }
        });
    }
}

/// Asks for something and waits for what came of it.
async fn ask(node: &Node, through: Through<'_>) -> Result<RunnerReport, Failure> {
    let Through { via, connection, caller, act, one, whole, trace } = through;
    let labels = connection.through.clone().unwrap_or_default();
    let millis = |time: Duration| u64::try_from(time.as_millis()).unwrap_or(u64::MAX);
    let order = Order {
        act,
        via: via.to_owned(),
        timeout_ms: millis(one),
        within_ms: (whole != one).then(|| millis(whole)),
        trace,
    };
    let text = serde_json::to_string(&order).map_err(|e| unsent(e.to_string()))?;
    let sealed = node.calls.vault.seal(ORDER, &text).map_err(|e| unsent(e.to_string()))?;
    let step = match caller {
        Some(Caller::Step { job, place, attempt }) => Some((*job, place.to_string(), *attempt)),
        _ => None,
    };
    let db = &node.pools.work;
    let not_asked =
        |e: StoreError| Failure::new(CallEnd::NotSent, format!("no runner can be asked: {e}"));
    let number = store::next_number(db).await.map_err(not_asked)?;
    let mut asked = Asked { db, number, is_over: false };
    let new = NewRunnerCall { through: &labels, sealed, step };
    if let Err(e) = store::ask(db, number, new).await {
        // It may have been asked for all the same.
        let stood = retry("the end of a runner's call", || store::ask_no_more(db, number)).await;
        asked.is_over = stood.is_ok();
        return match stood.map(|stood| stood.map(|stood| RunnerCallState::parse(&stood.state))) {
            Ok(None | Some(Some(RunnerCallState::Waiting | RunnerCallState::Claimed))) => {
                Err(not_asked(e))
            }
            Ok(Some(_)) | Err(_) => Err(unknown(format!("its runner cannot be waited for: {e}"))),
        };
    }
    let end = node.runner_calls.end_of(number);
    let (since, mut begun, mut lost) = (Instant::now(), None, None);
    loop {
        let _ = tokio::time::timeout(RENEW, end.reached()).await;
        let standing = match store::want(db, number).await {
            Ok(Some(standing)) => standing,
            Ok(None) => {
                asked.is_over = true;
                return Err(unknown("its record is gone, with the database's memory".into()));
            }
            // It is no more wanted than until the database is back, or for good after a while.
            Err(e) if since.elapsed() > whole + GRACE => {
                return Err(unknown(format!("what its runner said cannot be read: {e}")));
            }
            Err(_) => continue,
        };
        match RunnerCallState::parse(&standing.state) {
            Some(RunnerCallState::Waiting | RunnerCallState::Claimed) => {
                if since.elapsed() > whole {
                    let withdrawn = store::withdraw_unbegun(db, number).await;
                    if matches!(withdrawn, Ok(true)) {
                        asked.is_over = true;
                        return Err(nobody(node, &labels, whole).await);
                    }
                }
                continue;
            }
            Some(RunnerCallState::Begun) => {
                let begun = *begun.get_or_insert_with(Instant::now);
                let runner = standing.runner.as_deref().unwrap_or("?");
                // Whoever is there says so soon after the database was away.
                lost = lost.filter(|_| standing.is_lost).or(standing.is_lost.then(Instant::now));
                let is_lost = lost.is_some_and(|since: Instant| since.elapsed() > SAYS_SO);
                let why = match is_lost {
                    true => format!(
                        "runner {runner} was not heard of any more while it made the call; whether \
                        it was made is not known"
                    ),
                    false if begun.elapsed() > whole + GRACE => format!(
                        "runner {runner} has not said what came of it within {} s",
                        (whole + GRACE).as_secs()
                    ),
                    false => continue,
                };
                // It may have ended at this very moment.
                let last = store::withdraw(db, number).await;
                asked.is_over = last.is_ok();
                match last {
                    Ok(Some(AskedCall { result: Some(result), .. })) => {
                        return opened(node, &result);
                    }
                    _ => return Err(unknown(why)),
                }
            }
            Some(RunnerCallState::Ended) | None => {
                asked.is_over = store::withdraw(db, number).await.is_ok();
                return opened(node, &standing.result.unwrap_or_default());
            }
        }
    }
}

fn unsent(why: String) -> Failure {
    Failure::lasting(CallEnd::NotSent, why)
}

fn unknown(why: String) -> Failure {
    Failure::new(CallEnd::Unknown, why)
}

fn opened(node: &Node, result: &[u8]) -> Result<RunnerReport, Failure> {
    let text = node.calls.vault.unseal(RESULT, result);
    let said = text.ok().and_then(|text| serde_json::from_str(&text).ok());
    said.ok_or_else(|| unknown("what its runner said cannot be read".into()))
}

/// Why no runner has begun a call in time.
async fn nobody(node: &Node, labels: &Labels, waited: Duration) -> Failure {
    let waited = waited.as_secs_f32();
    let known = runners::all(&node.pools.work).await.unwrap_or_default();
    let covers = |runner: &&RunnerItem| Labels(runner.labels.clone()).cover(labels);
    let of_it: Vec<String> = known.iter().filter(covers).map(last_heard).collect();
    let why = match of_it.is_empty() {
        true => format!(
            "no runner with {labels} is known; an admin makes one known with `arvok runner add \
            NAME --labels {labels}`"
        ),
        false => format!("no runner with {labels} took it within {waited} s: {}", of_it.join(", ")),
    };
    Failure::new(CallEnd::NotSent, why)
}

fn last_heard(runner: &RunnerItem) -> String {
    let RunnerItem { name, lag, calls, .. } = runner;
    match lag {
        None => format!("{name} was never heard of"),
        Some(lag) if *lag < 30.0 => format!("{name} is there and makes {calls} calls"),
        Some(lag) => format!("{name} was last heard of {lag:.0} s ago"),
    }
}

/// What a runner is handed for an order, with what is published here now.
pub(crate) fn work_of(node: &Node, sealed: &[u8]) -> Result<RunnerWork, Failure> {
    let text = node.calls.vault.unseal(ORDER, sealed).map_err(|e| unsent(e.to_string()))?;
    let order: Order = serde_json::from_str(&text)
        .map_err(|e| unsent(format!("another build of a node asked for it: {e}")))?;
    let published = node.published();
    let (named, _) = published
        .catalog
        .get::<Connection>(&order.via)
        .ok_or_else(|| unsent(format!("there is no connection `{}` any more", order.via)))?;
    let connection = match &order.act {
        RunnerAct::Call { operation, .. } => {
            let found = published.catalog.operation(&order.via, operation);
            found.map_err(|missing| unsent(missing.to_string()))?.0
        }
        _ => named,
    };
    let jump = connection.jump.as_ref().and_then(|jump| published.catalog.get::<Connection>(jump));
    let used: Vec<&Connection> =
        std::iter::once(connection).chain(jump.map(|(jump, _)| jump)).collect();
    // Of the one that is only named the secrets stay here.
    let mut described = BTreeSet::new();
    for one in std::iter::once(named).chain(used.iter().copied()) {
        described.insert((Kind::Connection, &one.name));
        described.insert((Kind::Connector, &one.connector));
    }
    let entries = described.iter().filter_map(|(kind, name)| published.catalog.entry(*kind, name));
    let documents = entries.map(|entry| entry.document.text.clone()).collect();
    let mut opened = BTreeMap::new();
    for one in used {
        opened.insert(one.name.clone(), values(&published, one).map_err(unsent)?);
    }
    Ok(RunnerWork {
        act: order.act,
        via: order.via,
        documents,
        opened,
        timeout_ms: order.timeout_ms,
        within_ms: order.within_ms,
        trace: order.trace.map(|trace| trace.to_string()),
    })
}

/// What a connection is filled in with.
fn values(published: &Published, connection: &Connection) -> Result<OpenedValues, String> {
    let scope = SecretScope::of(published, Kind::Connection, &connection.name);
    let mut opened = OpenedValues {
        trusted: published.host_keys.get(&connection.name).cloned().unwrap_or_default(),
        ..OpenedValues::default()
    };
    for name in connection.secrets() {
        opened.secrets.insert(name.clone(), scope.secret(&name)?.to_owned());
    }
    for name in connection.settings() {
        opened.settings.insert(name.clone(), scope.setting(&name)?.to_owned());
    }
    Ok(opened)
}

/// Whether a connection through runners could be used, apart from them: its address, or what is
/// missing here.
pub(super) fn address(published: &Published, connection: &Connection) -> Result<String, String> {
    values(published, connection)?;
    SecretScope::of(published, Kind::Connection, &connection.name).fill(&connection.base)
}

/// Seals what a runner said.
pub(crate) fn sealed(node: &Node, said: &RunnerReport) -> Result<Vec<u8>, String> {
    let text = serde_json::to_string(said).map_err(|e| e.to_string())?;
    node.calls.vault.seal(RESULT, &text).map_err(|e| e.to_string())
}

/// A claim that nobody can guess.
pub(crate) fn new_claim() -> String {
    random::secret_text("")
}
