//! The functions and triggers of the database. They stand as files in `store/sql`, each function
//! with what it promises, and are made anew as a whole when they change. Nodes of the release
//! before go on with what this one makes, so it has to be good for them too; and they leave alone
//! what a later revision has made.

use crate::{StoreError, sql};
use arvok_core::job::{JobState, StateChange};
use sea_orm::{ConnectionTrait, DatabaseConnection, FromQueryResult, TransactionTrait};

/// Counts up with every change of a file; a test holds that.
pub const REVISION: i32 = 19;

/// All files, in the order in which they are run.
const FILES: [&str; 10] = [
    include_str!("../sql/counts.sql"),
    include_str!("../sql/alerts.sql"),
    include_str!("../sql/jobs.sql"),
    include_str!("../sql/halts.sql"),
    include_str!("../sql/claims.sql"),
    include_str!("../sql/guards.sql"),
    include_str!("../sql/records.sql"),
    include_str!("../sql/calls.sql"),
    include_str!("../sql/events.sql"),
    include_str!("../sql/triggers.sql"),
];

/// What the core says of the states of jobs, for the functions above. `job_may_become` says whether
/// a state may follow another, `job_is_over` whether nothing follows one, `job_change_is_told`
/// whether anything is told of a change. None of them locks anything.
fn life_of_a_job() -> String {
    let list = |states: &mut dyn Iterator<Item = JobState>| {
        states.map(|state| format!("'{state}'")).collect::<Vec<_>>().join(", ")
    };
    let follow = JobState::ALL.into_iter().filter(|from| !from.is_final()).map(|from| {
        let to = list(&mut JobState::ALL.into_iter().filter(|to| from.may_become(*to)));
        format!("        WHEN '{from}' THEN state IN ({to})\n")
    });
    let follow: String = follow.collect();
    let over = list(&mut JobState::FINAL.iter().copied());
    let changes = JobState::ALL.into_iter().flat_map(|from| {
        let to = JobState::ALL.into_iter().filter(move |to| from.may_become(*to));
        to.flat_map(move |to| [false, true].map(|resumed| (from, to, resumed)))
    });
    let is_silent = |(from, to, resumed): &(JobState, JobState, bool)| {
        let change = StateChange { from: Some(*from), to: *to, begins: false, resumed: *resumed };
        change.events().next().is_none()
    };
    let silent = changes.filter(is_silent);
    let silent: Vec<String> =
        silent.map(|(from, to, resumed)| format!("('{from}', '{to}', {resumed})")).collect();
    let silent = silent.join(", ");
    format!(
        "CREATE OR REPLACE FUNCTION job_may_become(was text, state text) RETURNS boolean
    LANGUAGE sql IMMUTABLE PARALLEL SAFE AS $$
    SELECT CASE was
{follow}        ELSE false END
$$;
CREATE OR REPLACE FUNCTION job_is_over(state text) RETURNS boolean
    LANGUAGE sql IMMUTABLE PARALLEL SAFE AS $$ SELECT state IN ({over}) $$;
CREATE OR REPLACE FUNCTION job_change_is_told(was text, state text, resumed boolean) RETURNS boolean
    LANGUAGE sql IMMUTABLE PARALLEL SAFE AS $$ SELECT (was, state, resumed) NOT IN ({silent}) $$;
"
    )
}

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
    let text = life_of_a_job() + &FILES.concat();
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
    tx.execute_unprepared(&text).await?;
    let made = "INSERT INTO routines (revision, text_hash) VALUES ($1, md5($2))
        ON CONFLICT (is_one) DO UPDATE SET revision = excluded.revision,
        text_hash = excluded.text_hash";
    sql::run(&tx, made, vec![REVISION.into(), text.into()]).await?;
    tx.commit().await?;
    Ok(())
}
