//! A cluster for a run of tests: one database after another, each empty when it is handed out.

use crate::{Cluster, Durability, PostgresError};
use std::{
    path::Path,
    sync::atomic::{AtomicUsize, Ordering},
};
use tokio::sync::OnceCell;

/// A running cluster that hands out databases.
#[derive(Debug)]
pub struct Scratch {
    cluster: Cluster,
    count: AtomicUsize,
    template: OnceCell<()>,
}

/// The database that others are copied from.
const TEMPLATE: &str = "template";

impl Scratch {
    /// Starts the cluster in a folder, or goes on with what an earlier run has left there.
    ///
    /// # Errors
    /// As [`Cluster::start`].
    pub fn start(folder: &Path) -> Result<Self, PostgresError> {
        Ok(Self {
            cluster: Cluster::start(folder, Durability::None)?,
            count: AtomicUsize::new(0),
            template: OnceCell::new(),
        })
    }

    /// The address of an empty database.
    ///
    /// # Errors
    /// If the cluster refuses.
    pub async fn database(&self) -> Result<String, PostgresError> {
        self.cluster.create_anew(&self.next_name(), None).await
    }

    /// The address of a copy of a database that was filled once for all of the run, by a function
    /// that is given its address and leaves no connection to it.
    ///
    /// # Errors
    /// If the cluster refuses, or what the function returns.
    pub async fn filled<E: From<PostgresError>>(
        &self,
        fill: impl AsyncFnOnce(String) -> Result<(), E>,
    ) -> Result<String, E> {
        let filled = async || fill(self.cluster.create_anew(TEMPLATE, None).await?).await;
        self.template.get_or_try_init(filled).await?;
        Ok(self.cluster.create_anew(&self.next_name(), Some(TEMPLATE)).await?)
    }

    fn next_name(&self) -> String {
        format!("t{}", self.count.fetch_add(1, Ordering::Relaxed))
    }

    /// The cluster itself.
    pub fn cluster(&self) -> &Cluster {
        &self.cluster
    }
}
