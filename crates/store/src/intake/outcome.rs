//! What a batch came to: verdicts, jobs, proposals and memories, written at the end.

use super::{
    rule_state::Memories,
    undecided::{Fresh, Undecided},
};
use crate::{
    StoreError, days,
    jobs::new,
    jobs::new::{Beginning, NewJob, Origin},
    sql::Script,
};
use arvok_api::ProposalState;
use arvok_core::{
    AlarmId, Alert, AlertId, Catalog, JobId, Trial, Verdict,
    rule::{Dispatch, Rule, Stance, TallyView},
    runbook::Runbook,
    settle::{Effect, Fire},
    source,
    text::clean_json,
};
use chrono::{DateTime, Utc};
use serde_json::{Map, Value, json};
use std::collections::{BTreeMap, BTreeSet};

pub(super) struct BatchOutcome<'a> {
    pub catalog: &'a Catalog,
    pub memories: Memories,
    verdicts: Vec<VerdictRow<'a>>,
    /// Dispatches in their order.
    pub fires: Vec<Firing<'a>>,
    withdrawn: Vec<(JobId, &'static str)>,
    /// The alarms of the batch's alerts.
    pub alarms: BTreeMap<AlertId, AlarmId>,
    /// Alerts of earlier batches that are dispatched for.
    pub earlier: BTreeMap<AlertId, Alert>,
    /// Gatherings whose payloads are too much for what their inputs read, by rule and first alert:
    /// the bytes.
    pub heavy: BTreeMap<(String, AlertId), usize>,
    /// How many numbers of jobs were needed.
    pub numbers: usize,
    /// Mutes by which something is held back.
    pub held_by: BTreeSet<i64>,
    /// Rules that could not decide, and why.
    pub broken: Vec<(String, String)>,
}

struct VerdictRow<'a> {
    alert: AlertId,
    rule: &'a str,
    version: i32,
    verdict: Verdict,
    reason: String,
    job: Option<JobId>,
    tally: String,
    at: DateTime<Utc>,
    replaces: bool,
}

/// Inputs and target that the runbook accepts.
type Accepted = (Map<String, Value>, String);

/// A dispatch of a rule.
pub(super) struct Firing<'a> {
    pub rule: &'a Rule,
    version: i32,
    at: DateTime<Utc>,
    pub fire: Fire,
}

/// What was made.
#[derive(Debug, Default)]
pub(super) struct Created {
    pub jobs: Vec<i64>,
    pub proposals: Vec<i64>,
}

impl<'a> BatchOutcome<'a> {
    pub fn new(catalog: &'a Catalog, memories: Memories) -> Self {
        Self {
            catalog,
            memories,
            verdicts: Vec::new(),
            fires: Vec::new(),
            withdrawn: Vec::new(),
            alarms: BTreeMap::new(),
            earlier: BTreeMap::new(),
            heavy: BTreeMap::new(),
            numbers: 0,
            held_by: BTreeSet::new(),
            broken: Vec::new(),
        }
    }

    /// Notes the effects of one event of a rule.
    pub fn note(
        &mut self,
        rule: &'a Rule,
        version: i32,
        at: DateTime<Utc>,
        effects: Vec<Effect>,
        tally: &str,
    ) {
        for effect in effects {
            match effect {
                // What never came has no verdict.
                Effect::Verdict { alert: None, .. } | Effect::Wake { .. } => {}
                Effect::Verdict { alert: Some(alert), verdict, reason, job, replaces } => {
                    self.verdicts.push(VerdictRow {
                        alert,
                        rule: &rule.name,
                        version,
                        verdict,
                        reason: reason.to_string(),
                        job,
                        tally: tally.to_owned(),
                        at,
                        replaces: replaces.is_some(),
                    })
                }
                Effect::Fire(fire) => self.fires.push(Firing { rule, version, at, fire }),
                Effect::Withdraw { proposal, reason } => self.withdrawn.push((proposal, reason)),
            }
        }
    }

