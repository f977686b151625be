//! Alerts and payloads that could not be read.

use super::{Conditions, bound::Floor, like, outcome, page};
use crate::{StoreError, days, entity::unreadable, key_order, sql, stored::Stored};
use arvok_api::{
    AlertDetail, AlertFilter, AlertItem, AskedVerdict, PAGE, Page, UnreadableItem, VerdictItem,
};
use arvok_core::{
    Alert, AlertState, ResourcePath, Severity, TraceContext, Trial, Verdict, source::OWN,
};
use chrono::{DateTime, TimeDelta, Utc};
use sea_orm::{
    ColumnTrait, ConnectionTrait, DatabaseConnection, EntityTrait, FromQueryResult, QueryFilter,
    QueryOrder, QueryResult, QuerySelect,
};
use std::collections::BTreeMap;

/// The number behind the last alert that was received before a moment, so that a search begins
/// there.
async fn behind(db: &DatabaseConnection, until: DateTime<Utc>) -> Result<Option<i64>, StoreError> {
    #[derive(FromQueryResult)]
    struct Last {
        seq: Option<i64>,
    }
    let sql = "SELECT max(seq) AS seq FROM alerts WHERE received < $1 AND received >= $2";
    for minutes in [5, 60, 24 * 60] {
        let since = until - TimeDelta::minutes(minutes);
        let found: Vec<Last> = sql::typed(db, sql, vec![until.into(), since.into()]).await?;
        if let Some(seq) = found.first().and_then(|l| l.seq) {
            return Ok(Some(seq + 1));
        }
    }
    Ok(None)
}

/// The ids of a source's alerts that begin with a text, of the last minutes and among so many of
/// the last alerts of all.
///
/// # Errors
/// If the database cannot be worked with.
pub async fn late_ids(
    db: &DatabaseConnection,
    (source, prefix): (&str, &str),
    minutes: i32,
    most: i64,
) -> Result<Vec<String>, StoreError> {
    #[derive(FromQueryResult)]
    struct Id {
        id: String,
    }
    let sql =
        "SELECT id FROM (SELECT source, id, received FROM alerts ORDER BY seq DESC LIMIT $4) a
        WHERE source = $1 AND starts_with(id, $2) AND received > now() - make_interval(mins => $3)";
    let values = vec![source.into(), prefix.into(), minutes.into(), most.into()];
    let found: Vec<Id> = sql::typed(db, sql, values).await?;
    Ok(found.into_iter().map(|row| row.id).collect())
}

pub(super) const SEVERITY: &str =
    "(ARRAY['indeterminate','warning','minor','major','critical'])[severity] AS severity";

fn select(from: &str, filter: &str) -> String {
    format!(
        "SELECT seq, id, source, kind, {SEVERITY}, state, resource, time, received, summary, value,
            labels, trial,
            coalesce((SELECT jsonb_agg(jsonb_strip_nulls(jsonb_build_object('rule', v.rule,
            'verdict', v.verdict, 'job', v.job_id)) ORDER BY v.rule)
                FROM verdicts v WHERE v.alert_seq = a.seq), '[]') AS verdicts
        FROM {from} {filter}"
    )
}

