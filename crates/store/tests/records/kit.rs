//! What these tests stand on: one PostgreSQL for the whole run, an empty database for each test,
//! and a way to take alerts by rules without a node.

use arvok_core::{
    Alert, Catalog, JobId, Kind, NewAlert, Principal,
    alert::Received,
    catalog::{Observed, check_files},
    guard::Guards,
    job::Progress,
    matcher::Matcher,
    mute::Mute,
};
use arvok_postgres::{PostgresError, Scratch};
use arvok_store::{
    ConnectionTrait, DatabaseConnection, Purpose, StoreError, connect,
    definitions::{self, NewVersion, Publication},
    intake::{self, Payload, Rules, TakenBatch, Writer},
    jobs::{self, Claim, Claimed, ClaimedJob, ClaimedRecord, First, Limited, Record, Search},
    mutes, schema,
};
use chrono::{DateTime, SubsecRound, TimeDelta, Utc};
use sea_orm::{DbBackend, Statement};
use serde_json::{Value, json};
use std::{
    collections::BTreeMap,
    future::Future,
    path::Path,
    sync::{
        LazyLock, OnceLock,
        atomic::{AtomicUsize, Ordering},
    },
};
use tokio::runtime::Runtime;

/// Runs asynchronous work from an ordinary test; on several threads, as a node does.
pub fn block<T>(work: impl Future<Output = T>) -> T {
    static RUNTIME: OnceLock<Runtime> = OnceLock::new();
    RUNTIME.get_or_init(|| Runtime::new().expect("a runtime")).block_on(work)
}

fn scratch() -> &'static Scratch {
    static SCRATCH: OnceLock<Scratch> = OnceLock::new();
    let home = Path::new(env!("CARGO_TARGET_TMPDIR")).join("records");
    SCRATCH.get_or_init(|| Scratch::start(&home).expect("a PostgreSQL"))
}

/// An empty database.
pub fn database() -> DatabaseConnection {
    block(async {
        let url = scratch().database().await.expect("a database");
        connect(&url, 12, Purpose::Work).await.expect("connects")
    })
}

/// A database with the tables of this release.
pub fn migrated() -> DatabaseConnection {
    let migrate = async |url: String| {
        let db = connect(&url, 4, Purpose::Work).await.expect("connects");
        schema::migrate(&db).await.expect("migrates");
        Ok::<_, PostgresError>(db.close().await?)
    };
    block(async {
        let url = scratch().filled(migrate).await.expect("a database");
        connect(&url, 12, Purpose::Work).await.expect("connects")
    })
}

/// Runs statements.
pub async fn run(db: &DatabaseConnection, sql: &str) {
    db.execute_unprepared(sql).await.expect(sql);
}

/// Runs statements that bring jobs to where no node brings them, so that nothing follows from it.
pub async fn by_hand(db: &DatabaseConnection, sql: &str) {
    run(db, &format!("BEGIN; SET LOCAL session_replication_role = replica; {sql}; COMMIT")).await;
}

/// The rows of a query, each as JSON.
pub async fn rows(db: &DatabaseConnection, sql: &str) -> Vec<Value> {
    let sql = format!("SELECT to_jsonb(q)::text AS row FROM ({sql}) q");
    let rows = db
        .query_all_raw(Statement::from_string(DbBackend::Postgres, sql.clone()))
        .await
        .expect(&sql);
    rows.iter()
        .map(|r| {
            serde_json::from_str(&r.try_get::<String>("", "row").expect("a row")).expect("JSON")
        })
        .collect()
}

/// The one value of a query with one column `x`.
pub async fn one(db: &DatabaseConnection, sql: &str) -> Value {
    rows(db, sql).await.first().map_or(Value::Null, |row| row["x"].clone())
}

/// This moment, as it is stored.
pub fn now() -> DateTime<Utc> {
    Utc::now().trunc_subsecs(6)
}