    /// Notes that a rule cannot decide about an alert.
    pub fn broken(&mut self, rule: &'a Rule, version: i32, fresh: &Fresh<'_>, why: &str) {
        self.broken.push((rule.name.clone(), why.to_owned()));
        self.verdicts.push(VerdictRow {
            alert: fresh.id,
            rule: &rule.name,
            version,
            verdict: Verdict::Broken,
            reason: why.to_owned(),
            job: None,
            tally: String::new(),
            at: fresh.alert.received,
            replaces: false,
        });
    }

    /// Writes memories, verdicts, jobs and proposals.
    pub fn write(self, script: &mut Script, batch: &Undecided<'_>) -> Result<Created, StoreError> {
        let (mut jobs, mut proposals) = (Vec::new(), Vec::new());
        for firing in &self.fires {
            for job in self.dispatched(firing, batch) {
                match firing.fire.stance {
                    Stance::Propose => proposals.push(proposal(job, firing)),
                    _ => jobs.push(job),
                }
            }
        }
        self.write_verdicts(script, batch);
        let mut made = Created {
            jobs: jobs.iter().filter_map(|job| job.id).map(|id| id.0).collect(),
            proposals: proposals.iter().filter_map(|row| row["id"].as_i64()).collect(),
        };
        // What is proposed and withdrawn within one batch is written as it ended.
        for row in &mut proposals {
            if let Some((_, why)) =
                self.withdrawn.iter().find(|(first, _)| row["first_id"] == first.0)
            {
                row["state"] = "withdrawn".into();
                row["note"] = (*why).into();
                row["decided_at"] = json!(batch.now);
            }
        }
        self.write_gathered(script);
        if !jobs.is_empty() {
            let (text, values) = new::making(jobs)?;
            script.add(&text, values);
        }
        insert_proposals(script, proposals);
        if !self.withdrawn.is_empty() {
            let (gone, notes): (Vec<i64>, Vec<String>) =
                self.withdrawn.iter().map(|(id, why)| (id.0, (*why).to_owned())).unzip();
            let sql = "UPDATE proposal SET state = 'withdrawn', note = t.note, decided_at = $3
                FROM unnest($1::bigint[], $2::text[]) AS t (first, note)
                WHERE coalesce(proposal.first_id, proposal.id) = t.first
                AND proposal.state = 'open'";
            script.add(sql, vec![gone.clone().into(), notes.into(), batch.now.into()]);
            made.proposals.extend(gone);
        }
        self.memories.write(script)?;
        Ok(made)
    }

    /// Which alerts, and which alarms, a dispatch is for that is for several.
    fn write_gathered(&self, script: &mut Script) {
        let (mut jobs, mut alerts, mut alarms) = (Vec::new(), Vec::new(), Vec::new());
        for Firing { fire, .. } in self.fires.iter().filter(|f| f.fire.alerts.len() > 1) {
            for (job, alert) in
                fire.jobs.iter().flat_map(|job| fire.alerts.iter().map(move |alert| (job, alert)))
            {
                jobs.push(job.0);
                alerts.push(alert.0);
                alarms.push(self.alarms.get(alert).map_or(0, |alarm| alarm.0));
            }
        }
        if !jobs.is_empty() {
            let sql = "INSERT INTO gathered (job_id, alert_seq, alarm_id)
                SELECT job, alert, nullif(alarm, 0) FROM unnest($1::bigint[], $2::bigint[],
                $3::bigint[]) AS t (job, alert, alarm)
                ON CONFLICT DO NOTHING";
            script.add(sql, vec![jobs.into(), alerts.into(), alarms.into()]);
        }
    }

