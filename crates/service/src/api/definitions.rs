//! Definitions: lists, texts, schemas, publishing.

use super::{
    ApiError, MAX_PUBLICATION,
    automation::{self, Right},
    calendars,
    caller::Caller,
};
use crate::{
    calls, clock,
    node::{Node, Published},
};
use actix_web::{HttpResponse, get, post, web};
use arvok_api::{
    Change, ChangeKind, DefinitionDetail, DefinitionItem, DefinitionName, ExpectedVersion,
    HeartbeatItem, JobFilter, Page, PlannedChange, PollState, Problem, PublishRequest,
    PublishResult, SenderLineItem, Use, VersionItem,
};
use arvok_core::{
    Kind, Role,
    calendar::NamedCalendar,
    catalog::{self, Checked, Entry, Observed},
    connector::{Connection, Connector, Credential},
    rule::Rule,
    runbook::Runbook,
    script::Script,
    settle,
    source::{BROKER_HOST, BROKER_PORT, BROKER_URL, Intake, Poll, Source},
    text::{cut, hint},
};
use arvok_store::{
    StoreError,
    definitions::{self as store, Awaited, NewVersion},
    entity::definition::{StoredPart, StoredParts},
    heartbeats, nodes, polls, read,
    secrets::{self, Approval},
    timers::{self, TimerKind},
};
use chrono::{DateTime, Utc};
use sha2::{Digest, Sha256};
use std::{
    collections::{BTreeMap, BTreeSet},
    sync::Arc,
};

/// Most files of one publication.
const MAX_FILES: usize = 1000;
/// Most bytes that are shown of what is remembered of a look.
const SHOWN_CURSOR: usize = 400;
/// Most senders of heartbeats that are shown of a source.
const SHOWN_SENDERS: i64 = 200;

fn kind(word: &str) -> Result<Kind, ApiError> {
    Kind::parse(word).ok_or_else(|| {
        ApiError::NotFound(format!(
            "kind `{word}`; the kinds are {}",
            Kind::ALL.map(Kind::as_str).join(", ")
        ))
    })
}

async fn used(node: &Node, kind: Kind) -> Result<BTreeMap<String, Use>, ApiError> {
    Ok(match kind {
        Kind::Source => read::source_use(&node.pools.questions).await?,
        Kind::Rule => read::rule_use(&node.pools.questions).await?,
        Kind::Runbook => read::runbook_use(&node.pools.questions).await?,
        Kind::Step
        | Kind::Connector
        | Kind::Connection
        | Kind::Subscriber
        | Kind::Contact
        | Kind::Calendar
        | Kind::Group
        | Kind::Guard
        | Kind::Plan => BTreeMap::new(),
    })
}

fn item(node: &Node, entry: &Entry, used: &BTreeMap<String, Use>) -> Option<DefinitionItem> {
    let published = node.published();
    let stamp = published.stamps.get(&(entry.kind, entry.name.clone()))?;
    let rule = entry.as_kind::<Rule>();
    Some(DefinitionItem {
        name: entry.name.clone(),
        summary: entry.definition.summary().map(str::to_owned),
        version: entry.version,
        file: entry.document.file.clone(),
        published_at: stamp.at,
        published_by: stamp.by.clone(),
        stance: rule.map(|r| r.stance),
        runbook: rule.map(|r| r.runbooks()),
        used: used.get(&entry.name).cloned().unwrap_or_default(),
    })
}

/// What is published of one kind: `source`, `rule`, `runbook`, `connector`, `connection`,
/// `subscriber`, `contact`, `calendar`, `group`, `guard`, `plan`.
#[utoipa::path(operation_id = "listDefinitions", tag = "definitions", params(("kind" = String,
    Path)),
    responses((status = 200, body = Page<DefinitionItem>), (status = 404, body = Problem)))]
#[get("/definitions/{kind}")]
pub(super) async fn list(
    node: web::Data<Node>,
    _caller: Caller,
    word: web::Path<String>,
) -> Result<web::Json<Page<DefinitionItem>>, ApiError> {
    let kind = kind(&word)?;
    let used = used(&node, kind).await?;
    let published = node.published();
    let items = published.catalog.entries(kind).filter_map(|e| item(&node, e, &used)).collect();
    Ok(web::Json(Page { items, next: None, bounded: false }))
}

