//! What a batch came to: verdicts and jobs, written at the end.

use super::tallies::Tallies;
use crate::{StoreError, sql};
use arvok_core::{
    Alert, Catalog,
    job::JobState,
    rule::Rule,
    settle::{Decision, Verdict},
};
use chrono::{DateTime, Utc};
use sea_orm::DatabaseTransaction;
use serde_json::{Map, Value, json};

pub(super) struct Outcome<'a> {
    catalog: &'a Catalog,
    pub tallies: Tallies,
    verdicts: Vec<VerdictRow<'a>>,
    jobs: Vec<JobRow<'a>>,
}

struct VerdictRow<'a> {
    seq: i64,
    rule: &'a str,
    version: i32,
    decision: Decision,
    at: DateTime<Utc>,
}

struct JobRow<'a> {
    id: i64,
    rule: &'a Rule,
    rule_version: i32,
    runbook_version: i32,
    inputs: Map<String, Value>,
    target: String,
    refused: Option<String>,
    seq: i64,
    alarm: Option<i64>,
    at: DateTime<Utc>,
}

impl<'a> Outcome<'a> {
    pub fn new(catalog: &'a Catalog, tallies: Tallies) -> Self {
        Self { catalog, tallies, verdicts: Vec::new(), jobs: Vec::new() }
    }

    pub fn dispatches(&self) -> usize {
        self.jobs.len()
    }

    /// Notes a decision; whether it made a job.
    pub fn note(
        &mut self,
        alert: &Alert,
        seq: i64,
        alarm: Option<i64>,
        rule: &'a Rule,
        version: i32,
        decision: Decision,
    ) -> bool {
        let dispatched = decision.verdict == Verdict::Dispatched;
        if let (true, Some(id)) = (dispatched, decision.job) {
            self.jobs.push(self.job(id, alert, seq, alarm, rule, version));
        }
        self.verdicts.push(VerdictRow { seq, rule: &rule.name, version, decision, at: alert.received });
        dispatched
    }

    /// A job with acceptable inputs is queued; any other is refused with the reason, and so seen.
    fn job(
        &self,
        id: i64,
        alert: &Alert,
        seq: i64,
        alarm: Option<i64>,
        rule: &'a Rule,
        rule_version: i32,
    ) -> JobRow<'a> {
        let (runbook_version, prepared) = match self.catalog.runbook(&rule.dispatch.runbook) {
            None => (0, Err(format!("there is no runbook `{}`", rule.dispatch.runbook))),
            Some((runbook, version)) => (
                version,
                rule.dispatch.inputs(alert).map_err(|e| format!("inputs: {e}")).and_then(|i| runbook.prepare(i)),
            ),
        };
        let (inputs, target, refused) = match prepared {
            Ok(p) => (p.inputs, p.target.to_string(), None),
            Err(why) => (Map::new(), alert.resource.to_string(), Some(why)),
        };
        JobRow { id, rule, rule_version, runbook_version, inputs, target, refused, seq, alarm, at: alert.received }
    }

    /// Writes tallies, verdicts and jobs; the numbers of the jobs.
    pub async fn write(self, tx: &DatabaseTransaction, fresh: &[(&Alert, i64)]) -> Result<Vec<i64>, StoreError> {
        if let Some(now) = fresh.iter().map(|(a, _)| a.received).max() {
            self.tallies.write(tx, self.catalog, now).await?;
        }
        write_verdicts(tx, &self.verdicts).await?;
        write_jobs(tx, &self.jobs).await?;
        Ok(self.jobs.iter().map(|j| j.id).collect())
    }
}

async fn write_verdicts(tx: &DatabaseTransaction, verdicts: &[VerdictRow<'_>]) -> Result<(), StoreError> {
    if verdicts.is_empty() {
        return Ok(());
    }
    let sql = "INSERT INTO verdict (alert_seq, rule, rule_version, verdict, reason, job_id, at)
        SELECT seq, rule, version, verdict, reason, nullif(job, 0), at
        FROM unnest($1::bigint[], $2::text[], $3::int[], $4::text[], $5::text[], $6::bigint[], $7::timestamptz[])
        AS t (seq, rule, version, verdict, reason, job, at)";
    let texts = |f: fn(&VerdictRow<'_>) -> String| verdicts.iter().map(f).collect::<Vec<String>>().into();
    let values = vec![
        verdicts.iter().map(|v| v.seq).collect::<Vec<i64>>().into(),
        texts(|v| v.rule.to_owned()),
        verdicts.iter().map(|v| v.version).collect::<Vec<i32>>().into(),
        texts(|v| v.decision.verdict.as_str().to_owned()),
        texts(|v| v.decision.reason.clone()),
        verdicts.iter().map(|v| v.decision.job.unwrap_or(0)).collect::<Vec<i64>>().into(),
        verdicts.iter().map(|v| v.at).collect::<Vec<_>>().into(),
    ];
    sql::run(tx, sql, values).await?;
    Ok(())
}

async fn write_jobs(tx: &DatabaseTransaction, jobs: &[JobRow<'_>]) -> Result<(), StoreError> {
    if jobs.is_empty() {
        return Ok(());
    }
    let rows: Vec<Value> = jobs.iter().map(row).collect();
    let sql =
        "INSERT INTO job (id, runbook, runbook_version, inputs, target, urgency, deadline, state, effect, failure,
            rule, rule_version, alert_seq, alarm_id, progress, created_at, finished_at)
        SELECT id, runbook, runbook_version, inputs, target, urgency, deadline, state, effect, failure,
            rule, rule_version, alert_seq, alarm_id, progress, created_at, finished_at
        FROM jsonb_populate_recordset(NULL::job, $1::jsonb)";
    sql::run(tx, sql, vec![Value::Array(rows).into()]).await?;
    Ok(())
}

fn row(j: &JobRow<'_>) -> Value {
    let dispatch = &j.rule.dispatch;
    let state = if j.refused.is_some() { JobState::Refused } else { JobState::Queued };
    json!({
        "id": j.id,
        "runbook": dispatch.runbook,
        "runbook_version": j.runbook_version,
        "inputs": j.inputs,
        "target": j.target,
        "urgency": dispatch.urgency.rank(),
        "deadline": dispatch.deadline.map(|d| j.at + d.delta()),
        "state": state.as_str(),
        "effect": j.refused.as_ref().map(|_| "not checked"),
        "failure": j.refused,
        "rule": j.rule.name,
        "rule_version": j.rule_version,
        "alert_seq": j.seq,
        "alarm_id": j.alarm,
        "progress": arvok_core::job::Progress::default(),
        "created_at": j.at,
        "finished_at": j.refused.as_ref().map(|_| j.at),
    })
}
