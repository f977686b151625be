//! Performs what a node asks for, by the documents that come with it, with the drivers that nodes
//! use.

use crate::own_secrets::OwnSecrets;
use arvok_api::{OpenedValues, RunnerAct, RunnerAnswer, RunnerFailure, RunnerResult, RunnerWork};
use arvok_connect::{
    Call, CallOutcome, Called, Drivers, LiveOutput, Opening, Ready, Redactor, Way,
};
use arvok_core::{
    Catalog, TraceContext,
    catalog::{self, Entry},
    connector::{Answer, CallEnd, CallbackAt, Connection, Failure},
    document::parse_file,
    expr::{Scope, Template, Val},
    text::cut,
};
use serde_json::Value;
use std::{
    collections::BTreeMap,
    sync::{Arc, Mutex, PoisonError},
    time::Duration,
};

/// Longest body of an answer that is told, in bytes: a little more than nodes keep.
const LONGEST_BODY: usize = 32 << 10;
/// Sets of documents that are kept compiled.
const KEPT: usize = 64;

/// What documents describe, compiled once.
#[derive(Default)]
pub struct Described(Mutex<BTreeMap<Vec<String>, Arc<Catalog>>>);

impl Described {
    fn of(&self, documents: &[String]) -> Result<Arc<Catalog>, String> {
        let mut kept = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        if let Some(catalog) = kept.get(documents) {
            return Ok(Arc::clone(catalog));
        }
        if kept.len() >= KEPT {
            kept.clear();
        }
        let catalog = Arc::new(compile(documents)?);
        kept.insert(documents.to_vec(), Arc::clone(&catalog));
        Ok(catalog)
    }
}

fn compile(documents: &[String]) -> Result<Catalog, String> {
    let mut entries = Vec::new();
    for text in documents {
        let parsed = parse_file("published", text).map_err(|e| e.to_string())?;
        for document in parsed {
            let (kind, definition) = catalog::check_document(&document).map_err(|problems| {
                problems.first().map_or_else(String::new, ToString::to_string)
            })?;
            let name = document.name.clone();
            let document = Arc::new(document);
            entries.push(Arc::new(Entry { name, version: 1, document, kind, definition }));
        }
    }
    Ok(Catalog::new(entries))
}

/// What one connection is filled in with.
struct Filling<'a> {
    opened: Option<&'a OpenedValues>,
    own: &'a OwnSecrets,
    connection: &'a Connection,
    /// The address, where it is known already.
    base: Option<&'a str>,
}

impl<'a> Scope<'a> for Filling<'_> {
    fn name(&'a self, _: &str) -> Option<Val<'a>> {
        None
    }

    fn call(&'a self, function: &str, args: &[Val<'a>]) -> Option<Result<Val<'a>, String>> {
        let Some(Val::Str(name)) = args.first() else { return None };
        let name = name.as_ref();
        let found = match function {
            "secret" if self.connection.runner_secrets.contains(name) => match self.base {
                Some(base) => self.own.open(name, self.connection, base),
                None => Err("an address is made of no secret of a runner".to_owned()),
            },
            "secret" => self.given(name, |opened| &opened.secrets),
            "setting" => self.given(name, |opened| &opened.settings),
            _ => return None,
        };
        Some(found.map(Val::str))
    }
}

impl Filling<'_> {
    fn given(
        &self,
        name: &str,
        of: impl Fn(&OpenedValues) -> &BTreeMap<String, String>,
    ) -> Result<&str, String> {
        let value = self.opened.and_then(|opened| of(opened).get(name));
        value.map(String::as_str).ok_or_else(|| format!("the node gave no `{name}` with the call"))
    }
}

fn fill(
    work: &RunnerWork,
    own: &OwnSecrets,
    catalog: &Catalog,
    (name, template): (&str, &Template),
) -> Result<String, String> {
    let (connection, _) = catalog
        .get::<Connection>(name)
        .ok_or_else(|| format!("there is no connection `{name}`"))?;
    let opened = work.opened.get(name);
    let text = |template: &Template, base: Option<&str>| {
        let filling = Filling { opened, own, connection, base };
        template.fill_text(&filling).map_err(|e| e.to_string())
    };
    let base = text(&connection.base, None)?;
    text(template, Some(&base))
}