/// An alert in the normal form: kind `disk.usage`, severity major, about `vm/a`, unless it says
/// otherwise.
pub fn alert(given: Value, received: DateTime<Utc>) -> Alert {
    static COUNT: AtomicUsize = AtomicUsize::new(0);
    let mut whole = json!({ "kind": "disk.usage", "severity": "major", "resource": "vm/a" });
    let (fields, given) =
        (whole.as_object_mut().expect("a map"), given.as_object().expect("a map"));
    fields.extend(given.clone());
    let new: NewAlert = serde_json::from_value(whole).expect("an alert");
    new.complete(Received {
        source: "yard",
        received,
        fallback_id: &format!("fallback-{}", COUNT.fetch_add(1, Ordering::Relaxed)),
    })
    .expect("whole")
}

/// Parcels of one alert each.
pub fn payloads(alerts: impl IntoIterator<Item = Alert>) -> Vec<Payload> {
    let payload = |a: Alert| Payload {
        source: a.source.clone(),
        received: a.received,
        alerts: vec![a],
        malformed: vec![],
        is_past: false,
    };
    alerts.into_iter().map(payload).collect()
}

/// A runbook that every rule of these tests can name.
pub const NOTE: &str = "runbook: note\ninputs: { on: { type: string } }\ntarget: '${inputs.on}'\n\
                        steps: [ { id: fine, require: 'true' } ]\n";

/// A rule that acts, with further lines.
pub fn rule(name: &str, lines: &str) -> String {
    format!(
        "rule: {name}\nstance: act\n{lines}\ndispatch: {{ runbook: note, inputs: {{ on: \
        '${{alert.resource}}' }} }}\n"
    )
}

/// A database with definitions published in it, as a node knows them.
#[derive(Debug)]
pub struct Published {
    pub db: DatabaseConnection,
    pub catalog: Catalog,
    pub matcher: Matcher,
    pub mutes: Vec<Mute>,
    pub guards: Guards,
    pub proposing: BTreeMap<String, String>,
    pub generation: i64,
}

impl Published {
    /// The note runbook and these rules.
    pub fn with(rules: &[String]) -> Self {
        let db = migrated();
        let text = [&[NOTE.to_owned()], rules].concat().join("---\n");
        let checked = check_files(
            [("rules.yaml", text.as_str())],
            &[],
            &Catalog::default(),
            &Observed::default(),
        );
        assert!(checked.problems.is_empty(), "{:?}", checked.problems);
        let catalog = Catalog::new(checked.entries);
        let matcher = catalog.matcher();
        let guards = catalog.guards(now());
        let mut published = Self {
            db,
            catalog,
            matcher,
            mutes: Vec::new(),
            guards,
            proposing: BTreeMap::new(),
            generation: 0,
        };
        block(published.keep(published.catalog.clone()));
        published
    }

    /// Publishes further documents, or other versions.
    pub async fn publish(&mut self, text: &str) {
        let checked = check_files([("more.yaml", text)], &[], &self.catalog, &Observed::default());
        assert!(checked.problems.is_empty(), "{:?}", checked.problems);
        self.catalog = self.catalog.with(checked.entries.iter().cloned());
        self.matcher = self.catalog.matcher();
        self.guards = self.catalog.guards(now());
        self.keep(Catalog::new(checked.entries)).await;
    }

    /// Keeps definitions as published.
    async fn keep(&mut self, catalog: Catalog) {
        let version = |kind: Kind| {
            catalog.entries(kind).map(move |e| NewVersion {
                kind: kind.as_str().to_owned(),
                name: e.name.clone(),
                version: e.version,
                file: e.document.file.clone(),
                text: e.document.text.clone(),
                parts: Default::default(),
            })
        };
        let versions: Vec<NewVersion> = Kind::ALL.into_iter().flat_map(version).collect();
        let generation = definitions::generation(&self.db).await.expect("a generation");
        let publication = Publication { generation, versions, ..Publication::default() };
        definitions::publish(&self.db, publication, &Principal::token("pat"), now())
            .await
            .expect("publishes");
        self.generation = definitions::generation(&self.db).await.expect("a generation");
    }

