//! Where we wait for a call back.

/// What stands for the address of a callback where the request is shown.
pub const CALLBACK: &str = "[callback]";

/// What stands there for the key with which a call back is signed.
pub const CALLBACK_KEY: &str = "[callback key]";

/// Where we wait for a call back.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct CallbackAt {
    /// The address.
    pub address: String,
    /// The key with which the other side signs, where it can.
    pub key: String,
}
