//! Setting a secret: what it may be, where it may go, and that it is sealed and on the record. A
//! running node does it when it is asked, and whoever holds the machine does it without one.

use crate::{clock, problem::ApiError};
use arvok_api::Change;
use arvok_connect::Vault;
use arvok_core::{Kind, Principal, document::check_name, text::cut};
use arvok_store::{
    DatabaseConnection, audit, changes,
    secrets::{self, Sealed},
};

/// Largest secret, in bytes.
const MAX_SECRET: usize = 64 << 10;
/// Most places that a secret may go.
const MAX_ALLOWED: usize = 100;

/// Sets or replaces a secret, and has all nodes look at it; without `allowed` it goes where it went
/// before.
pub(crate) async fn set(
    db: &DatabaseConnection,
    vault: &Vault,
    (name, value): (&str, &str),
    allowed: Option<Vec<String>>,
    by: &Principal,
) -> Result<(), ApiError> {
    check_name(name).map_err(|e| ApiError::BadRequest(e.to_string()))?;
    if value.is_empty() || value.len() > MAX_SECRET {
        return Err(ApiError::BadRequest(format!("a secret has 1 to {MAX_SECRET} bytes")));
    }
    let allowed = places(db, name, allowed).await?;
    let sealed = vault.seal(name, value).map_err(|e| {
        tracing::error!("{e}");
        ApiError::Internal
    })?;
    audit::record(db, by, "secret.set", name, &allowed.join(", ")).await?;
    secrets::set(db, Sealed { name: name.to_owned(), sealed, allowed }, clock::now()).await?;
    changes::announce(db, Change { definitions: true, ..Change::default() }).await?;
    Ok(())
}

/// Where a secret may go from now on: what is said, or else what was said before.
async fn places(
    db: &DatabaseConnection,
    name: &str,
    said: Option<Vec<String>>,
) -> Result<Vec<String>, ApiError> {
    let Some(mut allowed) = said else {
        let before = secrets::list(db).await?.into_iter().find(|s| s.name == name);
        return before.map(|s| s.allowed).ok_or_else(|| {
            ApiError::BadRequest(
                "allowed: say where the secret may go, as connection/name, source/name, \
                subscriber/name or runbook/name; it goes nowhere else"
                    .into(),
            )
        });
    };
    let good = |place: &String| {
        let (kind, name) = place.split_once('/').unwrap_or_default();
        [Kind::Connection, Kind::Source, Kind::Subscriber, Kind::Runbook]
            .map(Kind::as_str)
            .contains(&kind)
            && check_name(name).is_ok()
    };
    if let Some(wrong) = allowed.iter().find(|p| !good(p)) {
        let shown = cut(wrong, 80);
        return Err(ApiError::BadRequest(format!(
            "allowed: `{shown}` is not connection/name, source/name, subscriber/name or \
            runbook/name"
        )));
    }
    if allowed.len() > MAX_ALLOWED {
        return Err(ApiError::BadRequest(format!("allowed: has more than {MAX_ALLOWED} places")));
    }
    allowed.sort();
    allowed.dedup();
    Ok(allowed)
}
