//! The first start after a restore: jobs are held, so that somebody can look at what stands in the
//! backup, and resolve it, before anything is done a second time.

use crate::{config::Config, key};
use arvok_connect::Vault;
use arvok_core::Principal;
use arvok_store::{DatabaseConnection, StoreError, jobs, nodes};

/// Halts all jobs if this start is to hold them, and forgets the nodes that wrote the backup:
/// nobody is to miss them.
pub(crate) async fn hold(db: &DatabaseConnection, config: &Config) -> Result<(), StoreError> {
    let (by, why) = match (config.hold_jobs, config.new_key) {
        (true, _) => (
            "serve --hold-jobs",
            "a node was started so that somebody looks before anything is done",
        ),
        (false, true) => (
            "serve --new-key",
            "the key of the secrets was lost; set the secrets anew before jobs need them",
        ),
        (false, false) => return Ok(()),
    };
    let (halt, _) = jobs::set_halt(db, &Principal::node(by), why, false).await?;
    let forgotten = nodes::forget_silent(db).await?;
    tracing::warn!(
        by = %halt.by,
        "no job is begun or taken up: {}; `arvok job list` shows what stands, `arvok halt lift` \
        lets it go on",
        halt.reason
    );
    if forgotten > 0 {
        tracing::info!(nodes = forgotten, "nodes that were not heard of any more are forgotten");
    }
    Ok(())
}

/// Says what was lost with the key, if this start takes a new one.
pub(crate) async fn tell_lost(
    db: &DatabaseConnection,
    config: &Config,
    vault: &Vault,
) -> Result<(), StoreError> {
    if config.new_key {
        tracing::warn!("a new key is taken, and this is lost: {}", key::lost(db, vault).await?);
    }
    Ok(())
}
