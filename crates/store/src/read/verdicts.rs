//! Verdicts: what rules decided about alerts.

use super::{Conditions, alerts::SEVERITY, bound::Floor, page};
use crate::{StoreError, sql};
use arvok_api::{Page, VerdictLine};
use chrono::{DateTime, Utc};
use sea_orm::DatabaseConnection;

/// Which verdicts.
#[derive(Clone, Debug, Default)]
pub struct VerdictFilter {
    /// Of this rule.
    pub rule: Option<String>,
    /// This verdict.
    pub verdict: Option<String>,
    /// About this resource.
    pub resource: Option<String>,
    /// Of this tally.
    pub tally: Option<String>,
    /// About alerts received since.
    pub since: Option<DateTime<Utc>>,
    /// About alerts before this one.
    pub after: Option<i64>,
    /// At most so many.
    pub limit: u64,
}

fn select(tail: &str) -> String {
    format!(
        "SELECT v.alert_seq AS alert, v.rule, v.rule_version, v.verdict, v.reason, v.job_id AS job, v.tally, v.at,
            v.decided_at, a.source, a.kind, {SEVERITY}, a.state, a.resource, a.summary, a.value
        FROM verdict v JOIN alert a ON a.seq = v.alert_seq {tail}"
    )
}

/// A page of verdicts, those of the newest alerts first.
pub async fn verdicts(db: &DatabaseConnection, filter: VerdictFilter) -> Result<Page<VerdictLine>, StoreError> {
    let floor = match &filter.rule {
        Some(rule) => Floor::of_rule(db, rule, filter.after).await?,
        None => Floor::of_alerts(db, filter.after).await?,
    };
    let mut c = Conditions::default();
    c.add("v.alert_seq >= ?", floor.at());
    c.maybe("v.rule = ?", filter.rule);
    c.maybe("v.verdict = ?", filter.verdict);
    c.maybe("a.resource = ?", filter.resource);
    c.maybe("v.tally = ?", filter.tally);
    c.maybe("v.at >= ?", filter.since);
    c.maybe("v.alert_seq < ?", filter.after);
    let limit = filter.limit;
    let tail = format!("{} ORDER BY v.alert_seq DESC, v.rule LIMIT {}", c.clause(), limit + 1);
    let mut page = page(sql::rows(db, &select(&tail), c.values).await?, limit, |v: &VerdictLine| v.alert);
    floor.close(db, &mut page, filter.since).await?;
    Ok(page)
}

/// The verdicts of a tally up to an alert and a little beyond, oldest first: how it came to this.
pub async fn tally_story(
    db: &DatabaseConnection,
    rule: &str,
    tally: &str,
    alert: i64,
) -> Result<Vec<VerdictLine>, StoreError> {
    let values = || vec![rule.into(), tally.into(), alert.into()];
    let before = select("WHERE v.rule = $1 AND v.tally = $2 AND v.alert_seq <= $3 ORDER BY v.alert_seq DESC LIMIT 12");
    let after = select("WHERE v.rule = $1 AND v.tally = $2 AND v.alert_seq > $3 ORDER BY v.alert_seq LIMIT 4");
    let mut lines: Vec<VerdictLine> = sql::rows(db, &before, values()).await?;
    lines.reverse();
    lines.extend(sql::rows::<VerdictLine>(db, &after, values()).await?);
    Ok(lines)
}