/// A page of alerts, newest first.
pub async fn alerts(
    db: &DatabaseConnection,
    mut filter: AlertFilter,
) -> Result<Page<AlertItem>, StoreError> {
    if let Some(until) = filter.until {
        let behind = behind(db, until).await?;
        filter.after = [filter.after, behind].into_iter().flatten().min();
    }
    let floor = match (&filter.resource, &filter.rule) {
        // An index leads to these.
        (Some(_), None) => None,
        (_, Some(rule)) => Some(Floor::of_rule(db, rule, filter.after).await?),
        (None, None) => Some(Floor::of_alerts(db, filter.after).await?),
    };
    let mut c = Conditions::default();
    c.maybe("seq >= ?", floor.as_ref().map(Floor::at));
    let of_rules = filter.verdict.is_some_and(|verdict| verdict != AskedVerdict::Unmatched);
    if filter.source.is_none() && filter.kind.is_none() && filter.rule.is_none() && !of_rules {
        // Whoever wants what Arvok tells of its own doings asks for it.
        c.add("(source <> ? OR state <> 'noted')", OWN);
    }
    c.maybe("source = ?", filter.source);
    c.maybe("kind = ?", filter.kind);
    let severities = filter.severity;
    c.maybe("severity >= ?", severities.map(|range| range.from.rank()));
    c.maybe("severity <= ?", severities.map(|range| range.to.rank()));
    c.maybe("state = ?", filter.state.map(AlertState::as_str));
    c.maybe("resource = ?", filter.resource);
    c.maybe("received >= ?", filter.since);
    c.maybe("received < ?", filter.until);
    c.maybe("(trial IS NOT NULL) = ?", filter.trial);
    c.maybe("seq < ?", filter.after);
    let mut from = "alerts a".to_owned();
    let verdict = filter.verdict;
    if let Some(rule) = filter.rule {
        // By the rule's own verdicts, newest first: it may have matched few of many.
        let of_rule =
            [c.value(rule), c.value(filter.after), c.value(floor.as_ref().map(Floor::at))];
        let [rule, after, floor] = of_rule;
        let given = verdict_condition(&mut c, verdict).unwrap_or_else(|| "false".into());
        from = format!(
            "(SELECT v.alert_seq FROM verdicts v WHERE v.rule = {rule}
                AND v.alert_seq < coalesce({after}, {MAX})
                AND v.alert_seq >= coalesce({floor}, 0) AND {given}) r
                JOIN alerts a ON a.seq = r.alert_seq",
            MAX = i64::MAX
        );
    } else if let Some(verdict) = verdict {
        // Within the bound of the search all verdicts are looked at; where an index leads to the
        // alerts, OFFSET has each asked for by its key.
        let within = match &floor {
            Some(floor) => format!("AND v.alert_seq >= {}", c.value(floor.at())),
            None => "OFFSET 0".to_owned(),
        };
        let given = verdict_condition(&mut c, Some(verdict));
        let not = if given.is_none() { "NOT " } else { "" };
        let given = given.unwrap_or_else(|| "true".into());
        c.plain(&format!(
            "{not}EXISTS (SELECT 1 FROM verdicts v WHERE v.alert_seq = a.seq AND {given} {within})"
        ));
    }
    if let Some(outcome) = filter.outcome {
        outcome::narrow(outcome, &mut c, floor.as_ref().map(Floor::at));
    }
    if let Some(text) = filter.text {
        c.add("(summary || ' ' || resource || ' ' || kind) ILIKE ?", like(&text));
    }
    let limit = filter.limit.unwrap_or(PAGE);
    let tail = format!("{} ORDER BY seq DESC LIMIT {}", c.clause(), limit + 1);
    let items: Vec<AlertItem> = sql::rows(db, &select(&from, &tail), c.values).await?;
    let mut page = page(items, limit, |a| a.seq);
    if let Some(floor) = floor {
        floor.close(db, &mut page, filter.since).await?;
    }
    Ok(page)
}

/// What a verdict must be; none if there must not be any.
fn verdict_condition(c: &mut Conditions, verdict: Option<AskedVerdict>) -> Option<String> {
    match verdict {
        Some(AskedVerdict::Unmatched) => None,
        None | Some(AskedVerdict::Matched) => Some("true".to_owned()),
        Some(AskedVerdict::Held) => {
            let held = Verdict::HELD.map(|v| v.as_str().to_owned()).to_vec();
            Some(format!("v.verdict = ANY({})", c.value(held)))
        }
        Some(AskedVerdict::Is(verdict)) => {
            Some(format!("v.verdict = {}", c.value(verdict.as_str())))
        }
    }
}

/// One alert with its payload and its verdicts.
pub async fn alert(db: &DatabaseConnection, seq: i64) -> Result<Option<AlertDetail>, StoreError> {
    let Some(alert) =
        sql::maybe::<AlertItem>(db, &select("alerts a", "WHERE seq = $1"), vec![seq.into()])
            .await?
    else {
        return Ok(None);
    };
    #[derive(serde::Deserialize)]
    struct Rest {
        body: serde_json::Value,
        key_order: Option<String>,
        alarm: Option<i64>,
        trace: Option<String>,
    }
    let sql = "SELECT body, key_order, trace, (SELECT id FROM alarm m WHERE a.state <> 'noted'
        AND m.source = a.source
            AND m.resource = a.resource AND m.kind = a.kind AND m.trial = (a.trial IS NOT NULL)) AS alarm
        FROM alerts a WHERE seq = $1";
    let rest: Option<Rest> = sql::maybe(db, sql, vec![seq.into()]).await?;
    let sql = "SELECT rule, rule_version, verdict, reason, job_id AS job, tally, at, decided_at
        FROM verdicts WHERE alert_seq = $1 ORDER BY rule";
    let verdicts: Vec<VerdictItem> = sql::rows(db, sql, vec![seq.into()]).await?;
    Ok(rest.map(|r| {
        let body = key_order::restored(r.body, r.key_order.as_deref());
        AlertDetail { alert, body, alarm: r.alarm, verdicts, trace: r.trace }
    }))
}

