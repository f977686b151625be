//! What sources sent of each kind. Every node gathers for itself and adds what it saw to one row
//! for each kind.

use crate::{StoreError, audit, sql};
use arvok_core::{Principal, glob::Glob, shape::Shape};
use sea_orm::{
    ConnectionTrait, DatabaseConnection, DatabaseTransaction, FromQueryResult, TransactionTrait,
};
use std::collections::{BTreeMap, HashSet};

/// Most kinds of a source; of further ones no shape is kept.
pub const MAX_KINDS: i64 = 200;

/// A source and a kind; the kind is empty for what was caught.
pub type ShapeKey = (String, String);

#[derive(FromQueryResult)]
struct Row {
    source: String,
    kind: String,
    profile: serde_json::Value,
}

/// Adds what was seen, all of it or nothing.
///
/// # Errors
/// If the database cannot be worked with.
pub async fn add(
    db: &DatabaseConnection,
    seen: &BTreeMap<ShapeKey, Shape>,
) -> Result<(), StoreError> {
    let tx = db.begin().await?;
    let mut known = lock(&tx, seen).await?;
    for (key, seen) in seen {
        let Some(row) = known.get_mut(key) else { continue };
        match row {
            Some(shape) => shape.merge(seen.clone()),
            None => *row = Some(seen.clone()),
        }
    }
    let shapes: Vec<(&ShapeKey, &Shape)> =
        known.iter().filter_map(|(key, shape)| Some((key, shape.as_ref()?))).collect();
    let sql = "UPDATE shape s SET profile = t.profile::jsonb, last_at = t.last_at
        FROM unnest($1::text[], $2::text[], $3::text[], $4::timestamptz[])
            AS t (source, kind, profile, last_at)
        WHERE s.source = t.source AND s.kind = t.kind";
    let profiles: Vec<String> = shapes.iter().map(|(_, shape)| profile(shape)).collect();
    let last: Vec<_> = shapes.iter().map(|(_, shape)| shape.last).collect();
    let (sources, kinds): (Vec<String>, Vec<String>) =
        shapes.iter().map(|((source, kind), _)| (source.clone(), kind.clone())).unzip();
    sql::run(&tx, sql, vec![sources.into(), kinds.into(), profiles.into(), last.into()]).await?;
    tx.commit().await?;
    Ok(())
}

fn profile(shape: &Shape) -> String {
    serde_json::to_string(shape).unwrap_or_else(|_| "null".to_owned()).replace("\\u0000", "\\ufffd")
}

/// The rows of these keys, locked in their order; those that there were not are made, up to
/// [`MAX_KINDS`] of a source. What is new, or was not written by this build, has no shape.
async fn lock(
    tx: &DatabaseTransaction,
    seen: &BTreeMap<ShapeKey, Shape>,
) -> Result<BTreeMap<ShapeKey, Option<Shape>>, StoreError> {
    let keys = || -> [sea_orm::Value; 2] {
        let (sources, kinds): (Vec<String>, Vec<String>) = seen.keys().cloned().unzip();
        [sources.into(), kinds.into()]
    };
    let made = "INSERT INTO shape (source, kind, profile, last_at)
        SELECT t.source, t.kind, 'null', now() FROM (SELECT source, kind,
                row_number() OVER (PARTITION BY source, kind = '' ORDER BY kind) AS n
            FROM unnest($1::text[], $2::text[]) AS t (source, kind)
            WHERE NOT EXISTS (SELECT 1 FROM shape s WHERE s.source = t.source AND s.kind = t.kind))
            t
        WHERE t.kind = '' OR t.n + (SELECT count(*) FROM shape s
            WHERE s.source = t.source AND s.kind <> '') <= $3
        ORDER BY t.source, t.kind ON CONFLICT DO NOTHING";
    let [sources, kinds] = keys();
    sql::run(tx, made, vec![sources, kinds, MAX_KINDS.into()]).await?;
    let locked = "SELECT s.source, s.kind, s.profile FROM shape s
        JOIN unnest($1::text[], $2::text[]) AS t (source, kind) USING (source, kind)
        ORDER BY s.source, s.kind FOR UPDATE OF s";
    let rows: Vec<Row> = sql::typed(tx, locked, keys().into()).await?;
    let shape = |row: Row| ((row.source, row.kind), serde_json::from_value(row.profile).ok());
    Ok(rows.into_iter().map(shape).collect())
}

