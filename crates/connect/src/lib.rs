//! Reaching outside: calls through connections, and the secrets they need.
//!
//! [`Vault`] seals and opens secrets, [`Drivers`] perform what an operation of the core has
//! planned, one for each protocol, and hand back the answer; [`Http`] sends events to subscribers
//! as well, and scripts run in sandboxes. Outputs are handed back as they came; messages and
//! answers, which are for people, have every opened secret taken out of them by a [`Redactor`].

mod broker;
mod callbacks;
mod cryptography;
mod driver;
mod drivers;
mod events;
mod http;
mod libvirt;
mod live;
mod machine;
mod mail;
mod mailbox;
mod netconf;
mod private_key;
mod ready;
mod records;
mod redact;
mod script;
mod senders;
mod snmp;
mod ssh;
mod tls;
mod trap;
mod vault;

pub use broker::{BrokerConsumer, BrokerMessage, Receipt, Subscription};
pub use callbacks::{signature, unsigned};
pub use cryptography::http_client;
pub use driver::{Called, JumpHost, TrustedKeys, Way};
pub use drivers::{Call, CallOutcome, Drivers};
pub use events::{KeyError, Keys, NotTaken, Posted, allowed_rate};
pub use http::{CallError, Http};
pub use live::{LiveOutput, OutputTail, last_lines};
pub use mailbox::{MailboxPlace, OpenMailbox, Unseen};
pub use ready::{Opening, Ready};
pub use records::{OwnRecords, RecordsAnswer};
pub use redact::{Redactor, SECRET_MARK, SHORTEST_SECRET, Weak, weakness};
pub use script::{ScriptCall, ScriptRights};
pub use senders::{carries_signature, unsigned_sender};
pub use ssh::HostKey;
pub use trap::{ReceivedPacket, TrapReceiver};
pub use vault::{Vault, VaultError};
