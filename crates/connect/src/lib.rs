//! Reaching outside: calls through connections, and the secrets they need.
//!
//! [`Vault`] seals and opens secrets, [`Http`] sends what an operation of the core has planned and hands back the answer,
//! or sends an event to a subscriber. Outputs are handed back as they came; messages and answers, which are for people,
//! have every opened secret taken out of them by a [`Redactor`].

mod callbacks;
mod cryptography;
mod events;
mod http;
mod redact;
mod vault;

pub use callbacks::{signature, unsigned};
pub use cryptography::http_client;
pub use events::{KeyError, Keys, NotTaken, Posted, allowed_rate};
pub use http::{Call, CallError, Called, Ended, Http};
pub use redact::{Redactor, SECRET_MARK, SHORTEST_SECRET, Weak, weakness};
pub use vault::{Vault, VaultError};
