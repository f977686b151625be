//! Sealed secrets. What is sealed and opened here is bytes; the key is elsewhere.

use crate::{
    StoreError, changes,
    entity::secret::{ActiveModel, Column, Entity},
};
use arvok_api::{Change, SecretItem};
use chrono::{DateTime, Utc};
use sea_orm::{DatabaseConnection, EntityTrait, QueryOrder, Set, TransactionTrait, sea_query::OnConflict};

fn changed() -> Change {
    Change { definitions: true, ..Change::default() }
}

/// Sets or replaces one.
pub async fn set(db: &DatabaseConnection, name: &str, sealed: Vec<u8>, now: DateTime<Utc>) -> Result<(), StoreError> {
    let row = ActiveModel { name: Set(name.to_owned()), sealed: Set(sealed), changed_at: Set(now) };
    let replace = OnConflict::column(Column::Name).update_columns([Column::Sealed, Column::ChangedAt]).to_owned();
    let tx = db.begin().await?;
    Entity::insert(row).on_conflict(replace).exec_without_returning(&tx).await?;
    changes::announce(&tx, changed()).await?;
    Ok(tx.commit().await?)
}

/// Removes one; whether there was one.
pub async fn remove(db: &DatabaseConnection, name: &str) -> Result<bool, StoreError> {
    let tx = db.begin().await?;
    let gone = Entity::delete_by_id(name.to_owned()).exec(&tx).await?.rows_affected > 0;
    changes::announce(&tx, changed()).await?;
    tx.commit().await?;
    Ok(gone)
}

/// All of them, sealed.
pub async fn all(db: &DatabaseConnection) -> Result<Vec<(String, Vec<u8>)>, StoreError> {
    Ok(Entity::find().all(db).await?.into_iter().map(|m| (m.name, m.sealed)).collect())
}

/// All of them, by name.
pub async fn list(db: &DatabaseConnection) -> Result<Vec<SecretItem>, StoreError> {
    let found = Entity::find().order_by_asc(Column::Name).all(db).await?;
    Ok(found.into_iter().map(|m| SecretItem { name: m.name, changed_at: m.changed_at }).collect())
}
