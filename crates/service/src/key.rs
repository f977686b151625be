//! The key of the secrets at the start of a node: that it is the one with which this installation's
//! secrets are sealed.
//!
//! The database keeps a value that was sealed with it. A node that cannot open that has another
//! key: whatever it sealed no other node could open, and right credentials would be refused. Such a
//! node does no work and says why.

use crate::data_folder::{DataFolder, Unusable};
use arvok_connect::{Vault, VaultError};
use arvok_core::Principal;
use arvok_store::{DatabaseConnection, StoreError, audit, outside::callbacks, secrets};

/// Why a node cannot even tell whether its key is the right one.
#[derive(Debug, thiserror::Error)]
pub enum KeyError {
    /// The database.
    #[error(transparent)]
    Store(#[from] StoreError),
    /// The data folder.
    #[error("the data folder: {0}")]
    Data(#[from] Unusable),
    /// The key itself.
    #[error("the key of the secrets: {0}")]
    Vault(#[from] VaultError),
}

/// What the check value is sealed for.
const CHECK: &str = "check of the key";

/// The vault of a node, and why it cannot be worked with, if it cannot.
pub(crate) struct Opened {
    pub vault: Vault,
    pub fault: Option<String>,
}

/// Opens the vault with the key of the data folder. Where the installation has none yet, that key
/// becomes its own; likewise if it is to be taken `anew`, because the one before is lost.
pub(crate) async fn open(
    db: &DatabaseConnection,
    folder: &DataFolder,
    anew: bool,
) -> Result<Opened, KeyError> {
    let kept = secrets::key_check(db).await?.filter(|_| !anew);
    if kept.is_some() && !folder.has_key()? {
        // One that is made now would only be a wrong one, and be taken for the right one at the
        // next start.
        let vault = Vault::new(&Vault::new_key()?)?;
        let fault =
            format!("{} is missing; {}", folder.key_file().display(), how(db, &vault).await?);
        return Ok(Opened { vault, fault: Some(fault) });
    }
    let vault = folder.vault()?;
    let sealed = match kept {
        Some(sealed) => sealed,
        None => first(db, &vault, anew).await?,
    };
    let fault = match vault.unseal(CHECK, &sealed) {
        Ok(_) => None,
        Err(_) => {
            let (file, how) = (folder.key_file(), how(db, &vault).await?);
            Some(format!(
                "the key in {} is not that of this installation's secrets; {how}",
                file.display()
            ))
        }
    };
    Ok(Opened { vault, fault })
}

/// What to do about it, and what is lost if the right key is.
async fn how(db: &DatabaseConnection, vault: &Vault) -> Result<String, StoreError> {
    Ok(format!(
        "copy secrets.key from a node that works or from the backup, and start again. If it is \
        lost for good, start once with \
        --new-key: jobs are halted then, and this is lost: {}",
        lost(db, vault).await?
    ))
}

/// Whether a key opens the check value.
pub(crate) fn opens(vault: &Vault, sealed: &[u8]) -> bool {
    vault.unseal(CHECK, sealed).is_ok()
}

/// Most names of secrets that are told.
const TOLD: usize = 10;

/// What cannot be opened with a key, in words.
pub(crate) async fn lost(db: &DatabaseConnection, vault: &Vault) -> Result<String, StoreError> {
    let all = secrets::all(db).await?.into_iter();
    let mut names: Vec<String> = all
        .filter(|secret| vault.unseal(&secret.name, &secret.sealed).is_err())
        .map(|secret| secret.name)
        .collect();
    names.sort();
    let more = names.len().saturating_sub(TOLD);
    names.truncate(TOLD);
    let more = if more > 0 { format!(" and {more} more") } else { String::new() };
    let secrets = match names.is_empty() {
        true => "no secret".to_owned(),
        false => format!("the secrets {}{more} (`arvok secret set`)", names.join(", ")),
    };
    let waiting = callbacks::links_under_way(db).await?;
    Ok(format!(
        "{secrets}, and the links of {} open decisions and {} calls whose end is awaited",
        waiting.0, waiting.1
    ))
}

/// Makes the check value; what counts, should another node be quicker. Of an installation that has
/// none because it is older, a secret tells whether this is its key.
async fn first(db: &DatabaseConnection, vault: &Vault, anew: bool) -> Result<Vec<u8>, KeyError> {
    let sealed = vault.seal(CHECK, "")?;
    let all = secrets::all(db).await?;
    let is_other = !all.is_empty()
        && all.iter().all(|secret| vault.unseal(&secret.name, &secret.sealed).is_err());
    if is_other && !anew {
        return Ok(Vec::new());
    }
    secrets::keep_key_check(db, sealed.clone(), anew).await?;
    if anew {
        audit::record(
            db,
            &Principal::node("serve --new-key"),
            "key.taken",
            "the key of the secrets",
            "",
        )
        .await?;
    }
    Ok(secrets::key_check(db).await?.unwrap_or(sealed))
}