/// The alerts for which a job was dispatched, where it is for several: the first so many, and how
/// many there are.
pub async fn gathered(
    db: &DatabaseConnection,
    job: i64,
    most: u64,
) -> Result<(Vec<AlertItem>, i64), StoreError> {
    #[derive(FromQueryResult)]
    struct Count {
        n: i64,
    }
    let count = "SELECT count(*) AS n FROM gathered WHERE job_id = $1";
    let count: Vec<Count> = sql::typed(db, count, vec![job.into()]).await?;
    let all = count.first().map_or(0, |count| count.n);
    if all == 0 {
        return Ok((Vec::new(), 0));
    }
    let which = "WHERE seq IN (SELECT alert_seq FROM gathered WHERE job_id = $1 ORDER BY alert_seq
        LIMIT $2) ORDER BY seq";
    let most = i64::try_from(most).unwrap_or(i64::MAX);
    Ok((sql::rows(db, &select("alerts a", which), vec![job.into(), most.into()]).await?, all))
}

/// An alert in the form that expressions see.
pub async fn whole_alert(db: &impl ConnectionTrait, seq: i64) -> Result<Option<Alert>, StoreError> {
    Ok(whole_alerts(db, &[seq]).await?.remove(&seq))
}

/// The bytes that the payloads of alerts have as text, by their numbers.
pub async fn payload_bytes(
    db: &impl ConnectionTrait,
    seqs: &[i64],
) -> Result<BTreeMap<i64, usize>, StoreError> {
    #[derive(FromQueryResult)]
    struct Size {
        seq: i64,
        bytes: i64,
    }
    let sql = "SELECT k.seq, a.bytes FROM unnest($1::bigint[]) AS k (seq) CROSS JOIN LATERAL
        (SELECT octet_length(body::text)::bigint AS bytes FROM alerts WHERE seq = k.seq
        AND seq BETWEEN $2 AND $3 OFFSET 0) a";
    let (least, most) = days::span(seqs);
    let sizes: Vec<Size> =
        sql::typed(db, sql, vec![seqs.to_vec().into(), least.into(), most.into()]).await?;
    Ok(sizes.into_iter().map(|s| (s.seq, usize::try_from(s.bytes).unwrap_or_default())).collect())
}

/// The columns that [`recorded`] reads.
const RECORDED: &str =
    "seq, id, source, kind, severity, state, resource, time, received, summary, \
    value, labels, body,
    key_order, trace, trial";

/// Alerts in the form that expressions see, by their numbers.
pub async fn whole_alerts(
    db: &impl ConnectionTrait,
    seqs: &[i64],
) -> Result<BTreeMap<i64, Alert>, StoreError> {
    alerts_with(db, seqs, RECORDED).await
}

/// The same without their payloads.
pub async fn alerts_without_payload(
    db: &impl ConnectionTrait,
    seqs: &[i64],
) -> Result<BTreeMap<i64, Alert>, StoreError> {
    let columns = RECORDED
        .replace("body", "'null'::jsonb AS body")
        .replace("key_order", "NULL::text AS key_order");
    alerts_with(db, seqs, &columns).await
}

