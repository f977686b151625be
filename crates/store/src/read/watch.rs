//! The overview.

use super::{alarms::standing, jobs::items, outcome::OF_JOB};
use crate::{
    StoreError,
    entity::{alarm, job, unreadable},
    sql,
    stored::Stored,
};
use arvok_api::{
    AlarmItem, BrokenRule, JobItem, Narrowing, NeedsYou, ProposalFilter, ProposalItem,
    ProposalState,
};
use arvok_core::job::{JobEffect, JobState};
use chrono::{DateTime, TimeDelta, Timelike, Utc};
use sea_orm::{
    ColumnTrait, Condition, DatabaseConnection, EntityTrait, FromQueryResult, Order,
    PaginatorTrait, QueryFilter, QueryOrder, Select, sea_query::Expr,
};

/// Most items of each part.
const MOST: u64 = 50;
/// Up to how many jobs at work are counted.
const COUNTED_AT_WORK: i64 = 10_000;

/// The parts of the overview that the store knows.
#[derive(Clone, Debug)]
pub struct Overview {
    /// From received to confirmed.
    pub narrowing: Narrowing,
    /// Jobs for a person.
    pub needs_you: Vec<NeedsYou>,
    /// Rules that could not decide.
    pub broken: Vec<BrokenRule>,
    /// Jobs that wait for a person to launch them.
    pub proposals: Vec<ProposalItem>,
    /// Jobs at work.
    pub under_way: Vec<JobItem>,
    /// How many jobs are at work.
    pub jobs_under_way: i64,
    /// Alarms that stand or ended within the last five minutes.
    pub alarms: Vec<AlarmItem>,
    /// How many alarms stand.
    pub alarms_open: i64,
    /// Payloads of the window that could not be read.
    pub unreadable: i64,
}

/// Each alert by the furthest that any rule took it, as that is counted by minute; those that led
/// to a job by what became of the first of them. What Arvok tells of itself is not among them.
const NARROWING: &str = "
    WITH counted AS (
        SELECT coalesce(sum(count) FILTER (WHERE how = 2), 0)::bigint AS proposed,
            coalesce(sum(count) FILTER (WHERE how = 3), 0)::bigint AS watched,
            coalesce(sum(count) FILTER (WHERE how = 4), 0)::bigint AS folded,
            coalesce(sum(count) FILTER (WHERE how = 5), 0)::bigint AS held
        FROM alert_count WHERE minute >= $1
    ), delivered AS (
        SELECT coalesce(sum(alerts - repeated), 0)::bigint AS alerts, coalesce(sum(repeated),
        0)::bigint AS repeated
        FROM delivery_count WHERE minute >= $1 AND source <> 'arvok'
    ), job_of AS (
        SELECT alert_seq, min(job_id) AS job FROM verdicts v WHERE verdict = 'dispatched'
        AND at >= $1
            AND NOT v.trial AND NOT EXISTS (SELECT 1 FROM alerts a WHERE a.seq = v.alert_seq
            AND a.source = 'arvok' OFFSET 0) GROUP BY alert_seq
    ), done AS (
        SELECT count(*) AS dispatched, count(*) FILTER (WHERE outcome = 'under-way') AS under_way,
            count(*) FILTER (WHERE outcome = 'unproved') AS unproved,
            count(*) FILTER (WHERE outcome = 'failed') AS failed,
            count(*) FILTER (WHERE outcome = 'cancelled') AS cancelled,
            count(*) FILTER (WHERE outcome = 'confirmed') AS confirmed
        FROM (SELECT {OF_JOB} AS outcome FROM job_of LEFT JOIN job j ON j.id = job_of.job) o
    ), matching AS (
        SELECT dispatched + proposed + watched + folded + held AS matched FROM counted, done
    )
    SELECT greatest(matched, alerts) AS distinct, greatest(alerts - matched, 0) AS unmatched,
    matched,
        proposed, watched, folded, held, dispatched, under_way, unproved, failed, cancelled, confirmed, repeated,
        $1 AS \"from\", $2 AS \"to\", 0 AS received
    FROM counted, delivered, done, matching";

/// Rules that could not decide within a day, unless a newer version stands since; each with the
/// last reason, as far as it is among its newest verdicts.
const BROKEN: &str = "
    SELECT c.rule, c.count AS alerts, c.last_at, v.reason, v.alert_seq AS alert
    FROM (SELECT rule, sum(count)::bigint AS count, max(last_at) AS last_at FROM verdict_count
            WHERE verdict = 'broken' AND hour >= date_trunc('hour', $1::timestamptz, 'UTC')
            GROUP BY rule HAVING sum(count) > 0) c
        CROSS JOIN LATERAL (SELECT d.withdrawn, d.published_at FROM definition d
        WHERE d.kind = 'rule' AND d.name = c.rule
            ORDER BY d.version DESC LIMIT 1) d
        LEFT JOIN LATERAL (SELECT l.reason, l.alert_seq FROM (SELECT verdict, reason, alert_seq
        FROM verdicts w
                WHERE w.rule = c.rule ORDER BY alert_seq DESC LIMIT 1000) l
            WHERE l.verdict = 'broken' ORDER BY alert_seq DESC LIMIT 1) v ON true
    WHERE NOT d.withdrawn AND c.last_at > d.published_at ORDER BY c.last_at DESC LIMIT $2";

/// Alarms that stand, or ended within the last five minutes; the worst and newest first.
pub async fn open_alarms(
    db: &DatabaseConnection,
    now: DateTime<Utc>,
) -> Result<Vec<AlarmItem>, StoreError> {
    standing(db, now - TimeDelta::minutes(5), MOST).await
}