/// One published definition with its text.
#[utoipa::path(operation_id = "showDefinition", tag = "definitions", params(("kind" = String, Path),
    ("name" = String, Path)),
    responses((status = 200, body = DefinitionDetail), (status = 404, body = Problem)))]
#[get("/definitions/{kind}/{name}")]
pub(super) async fn one(
    node: web::Data<Node>,
    caller: Caller,
    path: web::Path<(String, String)>,
) -> Result<web::Json<DefinitionDetail>, ApiError> {
    let (word, name) = path.into_inner();
    let kind = kind(&word)?;
    let published = node.published();
    let missing = || ApiError::NotFound(format!("{kind} `{}`", arvok_core::text::cut(&name, 64)));
    let entry = published.catalog.entry(kind, &name).ok_or_else(missing)?;
    let item = item(&node, entry, &used(&node, kind).await?).ok_or_else(missing)?;
    let verdicts = if kind == Kind::Rule {
        read::verdict_counts(&node.pools.questions, &name).await?
    } else {
        Vec::new()
    };
    let filter = match kind {
        Kind::Rule => {
            Some(JobFilter { rule: Some(name.clone()), limit: Some(20), ..JobFilter::default() })
        }
        Kind::Runbook => {
            Some(JobFilter { runbook: Some(name.clone()), limit: Some(20), ..JobFilter::default() })
        }
        _ => None,
    };
    let mut jobs = match filter {
        Some(filter) => read::jobs(&node.pools.questions, filter).await?.items,
        None => Vec::new(),
    };
    super::job_steps::set_doing(&mut jobs, &[]);
    let named = |(kind, name): (Kind, &str)| DefinitionName {
        kind: kind.as_str().into(),
        name: name.into(),
    };
    let used_by = published.catalog.used_by(kind, &name).into_iter().map(named).collect();
    let followers = entry.as_kind::<Rule>().map(|rule| published.catalog.followers(rule));
    let followed_by = followers.into_iter().flatten().map(named).collect();
    let source = published
        .catalog
        .get::<Source>(&name)
        .map(|(source, _)| source)
        .filter(|_| kind == Kind::Source);
    let listeners = match source.filter(|source| source.intake.http().is_none()) {
        Some(_) => node
            .listeners
            .as_they_stand(nodes::listeners(&node.pools.questions, &name).await?, &name),
        None => Vec::new(),
    };
    let timer = source.and_then(|source| match &source.intake {
        Intake::Schedule(_) => Some(TimerKind::Schedule),
        Intake::Poll(_) => Some(TimerKind::Poll),
        _ => None,
    });
    let next_due = match timer {
        Some(kind) => timers::due(&node.pools.questions, kind, &name).await?,
        None => None,
    };
    let poll = match source.and_then(|source| source.intake.poll()) {
        Some(poll) => Some(poll_state(&node, &name, poll).await?),
        None => None,
    };
    let heartbeats = match source.and_then(|source| source.intake.heartbeat()) {
        Some(_) => heartbeats::list(&node.pools.questions, &name, SHOWN_SENDERS).await?,
        None => Vec::new(),
    };
    let heartbeats = heartbeats.into_iter().map(|row| HeartbeatItem {
        name: row.name,
        last_at: row.last_at,
        missing: row.missing,
    });
    let broker = source.and_then(|source| broker_address(&published, source));
    let sender_lines = source.map(Source::sender_lines).unwrap_or_default().into_iter();
    let sender_lines = sender_lines.map(|line| SenderLineItem {
        title: line.title,
        text: broker
            .iter()
            .flatten()
            .fold(line.text, |text, (name, part)| text.replace(name, part)),
    });
    let calendar = match entry.as_kind::<NamedCalendar>() {
        Some(named) => Some(calendars::state(&node, &caller, named.clone()).await?),
        None => None,
    };
    let read_by_default = source.and_then(Source::default_read);
    let text = entry.document.text.clone();
    Ok(web::Json(DefinitionDetail {
        item,
        text,
        verdicts,
        used_by,
        followed_by,
        jobs,
        listeners,
        next_due,
        poll,
        sender_lines: sender_lines.collect(),
        heartbeats: heartbeats.collect(),
        calendar,
        read_by_default,
    }))
}

