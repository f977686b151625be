//! Versions of documents, and publishing.

use crate::stored::StoredPrincipal;
use crate::{
    StoreError, audit,
    entity::{
        catalog,
        definition::{ActiveModel, Column, Entity, Model, StoredParts},
        proposal,
    },
    intake::back_off,
    mutes,
    secrets::{self, Approval},
    sql,
};
use arvok_api::VersionItem;
use arvok_core::{Principal, Verdict, settle::Tally};
use chrono::{DateTime, TimeDelta, Utc};
use sea_orm::{
    ColumnTrait, ConnectionTrait, DatabaseConnection, DatabaseTransaction, EntityTrait,
    FromQueryResult, QueryFilter, QueryOrder, QuerySelect, Set, TransactionTrait, sea_query::Expr,
};

/// Which version of a document is the newest.
#[derive(Clone, Debug, PartialEq, Eq, FromQueryResult)]
pub struct Newest {
    /// Its kind.
    pub kind: String,
    /// Its name, unique within its kind.
    pub name: String,
    /// The newest version.
    pub version: i32,
    /// Whether that version withdraws it.
    pub withdrawn: bool,
}

/// What is published at one moment.
#[derive(Clone, Debug, Default)]
pub struct PublishedVersions {
    /// Counts up with every change.
    pub generation: i64,
    /// The newest version of every document, also of those that are withdrawn.
    pub newest: Vec<Newest>,
}

/// What is published, without the documents. The generation is read first: what is published
/// meanwhile is then newer than it says, and will be looked at again.
pub async fn standing(db: &DatabaseConnection) -> Result<PublishedVersions, StoreError> {
    let generation = generation(db).await?;
    let sql = "SELECT DISTINCT ON (kind, name) kind, name, version, withdrawn FROM definition
        ORDER BY kind, name, version DESC";
    Ok(PublishedVersions { generation, newest: sql::typed(db, sql, vec![]).await? })
}

/// The generation of what is published.
pub async fn generation(db: &impl ConnectionTrait) -> Result<i64, StoreError> {
    Ok(catalog::Entity::find().one(db).await?.map_or(0, |c| c.generation))
}

/// These versions with their documents.
pub async fn load(db: &DatabaseConnection, wanted: &[Newest]) -> Result<Vec<Model>, StoreError> {
    let sql = "SELECT d.* FROM definition d JOIN unnest($1::text[], $2::text[],
        $3::int[]) AS t (kind, name, version)
        USING (kind, name, version)";
    let column = |f: fn(&Newest) -> &String| {
        wanted.iter().map(|n| f(n).clone()).collect::<Vec<String>>().into()
    };
    let versions = wanted.iter().map(|n| n.version).collect::<Vec<i32>>().into();
    let values = vec![column(|n| &n.kind), column(|n| &n.name), versions];
    Ok(Model::find_by_statement(sql::statement(sql, values)).all(db).await?)
}

/// All versions of a document, newest first.
pub async fn versions(
    db: &DatabaseConnection,
    kind: &str,
    name: &str,
) -> Result<Vec<VersionItem>, StoreError> {
    let found = Entity::find()
        .filter(Column::Kind.eq(kind))
        .filter(Column::Name.eq(name))
        .order_by_desc(Column::Version)
        .limit(200)
        .all(db)
        .await?;
    let item = |v: Model| VersionItem {
        version: v.version,
        published_at: v.published_at,
        published_by: v.published_by.0,
        text: v.text,
        withdrawn: v.withdrawn,
        steps: v.parts.0.into_iter().map(|(name, part)| (name, part.version)).collect(),
    };
    Ok(found.into_iter().map(item).collect())
}

/// A document to be published.
#[derive(Clone, Debug)]
pub struct NewVersion {
    /// Its kind.
    pub kind: String,
    /// Its name, unique within its kind.
    pub name: String,
    /// One more than the newest.
    pub version: i32,
    /// The file it came from.
    pub file: String,
    /// The document.
    pub text: String,
    /// The shared steps that it is published with, by name.
    pub parts: StoredParts,
}

/// Something that a rule waits for from its publication on.
#[derive(Clone, Debug)]
pub struct Awaited {
    /// The rule's name.
    pub rule: String,
    /// The tally's key.
    pub key: String,
    /// The tally.
    pub tally: Tally,
}

/// What is published or withdrawn at once.
#[derive(Clone, Debug, Default)]
pub struct Publication {
    /// The generation that it was checked against.
    pub generation: i64,
    /// New versions.
    pub versions: Vec<NewVersion>,
    /// What rules begin to wait for.
    pub awaited: Vec<Awaited>,
    /// What is withdrawn: its last text goes on as that of the version that ends it.
    pub withdrawn: Vec<NewVersion>,
    /// Where an admin lets secrets go by it.
    pub approved: Vec<Approval>,
}

