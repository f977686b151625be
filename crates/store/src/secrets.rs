//! Sealed secrets. What is sealed and opened here is bytes; the key is elsewhere.

use crate::{
    StoreError,
    entity::secret::{ActiveModel, Column, Entity},
    sql,
};
use arvok_api::SecretItem;
use arvok_core::Principal;
use chrono::{DateTime, Utc};
use sea_orm::{
    ConnectionTrait, DatabaseConnection, EntityTrait, FromQueryResult, QueryOrder, Set,
    sea_query::OnConflict,
};
use std::collections::BTreeSet;

/// A sealed secret.
#[derive(Clone, Debug)]
pub struct Sealed {
    /// Its name, as in `secret('name')`.
    pub name: String,
    /// The sealed value.
    pub sealed: Vec<u8>,
    /// Where it may go: sources and connections as `kind/name`.
    pub allowed: Vec<String>,
}

/// Sets or replaces one.
pub async fn set(
    db: &DatabaseConnection,
    secret: Sealed,
    now: DateTime<Utc>,
) -> Result<(), StoreError> {
    let row = ActiveModel {
        name: Set(secret.name),
        sealed: Set(secret.sealed),
        changed_at: Set(now),
        allowed: Set(secret.allowed),
    };
    let columns = [Column::Sealed, Column::ChangedAt, Column::Allowed];
    let replace = OnConflict::column(Column::Name).update_columns(columns).to_owned();
    Entity::insert(row).on_conflict(replace).exec_without_returning(db).await?;
    Ok(())
}

/// Removes one, and where an admin let it go; whether there was one.
pub async fn remove(db: &DatabaseConnection, name: &str) -> Result<bool, StoreError> {
    sql::run(db, "DELETE FROM secret_approval WHERE secret = $1", vec![name.into()]).await?;
    Ok(Entity::delete_by_id(name.to_owned()).exec(db).await?.rows_affected > 0)
}

/// All of them, sealed.
pub async fn all(db: &DatabaseConnection) -> Result<Vec<Sealed>, StoreError> {
    let found = Entity::find().all(db).await?;
    Ok(found
        .into_iter()
        .map(|m| Sealed { name: m.name, sealed: m.sealed, allowed: m.allowed })
        .collect())
}

/// All of them, by name.
pub async fn list(db: &DatabaseConnection) -> Result<Vec<SecretItem>, StoreError> {
    let found = Entity::find().order_by_asc(Column::Name).all(db).await?;
    let item = |m: crate::entity::secret::Model| SecretItem {
        name: m.name,
        changed_at: m.changed_at,
        allowed: m.allowed,
        opens: true,
        weak: None,
    };
    Ok(found.into_iter().map(item).collect())
}

/// To what an admin lets a secret go: by which connection, and there to which addresses, under
/// which authorities; or to which script of a runbook.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub struct Approval {
    /// The secret.
    pub secret: String,
    /// The connection; or the runbook, as `runbook/name`.
    pub connection: String,
    /// Its addresses and authorities as they are written, as one JSON text; or the script, by its
    /// line and a digest of all that it is.
    pub shown_to: String,
}

/// All that was approved.
pub async fn approvals(db: &impl ConnectionTrait) -> Result<BTreeSet<Approval>, StoreError> {
    #[derive(FromQueryResult)]
    struct Row {
        secret: String,
        connection: String,
        shown_to: serde_json::Value,
    }
    let sql = "SELECT secret, connection, shown_to FROM secret_approval";
    let rows: Vec<Row> = sql::typed(db, sql, vec![]).await?;
    let of = |r: Row| Approval {
        secret: r.secret,
        connection: r.connection,
        shown_to: r.shown_to.to_string(),
    };
    Ok(rows.into_iter().map(of).collect())
}

/// Keeps what an admin approves.
pub async fn approve(
    db: &impl ConnectionTrait,
    approved: &[Approval],
    by: &Principal,
) -> Result<(), StoreError> {
    let sql = "INSERT INTO secret_approval (secret, connection, shown_to, approved_by)
        SELECT s, c, t::jsonb, $4 FROM unnest($1::text[], $2::text[], $3::text[]) AS a (s, c,
        t) ON CONFLICT DO NOTHING";
    let column = |of: fn(&Approval) -> &String| {
        approved.iter().map(|a| of(a).clone()).collect::<Vec<String>>()
    };
    let values = vec![
        column(|a| &a.secret).into(),
        column(|a| &a.connection).into(),
        column(|a| &a.shown_to).into(),
        by.to_string().into(),
    ];
    sql::run(db, sql, values).await?;
    Ok(())
}

/// What is sealed with the key of the secrets, to tell another key; none before the first.
pub async fn key_check(db: &impl ConnectionTrait) -> Result<Option<Vec<u8>>, StoreError> {
    #[derive(FromQueryResult)]
    struct Row {
        sealed: Vec<u8>,
    }
    let found: Vec<Row> = sql::typed(db, "SELECT sealed FROM key_check", vec![]).await?;
    Ok(found.into_iter().next().map(|r| r.sealed))
}

/// Keeps it; if there is one already, that one stays unless it is to be `replaced`.
pub async fn keep_key_check(
    db: &impl ConnectionTrait,
    sealed: Vec<u8>,
    replaced: bool,
) -> Result<(), StoreError> {
    let then = if replaced { "UPDATE SET sealed = excluded.sealed" } else { "NOTHING" };
    let sql = format!("INSERT INTO key_check (sealed) VALUES ($1) ON CONFLICT (is_one) DO {then}");
    sql::run(db, &sql, vec![sealed.into()]).await?;
    Ok(())
}
