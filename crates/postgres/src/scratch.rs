//! A cluster for a run of tests: one database after another, each empty when it is handed out.

use crate::{Cluster, Durability, PostgresError};
use std::{
    path::Path,
    sync::atomic::{AtomicUsize, Ordering},
};

/// A running cluster that hands out databases.
#[derive(Debug)]
pub struct Scratch {
    cluster: Cluster,
    count: AtomicUsize,
}

impl Scratch {
    /// Starts the cluster in a folder, or goes on with what an earlier run has left there.
    ///
    /// # Errors
    /// As [`Cluster::start`].
    pub fn start(folder: &Path) -> Result<Self, PostgresError> {
        Ok(Self { cluster: Cluster::start(folder, Durability::None)?, count: AtomicUsize::new(0) })
    }

    /// The address of an empty database.
    ///
    /// # Errors
    /// If the cluster refuses.
    pub async fn database(&self) -> Result<String, PostgresError> {
        let name = format!("t{}", self.count.fetch_add(1, Ordering::Relaxed));
        self.cluster.remove(&name).await?;
        self.cluster.create(&name).await
    }

    /// The cluster itself.
    pub fn cluster(&self) -> &Cluster {
        &self.cluster
    }
}
