//! Reaching outside: calls through connections, and the secrets they need.
//!
//! [`Vault`] seals and opens secrets, [`Http`] sends what an operation of the core has planned
//! and hands back the answer with every opened secret taken out of it.

mod cryptography;
mod http;
mod redact;
mod vault;

pub use cryptography::http_client;
pub use http::{Call, CallError, Http};
pub use redact::Redactor;
pub use vault::{Vault, VaultError};
