//! Proposals.

use super::{Conditions, page};
use crate::{StoreError, sql};
use arvok_api::{Page, ProposalItem};
use sea_orm::DatabaseConnection;

/// Which proposals.
#[derive(Clone, Debug, Default)]
pub struct ProposalFilter {
    /// `open`, `launched`, `dismissed`, `withdrawn` or `faulty`; all when absent.
    pub state: Option<String>,
    /// Of this rule.
    pub rule: Option<String>,
    /// Older than this number.
    pub after: Option<i64>,
    /// At most so many.
    pub limit: u64,
}

const ITEM: &str = "p.id, p.rule, p.rule_version, p.runbook, p.runbook_version, p.inputs, p.target,
    (ARRAY['low','normal','high','urgent'])[p.urgency + 1] AS urgency, p.alert_seq AS alert, p.alarm_id AS alarm,
    p.reason, p.state, p.created_at, p.decided_at, p.decided_by, p.note";

/// A page of proposals, newest first.
pub async fn proposals(db: &DatabaseConnection, filter: ProposalFilter) -> Result<Page<ProposalItem>, StoreError> {
    let mut c = Conditions::default();
    c.maybe("p.state = ?", filter.state);
    c.maybe("p.rule = ?", filter.rule);
    c.maybe("p.id < ?", filter.after);
    let limit = filter.limit;
    let sql = format!("SELECT {ITEM} FROM proposal p {} ORDER BY p.id DESC LIMIT {}", c.clause(), limit + 1);
    Ok(page(sql::rows(db, &sql, c.values).await?, limit, |p: &ProposalItem| p.id))
}

/// One proposal.
pub async fn proposal(db: &DatabaseConnection, id: i64) -> Result<Option<ProposalItem>, StoreError> {
    sql::maybe(db, &format!("SELECT {ITEM} FROM proposal p WHERE p.id = $1"), vec![id.into()]).await
}