    fn write_verdicts(&self, script: &mut Script, batch: &Undecided<'_>) {
        // Of several verdicts for one alert within a batch the last one counts.
        let mut last: BTreeMap<(AlertId, &str), (&VerdictRow<'_>, bool)> = BTreeMap::new();
        for v in &self.verdicts {
            let new = last.get(&(v.alert, v.rule)).map_or(!v.replaces, |(_, new)| *new);
            last.insert((v.alert, v.rule), (v, new));
        }
        let (new, later): (Vec<_>, Vec<_>) = last.into_values().partition(|(_, new)| *new);
        let values = |rows: &[(&VerdictRow<'_>, bool)]| -> Vec<sea_orm::Value> {
            let texts = |f: fn(&VerdictRow<'_>) -> String| {
                rows.iter().map(|(v, _)| f(v)).collect::<Vec<_>>().into()
            };
            vec![
                rows.iter().map(|(v, _)| v.alert.0).collect::<Vec<i64>>().into(),
                texts(|v| v.rule.to_owned()),
                rows.iter().map(|(v, _)| v.version).collect::<Vec<i32>>().into(),
                texts(|v| v.verdict.as_str().to_owned()),
                texts(|v| v.reason.replace('\0', "\u{fffd}")),
                rows.iter().map(|(v, _)| v.job.map_or(0, |job| job.0)).collect::<Vec<i64>>().into(),
                rows.iter().map(|(v, _)| v.at).collect::<Vec<_>>().into(),
                texts(|v| v.tally.clone()),
            ]
        };
        let source = "unnest($1::bigint[], $2::text[], $3::int[], $4::text[], $5::text[], \
            $6::bigint[],
            $7::timestamptz[], $8::text[]) AS t (seq, rule, version, verdict, reason, job, at, tally)";
        if !new.is_empty() {
            let sql = format!(
                "INSERT INTO verdicts (alert_seq, rule, rule_version, verdict, reason, job_id, at,
                    tally, trial)
                SELECT seq, rule, version, verdict, reason, nullif(job, 0), at, tally,
                    seq = ANY($9::bigint[]) FROM {source}"
            );
            let is_trial = |id: &AlertId| batch.alert(*id).is_some_and(|a| a.trial.is_some());
            let trials = new.iter().map(|(v, _)| v.alert).filter(is_trial);
            let trials: Vec<i64> = trials.map(|id| id.0).collect();
            let mut values = values(&new);
            values.push(trials.into());
            script.add(&sql, values);
        }
        if !later.is_empty() {
            let sql = format!(
                "UPDATE verdicts v SET verdict = t.verdict, reason = t.reason,
                    job_id = nullif(t.job, 0), decided_at = t.at
                FROM {source} WHERE v.alert_seq = t.seq AND v.rule = t.rule
                AND v.alert_seq BETWEEN $9 AND $10"
            );
            let (least, most) =
                days::span(&later.iter().map(|(v, _)| v.alert.0).collect::<Vec<_>>());
            let mut values = values(&later);
            values.extend([least.into(), most.into()]);
            script.add(&sql, values);
        }
    }

    /// The jobs of a dispatch, one for each entry that applies.
    fn dispatched(&self, firing: &Firing<'_>, batch: &Undecided<'_>) -> Vec<NewJob> {
        let Firing { rule, at, fire, .. } = firing;
        let find = |id: &AlertId| batch.alert(*id).or_else(|| self.earlier.get(id));
        let silent = fire
            .tallies
            .first()
            .filter(|_| fire.alerts.is_empty())
            .and_then(|key| rule.silent(key, *at));
        let gathered: Vec<&Alert> = fire.alerts.iter().filter_map(find).chain(&silent).collect();
        let Some(first) = gathered.first().copied() else { return forgotten(firing) };
        let alert = fire.alerts.first().copied();
        let alarm = alert.and_then(|alert| self.alarms.get(&alert).copied());
        let heavy = alert.and_then(|first| self.heavy.get(&(rule.name.clone(), first)));
        let view = TallyView { alerts: fire.count, since: fire.since, jobs: fire.before, gathered };
        let job = |(entry, id): (&Dispatch, &JobId)| {
            let (version, mut prepared) = self.prepared(entry, first, &view);
            if let (Some(bytes), true) = (heavy, entry.reads_gathered_bodies()) {
                prepared = Err(format!(
                    "the payloads of its {} alerts have {} KiB, more than inputs may read of a \
                    gathering; let them read fields, or \
                    gather less with `at_most`",
                    fire.alerts.len(),
                    bytes / 1024
                ));
            }
            let refused = prepared.as_ref().err().cloned();
            let (inputs, target) =
                prepared.unwrap_or_else(|_| (Map::new(), first.resource.to_string()));
            // Where it cannot be worked out, the job is refused for that.
            let deadline = entry.deadline(first, &view).ok().flatten();
            NewJob {
                id: Some(*id),
                runbook: entry.runbook.clone(),
                version,
                inputs: Value::Object(inputs),
                target,
                urgency: entry.urgency.rank(),
                deadline: deadline.map(|d| *at + d.delta()),
                refused,
                origin: firing.origin(),
                alert,
                alarm,
                chain: json!(source::chain_of_job(first, &rule.name)),
                reason: fire.reason.to_string(),
                at: *at,
                beginning: Beginning::Fresh,
                trace: first.trace,
                trial: first.trial,
            }
        };
        rule.entries(first).zip(&fire.jobs).map(job).collect()
    }

