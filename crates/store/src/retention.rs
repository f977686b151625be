//! How long things are kept. It stands in the database, so that all nodes agree, and is changed
//! there.

use crate::{StoreError, audit, sql};
use arvok_api::RetentionTimes;
use arvok_core::{Period, Principal};
use chrono::TimeDelta;
use sea_orm::{ConnectionTrait, DatabaseConnection, FromQueryResult, TransactionTrait};
use std::collections::BTreeMap;

/// How long an id is known at least: one that comes again within this time is not taken again.
pub const IDS_KNOWN: TimeDelta = TimeDelta::hours(48);

/// How long alerts, payloads that cannot be read and tries of jobs are kept.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Retention {
    /// Alerts and their verdicts of all sources that are not named.
    pub alerts: TimeDelta,
    /// Those of some sources.
    pub sources: BTreeMap<String, TimeDelta>,
    /// Payloads that cannot be read.
    pub unreadable: TimeDelta,
    /// The tries of jobs that have ended; the jobs themselves stay.
    pub attempts: TimeDelta,
}

impl Default for Retention {
    fn default() -> Self {
        let days = TimeDelta::days;
        Self {
            alerts: days(30),
            sources: BTreeMap::new(),
            unreadable: days(30),
            attempts: days(400),
        }
    }
}

/// Some of it, by what is kept; of a source `None` means that it is kept like the others.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Change {
    /// Of all that is named by a word.
    pub all: BTreeMap<RecordKind, TimeDelta>,
    /// Of single sources.
    pub sources: BTreeMap<String, Option<TimeDelta>>,
}

arvok_core::words! {
    /// What is kept for a time of its own.
    pub enum RecordKind("kind of record") {
        /// Alerts and their verdicts.
        Alerts = "alerts",
        /// Payloads that cannot be read.
        Unreadable = "unreadable",
        /// Tries of jobs that have ended.
        Attempts = "attempts",
    }
}

impl RecordKind {
    /// The shortest time for which it can be kept.
    pub const fn least(self) -> TimeDelta {
        match self {
            // As long as their ids are known.
            Self::Alerts => IDS_KNOWN,
            // What waits and what is under way refers to them.
            Self::Unreadable | Self::Attempts => TimeDelta::days(1),
        }
    }
}

impl Change {
    /// What would be kept for too short a time, by its name, with the shortest.
    pub fn too_short(&self) -> Option<(String, TimeDelta, TimeDelta)> {
        let all =
            self.all.iter().map(|(what, time)| (what.as_str().to_owned(), *time, what.least()));
        let sources = self.sources.iter().filter_map(|(source, time)| {
            Some((format!("sources.{source}"), (*time)?, RecordKind::Alerts.least()))
        });
        all.chain(sources).find(|(_, time, least)| time < least)
    }

    /// What it says otherwise than it is.
    pub fn differs_from(&self, now: &Retention) -> Vec<String> {
        let all = self
            .all
            .iter()
            .filter(|(what, time)| now.time(**what) != **time)
            .map(|(what, _)| what.as_str().into());
        let sources =
            self.sources.iter().filter(|(source, time)| now.sources.get(*source) != time.as_ref());
        all.chain(sources.map(|(source, _)| format!("sources.{source}"))).collect()
    }
}

impl Retention {
    /// How long one of them is kept.
    const fn time(&self, what: RecordKind) -> TimeDelta {
        match what {
            RecordKind::Alerts => self.alerts,
            RecordKind::Unreadable => self.unreadable,
            RecordKind::Attempts => self.attempts,
        }
    }

    fn set(&mut self, what: RecordKind, time: TimeDelta) {
        match what {
            RecordKind::Alerts => self.alerts = time,
            RecordKind::Unreadable => self.unreadable = time,
            RecordKind::Attempts => self.attempts = time,
        }
    }

    /// As it would be after a change.
    pub fn with(mut self, change: &Change) -> Self {
        change.all.iter().for_each(|(what, time)| self.set(*what, *time));
        for (source, time) in &change.sources {
            match time {
                Some(time) => _ = self.sources.insert(source.clone(), *time),
                None => _ = self.sources.remove(source),
            }
        }
        self
    }

    /// How long the alerts of a source are kept.
    pub fn of_source(&self, source: &str) -> TimeDelta {
        self.sources.get(source).copied().unwrap_or(self.alerts)
    }

    /// How long any alert is kept.
    pub fn longest(&self) -> TimeDelta {
        self.sources.values().copied().chain([self.alerts]).max().unwrap_or(self.alerts)
    }

