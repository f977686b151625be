//! What the parts of a node share.

mod changes;
mod published;

pub(crate) use changes::{Changes, Message};
pub(crate) use published::{Published, SecretScope, missing_settings};

use crate::{config::Config, intake::Delivery, metrics::Metrics};
use arc_swap::ArcSwap;
use arvok_connect::{Http, Vault};
use arvok_core::{Definition, Kind, runbook::Runbook};
use arvok_store::{DatabaseConnection, StoreError, definitions};
use std::{collections::BTreeMap, sync::Arc};
use tokio::sync::{Mutex, Notify, Semaphore, mpsc, watch};

/// Rehearsals that may run at once on a node.
const REHEARSALS: usize = 2;

/// One node.
#[derive(Debug)]
pub(crate) struct Node {
    /// Unique for each start.
    pub name: String,
    pub db: DatabaseConnection,
    pub vault: Vault,
    pub settings: BTreeMap<String, String>,
    pub published: ArcSwap<Published>,
    reloading: Mutex<()>,
    pub changes: Changes,
    pub pipeline: mpsc::Sender<Delivery>,
    /// There may be a job to claim.
    pub work: Notify,
    /// There may be something due earlier than was thought.
    pub due: Notify,
    /// Room for rehearsals.
    pub rehearsals: Arc<Semaphore>,
    pub http: Http,
    pub metrics: Metrics,
    /// Becomes true when the node stops.
    pub stopping: watch::Receiver<bool>,
}

impl Node {
    /// Puts a node together around an open database.
    pub fn new(
        config: &Config,
        db: DatabaseConnection,
        vault: Vault,
        http: Http,
        pipeline: mpsc::Sender<Delivery>,
        stopping: watch::Receiver<bool>,
    ) -> Self {
        Self {
            name: format!("node-{}", crate::random::id()),
            db,
            vault,
            settings: config.settings.clone(),
            published: ArcSwap::default(),
            reloading: Mutex::new(()),
            changes: Changes::new(),
            pipeline,
            work: Notify::new(),
            due: Notify::new(),
            rehearsals: Arc::new(Semaphore::new(REHEARSALS)),
            http,
            metrics: Metrics::new(),
            stopping,
        }
    }

    /// What is published now.
    pub fn published(&self) -> Arc<Published> {
        self.published.load_full()
    }

    /// A runbook in the version that a job was dispatched with, whatever has been published since.
    pub async fn runbook(&self, name: &str, version: i32) -> Result<Option<Runbook>, StoreError> {
        let published = self.published();
        if let Some((runbook, current)) = published.catalog.runbook(name)
            && current == version
        {
            return Ok(Some(runbook.clone()));
        }
        let row = definitions::version(&self.db, Kind::Runbook.as_str(), name, version).await?;
        Ok(row.and_then(|r| match published::recompile(&r)?.definition {
            Definition::Runbook(runbook) => Some(runbook),
            _ => None,
        }))
    }

    /// Loads and compiles what is published, and swaps it in whole.
    pub async fn reload(&self) -> Result<(), StoreError> {
        // One at a time: a slow reload must not put an older set over a newer one.
        let _turn = self.reloading.lock().await;
        let published = Published::load(&self.db, &self.vault, self.published()).await?;
        self.published.store(Arc::new(published));
        Ok(())
    }
}