/// The shapes of sources, by kind.
///
/// # Errors
/// If the database cannot be worked with.
pub async fn find(
    db: &impl ConnectionTrait,
    sources: &[String],
) -> Result<BTreeMap<ShapeKey, Shape>, StoreError> {
    let sql = "SELECT source, kind, profile FROM shape WHERE source = ANY($1)";
    let rows: Vec<Row> = sql::typed(db, sql, vec![sources.to_vec().into()]).await?;
    let shape = |row: Row| {
        Some(((row.source, row.kind), serde_json::from_value::<Shape>(row.profile).ok()?))
    };
    Ok(rows.into_iter().filter_map(shape).collect())
}

/// Most bytes of the shapes that are read for one check, as they are stored.
const MOST_BYTES: i64 = 8 << 20;

/// The shapes of what came of the sources that texts name, by their own names or by kinds that they
/// sent, also by globs: of each all or nothing, as far as there is room.
///
/// # Errors
/// If the database cannot be worked with.
pub async fn named_in(
    db: &impl ConnectionTrait,
    texts: &[&str],
) -> Result<BTreeMap<ShapeKey, Shape>, StoreError> {
    #[derive(FromQueryResult)]
    struct Known {
        source: String,
        kinds: Vec<String>,
        bytes: i64,
    }
    let is_of_word =
        |c: char| c.is_ascii_alphanumeric() || matches!(c, '.' | '-' | '_' | '*' | '?');
    let words: HashSet<&str> =
        texts.iter().flat_map(|text| text.split(|c| !is_of_word(c))).collect();
    // Nothing but rules is checked against them.
    if !words.contains("rule") {
        return Ok(BTreeMap::new());
    }
    let sql = "SELECT source, array_agg(kind) AS kinds,
            sum(pg_column_size(profile))::bigint AS bytes
        FROM shape WHERE kind <> '' GROUP BY source ORDER BY source";
    let known: Vec<Known> = sql::typed(db, sql, vec![]).await?;
    let globs = words.iter().filter(|word| word.contains(['*', '?']));
    let globs: Vec<Glob> = globs.filter_map(|word| Glob::parse(word).ok()).collect();
    let is_word = |name: &str| words.contains(name) || globs.iter().any(|g| g.matches(name));
    let mut left = MOST_BYTES;
    let named = known.into_iter().filter(|of| {
        let names = [&of.source].into_iter().chain(&of.kinds);
        let is_named = names.into_iter().any(|name| is_word(name));
        let fits = is_named && of.bytes <= left;
        left -= if fits { of.bytes } else { 0 };
        fits
    });
    let sources: Vec<String> = named.map(|of| of.source).collect();
    let mut found = find(db, &sources).await?;
    found.retain(|(_, kind), _| !kind.is_empty());
    Ok(found)
}

/// Forgets what a source sent, of one kind or of all; how many there were.
///
/// # Errors
/// If the database cannot be worked with.
pub async fn forget(
    db: &DatabaseConnection,
    (source, kind): (&str, Option<&str>),
    by: &Principal,
) -> Result<u64, StoreError> {
    let tx = db.begin().await?;
    let sql = "DELETE FROM shape WHERE source = $1 AND ($2::text IS NULL OR kind = $2)";
    let forgotten = sql::run(&tx, sql, vec![source.into(), kind.map(str::to_owned).into()]).await?;
    let note = kind.map_or_else(|| format!("{forgotten} kinds"), |kind| format!("kind {kind}"));
    audit::record(&tx, by, "shapes.forgotten", &format!("source/{source}"), &note).await?;
    tx.commit().await?;
    Ok(forgotten)
}

/// Removes those of sources that are withdrawn, and of kinds that came for the last time more than
/// 400 days ago.
///
/// # Errors
/// If the database cannot be worked with.
pub(crate) async fn sweep(db: &DatabaseConnection) -> Result<u64, StoreError> {
    let sql = "DELETE FROM shape s WHERE s.last_at < now() - interval '400 days' OR NOT EXISTS
        (SELECT 1 FROM definition d
            WHERE d.kind = 'source' AND d.name = s.source AND NOT d.withdrawn AND d.version =
                (SELECT max(l.version) FROM definition l
                    WHERE l.kind = d.kind AND l.name = d.name))";
    sql::run(db, sql, vec![]).await
}