/// What stands for the parts of a broker's address in the lines of its senders.
fn broker_address(published: &Published, source: &Source) -> Option<[(&'static str, String); 3]> {
    let (connection, _) = published.catalog.get::<Connection>(source.intake.via()?)?;
    let base = calls::address(published, connection).ok()?;
    let (scheme, rest) = base.split_once("://")?;
    let (at, _) = rest.split_once('/').unwrap_or((rest, ""));
    let usual = match scheme {
        "mqtt" => "1883",
        "mqtts" => "8883",
        _ => "",
    };
    let (host, port) = at.rsplit_once(':').unwrap_or((at, usual));
    let [host, port] = [host, port].map(str::to_owned);
    Some([(BROKER_HOST, host), (BROKER_PORT, port), (BROKER_URL, base)])
}

/// How the messages of a source are fetched.
async fn poll_state(node: &Node, name: &str, poll: &Poll) -> Result<PollState, ApiError> {
    let last = polls::last(&node.pools.questions, name, &poll.fingerprint()).await?;
    let (looked_at, cursor) = last.map(|last| (last.looked_at, last.cursor)).unzip();
    let cursor = cursor.filter(|cursor| !cursor.is_null()).map(|cursor| cursor.to_string());
    let redactor = &node.published().redactor;
    Ok(PollState {
        operation: format!("{} via {}", poll.operation, poll.via),
        every: poll.every.to_string(),
        looked_at,
        cursor: cursor.map(|cursor| cut(&redactor.text(&cursor), SHOWN_CURSOR).to_owned()),
        failure: timers::failure(&node.pools.questions, TimerKind::Poll, name).await?,
    })
}

/// All versions of a definition, newest first, 200 at most.
#[utoipa::path(operation_id = "listVersions", tag = "definitions", params(("kind" = String, Path),
    ("name" = String, Path)),
    responses((status = 200, body = Page<VersionItem>), (status = 404, body = Problem)))]
#[get("/definitions/{kind}/{name}/versions")]
pub(super) async fn history(
    node: web::Data<Node>,
    _caller: Caller,
    path: web::Path<(String, String)>,
) -> Result<web::Json<Page<VersionItem>>, ApiError> {
    let (word, name) = path.into_inner();
    let kind = kind(&word)?;
    let items = store::versions(&node.pools.questions, kind.as_str(), &name).await?;
    if items.is_empty() {
        return Err(ApiError::NotFound(format!("{kind} `{}`", arvok_core::text::cut(&name, 64))));
    }
    Ok(web::Json(Page { items, next: None, bounded: false }))
}

/// The JSON Schema of one kind of document, for editors. Needs no token.
#[utoipa::path(
    operation_id = "showSchema", tag = "definitions", params(("kind" = String, Path)),
    responses((status = 200, body = Object), (status = 404, body = Problem))
)]
#[get("/schemas/{kind}")]
pub(super) async fn schema(word: web::Path<String>) -> Result<HttpResponse, ApiError> {
    let kind = kind(word.trim_end_matches(".json"))?;
    Ok(HttpResponse::Ok()
        .content_type("application/schema+json")
        .body(catalog::schema(kind).to_string()))
}

/// Publishes files of definitions and withdraws others, all or nothing; or only says what would
/// change. What would stand afterwards is checked whole.
///
/// Only an admin may publish a connection that names a secret and has a new base address: the
/// secret goes there.
#[utoipa::path(operation_id = "publish", tag = "definitions", request_body = PublishRequest,
    responses((status = 200, body = PublishResult), (status = 400, body = Problem), (status = 403,
        body = Problem),
        (status = 404, body = Problem), (status = 409, body = Problem), (status = 413,
            body = Problem), (status = 422, body = Problem)))]
