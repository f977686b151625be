//! Tokens and sessions. Both are long random texts, so a plain hash (SHA-256) at rest is enough;
//! slow hashes are for passwords that people choose.

use crate::{
    StoreError, audit,
    entity::{session, token},
    sql,
    stored::Stored,
};
use arvok_api::{AutomationRight, TokenItem, Who};
use arvok_core::{Principal, Role};
use chrono::{DateTime, TimeDelta, Utc};
use sea_orm::{
    ColumnTrait, ConnectionTrait, DatabaseConnection, EntityTrait, PaginatorTrait, QueryFilter,
    QueryOrder, Set, TransactionTrait,
};
use sha2::{Digest, Sha256};

/// How long a session of the console lasts.
pub const SESSION: TimeDelta = TimeDelta::hours(12);

pub(crate) fn hash(text: &str) -> Vec<u8> {
    Sha256::digest(text.as_bytes()).to_vec()
}

/// Whether there is any token yet.
pub async fn any_token(db: &impl ConnectionTrait) -> Result<bool, StoreError> {
    Ok(token::Entity::find().count(db).await? > 0)
}

/// Adds a token of role admin if there is none at all; what `written` gives, which runs before the
/// token counts. Of nodes that start at once the second waits, and finds the first one's.
pub async fn add_first_token<T, E: From<StoreError>>(
    db: &DatabaseConnection,
    secret: &str,
    now: DateTime<Utc>,
    written: impl FnOnce() -> Result<T, E>,
) -> Result<Option<T>, E> {
    let adding = db.begin().await.map_err(StoreError::from)?;
    adding
        .execute_unprepared("LOCK TABLE token IN SHARE ROW EXCLUSIVE MODE")
        .await
        .map_err(StoreError::from)?;
    if any_token(&adding).await? {
        return Ok(None);
    }
    let written = written()?;
    add_token(&adding, "admin", Role::Admin, secret, now).await?;
    audit::record(&adding, &Principal::node("the first start"), "token.made", "admin", "admin")
        .await?;
    adding.commit().await.map_err(StoreError::from)?;
    Ok(Some(written))
}

/// Adds a token of role admin whatever stands, for whoever holds the machine; what `written` gives,
/// and its name.
pub async fn add_recovery<T, E: From<StoreError>>(
    db: &DatabaseConnection,
    secret: &str,
    now: DateTime<Utc>,
    written: impl FnOnce() -> Result<T, E>,
) -> Result<(T, String), E> {
    let adding = db.begin().await.map_err(StoreError::from)?;
    adding
        .execute_unprepared("LOCK TABLE token IN SHARE ROW EXCLUSIVE MODE")
        .await
        .map_err(StoreError::from)?;
    let name = format!("recovered-{}", now.format("%Y%m%d-%H%M%S-%3f"));
    let written = written()?;
    add_token(&adding, &name, Role::Admin, secret, now).await?;
    audit::record(&adding, &Principal::node("serve --recover"), "token.made", &name, "admin")
        .await?;
    adding.commit().await.map_err(StoreError::from)?;
    Ok((written, name))
}

/// Makes a token that somebody asked for.
pub async fn make_token(
    db: &DatabaseConnection,
    (name, role): (&str, Role),
    automate: &AutomationRight,
    secret: &str,
    by: &Principal,
    now: DateTime<Utc>,
) -> Result<(), StoreError> {
    let making = db.begin().await?;
    add_token(&making, name, role, secret, now).await?;
    audit::record(&making, by, "token.made", name, role.as_str()).await?;
    if !automate.is_nothing() {
        set_automation(&making, name, automate, by).await?;
    }
    Ok(making.commit().await?)
}

/// Sets what a token may let act by itself, in place of what it might; whether there is one of this
/// name.
pub async fn set_automation(
    db: &impl ConnectionTrait,
    name: &str,
    automate: &AutomationRight,
    by: &Principal,
) -> Result<bool, StoreError> {
    let json = serde_json::to_value(automate).unwrap_or_default();
    let set = "UPDATE token SET automate = $2 WHERE name = $1 RETURNING 1";
    let set = sql::statement(set, vec![name.into(), json.clone().into()]);
    if db.query_all_raw(set).await?.is_empty() {
        return Ok(false);
    }
    audit::record(db, by, "token.automate", name, &json.to_string()).await?;
    Ok(true)
}

/// Sets it on its own.
pub async fn change_automation(
    db: &DatabaseConnection,
    name: &str,
    automate: &AutomationRight,
    by: &Principal,
) -> Result<bool, StoreError> {
    let changing = db.begin().await?;
    let set = set_automation(&changing, name, automate, by).await?;
    changing.commit().await?;
    Ok(set)
}