/// The labels of alerts, of those that there are.
///
/// # Errors
/// If the database cannot be worked with.
pub(crate) async fn labels_of_alerts(
    db: &impl ConnectionTrait,
    seqs: &[i64],
) -> Result<BTreeMap<i64, BTreeMap<String, String>>, StoreError> {
    #[derive(FromQueryResult)]
    struct Row {
        seq: i64,
        labels: serde_json::Value,
    }
    if seqs.is_empty() {
        return Ok(BTreeMap::new());
    }
    let sql = "SELECT a.* FROM unnest($1::bigint[]) AS k (seq) CROSS JOIN LATERAL
        (SELECT seq, labels FROM alerts WHERE seq = k.seq AND seq BETWEEN $2 AND $3 OFFSET 0) a";
    let (least, most) = days::span(seqs);
    let rows: Vec<Row> =
        sql::typed(db, sql, vec![seqs.to_vec().into(), least.into(), most.into()]).await?;
    rows.into_iter().map(|row| Ok((row.seq, serde_json::from_value(row.labels)?))).collect()
}

async fn alerts_with(
    db: &impl ConnectionTrait,
    seqs: &[i64],
    columns: &str,
) -> Result<BTreeMap<i64, Alert>, StoreError> {
    // Each by its key: a plan for all of them that was made while there were few reads the whole
    // table when there are many.
    let sql = format!(
        "SELECT a.* FROM unnest($1::bigint[]) AS k (seq) CROSS JOIN LATERAL
            (SELECT {columns} FROM alerts WHERE seq = k.seq AND seq BETWEEN $2 AND $3 OFFSET 0) a"
    );
    let (least, most) = days::span(seqs);
    let rows = db
        .query_all_raw(sql::statement(&sql, vec![seqs.to_vec().into(), least.into(), most.into()]))
        .await?;
    rows.iter().map(recorded).collect()
}

/// Reads a recorded alert with its number, column by column.
pub(super) fn recorded(row: &QueryResult) -> Result<(i64, Alert), StoreError> {
    let text = |column: &str| row.try_get::<String>("", column);
    let wrong = |what: &str| {
        StoreError::Database(sea_orm::DbErr::Type(format!("a stored alert has a faulty {what}")))
    };
    let labels: serde_json::Value = row.try_get("", "labels")?;
    let key_order: Option<String> = row.try_get("", "key_order")?;
    let trace: Option<String> = row.try_get("", "trace")?;
    let trial: Option<Stored<Trial>> = row.try_get("", "trial")?;
    let alert = Alert {
        id: text("id")?,
        source: text("source")?,
        kind: text("kind")?,
        severity: Severity::from_rank(row.try_get("", "severity")?),
        state: AlertState::parse(&text("state")?).ok_or_else(|| wrong("state"))?,
        resource: ResourcePath::parse(&text("resource")?).map_err(|_| wrong("resource"))?,
        time: row.try_get("", "time")?,
        received: row.try_get("", "received")?,
        summary: text("summary")?,
        value: row.try_get("", "value")?,
        labels: serde_json::from_value(labels)?,
        body: key_order::restored(row.try_get("", "body")?, key_order.as_deref()),
        trace: trace.as_deref().and_then(TraceContext::parse),
        trial: trial.map(|trial| trial.0),
    };
    Ok((row.try_get("", "seq")?, alert))
}

/// The alerts of one alarm around an alert: those of the alert's episode and a little before,
/// oldest first.
pub async fn alerts_around(
    db: &DatabaseConnection,
    seq: i64,
    most: u32,
) -> Result<Vec<Alert>, StoreError> {
    let sql = format!(
        "SELECT {RECORDED} FROM (
            SELECT b.* FROM alerts a JOIN alerts b USING (source, resource, kind) WHERE a.seq = $1
                AND (b.trial IS NULL) = (a.trial IS NULL)
                AND b.seq < $2 AND b.received <= a.received + interval '1 hour'
                AND b.seq >= coalesce(
                    (SELECT max(c.seq) + 1 FROM alerts c WHERE c.source = a.source
                    AND c.resource = a.resource
                        AND c.kind = a.kind AND c.state = 'cleared' AND c.seq < a.seq), 0)
                AND b.seq <= coalesce((SELECT min(c.seq) FROM alerts c WHERE c.source = a.source
                    AND c.resource = a.resource AND c.kind = a.kind AND c.state = 'cleared'
                    AND c.seq >= a.seq), b.seq)
            ORDER BY b.seq DESC LIMIT {most}) q ORDER BY received, seq"
    );
    // What was received within an hour lies among the next million of its day, or in the next day.
    let days = days::all(db).await?;
    let beyond = days.iter().rev().find(|d| d.first_seq > seq).map_or(0, |d| d.first_seq);
    let beyond = beyond.max(seq) + 1_000_000;
    let rows = db.query_all_raw(sql::statement(&sql, vec![seq.into(), beyond.into()])).await?;
    rows.iter().map(|row| recorded(row).map(|(_, alert)| alert)).collect()
}

