//! The nodes, and what waits for them.

use crate::{Halt, ListenerItem, SelectiveHalt};
use chrono::{DateTime, Utc};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// All nodes over one database, and what waits for them.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Nodes {
    /// Those heard of within the last day, the longest running first.
    pub nodes: Vec<NodeItem>,
    /// What waits.
    pub backlog: Backlog,
}

/// A node as it was last heard of.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct NodeItem {
    /// New with each start.
    pub name: String,
    /// The machine.
    pub host: String,
    /// Where it listens.
    pub address: String,
    /// The version of its program.
    pub build: String,
    /// When it started.
    pub since: DateTime<Utc>,
    /// When it was last heard of, by the database's clock.
    pub seen: DateTime<Utc>,
    /// How long ago that was, in seconds.
    pub lag: f64,
    /// Jobs that it holds.
    pub leases: i64,
    /// How far its own clock is behind the database's, in seconds.
    pub clock_offset: f64,
    /// What is published, as far as it knows.
    pub generation: i64,
    /// Bytes of deliveries under way.
    pub intake_bytes: i64,
    /// How long the oldest delivery under way has been waiting, in seconds.
    pub oldest_delivery: f64,
    /// How long a commit takes of late, in seconds.
    pub commit: f64,
    /// Why it is not ready, if it is not.
    pub fault: Option<String>,
    /// Why no answers by mail come to it, where they should.
    #[serde(default)]
    pub answers_fault: Option<String>,
    /// Until when the certificate holds by which it speaks TLS, where it does.
    #[serde(default)]
    pub certificate_until: Option<DateTime<Utc>>,
    /// How its listeners stand, for senders that do not come by HTTP.
    #[serde(default)]
    pub listeners: Vec<ListenerItem>,
}

/// What waits for the nodes.
#[derive(Clone, Debug, Default, Serialize, Deserialize, ToSchema)]
pub struct Backlog {
    /// The halt of all jobs, while one stands.
    #[serde(default)]
    pub halt: Option<Halt>,
    /// Halts of some jobs.
    #[serde(default)]
    pub halts: Vec<SelectiveHalt>,
    /// Jobs that wait for their turn.
    pub queued: i64,
    /// How long the oldest of them has waited, in seconds.
    pub oldest_queued: f64,
    /// How long the earliest due time has passed without being looked at, in seconds.
    pub overdue: f64,
    /// Statements that wait for a lock at the moment.
    pub lock_waits: i64,
    /// How many due times are set aside.
    pub aside: i64,
    /// The first of them, 20 at most.
    pub set_aside: Vec<AsideItem>,
}

/// A due time that could not be handled.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct AsideItem {
    /// The rule's name.
    pub rule: String,
    /// The key of what it remembers.
    pub key: String,
    /// Why it cannot be handled, as the last try found it.
    pub reason: String,
    /// How often it was tried.
    pub tries: i32,
    /// When it is tried again.
    pub again_at: Option<DateTime<Utc>>,
}
