//! The yard: a hypervisor cluster with hosts, VMs and disks, and the monitor that watches it.
//!
//! [`Cluster`] is the state and how it moves with time, pure; the API serves and changes it; the
//! monitor posts an alert when a threshold is crossed, repeats it while it stands, and clears it.

mod api;
mod cluster;
mod monitor;

pub use cluster::{Cluster, Disk, Host, Snapshot, Vm};
pub use monitor::{Monitor, Reading};

use crate::{
    StandinError,
    office::{Office, Running},
};
use std::time::Duration;

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

/// A running yard.
pub type RunningYard = Running<Cluster>;

/// Starts a yard of the Skerrow Ferries.
pub fn start(options: YardOptions) -> Result<RunningYard, StandinError> {
    let office = Office::new(Cluster::skerrow(), options.token.clone());
    let at_work = api::serve(options.port, office.clone())?;
    Ok(at_work.beside(tokio::spawn(monitor::run(office, options))))
}