/// Publishes all of it; or nothing, if anything was published since it was checked.
///
/// # Errors
/// [`StoreError::Stale`] with the generation that stands now.
pub async fn publish(
    db: &DatabaseConnection,
    publication: Publication,
    by: &Principal,
    now: DateTime<Utc>,
) -> Result<(), StoreError> {
    for again in 1.. {
        match published(db, publication.clone(), by, now).await {
            // Somebody was in the way, as of intake that is taking alerts of these rules.
            Err(e) if e.is_passing() && again < TRIES => back_off(again).await,
            done => return done,
        }
    }
    Ok(())
}

/// Most tries of a publication.
const TRIES: u32 = 20;

async fn published(
    db: &DatabaseConnection,
    publication: Publication,
    by: &Principal,
    now: DateTime<Utc>,
) -> Result<(), StoreError> {
    let tx = db.begin().await?;
    match put(&tx, publication, by, now).await {
        Ok(()) => Ok(tx.commit().await?),
        Err(e) => {
            let _ = tx.rollback().await;
            Err(e)
        }
    }
}

async fn put(
    tx: &DatabaseTransaction,
    publication: Publication,
    by: &Principal,
    now: DateTime<Utc>,
) -> Result<(), StoreError> {
    let Publication { generation, versions, awaited, withdrawn, approved } = publication;
    let stands = catalog::Entity::find().lock_exclusive().one(tx).await?;
    if let Some(stands) = stands.filter(|s| s.generation != generation) {
        return Err(StoreError::Stale(stands.generation));
    }
    let rules = withdrawn.iter().filter(|v| v.kind == "rule").map(|v| v.name.clone()).collect();
    end_memories(tx, rules, now).await?;
    let freezes = |v: &NewVersion| ["calendar", "guard", "group"].contains(&v.kind.as_str());
    if versions.iter().chain(&withdrawn).any(freezes) {
        // What was frozen by the former ones may not be any more.
        mutes::look_anew(tx, Verdict::Frozen).await?;
    }
    let guards = withdrawn.iter().filter(|v| v.kind == "guard").map(|v| v.name.clone()).collect();
    forget_guards(tx, guards).await?;
    let row = |v: NewVersion, withdrawn: bool| ActiveModel {
        kind: Set(v.kind),
        name: Set(v.name),
        version: Set(v.version),
        file: Set(v.file),
        text: Set(v.text),
        published_at: Set(now),
        published_by: Set(StoredPrincipal(by.clone())),
        withdrawn: Set(withdrawn),
        parts: Set(v.parts),
    };
    let rows = versions
        .into_iter()
        .map(|v| row(v, false))
        .chain(withdrawn.into_iter().map(|v| row(v, true)));
    let rows: Vec<ActiveModel> = rows.collect();
    for row in &rows {
        let act = if row.withdrawn == Set(true) { "withdrawn" } else { "published" };
        let what = format!("{} {}", row.kind.as_ref(), row.name.as_ref());
        audit::record(tx, by, act, &what, &format!("version {}", row.version.as_ref())).await?;
    }
    Entity::insert_many(rows).exec_without_returning(tx).await?;
    secrets::approve(tx, &approved, by).await?;
    for Approval { secret, connection, shown_to } in &approved {
        let what = format!("secret {secret}, connection {connection}");
        audit::record(tx, by, "secret.approved", &what, shown_to).await?;
    }
    for a in awaited {
        let sql = "INSERT INTO tally (rule, key, state, alarms, due)
            VALUES ($1, $2, $3::text::jsonb, '{}', $4)
            ON CONFLICT DO NOTHING";
        let state = serde_json::to_string(&a.tally)?;
        sql::run(tx, sql, vec![a.rule.into(), a.key.into(), state.into(), a.tally.due.into()])
            .await?;
    }
    Ok(())
}

/// What a withdrawn guard has counted is forgotten, and its circuits with it: one that is published
/// under the name later begins anew.
async fn forget_guards(tx: &DatabaseTransaction, guards: Vec<String>) -> Result<(), StoreError> {
    if guards.is_empty() {
        return Ok(());
    }
    crate::jobs::guards::forget(tx, &guards).await?;
    sql::run(tx, "DELETE FROM circuit WHERE guard = ANY($1)", vec![guards.into()]).await?;
    Ok(())
}