    /// As it is told.
    pub fn times(&self) -> RetentionTimes {
        RetentionTimes {
            alerts_seconds: self.alerts.num_seconds(),
            sources_seconds: self
                .sources
                .iter()
                .map(|(s, t)| (s.clone(), t.num_seconds()))
                .collect(),
            unreadable_seconds: self.unreadable.num_seconds(),
            attempts_seconds: self.attempts.num_seconds(),
        }
    }
}

#[derive(FromQueryResult)]
struct Row {
    what: String,
    source: String,
    seconds: i64,
}

/// How long things are kept now; none before anybody has said it.
async fn stored(db: &impl ConnectionTrait) -> Result<Option<Retention>, StoreError> {
    let rows: Vec<Row> =
        sql::typed(db, "SELECT what, source, seconds FROM retention", vec![]).await?;
    if rows.is_empty() {
        return Ok(None);
    }
    let mut said = Retention::default();
    for Row { what, source, seconds } in rows {
        // Whatever wrote it: no time is reached that is none.
        let time =
            Period::LONGEST.delta().min(TimeDelta::seconds(seconds.min(i64::from(u32::MAX))));
        match RecordKind::ALL.into_iter().find(|known| known.as_str() == what) {
            Some(RecordKind::Alerts) if !source.is_empty() => _ = said.sources.insert(source, time),
            Some(what) => said.set(what, time),
            // Of a newer release.
            None => {}
        }
    }
    Ok(Some(said))
}

/// How long things are kept now.
pub async fn now(db: &impl ConnectionTrait) -> Result<Retention, StoreError> {
    Ok(stored(db).await?.unwrap_or_default())
}

/// What a node was told for its first start counts where nobody has said anything yet; how long
/// things are kept.
pub async fn begin(
    db: &DatabaseConnection,
    told: &Change,
    by: &Principal,
) -> Result<Retention, StoreError> {
    let tx = db.begin().await?;
    lock(&tx).await?;
    let retention = match stored(&tx).await? {
        Some(retention) => retention,
        None => {
            let retention = Retention::default().with(told);
            write(&tx, &retention).await?;
            audit::record(&tx, by, "retention", "at the first start", &text(&retention)).await?;
            retention
        }
    };
    tx.commit().await?;
    Ok(retention)
}

/// Changes how long things are kept, for all nodes; as it is then.
pub async fn change(
    db: &DatabaseConnection,
    change: &Change,
    by: &Principal,
) -> Result<Retention, StoreError> {
    let tx = db.begin().await?;
    lock(&tx).await?;
    let retention = now(&tx).await?.with(change);
    write(&tx, &retention).await?;
    audit::record(&tx, by, "retention", "changed", &text(&retention)).await?;
    tx.commit().await?;
    Ok(retention)
}

/// One changes it at a time.
async fn lock(tx: &impl ConnectionTrait) -> Result<(), StoreError> {
    sql::run(tx, "SELECT pg_advisory_xact_lock(hashtextextended('retention', 0))", vec![]).await?;
    Ok(())
}

async fn write(tx: &impl ConnectionTrait, retention: &Retention) -> Result<(), StoreError> {
    let all = RecordKind::ALL.map(|what| (what.as_str(), String::new(), retention.time(what)));
    let sources = retention
        .sources
        .iter()
        .map(|(source, time)| (RecordKind::Alerts.as_str(), source.clone(), *time));
    let (mut what, mut source, mut seconds) = (Vec::new(), Vec::new(), Vec::new());
    for (of, name, time) in all.into_iter().chain(sources) {
        what.push(of.to_owned());
        source.push(name);
        seconds.push(time.num_seconds());
    }
    sql::run(tx, "DELETE FROM retention", vec![]).await?;
    let sql = "INSERT INTO retention (what, source, seconds) SELECT *
        FROM unnest($1::text[], $2::text[], $3::bigint[])";
    sql::run(tx, sql, vec![what.into(), source.into(), seconds.into()]).await?;
    Ok(())
}

fn text(retention: &Retention) -> String {
    let time = |time: TimeDelta| Period::from_secs(time.num_seconds().unsigned_abs());
    let all = RecordKind::ALL
        .into_iter()
        .map(|what| format!("{} {}", what.as_str(), time(retention.time(what))));
    let sources =
        retention.sources.iter().map(|(name, kept)| format!("alerts of {name} {}", time(*kept)));
    all.chain(sources).collect::<Vec<_>>().join(", ")
}