/// An answer as people see it: as much of it as is kept anywhere.
fn shown(Answer { status, headers, body }: Answer) -> RunnerAnswer {
    let is_long = |value: &Value| value.to_string().len() > LONGEST_BODY;
    let headers = Some(headers).filter(|headers| !is_long(&Value::Object(headers.clone())));
    let body = match is_long(&body) {
        true => Value::String(format!("{}…", cut(&body.to_string(), LONGEST_BODY))),
        false => body,
    };
    RunnerAnswer { status, headers: headers.unwrap_or_default(), body }
}

fn unsent(why: String) -> Failure {
    Failure::lasting(CallEnd::NotSent, why)
}

/// Performs it; what came of it, and the last answer that came.
pub async fn perform(
    drivers: &Drivers,
    described: &Described,
    own: &OwnSecrets,
    work: &RunnerWork,
    live: LiveOutput<'_>,
) -> (RunnerResult, Option<RunnerAnswer>) {
    match made(drivers, described, own, work, live).await {
        Ok(made) => made,
        Err(failure) => {
            let failure = Failure { message: own.hidden(&failure.message), ..failure };
            (RunnerResult::Failed(RunnerFailure::from(failure)), None)
        }
    }
}

async fn made(
    drivers: &Drivers,
    described: &Described,
    own: &OwnSecrets,
    work: &RunnerWork,
    live: LiveOutput<'_>,
) -> Result<(RunnerResult, Option<RunnerAnswer>), Failure> {
    let cannot = |why: String| {
        unsent(format!(
            "its runner, of build {}, cannot read what is published: {why}; it is to be as new as \
            the node",
            env!("CARGO_PKG_VERSION")
        ))
    };
    let catalog = described.of(&work.documents).map_err(cannot)?;
    let connection = match &work.act {
        RunnerAct::Call { operation, .. } => {
            catalog.operation(&work.via, operation).map_err(|e| unsent(e.to_string()))?.0
        }
        RunnerAct::Look | RunnerAct::HostKey { .. } => {
            let found = catalog.get::<Connection>(&work.via);
            found.ok_or_else(|| unsent(format!("there is no connection `{}`", work.via)))?.0
        }
    };
    let trusted: BTreeMap<_, _> =
        work.opened.iter().map(|(name, opened)| (name.clone(), opened.trusted.clone())).collect();
    let fill = |name: &str, template: &Template| fill(work, own, &catalog, (name, template));
    let opening = Opening { catalog: &catalog, trusted: &trusted, fill: &fill };
    let ready = Ready::new(&opening, connection).map_err(unsent)?;
    let millis = Duration::from_millis;
    let way = Way {
        live,
        trace: work.trace.as_deref().and_then(TraceContext::parse),
        ..ready.way(millis(work.timeout_ms))
    };
    match &work.act {
        RunnerAct::Call { operation, give, key, callback } => {
            let (_, operation) =
                catalog.operation(&work.via, operation).map_err(|e| unsent(e.to_string()))?;
            let callback = callback
                .as_ref()
                .map(|at| CallbackAt { address: at.address.clone(), key: at.key.clone() });
            let opened = work.opened.values().flat_map(|opened| opened.secrets.values());
            let known = opened.map(String::as_str).chain(own.values()).map(str::to_owned);
            let redactor = Redactor::new(known);
            let call = Call {
                operation,
                give,
                key,
                callback: callback.as_ref(),
                way,
                within: work.within_ms.map(millis),
                redactor: &redactor,
            };
            let CallOutcome { called, answer } = drivers.call(call).await;
            let result = match called {
                Ok(Called::Output(output)) => RunnerResult::Output { output },
                Ok(Called::Later(_)) => RunnerResult::Later,
                Err(failure) => RunnerResult::Failed(failure.into()),
            };
            Ok((result, answer.map(shown)))
        }
        RunnerAct::Look => Ok((RunnerResult::Seen { text: drivers.probe(way).await? }, None)),
        RunnerAct::HostKey { host } => {
            let key = drivers.host_key(way, host.as_deref()).await?;
            let result = RunnerResult::HostKey {
                machine: key.machine,
                algorithm: key.algorithm,
                fingerprint: key.fingerprint,
            };
            Ok((result, None))
        }
    }
}