#[post("/publish")]
pub(super) async fn publish(
    node: web::Data<Node>,
    caller: Caller,
    payload: web::Payload,
) -> Result<web::Json<PublishResult>, ApiError> {
    caller.must(Role::Author)?;
    let body = super::body::read(payload, MAX_PUBLICATION).await?;
    let request: PublishRequest = serde_json::from_slice(&body)
        .map_err(|e| ApiError::BadRequest(format!("the body is not as expected: {e}")))?;
    if request.files.len() > MAX_FILES || request.withdraw.len() > MAX_FILES {
        return Err(ApiError::BadRequest(format!(
            "{} files; {MAX_FILES} are allowed at once",
            request.files.len()
        )));
    }
    node.know(store::generation(&node.pools.questions).await?).await?;
    let published = node.published();
    let gone = withdrawn(&request, &published)?;
    let texts: Vec<&str> = request.files.iter().map(|f| f.text.as_str()).collect();
    let seen = Observed {
        secrets: Some(bindings(&published)),
        ..read::observed(&node.pools.questions, &texts).await?
    };
    let expects = request.expects.clone();
    let (checking, leaving, dry_run) = (Arc::clone(&published), gone.clone(), request.dry_run);
    let right = Right::of(&caller)?;
    let check = move || {
        let files = request.files.iter().map(|f| (f.file.as_str(), f.text.as_str()));
        let checked = catalog::check_files(files, &leaving, &checking.catalog, &seen);
        let acts = match checked.problems.is_empty() {
            true => automation::acts(&checked, &leaving, &checking.catalog, &right),
            false => Vec::new(),
        };
        (checked, acts)
    };
    let (checked, acts) = if dry_run {
        node.capacity.evaluate(&caller.0, check).await?
    } else {
        node.capacity.evaluate_publication(check).await?
    };
    let mut plan = PublishResult { acts, ..plan(&checked, &gone, &published.catalog) };
    as_expected(&plan, &expects)?;
    let lacking = plan.acts.iter().find_map(|acts| acts.lacking.clone());
    if let (false, Some(lacking)) = (dry_run, lacking) {
        return Err(ApiError::Automate(lacking));
    }
    if !dry_run && plan.problems.is_empty() {
        let approved = approvals(&node, &caller, &checked, &published).await?;
        plan.published = true;
        put(&node, &caller, (&checked, &gone, approved), &published).await?;
    } else if !dry_run {
        return Err(ApiError::Definitions(plan.problems));
    }
    Ok(web::Json(plan))
}

/// That what comes of it is what whoever publishes has looked at.
fn as_expected(plan: &PublishResult, expects: &[ExpectedVersion]) -> Result<(), ApiError> {
    for change in &plan.changes {
        let expected = expects.iter().find(|e| e.kind == change.kind && e.name == change.name);
        if let Some(expected) = expected.filter(|e| e.version != change.version) {
            return Err(ApiError::Conflict(format!(
                "somebody else has published {} {} meanwhile: this would be version {} and not {}; \
                look at the changes again",
                change.kind, change.name, change.version, expected.version
            )));
        }
    }
    Ok(())
}

/// That nothing of a kind has this name, and which was most likely meant.
pub(super) fn unknown(published: &Published, kind: Kind, name: &str) -> ApiError {
    let known = published.catalog.entries(kind).map(|e| e.name.as_str());
    ApiError::NotFound(format!("{kind} `{}`{}", cut(name, 64), hint(name, known)))
}

/// What is to be withdrawn, as far as it stands.
fn withdrawn(
    request: &PublishRequest,
    published: &Published,
) -> Result<Vec<(Kind, String)>, ApiError> {
    let named = request.withdraw.iter().map(|name| {
        let kind = kind(&name.kind)?;
        if published.catalog.entry(kind, &name.name).is_none() {
            return Err(unknown(published, kind, &name.name));
        }
        Ok((kind, name.name.clone()))
    });
    named.collect()
}

/// Where each secret may go.
fn bindings(published: &Published) -> BTreeMap<String, BTreeSet<String>> {
    published.secrets.iter().map(|(name, secret)| (name.clone(), secret.allowed.clone())).collect()
}

/// What is approved by whoever publishes a connection: that each of its secrets goes to its
/// addresses, under its authorities, whether nodes or runners keep it; of a session, that its
/// connector opens it as it does.
pub(crate) fn approvals_of(
    connection: &Connection,
    connector: Option<&Connector>,
) -> Vec<Approval> {
    let opens = matches!(connection.credential, Some(Credential::Session(_)));
    let session = connector.filter(|_| opens).and_then(|connector| connector.session.as_ref());
    let opened_by = session
        .map(|session| Some(format!("session {}", hex::encode(Sha256::digest(&session.written)))));
    let shown_to: Vec<_> = connection.shown_to.iter().cloned().chain(opened_by).collect();
    let shown_to = serde_json::json!(shown_to).to_string();
    let of = |secret| Approval {
        secret,
        connection: connection.name.clone(),
        shown_to: shown_to.clone(),
    };
    connection.named_secrets().into_iter().map(of).collect()
}

