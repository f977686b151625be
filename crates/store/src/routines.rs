//! The functions and triggers of the database. They stand as files in `store/sql`, each function
//! with what it promises, and are made anew as a whole when they change. Nodes of the release
//! before go on with what this one makes, so it has to be good for them too; and they leave alone
//! what a later revision has made.

use crate::{StoreError, sql};
use sea_orm::{ConnectionTrait, DatabaseConnection, FromQueryResult, TransactionTrait};

/// Counts up with every change of a file; a test holds that.
pub const REVISION: i32 = 5;

/// All files, in the order in which they are run.
const FILES: [&str; 8] = [
    include_str!("../sql/counts.sql"),
    include_str!("../sql/alerts.sql"),
    include_str!("../sql/jobs.sql"),
    include_str!("../sql/claims.sql"),
    include_str!("../sql/records.sql"),
    include_str!("../sql/calls.sql"),
    include_str!("../sql/events.sql"),
    include_str!("../sql/triggers.sql"),
];

#[derive(FromQueryResult)]
struct StoredRevision {
    revision: i32,
    same: bool,
}

/// Makes them, unless they stand as they are here, or as a later revision has made them. A lock of
/// a table is waited for so many seconds.
///
/// # Errors
/// Of the passing kind if somebody holds a table for long.
pub(crate) async fn make(db: &DatabaseConnection, lock_seconds: u32) -> Result<(), StoreError> {
    let text = FILES.concat();
    let found = "SELECT revision, text_hash = md5($1) AS same FROM routines";
    let found: Vec<StoredRevision> = sql::typed(db, found, vec![text.as_str().into()]).await?;
    if found.first().is_some_and(|made| made.same || made.revision > REVISION) {
        return Ok(());
    }
    let tx = db.begin().await?;
    tx.execute_unprepared(&format!(
        "SET LOCAL statement_timeout = 0; SET LOCAL lock_timeout = '{lock_seconds}s'"
    ))
    .await?;
    for file in FILES {
        tx.execute_unprepared(file).await?;
    }
    let made = "INSERT INTO routines (revision, text_hash) VALUES ($1, md5($2))
        ON CONFLICT (is_one) DO UPDATE SET revision = excluded.revision,
        text_hash = excluded.text_hash";
    sql::run(&tx, made, vec![REVISION.into(), text.into()]).await?;
    tx.commit().await?;
    Ok(())
}