/// Keeps a new token's hash. The name of a token that was revoked is not taken again: in the
/// records it is that one's.
pub async fn add_token(
    db: &impl ConnectionTrait,
    name: &str,
    role: Role,
    secret: &str,
    now: DateTime<Utc>,
) -> Result<(), StoreError> {
    let gone = "SELECT 1 FROM token_gone WHERE name = $1";
    if !db.query_all_raw(sql::statement(gone, vec![name.into()])).await?.is_empty() {
        return Err(StoreError::Revoked(name.to_owned()));
    }
    let row = token::ActiveModel {
        name: Set(name.to_owned()),
        role: Set(Stored(role)),
        hash: Set(hash(secret)),
        created_at: Set(now),
        ..Default::default()
    };
    match token::Entity::insert(row).exec(db).await {
        Ok(_) => Ok(()),
        Err(e) => match StoreError::from(e) {
            e if e.is_duplicate() => Err(StoreError::Taken(name.to_owned())),
            e => Err(e),
        },
    }
}

/// All tokens, without themselves.
pub async fn tokens(db: &DatabaseConnection) -> Result<Vec<TokenItem>, StoreError> {
    let found = token::Entity::find().order_by_asc(token::Column::Name).all(db).await?;
    let item = |m: token::Model| {
        let automate = automation(&m)?;
        Ok(TokenItem { role: m.role.0, name: m.name, automate, created_at: m.created_at })
    };
    found.into_iter().map(item).collect()
}

fn automation(token: &token::Model) -> Result<AutomationRight, StoreError> {
    Ok(serde_json::from_value(token.automate.clone())?)
}

fn who(token: token::Model) -> Result<Who, StoreError> {
    let automate = automation(&token)?;
    Ok(Who { role: token.role.0, name: token.name, automate })
}

/// What became of a token that was to be revoked.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Revoked {
    /// It is revoked.
    Yes,
    /// There is none of this name.
    Unknown,
    /// It is the last one of role admin, without which nobody could administer any more.
    LastAdmin,
}

/// Revokes a token and ends its sessions. Of two admins that revoke each other at once one stays.
pub async fn remove_token(
    db: &DatabaseConnection,
    name: &str,
    by: &Principal,
) -> Result<Revoked, StoreError> {
    let db = db.begin().await?;
    db.execute_unprepared("LOCK TABLE token IN SHARE ROW EXCLUSIVE MODE").await?;
    let Some(found) = token::Entity::find().filter(token::Column::Name.eq(name)).one(&db).await?
    else {
        return Ok(Revoked::Unknown);
    };
    if found.role.0 == Role::Admin {
        let admins = token::Entity::find()
            .filter(token::Column::Role.eq(Role::Admin.as_str()))
            .count(&db)
            .await?;
        if admins <= 1 {
            return Ok(Revoked::LastAdmin);
        }
    }
    token::Entity::delete_by_id(found.id).exec(&db).await?;
    sql::run(
        &db,
        "INSERT INTO token_gone (name) VALUES ($1) ON CONFLICT DO NOTHING",
        vec![name.into()],
    )
    .await?;
    audit::record(&db, by, "token.revoked", name, found.role.0.as_str()).await?;
    db.commit().await?;
    Ok(Revoked::Yes)
}

/// Whose token it is.
pub async fn by_token(
    db: &DatabaseConnection,
    secret: &str,
) -> Result<Option<(i64, Who)>, StoreError> {
    let found = token::Entity::find().filter(token::Column::Hash.eq(hash(secret))).one(db).await?;
    found.map(|token| Ok((token.id, who(token)?))).transpose()
}

/// Begins a session; older ones that have ended are removed on the way.
pub async fn start_session(
    db: &DatabaseConnection,
    token_id: i64,
    cookie: &str,
    now: DateTime<Utc>,
) -> Result<(), StoreError> {
    session::Entity::delete_many().filter(session::Column::ExpiresAt.lt(now)).exec(db).await?;
    let row = session::ActiveModel {
        hash: Set(hash(cookie)),
        token_id: Set(token_id),
        expires_at: Set(now + SESSION),
    };
    session::Entity::insert(row).exec_without_returning(db).await?;
    Ok(())
}

/// Whose session it is.
pub async fn by_session(
    db: &DatabaseConnection,
    cookie: &str,
    now: DateTime<Utc>,
) -> Result<Option<Who>, StoreError> {
    let Some(found) = session::Entity::find_by_id(hash(cookie)).one(db).await? else {
        return Ok(None);
    };
    if found.expires_at <= now {
        return Ok(None);
    }
    let token = token::Entity::find_by_id(found.token_id).one(db).await?;
    token.map(who).transpose()
}

/// Ends a session.
pub async fn end_session(db: &DatabaseConnection, cookie: &str) -> Result<(), StoreError> {
    session::Entity::delete_by_id(hash(cookie)).exec(db).await?;
    Ok(())
}