    /// The runbook's version, and inputs and target; a job with unacceptable inputs is refused
    /// with the reason, and so seen.
    fn prepared(
        &self,
        entry: &Dispatch,
        alert: &Alert,
        view: &TallyView<'_>,
    ) -> (i32, Result<Accepted, String>) {
        let version = self.catalog.get::<Runbook>(&entry.runbook).map_or(0, |(_, version)| version);
        let prepared = entry.prepared(self.catalog, alert, view).map_err(|e| e.to_string());
        (version, prepared.map(|p| (p.inputs, p.target.to_string())))
    }
}

impl Firing<'_> {
    fn origin(&self) -> Origin {
        Origin { rule: Some((self.rule.name.clone(), self.version)), ..Origin::default() }
    }
}

/// Jobs for an alert that is kept no longer: a rule may wait for longer than alerts are kept. They
/// are refused with the reason, and so seen.
fn forgotten(firing: &Firing<'_>) -> Vec<NewJob> {
    let Firing { rule, at, fire, .. } = firing;
    let why = "the alert that it is for is kept no longer: the rule waited for longer than alerts \
        are kept";
    let job = |id: &JobId| NewJob {
        id: Some(*id),
        runbook: rule.dispatch.first().map_or_else(String::new, |d| d.runbook.clone()),
        version: 0,
        inputs: json!({}),
        target: fire.tallies.first().cloned().unwrap_or_default(),
        urgency: 0,
        deadline: None,
        refused: Some(why.to_owned()),
        origin: firing.origin(),
        alert: fire.alerts.first().copied(),
        alarm: None,
        chain: Value::Null,
        reason: fire.reason.to_string(),
        at: *at,
        beginning: Beginning::Fresh,
        trace: None,
        trial: fire.tallies.first().and_then(|key| Trial::of_key(key)),
    };
    fire.jobs.iter().map(job).collect()
}

/// The row of the proposal of a job: its deadline begins when it is launched.
fn proposal(job: NewJob, firing: &Firing<'_>) -> Value {
    let state = if job.refused.is_some() { ProposalState::Faulty } else { ProposalState::Open };
    json!({
        "id": job.id, "runbook": job.runbook, "runbook_version": job.version, "inputs": job.inputs,
            "target": job.target,
        "urgency": job.urgency, "rule": firing.rule.name, "rule_version": firing.version,
            "alert_seq": job.alert,
        "trial": job.trial,
        "alarm_id": job.alarm, "reason": job.reason, "created_at": job.at, "state": state,
            "note": job.refused,
        "first_id": firing.fire.jobs.first(), "tallies": firing.fire.tallies,
        "deadline_ms": job.deadline.map(|deadline| (deadline - job.at).num_milliseconds()),
        "chain": job.chain, "trace": job.trace.map(|trace| trace.to_string()),
    })
}

fn insert_proposals(script: &mut Script, rows: Vec<Value>) {
    if !rows.is_empty() {
        let sql = "INSERT INTO proposal SELECT * FROM jsonb_populate_recordset(NULL::proposal,
            $1::jsonb)";
        script.add(sql, vec![clean_json(Value::Array(rows)).into()]);
    }
}
