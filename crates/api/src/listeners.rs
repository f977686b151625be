//! What listens for senders that do not come by HTTP.

use chrono::{DateTime, Utc};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// A listener of a source at one node, with what came since it was begun.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct ListenerItem {
    /// The source.
    pub source: String,
    /// The node, by its machine and where it takes requests.
    pub node: String,
    /// How messages come.
    pub transport: Transport,
    /// Where, as `address:port`; of a broker its connection, and the session or the queue.
    pub address: String,
    /// Whether they can come.
    pub state: ListenerState,
    /// Why they cannot.
    pub reason: Option<String>,
    /// Since when it is so.
    pub since: DateTime<Utc>,
    /// Connections that are open.
    pub open: i64,
    /// Messages that wait in the queue, where the broker tells.
    #[serde(default)]
    pub waiting: Option<i64>,
    /// Messages that are recorded.
    pub taken: i64,
    /// Messages that cannot be read, and are kept.
    pub unreadable: i64,
    /// Messages that are lost, since there was no room for them.
    pub dropped: i64,
    /// Messages and connections from where, or from whom, none may come.
    pub refused: i64,
    /// Who was refused last, and why.
    #[serde(default)]
    pub last_refusal: Option<String>,
}

/// How messages come to a listener.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "lowercase")]
pub enum Transport {
    /// A datagram each.
    Udp,
    /// Over streams.
    Tcp,
    /// Over streams within TLS.
    Tls,
    /// From the topics of a broker.
    Mqtt,
    /// From the queue of a broker.
    Amqp,
    /// From mail servers, over LMTP.
    Lmtp,
    /// Notifications of agents, over SNMP.
    Snmp,
}

/// Whether messages can come to a listener.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "lowercase")]
pub enum ListenerState {
    /// It is about to listen.
    Starting,
    /// It listens.
    Listening,
    /// Another node takes what comes, and this one stands by.
    Standby,
    /// It cannot, and tries again.
    Failed,
}
