//! Reaching outside: calls through connections, and the secrets they need.
//!
//! [`Vault`] seals and opens secrets, [`Http`] sends what an operation of the core has planned
//! and hands back the answer with every opened secret taken out of it, or an event to a subscriber.

mod cryptography;
mod events;
mod http;
mod redact;
mod vault;

pub use cryptography::http_client;
pub use events::{KeyError, Keys, NotTaken, Posted, allowed_rate};
pub use http::{Call, CallError, Called, Ended, Http};
pub use redact::Redactor;
pub use vault::{Vault, VaultError};
