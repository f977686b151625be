//! How far back one question looks: the time it takes does not grow with what is stored.

use crate::{StoreError, days, sql};
use arvok_api::Page;
use chrono::{DateTime, Utc};
use sea_orm::{DatabaseConnection, FromQueryResult};

/// Alerts, or verdicts of a rule, that one question goes through.
pub(super) const DEPTH: i64 = 50_000;

/// The alert down to which a question looks; those below it are for the next one.
pub(super) struct Floor(i64);

#[derive(FromQueryResult)]
struct Row {
    at: i64,
}

impl Floor {
    /// Among all alerts older than a handle, or the newest.
    pub async fn of_alerts(
        db: &DatabaseConnection,
        after: Option<i64>,
    ) -> Result<Self, StoreError> {
        let top = match after {
            Some(after) => after,
            None => {
                let newest: Vec<Row> = sql::typed(
                    db,
                    "SELECT seq + 1 AS at FROM alerts ORDER BY seq DESC LIMIT 1",
                    vec![],
                )
                .await?;
                newest.first().map_or(0, |r| r.at)
            }
        };
        Ok(Self(days::floor(&days::all(db).await?, top, DEPTH)))
    }

    /// Among the alerts that a rule has decided upon.
    pub async fn of_rule(
        db: &DatabaseConnection,
        rule: &str,
        after: Option<i64>,
    ) -> Result<Self, StoreError> {
        let sql = format!(
            "SELECT alert_seq AS at FROM verdicts WHERE rule = $1 AND alert_seq < $2
            ORDER BY alert_seq DESC OFFSET {} LIMIT 1",
            DEPTH - 1
        );
        let last: Vec<Row> =
            sql::typed(db, &sql, vec![rule.into(), after.unwrap_or(i64::MAX).into()]).await?;
        Ok(Self(last.first().map_or(0, |r| r.at)))
    }

    /// Its handle.
    pub fn at(&self) -> i64 {
        self.0
    }

    /// Notes on a page that ends here that there is more below, if there is any from that time on.
    pub async fn close<T>(
        &self,
        db: &DatabaseConnection,
        page: &mut Page<T>,
        since: Option<DateTime<Utc>>,
    ) -> Result<(), StoreError> {
        if page.next.is_some() || self.0 == 0 {
            return Ok(());
        }
        let sql = "SELECT seq AS at FROM (SELECT seq, received FROM alerts WHERE seq < $1
            ORDER BY seq DESC LIMIT 1) a
            WHERE received >= coalesce($2, received)";
        let below: Vec<Row> = sql::typed(db, sql, vec![self.0.into(), since.into()]).await?;
        if !below.is_empty() {
            page.next = Some(self.0.to_string());
            page.bounded = true;
        }
        Ok(())
    }
}
