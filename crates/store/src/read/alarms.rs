//! Alarms.

use super::{AlertFilter, Conditions, JobFilter, alerts, alerts::SEVERITY, jobs, like, page};
use crate::{StoreError, sql};
use arvok_api::{AlarmDetail, AlarmItem, AlertItem, Page};
use sea_orm::DatabaseConnection;

/// Which alarms.
#[derive(Clone, Debug, Default)]
pub struct AlarmFilter {
    /// `raised` or `cleared`; both when absent.
    pub state: Option<String>,
    /// Of this source.
    pub source: Option<String>,
    /// With this text in summary, resource or kind.
    pub text: Option<String>,
    /// Older than this handle.
    pub after: Option<i64>,
    /// At most so many.
    pub limit: u64,
}

pub(super) fn select(filter: &str) -> String {
    format!(
        "SELECT a.id, source, resource, kind, {SEVERITY}, a.state, summary, value, count, raised_at, changed_at, cleared_at,
            j.id AS job, j.state AS job_state, j.runbook AS job_runbook, j.effect AS job_effect
        FROM alarm a
        LEFT JOIN LATERAL (SELECT id, state, runbook, effect FROM job WHERE alarm_id = a.id ORDER BY id DESC LIMIT 1) j ON true
        {filter}"
    )
}

/// A page of alarms, newest handle first.
pub async fn alarms(db: &DatabaseConnection, filter: AlarmFilter) -> Result<Page<AlarmItem>, StoreError> {
    let mut c = Conditions::default();
    c.plain("count > 0");
    c.maybe("a.state = ?", filter.state);
    c.maybe("source = ?", filter.source);
    c.maybe("a.id < ?", filter.after);
    if let Some(text) = filter.text {
        c.add("(summary || ' ' || resource || ' ' || kind) ILIKE ?", like(&text));
    }
    let limit = filter.limit;
    let tail = format!("{} ORDER BY a.id DESC LIMIT {}", c.clause(), limit + 1);
    Ok(page(sql::rows(db, &select(&tail), c.values).await?, limit, |a: &AlarmItem| a.id))
}

/// One alarm with its newest alerts and jobs.
pub async fn alarm(db: &DatabaseConnection, id: i64) -> Result<Option<AlarmDetail>, StoreError> {
    let Some(alarm) = sql::maybe::<AlarmItem>(db, &select("WHERE a.id = $1"), vec![id.into()]).await? else {
        return Ok(None);
    };
    let filter = AlertFilter {
        source: Some(alarm.source.clone()),
        kind: Some(alarm.kind.clone()),
        resource: Some(alarm.resource.clone()),
        limit: 50,
        ..AlertFilter::default()
    };
    let alerts: Vec<AlertItem> = alerts(db, filter).await?.items;
    let jobs = jobs(db, JobFilter { alarm: Some(id), limit: 20, ..JobFilter::default() }).await?.items;
    Ok(Some(AlarmDetail { alarm, alerts, jobs }))
}
