//! Circuits: opened by failures of a runbook, closed by a person.

use super::counting::{GuardsLocked, lock_guards};
use crate::{StoreError, audit, jobs::reason, sql};
use arvok_core::{
    Principal,
    guard::{Guards, OpenCircuit, StandingGuard},
};
use sea_orm::{
    ConnectionTrait, DatabaseConnection, DatabaseTransaction, FromQueryResult, TransactionTrait,
};

pub(super) async fn open_circuits(
    tx: &impl ConnectionTrait,
    opened: &[OpenCircuit],
) -> Result<(), StoreError> {
    for OpenCircuit { guard, runbook, since, failures } in opened {
        let sql = "INSERT INTO circuit (guard, runbook, open, since, failures)
            VALUES ($1, $2, true, $3, $4)
            ON CONFLICT (guard, runbook) DO UPDATE SET open = true, since = excluded.since,
                failures = excluded.failures";
        let failures = i32::try_from(*failures).unwrap_or(i32::MAX);
        let values =
            vec![guard.as_str().into(), runbook.as_str().into(), (*since).into(), failures.into()];
        sql::run(tx, sql, values).await?;
    }
    Ok(())
}

/// Looks at the failures of guards, and opens circuits; counts anew what other versions of a guard
/// have counted. Whether a circuit was opened.
///
/// # Errors
/// [`StoreError::Stale`] if a later version of a guard stands than is known here.
pub async fn look_at(db: &DatabaseConnection, guards: &Guards) -> Result<bool, StoreError> {
    #[derive(FromQueryResult)]
    struct Counted {
        guard: String,
        version: i32,
        group_version: i32,
    }
    if guards.is_empty() {
        return Ok(false);
    }
    let sql = "SELECT guard, version, group_version FROM guard_counted";
    let counted: Vec<Counted> = sql::typed(db, sql, vec![]).await?;
    let is_counted = |standing: &StandingGuard| {
        counted.iter().any(|c| {
            c.guard == standing.guard.name
                && (c.version, c.group_version) == (standing.version, standing.group_version)
        })
    };
    let looked_at = guards.iter().filter(|g| g.guard.circuit.is_some() || !is_counted(g));
    let looked_at: Vec<&StandingGuard> = looked_at.collect();
    if looked_at.is_empty() {
        return Ok(false);
    }
    let tx = db.begin().await?;
    let GuardsLocked { states, at, .. } = lock_guards(&tx, &looked_at, &[]).await?;
    let opens = |standing: &&StandingGuard| {
        let state = states.get(&standing.guard.name);
        state.map_or_else(Vec::new, |state| standing.opens(at, state))
    };
    let opened: Vec<OpenCircuit> = looked_at.iter().flat_map(opens).collect();
    open_circuits(&tx, &opened).await?;
    tx.commit().await?;
    Ok(!opened.is_empty())
}

/// The circuits that are open.
///
/// # Errors
/// If the database cannot be worked with.
pub async fn circuits(db: &impl ConnectionTrait) -> Result<Vec<OpenCircuit>, StoreError> {
    let sql = "SELECT guard, runbook, since, failures FROM circuit WHERE open
        ORDER BY guard, runbook";
    sql::rows(db, sql, vec![]).await
}

/// Closes the circuits of a guard, or that of one runbook: rules dispatch again. How many were
/// open.
///
/// # Errors
/// If the database cannot be worked with.
pub async fn resume(
    db: &DatabaseConnection,
    guard: &str,
    runbook: Option<&str>,
    by: &Principal,
    why: &str,
) -> Result<u64, StoreError> {
    let tx = db.begin().await?;
    // Whoever counts failures at this moment has opened it before, or counts none from now on.
    lock(&tx, guard).await?;
    let sql = "UPDATE circuit SET open = false, resumed_at = clock_timestamp()
        WHERE guard = $1 AND ($2::text IS NULL OR runbook = $2) AND open";
    let closed = sql::run(&tx, sql, vec![guard.into(), runbook.into()]).await?;
    if closed > 0 {
        let what = match runbook {
            Some(runbook) => format!("guard {guard}, runbook {runbook}"),
            None => format!("guard {guard}"),
        };
        audit::record(&tx, by, "guard.resumed", &what, &reason(why)).await?;
    }
    tx.commit().await?;
    Ok(closed)
}

async fn lock(tx: &DatabaseTransaction, guard: &str) -> Result<(), StoreError> {
    let sql = "SELECT pg_advisory_xact_lock(hashtextextended('guard ' || $1, 0))";
    sql::run(tx, sql, vec![guard.into()]).await?;
    Ok(())
}