/// What a withdrawn rule remembers is ended: nothing waits any more, and what it proposed is
/// withdrawn, each with the reason.
async fn end_memories(
    tx: &DatabaseTransaction,
    rules: Vec<String>,
    now: DateTime<Utc>,
) -> Result<u64, StoreError> {
    if rules.is_empty() {
        return Ok(0);
    }
    // In the one order of all locks: tallies before pools, each by its key, verdicts after both.
    for table in ["tally", "pool"] {
        let lock =
            format!("SELECT 1 FROM {table} WHERE rule = ANY($1) ORDER BY rule, key FOR UPDATE");
        tx.query_all_raw(sql::statement(&lock, vec![rules.clone().into()])).await?;
    }
    let held = "UPDATE verdicts v SET reason = v.reason ||
            '; the rule was withdrawn before it was decided', decided_at = $2
        FROM (SELECT rule, (state #>> '{episode,held,seen,alert}')::bigint AS alert FROM tally
            WHERE rule = ANY($1) AND state #> '{episode,held}' IS NOT NULL) t
        WHERE v.rule = t.rule AND v.alert_seq = t.alert";
    sql::run(tx, held, vec![rules.clone().into(), now.into()]).await?;
    proposal::Entity::update_many()
        .col_expr(proposal::Column::State, Expr::value("withdrawn"))
        .col_expr(proposal::Column::Note, Expr::value("its rule was withdrawn"))
        .col_expr(proposal::Column::DecidedAt, Expr::value(now))
        .filter(proposal::Column::Rule.is_in(&rules))
        .filter(proposal::Column::State.eq("open"))
        .exec(tx)
        .await?;
    let mut ended = 0;
    for table in ["pool", "tally"] {
        ended += sql::run(
            tx,
            &format!("DELETE FROM {table} WHERE rule = ANY($1)"),
            vec![rules.clone().into()],
        )
        .await?;
    }
    Ok(ended)
}

/// How long after a withdrawal no batch decides any more by what stood before.
const DECIDED: TimeDelta = TimeDelta::minutes(1);

/// Rules of which one pass ends what they left.
const LEFT_AT_ONCE: i64 = 20;

/// Ends what rules remember that stand no more: a batch that was under way while its rule was
/// withdrawn wrote it after that. How much there was.
///
/// # Errors
/// If the database cannot be worked with; then nothing was ended.
pub async fn end_left_memories(
    db: &DatabaseConnection,
    now: DateTime<Utc>,
) -> Result<u64, StoreError> {
    #[derive(FromQueryResult)]
    struct Left {
        rule: String,
    }
    // The rules of a table, each found by its key.
    let all = |table: &str| {
        format!(
            "(WITH RECURSIVE r AS ((SELECT rule FROM {table} ORDER BY rule LIMIT 1) UNION ALL
                SELECT (SELECT rule FROM {table} WHERE rule > r.rule ORDER BY rule LIMIT 1) FROM r
                WHERE r.rule IS NOT NULL)
            SELECT rule FROM r WHERE rule IS NOT NULL)"
        )
    };
    let sql = format!(
        "SELECT rule FROM ({} UNION {}) m WHERE NOT EXISTS (SELECT 1 FROM definition d
            WHERE d.kind = 'rule' AND d.name = m.rule
            AND (NOT d.withdrawn OR d.published_at > $1) AND d.version =
                (SELECT max(version) FROM definition n WHERE n.kind = 'rule' AND n.name = m.rule))
                LIMIT $2",
        all("tally"),
        all("pool")
    );
    let values = || vec![(now - DECIDED).into(), LEFT_AT_ONCE.into()];
    if sql::typed::<Left>(db, &sql, values()).await?.is_empty() {
        return Ok(0);
    }
    let tx = db.begin().await?;
    // None of them is published meanwhile.
    catalog::Entity::find().lock_exclusive().one(&tx).await?;
    let left: Vec<Left> = sql::typed(&tx, &sql, values()).await?;
    let ended = end_memories(&tx, left.into_iter().map(|l| l.rule).collect(), now).await?;
    tx.commit().await?;
    Ok(ended)
}

/// What has been published since a moment, in words, newest first.
pub async fn since(
    db: &DatabaseConnection,
    then: DateTime<Utc>,
) -> Result<Vec<String>, StoreError> {
    let found = Entity::find()
        .filter(Column::PublishedAt.gte(then))
        .order_by_desc(Column::PublishedAt)
        .order_by_asc(Column::Kind)
        .order_by_asc(Column::Name)
        .limit(10)
        .all(db)
        .await?;
    Ok(found
        .into_iter()
        .map(|d| format!("{} {} by {}", d.kind, d.name, d.published_by.0.shown()))
        .collect())
}

/// One old or new version's text.
pub async fn version(
    db: &impl ConnectionTrait,
    kind: &str,
    name: &str,
    version: i32,
) -> Result<Option<Model>, StoreError> {
    Ok(Entity::find_by_id((kind.to_owned(), name.to_owned(), version)).one(db).await?)
}
