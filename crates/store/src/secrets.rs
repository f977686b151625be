//! Sealed secrets. What is sealed and opened here is bytes; the key is elsewhere.

use crate::{
    StoreError,
    entity::secret::{ActiveModel, Column, Entity},
};
use arvok_api::SecretItem;
use chrono::{DateTime, Utc};
use sea_orm::{DatabaseConnection, EntityTrait, QueryOrder, Set, sea_query::OnConflict};

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
pub async fn set(db: &DatabaseConnection, secret: Sealed, now: DateTime<Utc>) -> Result<(), StoreError> {
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

/// Removes one; whether there was one.
pub async fn remove(db: &DatabaseConnection, name: &str) -> Result<bool, StoreError> {
    Ok(Entity::delete_by_id(name.to_owned()).exec(db).await?.rows_affected > 0)
}

/// All of them, sealed.
pub async fn all(db: &DatabaseConnection) -> Result<Vec<Sealed>, StoreError> {
    let found = Entity::find().all(db).await?;
    Ok(found.into_iter().map(|m| Sealed { name: m.name, sealed: m.sealed, allowed: m.allowed }).collect())
}

/// All of them, by name.
pub async fn list(db: &DatabaseConnection) -> Result<Vec<SecretItem>, StoreError> {
    let found = Entity::find().order_by_asc(Column::Name).all(db).await?;
    Ok(found.into_iter().map(|m| SecretItem { name: m.name, changed_at: m.changed_at, allowed: m.allowed }).collect())
}