fn number(n: u64) -> i64 {
    i64::try_from(n).unwrap_or(i64::MAX)
}

/// What makes a job one that ended badly.
const BADLY: &str = "(j.trial IS NULL AND (j.state IN ('failed', 'refused', 'expired') OR j.effect = 'unconfirmed'))";

/// Jobs that did not help, unless a later one did or somebody has set them aside, and those that
/// nobody knows the end of. One cause is one entry: of one runbook on one target the last, and of
/// what failed with the job whose step it is that one.
fn for_a_person(since: DateTime<Utc>) -> Select<job::Entity> {
    use job::Column::{CreatedAt, Effect, Id, Parent, SeenBy, State};
    let later = format!(
        "NOT EXISTS (SELECT 1 FROM job j WHERE j.target = job.target AND j.runbook = job.runbook
            AND j.id > job.id
            AND j.parent IS NULL AND (j.trial IS NULL AND j.effect = 'confirmed' OR {BADLY}))"
    );
    let unsure = || State.eq(Stored(JobState::Unsure));
    let states = State.is_in(JobState::GRAVE.iter().copied().map(Stored));
    let troubled = Condition::any().add(states).add(Effect.eq(Stored(JobEffect::Unconfirmed)));
    let badly =
        Condition::all().add(Parent.is_null()).add(SeenBy.is_null()).add(CreatedAt.gte(since));
    job::Entity::find()
        .filter(troubled)
        .filter(job::Column::Trial.is_null())
        .filter(Condition::any().add(unsure()).add(badly.add(Expr::cust(later))))
        .order_by(unsure(), Order::Desc)
        .order_by_desc(Id)
}

/// The same, with how many came before each for the same cause.
async fn needs_you(
    db: &DatabaseConnection,
    since: DateTime<Utc>,
) -> Result<Vec<NeedsYou>, StoreError> {
    #[derive(FromQueryResult)]
    struct Earlier {
        id: i64,
        n: i64,
    }
    let jobs = items(db, for_a_person(since), MOST).await?;
    let sql = format!(
        "SELECT l.id, count(*) AS n FROM job l JOIN job j ON j.target = l.target
            AND j.runbook = l.runbook AND j.id < l.id
        WHERE l.id = ANY($1) AND j.created_at >= $2 AND j.parent IS NULL AND j.seen_by IS NULL
        AND {BADLY} GROUP BY l.id"
    );
    let asked: Vec<i64> =
        jobs.iter().filter(|job| job.state != JobState::Unsure).map(|job| job.id).collect();
    let earlier: Vec<Earlier> = sql::typed(db, &sql, vec![asked.into(), since.into()]).await?;
    let count = |id: i64| earlier.iter().find(|e| e.id == id).map_or(0, |e| e.n);
    Ok(jobs.into_iter().map(|job| NeedsYou { earlier: count(job.id), job }).collect())
}

/// Jobs that are not over, the most urgent first.
fn at_work() -> Select<job::Entity> {
    job::Entity::find()
        .filter(job::Column::State.is_in(JobState::GOES_ON.iter().copied().map(Stored)))
        .order_by_desc(job::Column::Urgency)
        .order_by_asc(job::Column::Id)
}

/// How many jobs are not over, counted up to so many.
async fn counted_at_work(db: &DatabaseConnection) -> Result<i64, StoreError> {
    #[derive(FromQueryResult)]
    struct Count {
        n: i64,
    }
    let sql = "SELECT count(*) AS n FROM (SELECT 1 FROM job
        WHERE state IN ('queued', 'running', 'waiting') LIMIT $1) j";
    let counted: Vec<Count> = sql::typed(db, sql, vec![COUNTED_AT_WORK.into()]).await?;
    Ok(counted.first().map_or(0, |c| c.n))
}

/// The overview of a window that ends now.
pub async fn overview(
    db: &DatabaseConnection,
    window: TimeDelta,
    now: DateTime<Utc>,
) -> Result<Overview, StoreError> {
    let from = now - window;
    let from = from.with_second(0).and_then(|t| t.with_nanosecond(0)).unwrap_or(from);
    let mut narrowing: Narrowing =
        sql::maybe(db, &NARROWING.replace("{OF_JOB}", OF_JOB), vec![from.into(), now.into()])
            .await?
            .unwrap_or_default();
    narrowing.received = narrowing.distinct + narrowing.repeated;

    let open = ProposalFilter {
        state: Some(ProposalState::Open),
        trial: Some(false),
        limit: Some(MOST),
        ..Default::default()
    };
    let mut proposals = super::proposals(db, open).await?.items;
    proposals.reverse();
    Ok(Overview {
        narrowing,
        needs_you: needs_you(db, now - TimeDelta::hours(24)).await?,
        broken: sql::rows(db, BROKEN, vec![(now - TimeDelta::days(1)).into(), number(MOST).into()])
            .await?,
        proposals,
        under_way: items(db, at_work(), MOST).await?,
        jobs_under_way: counted_at_work(db).await?,
        alarms: open_alarms(db, now).await?,
        alarms_open: number(
            alarm::Entity::find()
                .filter(alarm::Column::State.eq("raised"))
                .filter(alarm::Column::Trial.eq(false))
                .count(db)
                .await?,
        ),
        unreadable: number(
            unreadable::Entity::find()
                .filter(unreadable::Column::Received.gte(from))
                .filter(unreadable::Column::Caught.eq(false))
                .count(db)
                .await?,
        ),
    })
}
