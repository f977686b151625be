//! Stored alerts as a stream, oldest first, for rehearsals: row by row from the database, so that
//! memory does not grow with their number.

use super::alerts::recorded;
use crate::{StoreError, days, sql::statement};
use arvok_core::{Alert, AlertId, glob::Glob, rule::Rule};
use chrono::{DateTime, TimeDelta, Utc};
use futures_util::{Stream, StreamExt};
use sea_orm::{DatabaseConnection, StreamTrait, Value};

/// By how much the clock of the database may have been wrong when a day began. Blocks of other
/// times are passed over by an index.
const WRONG: TimeDelta = TimeDelta::days(1);

/// Which alerts a rehearsal has to see.
#[derive(Clone, Debug)]
pub struct Replay {
    /// Received since.
    pub since: DateTime<Utc>,
    /// Received before.
    pub until: DateTime<Utc>,
    conditions: String,
    values: Vec<Vec<String>>,
    body: bool,
}

impl Replay {
    /// All alerts that could matter to rules. Of an alarm every alert matters, whatever its
    /// state and severity; another source, kind or resource does not.
    pub fn of_rules(rules: &[&Rule], since: DateTime<Utc>, until: DateTime<Utc>) -> Self {
        let mut replay = Self {
            since,
            until,
            conditions: String::new(),
            values: Vec::new(),
            body: rules.iter().any(|r| r.reads_body()),
        };
        type Line = fn(&Rule) -> &Option<Vec<Glob>>;
        let lines: [(&str, Line); 3] = [
            ("source", |r| &r.listen.sources),
            ("kind", |r| &r.listen.kinds),
            ("resource", |r| &r.listen.resource),
        ];
        for (column, line) in lines {
            let mut names = Vec::new();
            let all = rules.iter().all(|r| {
                let globs = line(r).as_deref().unwrap_or_default();
                names.extend(globs.iter().filter_map(Glob::exact).map(str::to_owned));
                !globs.is_empty() && globs.iter().all(|g| g.exact().is_some())
            });
            if all {
                replay.values.push(names);
                replay
                    .conditions
                    .push_str(&format!(" AND {column} = ANY(${})", replay.values.len() + 4));
            }
        }
        replay
    }

    /// The alerts of one source, with their payloads.
    pub fn of_source(source: &str, since: DateTime<Utc>, until: DateTime<Utc>) -> Self {
        let values = vec![vec![source.to_owned()]];
        Self { since, until, conditions: " AND source = ANY($5)".to_owned(), values, body: true }
    }

    fn clause(&self) -> String {
        format!(
            "FROM alerts WHERE received >= $1 AND received < $2 AND seq >= $3 AND seq < $4
                AND trial IS NULL{}",
            self.conditions
        )
    }

    async fn values(&self, db: &DatabaseConnection) -> Result<Vec<Value>, StoreError> {
        let (from, beyond) =
            days::numbers_within(&days::all(db).await?, self.since, self.until, WRONG);
        let bounds = [self.since.into(), self.until.into(), from.into(), beyond.into()];
        Ok(bounds.into_iter().chain(self.values.iter().cloned().map(Value::from)).collect())
    }
}

/// How many alerts a replay will give.
pub async fn count_for_replay(db: &DatabaseConnection, replay: &Replay) -> Result<i64, StoreError> {
    #[derive(serde::Deserialize)]
    struct Count {
        n: i64,
    }
    let sql = format!("SELECT count(*) AS n {}", replay.clause());
    Ok(crate::sql::maybe::<Count>(db, &sql, replay.values(db).await?).await?.map_or(0, |c| c.n))
}

/// The alerts with their numbers, in the order in which they were received. Payloads come along
/// only where a rule looks at them.
pub async fn replay<'a>(
    db: &'a DatabaseConnection,
    replay: &Replay,
) -> Result<impl Stream<Item = Result<(AlertId, Alert), StoreError>> + 'a, StoreError> {
    let body = if replay.body {
        "body, key_order"
    } else {
        "'null'::jsonb AS body, NULL::text AS key_order"
    };
    let sql = format!(
        "SELECT seq, id, source, kind, severity, state, resource, time, received, summary, value,
            labels, {body}, trace, trial {}
        ORDER BY received, seq",
        replay.clause()
    );
    let rows = db.stream_raw(statement(&sql, replay.values(db).await?)).await?;
    Ok(rows.map(|row| recorded(&row?).map(|(seq, alert)| (AlertId(seq), alert))))
}