/// Payloads of a source that could not be read, oldest first, from behind one of them.
pub async fn unreadable_from(
    db: &DatabaseConnection,
    source: &str,
    after: i64,
    limit: u64,
) -> Result<Vec<unreadable::Model>, StoreError> {
    let found = unreadable::Entity::find()
        .filter(unreadable::Column::Source.eq(source))
        .filter(unreadable::Column::Id.gt(after))
        .order_by_asc(unreadable::Column::Id)
        .limit(limit);
    Ok(found.all(db).await?)
}

/// Lets go of a payload that has been read after all.
pub async fn forget_unreadable(db: &DatabaseConnection, id: i64) -> Result<(), StoreError> {
    unreadable::Entity::delete_by_id(id).exec(db).await?;
    Ok(())
}

/// Bytes of a payload in a list.
const SHOWN: usize = 16 << 10;

/// A page of payloads that could not be read or are caught, newest first, their beginnings.
pub async fn unreadable(
    db: &DatabaseConnection,
    source: &str,
    after: Option<i64>,
    limit: u64,
) -> Result<Page<UnreadableItem>, StoreError> {
    #[derive(FromQueryResult)]
    struct Kept {
        id: i64,
        source: String,
        received: DateTime<Utc>,
        reason: String,
        payload: String,
        bytes: i32,
        beside: Option<serde_json::Value>,
        caught: bool,
        base64: bool,
    }
    let sql = "SELECT id, source, received, reason, left(payload, $4) AS payload,
            octet_length(payload) AS bytes, beside, caught, base64
        FROM unreadable WHERE source = $1 AND id < $2 ORDER BY id DESC LIMIT $3";
    let values = vec![
        source.into(),
        after.unwrap_or(i64::MAX).into(),
        i64::try_from(limit + 1).unwrap_or(i64::MAX).into(),
        i32::try_from(SHOWN).unwrap_or(i32::MAX).into(),
    ];
    let found: Vec<Kept> = sql::typed(db, sql, values).await?;
    let item = |kept: Kept| UnreadableItem {
        id: kept.id,
        source: kept.source,
        received: kept.received,
        reason: kept.reason,
        is_cut: kept.payload.len() < usize::try_from(kept.bytes).unwrap_or(0),
        payload: kept.payload,
        beside: kept.beside.filter(|beside| !beside.is_null()),
        caught: kept.caught,
        base64: kept.base64,
    };
    Ok(page(found.into_iter().map(item).collect(), limit, |u: &UnreadableItem| u.id))
}

/// The newest payloads of a source that are kept, whole, up to so many and so many bytes.
pub async fn newest_unreadable(
    db: &DatabaseConnection,
    source: &str,
    most: u64,
    bytes: usize,
) -> Result<Vec<unreadable::Model>, StoreError> {
    #[derive(FromQueryResult)]
    struct Handle {
        id: i64,
    }
    let sql = "SELECT id FROM (SELECT id,
                sum(octet_length(payload)) OVER (ORDER BY id DESC) AS bytes
            FROM (SELECT id, payload FROM unreadable WHERE source = $1 AND NOT item
                ORDER BY id DESC LIMIT $2) n) u
        WHERE bytes <= $3";
    let number = |n: u64| i64::try_from(n).unwrap_or(i64::MAX);
    let values = vec![source.into(), number(most).into(), number(bytes as u64).into()];
    let found: Vec<Handle> = sql::typed(db, sql, values).await?;
    let found = unreadable::Entity::find()
        .filter(unreadable::Column::Id.is_in(found.into_iter().map(|handle| handle.id)))
        .order_by_desc(unreadable::Column::Id);
    Ok(found.all(db).await?)
}

/// A payload that could not be read or is caught, whole.
pub async fn one_unreadable(
    db: &DatabaseConnection,
    id: i64,
) -> Result<Option<unreadable::Model>, StoreError> {
    Ok(unreadable::Entity::find_by_id(id).one(db).await?)
}