/// What is approved by whoever publishes a runbook: that each secret of its scripts goes to them,
/// word for word.
fn approvals_of_scripts(runbook: &Runbook) -> Vec<Approval> {
    let of = |script: &Script| {
        let shown_to = Sha256::digest(serde_json::json!(script.shown_to()).to_string());
        let shown_to = serde_json::json!([script.line(), hex::encode(shown_to)]).to_string();
        let connection = format!("{}/{}", Kind::Runbook, runbook.name);
        let names = script.secrets().iter().flat_map(|secret| secret.value.calls("secret"));
        let names: BTreeSet<String> = names.flatten().collect();
        let approval = move |secret| Approval {
            secret,
            connection: connection.clone(),
            shown_to: shown_to.clone(),
        };
        names.into_iter().map(approval).collect::<Vec<_>>()
    };
    runbook.scripts().into_iter().flat_map(of).collect()
}

/// An address, or who vouches for it, decides where a secret goes, so only who sets secrets may say
/// so. What an admin has said is kept with the secret, and each version is compared with that and
/// not with the version before; what is new by this publication.
async fn approvals(
    node: &Node,
    caller: &Caller,
    checked: &Checked,
    published: &Published,
) -> Result<Vec<Approval>, ApiError> {
    let connections = || checked.entries.iter().filter_map(|e| e.as_kind::<Connection>());
    let connectors = || checked.entries.iter().filter_map(|e| e.as_kind::<Connector>());
    // Whoever changes how sessions are opened says where in a request the secret stands.
    let others = published.catalog.all::<Connection>().map(|(connection, _)| connection).filter(
        |connection| {
            matches!(connection.credential, Some(Credential::Session(_)))
                && connectors().any(|connector| connector.name == connection.connector)
                && connections().all(|other| other.name != connection.name)
        },
    );
    let mut wanted: Vec<Approval> = connections()
        .chain(others)
        .flat_map(|connection| {
            let name = &connection.connector;
            let new = connectors().find(|connector| connector.name == *name);
            let stands =
                || published.catalog.get::<Connector>(name).map(|(connector, _)| connector);
            approvals_of(connection, new.or_else(stands))
        })
        .collect();
    let runbooks = checked.entries.iter().filter_map(|e| e.as_kind::<Runbook>());
    wanted.extend(runbooks.flat_map(approvals_of_scripts));
    if wanted.is_empty() {
        return Ok(wanted);
    }
    let approved = secrets::approvals(&node.pools.questions).await?;
    wanted.retain(|way| !approved.contains(way));
    match wanted.first() {
        Some(new) if caller.0.role < Role::Admin => Err(ApiError::Address(new.connection.clone())),
        _ => Ok(wanted),
    }
}

async fn put(
    node: &Node,
    caller: &Caller,
    (checked, gone, approved): (&Checked, &[(Kind, String)], Vec<Approval>),
    published: &Published,
) -> Result<(), ApiError> {
    let now = clock::now();
    let changed: Vec<&Arc<Entry>> =
        checked.entries.iter().filter(|e| is_new(e, &published.catalog)).collect();
    let ended = gone.iter().filter_map(|(kind, name)| {
        let version = published.catalog.next_version(*kind, name);
        Some(NewVersion { version, ..new_version(published.catalog.entry(*kind, name)?) })
    });
    let publication = store::Publication {
        generation: published.generation,
        awaited: awaited(changed.iter().copied(), now),
        versions: changed.iter().map(|e| new_version(e)).collect(),
        withdrawn: ended.collect(),
        approved,
    };
    if publication.versions.is_empty()
        && publication.withdrawn.is_empty()
        && publication.approved.is_empty()
    {
        return Ok(());
    }
    match store::publish(&node.pools.work, publication, &caller.principal(), now).await {
        Ok(()) => {}
        Err(StoreError::Stale(_)) => {
            let meanwhile = store::since(&node.pools.questions, published.loaded_at).await?;
            let what =
                if meanwhile.is_empty() { "secrets".to_owned() } else { meanwhile.join(", ") };
            let said =
                format!("somebody else has published meanwhile: {what}; look at the changes again");
            return Err(ApiError::Conflict(said));
        }
        Err(e) => return Err(e.into()),
    }
    node.announcer.tell(Change {
        definitions: true,
        verdicts: !gone.is_empty(),
        ..Change::default()
    });
    // It is published, whether or not this node can load it at this moment; it looks again in a
    // second.
    if let Err(e) = node.reload().await {
        tracing::warn!("what was published cannot be loaded yet: {e}");
    }
    // Whoever sends right after it is heard.
    let changes = changed.iter().any(|entry| entry.kind == Kind::Source)
        || gone.iter().any(|(kind, _)| *kind == Kind::Source);
    if changes && node.calls.key_fault.is_none() {
        node.listeners.settled(node.published().generation).await;
    }
    tracing::info!(by = caller.0.name, "published");
    Ok(())
}

