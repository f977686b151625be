//! Verdicts: what rules decided about alerts.

use super::{
    Conditions,
    alerts::SEVERITY,
    bound::{DEPTH, Floor},
    page,
};
use crate::{StoreError, sql};
use arvok_api::{PAGE, Page, VerdictFilter, VerdictLine};
use arvok_core::Verdict;
use sea_orm::DatabaseConnection;

/// Verdicts out of a table or a query, with their alerts.
fn select(verdicts: &str, tail: &str) -> String {
    format!(
        "SELECT v.alert_seq AS alert, v.rule, v.rule_version, v.verdict, v.reason, v.job_id AS job,
            v.tally, v.at,
            v.decided_at, a.source, a.kind, {SEVERITY}, a.state, a.resource, a.summary, a.value,
            a.trial
        FROM {verdicts} v JOIN alerts a ON a.seq = v.alert_seq {tail}"
    )
}

/// A page of verdicts, those of the newest alerts first.
pub async fn verdicts(
    db: &DatabaseConnection,
    filter: VerdictFilter,
) -> Result<Page<VerdictLine>, StoreError> {
    let floor = match &filter.rule {
        Some(rule) => Floor::of_rule(db, rule, filter.after).await?,
        None => Floor::of_alerts(db, filter.after).await?,
    };
    let mut c = Conditions::default();
    c.add("v.alert_seq >= ?", floor.at());
    let mut from = "verdicts v".to_owned();
    if let Some(rule) = filter.rule {
        // By the index of the rule's own verdicts: it may have given few of many.
        c.values.extend([rule.into(), filter.after.unwrap_or(i64::MAX).into()]);
        let (rule, after) = (c.values.len() - 1, c.values.len());
        from = format!(
            "(SELECT k.alert_seq FROM verdicts k WHERE k.rule = ${rule} AND k.alert_seq < ${after}
                ORDER BY k.alert_seq DESC LIMIT {DEPTH}) r
            JOIN verdicts v ON v.alert_seq = r.alert_seq AND v.rule = ${rule}"
        );
    }
    c.maybe("v.verdict = ?", filter.verdict.map(Verdict::as_str));
    c.maybe("(SELECT a.resource FROM alerts a WHERE a.seq = v.alert_seq) = ?", filter.resource);
    c.maybe("v.tally = ?", filter.tally);
    c.maybe("v.at >= ?", filter.since);
    c.maybe("v.alert_seq < ?", filter.after);
    let limit = filter.limit.unwrap_or(PAGE);
    // The page first and its alerts after: joined the other way round, a rule that has been quiet
    // for long would be looked for through all that came since.
    let tail = "ORDER BY v.alert_seq DESC, v.rule";
    let verdicts = format!("(SELECT v.* FROM {from} {} {tail} LIMIT {})", c.clause(), limit + 1);
    let found = sql::rows(db, &select(&verdicts, tail), c.values).await?;
    let mut page = page(found, limit, |v: &VerdictLine| v.alert);
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
    let before = select(
        "verdicts",
        "WHERE v.rule = $1 AND v.tally = $2 AND v.alert_seq <= $3 ORDER BY v.alert_seq DESC
            LIMIT 12",
    );
    let after = select(
        "verdicts",
        "WHERE v.rule = $1 AND v.tally = $2 AND v.alert_seq > $3 ORDER BY v.alert_seq LIMIT 4",
    );
    let mut lines: Vec<VerdictLine> = sql::rows(db, &before, values()).await?;
    lines.reverse();
    lines.extend(sql::rows::<VerdictLine>(db, &after, values()).await?);
    Ok(lines)
}
