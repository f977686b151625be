//! What can be done on the machine of a node without one that runs.

use crate::{
    config::Config,
    data_folder::DataFolder,
    key, secrets,
    serve::{self, ServeError},
};
use arvok_core::Principal;
use arvok_store::{Purpose, schema};

/// Sets or replaces a secret in the database that the settings name, sealed with the key of the
/// data folder. Nodes that run look at it at once.
///
/// # Errors
/// If the database or the key cannot be used, or the secret is none.
pub async fn set_secret(
    config: &Config,
    name: &str,
    value: &str,
    allowed: Option<Vec<String>>,
) -> Result<(), ServeError> {
    let folder = DataFolder::open(&config.data)?;
    let (url, cluster) = serve::reached(config).await?;
    let db = arvok_store::connect(&url, 2, Purpose::Questions).await?;
    schema::migrate(&db).await?;
    let opened = key::open(&db, &folder, config.new_key).await?;
    if let Some(fault) = opened.fault {
        return Err(ServeError::Refused(fault));
    }
    let set = secrets::set(
        &db,
        &opened.vault,
        (name, value),
        allowed,
        &Principal::node("secret set --offline"),
    )
    .await;
    let _ = db.close().await;
    if let Some(cluster) = cluster {
        cluster.stop();
    }
    set.map_err(|e| ServeError::Refused(e.to_string()))
}