/// What new versions of rules begin to wait for.
fn awaited<'a>(changed: impl Iterator<Item = &'a Arc<Entry>>, now: DateTime<Utc>) -> Vec<Awaited> {
    let rules = changed.filter_map(|entry| entry.as_kind::<Rule>());
    let of = |rule: &Rule| {
        let waiting = settle::awaiting(rule, now).into_iter();
        waiting
            .map(|(key, tally)| Awaited { rule: rule.name.clone(), key, tally })
            .collect::<Vec<_>>()
    };
    rules.flat_map(of).collect()
}

fn is_new(entry: &Entry, published: &catalog::Catalog) -> bool {
    published.entry(entry.kind, &entry.name).is_none_or(|before| before.version != entry.version)
}

fn new_version(entry: &Entry) -> NewVersion {
    NewVersion {
        kind: entry.kind.as_str().to_owned(),
        name: entry.name.clone(),
        version: entry.version,
        file: entry.document.file.clone(),
        text: entry.document.text.clone(),
        parts: StoredParts(
            entry
                .document
                .parts
                .iter()
                .map(|(name, part)| {
                    let (version, text) = (part.version, part.document.text.clone());
                    (name.clone(), StoredPart { version, text })
                })
                .collect(),
        ),
    }
}

/// The shared steps that a definition was published with, which are others by now.
fn changed_steps(before: Option<&Arc<Entry>>, after: &Entry) -> Vec<String> {
    let before = before.map(|entry| &entry.document.parts);
    let is_new = |name: &String, version: i32| {
        before.is_some_and(|parts| parts.get(name).is_some_and(|part| part.version != version))
    };
    let parts = after.document.parts.iter();
    parts.filter(|(name, part)| is_new(name, part.version)).map(|(name, _)| name.clone()).collect()
}

fn plan(checked: &Checked, gone: &[(Kind, String)], published: &catalog::Catalog) -> PublishResult {
    let end = |(kind, name): &(Kind, String)| PlannedChange {
        kind: kind.as_str().to_owned(),
        name: name.clone(),
        change: ChangeKind::Withdrawn,
        version: published.next_version(*kind, name),
        before: published.entry(*kind, name).map(|e| e.document.text.clone()),
        after: None,
        steps: Vec::new(),
    };
    let change = |entry: &Arc<Entry>| {
        let kind = entry.kind;
        let before = published.entry(kind, &entry.name);
        let change = match before {
            None => ChangeKind::New,
            Some(b) if b.version == entry.version => ChangeKind::Same,
            Some(_) => ChangeKind::Changed,
        };
        let shown = change == ChangeKind::Changed;
        PlannedChange {
            kind: kind.as_str().to_owned(),
            name: entry.name.clone(),
            change,
            version: entry.version,
            before: before.filter(|_| shown).map(|b| b.document.text.clone()),
            after: shown.then(|| entry.document.text.clone()),
            steps: changed_steps(before, entry),
        }
    };
    PublishResult {
        published: false,
        changes: checked.entries.iter().map(change).chain(gone.iter().map(end)).collect(),
        problems: checked.problems.iter().cloned().map(Into::into).collect(),
        warnings: checked.warnings.iter().cloned().map(Into::into).collect(),
        acts: Vec::new(),
    }
}