    /// Learns of the mutes that have been said or lifted.
    pub async fn hear_of_mutes(&mut self) {
        self.generation = definitions::generation(&self.db).await.expect("a generation");
        (self.mutes, _) = mutes::open(&self.db).await.expect("reads");
    }

    /// What deciding needs.
    pub fn rules(&self) -> Rules<'_> {
        Rules {
            catalog: &self.catalog,
            matcher: &self.matcher,
            mutes: &self.mutes,
            guards: &self.guards,
            proposing: &self.proposing,
            generation: self.generation,
        }
    }

    /// Takes payloads as one batch.
    pub async fn take(&self, payloads: &[Payload], writer: &mut Writer) -> TakenBatch {
        let payloads: Vec<&Payload> = payloads.iter().collect();
        intake::record(&self.db, self.rules(), &payloads, writer).await.expect("takes")
    }

    /// Takes one alert; its number.
    pub async fn send(&self, given: Value) -> i64 {
        let batch = self.take(&payloads([alert(given, now())]), &mut Writer::default()).await;
        batch.taken[0].alerts[0].seq.expect("new")
    }

    /// So many jobs, each on a target of its own; their numbers.
    pub async fn jobs(&self, count: usize) -> Vec<JobId> {
        for i in 0..count {
            self.send(json!({ "resource": format!("vm/t{i}") })).await;
        }
        let jobs = rows(&self.db, "SELECT id FROM job WHERE state = 'queued' ORDER BY id").await;
        jobs.iter().filter_map(|j| j["id"].as_i64().map(JobId)).collect()
    }
}

/// So many seconds.
pub fn seconds(n: i64) -> TimeDelta {
    TimeDelta::seconds(n)
}

/// Finds as many of the next jobs as there are, up to so many; those that somebody had begun are
/// claimed with it.
pub async fn find(
    db: &DatabaseConnection,
    node: &str,
    several: usize,
    at_once: &[(String, i32)],
) -> Claimed {
    let limited = Limited { at_once, ..Limited::default() };
    jobs::claim(db, Search { node, limited, several, ..Search::default() }).await.expect("finds")
}

/// Begins jobs that were found, with a record of each; those that have begun.
pub async fn begin(
    db: &DatabaseConnection,
    node: &str,
    found: &[ClaimedJob],
    records: &[Option<&Record>],
    at_once: &[(String, i32)],
) -> Result<Vec<i64>, StoreError> {
    begin_within(db, node, found, records, Limited { at_once, ..Limited::default() }).await
}

/// The same within limits of any kind.
pub async fn begin_within(
    db: &DatabaseConnection,
    node: &str,
    found: &[ClaimedJob],
    records: &[Option<&Record>],
    limited: Limited<'_>,
) -> Result<Vec<i64>, StoreError> {
    let first = found
        .iter()
        .zip(records)
        .map(|(job, record)| First { job, record: record.map(|r| (&*BEGINNING, r)) });
    let begun = jobs::begin(db, node, first.collect(), limited, now()).await?;
    Ok(begun.into_iter().map(|job| job.0).collect())
}

/// Claims the next job and keeps the claim.
pub async fn take(db: &DatabaseConnection, node: &str, alive: &[Claim]) -> Option<ClaimedJob> {
    let search = Search { node, alive, several: 1, alone: true, ..Search::default() };
    loop {
        let Claimed { mut jobs, more, .. } = jobs::claim(db, search).await.expect("claims");
        match jobs.pop() {
            None if more => {}
            taken => return taken,
        }
    }
}

static BEGINNING: LazyLock<Progress> = LazyLock::new(Progress::default);

/// A job at its beginning, with what is recorded of it.
pub fn standing<'a>(job: &ClaimedJob, record: &'a Record) -> ClaimedRecord<'a> {
    ClaimedRecord { id: job.id, claim: job.claim, progress: &BEGINNING, record }
}

/// Keeps a record of a job.
pub async fn record(
    db: &DatabaseConnection,
    job: &ClaimedJob,
    what: &Record,
) -> Result<(), StoreError> {
    jobs::record(db, standing(job, what), now()).await
}
