//! Scripts of steps: run on this node, so many at once.

use super::{
    CallResult, hide, live,
    permits::{self, Permit, Turns},
};
use crate::{
    metrics::{CallLabel, ConnectionLabel},
    node::{Node, SecretScope},
};
use arvok_api::CallState;
use arvok_connect::{CallOutcome, Called, ScriptCall};
use arvok_core::{
    Kind, Period,
    connector::{Failure, Repeat},
    script::{Script, USUAL_TIME},
};
use arvok_store::calls::{self, Allowed, Caller};
use serde_json::{Map, Value};
use std::time::{Duration, Instant};

/// What stands for the connection in the counts of calls.
const SCRIPTS: &str = "scripts";

/// A script that is to be run.
#[derive(Debug)]
pub(crate) struct ScriptOut<'a> {
    /// The runbook in which it stands.
    pub runbook: &'a str,
    pub script: &'a Script,
    pub give: &'a Map<String, Value>,
    /// How long it may run; none: as is usual.
    pub timeout: Option<Period>,
    /// For whom it runs.
    pub caller: Caller,
    /// Addresses that no record may have, and what stands in their place.
    pub hidden: &'a [(String, &'static str)],
}

/// Runs a script when its turn has come; what came of it, and whether doing it twice is harmless.
pub(crate) async fn run(node: &Node, out: ScriptOut<'_>) -> (CallResult, Repeat) {
    let (repeat, begun) = (out.script.repeat(), Instant::now());
    let outcome = match perform(node, &out).await {
        Ok(CallResult::Ended(ended)) => hide(*ended, out.hidden),
        Ok(queued @ CallResult::Queued(_)) => return (queued, repeat),
        Err(failure) => CallOutcome::unsent(failure),
    };
    let ended = match &outcome.called {
        Ok(Called::Output(_)) => CallState::Done,
        Ok(Called::Later(_)) => CallState::Later,
        Err(failure) => CallState::from(failure.end),
    };
    let connection = SCRIPTS.to_owned();
    let work = &node.metrics.work;
    work.call_seconds
        .get_or_create(&ConnectionLabel { connection: connection.clone() })
        .observe(begun.elapsed().as_secs_f64());
    work.calls.get_or_create(&CallLabel { connection, ended: ended.as_str() }).inc();
    (CallResult::Ended(Box::new(outcome)), repeat)
}

async fn perform(node: &Node, out: &ScriptOut<'_>) -> Result<CallResult, Failure> {
    let (settings, published) = (node.calls.scripts.load_full(), node.published());
    let scope = SecretScope::of(&published, Kind::Runbook, out.runbook);
    let secrets = out.script.secrets().iter();
    let secrets = secrets.map(|secret| Ok((secret.name.clone(), scope.fill(&secret.value)?)));
    let secrets: Vec<_> = secrets.collect::<Result<_, _>>().map_err(super::unsent)?;
    let timeout = Duration::from_millis(out.timeout.unwrap_or(USUAL_TIME).millis());
    // No connection has such a name.
    let name = format!("{SCRIPTS} of {}", node.name);
    let allowed = Allowed { at_once: Some(settings.at_once), rate: None };
    let turns = Turns { name: &name, allowed };
    let slot = match permits::permit(node, turns, &out.caller, timeout).await? {
        Permit::Granted(slot) => slot,
        Permit::Queued(until) => return Ok(CallResult::Queued(until)),
    };
    // It may have stood in the queue of another node before.
    if let Caller::Step { job, place, .. } = &out.caller
        && let Err(e) = calls::leave(&node.pools.work, *job, vec![place.to_string()]).await
    {
        tracing::warn!(job = job.0, "a place in a queue of scripts ends by itself later: {e}");
    }
    let outcome = live::shown_live(node, &out.caller, async |live| {
        let call =
            ScriptCall { script: out.script, give: out.give, secrets: &secrets, timeout, live };
        node.calls.drivers.script(call, &settings.rights(), &published.redactor).await
    });
    let outcome = outcome.await;
    permits::over(node, slot).await;
    Ok(CallResult::Ended(Box::new(outcome)))
}
