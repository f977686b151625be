//! The yard: a hypervisor cluster with hosts, VMs and disks, and the monitor that watches it.
//!
//! [`Cluster`] is the state and how it moves with time, pure; the API serves and changes it; the
//! monitor posts an alert when a threshold is crossed, repeats it while it stands, and clears it.

mod api;
mod cluster;
mod monitor;

pub use cluster::{Cluster, Disk, Host, Vm};
pub use monitor::{Monitor, Reading};

use crate::{Faults, Server, StandinError};
use std::{
    sync::{Arc, Mutex, MutexGuard, PoisonError},
    time::Duration,
};

/// How a yard is set up.
#[derive(Clone, Debug)]
pub struct YardOptions {
    /// The port of loopback; 0 takes a free one.
    pub port: u16,
    /// What callers must show.
    pub token: String,
    /// Where the monitor posts, and what it shows there.
    pub report_to: Option<(String, String)>,
    /// How often the cluster moves on and the monitor looks.
    pub tick: Duration,
    /// Seconds of the cluster's own time for each tick.
    pub seconds_a_tick: f64,
}

/// State and faults, shared by the API and the clock.
#[derive(Debug)]
pub(crate) struct Yard {
    pub cluster: Cluster,
    pub faults: Faults,
}

pub(crate) type Shared = Arc<Mutex<Yard>>;

pub(crate) fn locked(yard: &Shared) -> MutexGuard<'_, Yard> {
    yard.lock().unwrap_or_else(PoisonError::into_inner)
}

/// A running yard.
#[derive(Debug)]
pub struct RunningYard {
    server: Server,
    yard: Shared,
    clock: tokio::task::JoinHandle<()>,
}

/// Starts a yard of the Skerrow Ferries.
pub fn start(options: YardOptions) -> Result<RunningYard, StandinError> {
    let yard: Shared = Arc::new(Mutex::new(Yard { cluster: Cluster::skerrow(), faults: Faults::default() }));
    let server = api::serve(options.port, options.token.clone(), Arc::clone(&yard))?;
    let clock = tokio::spawn(monitor::run(Arc::clone(&yard), options));
    Ok(RunningYard { server, yard, clock })
}

impl RunningYard {
    /// The base address of its API.
    pub fn url(&self) -> String {
        self.server.url()
    }

    /// Looks at the cluster, or changes it, as an operator in the yard would.
    pub fn with<T>(&self, f: impl FnOnce(&mut Cluster) -> T) -> T {
        f(&mut locked(&self.yard).cluster)
    }

    /// Switches faults.
    pub fn set_faults(&self, faults: Faults) {
        locked(&self.yard).faults = faults;
    }

    /// Stops it.
    pub async fn stop(&self) {
        self.clock.abort();
        self.server.stop().await;
    }
}
