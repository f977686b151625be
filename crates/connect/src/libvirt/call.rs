//! How a call is made, and why nothing came of it.

use super::{rpc::RpcError, xdr::Malformed};
use crate::LiveOutput;
use arvok_core::connector::Failure;
use std::time::Duration;

/// Why nothing was done.
pub(super) enum ActError {
    /// By what libvirt or the line says.
    Rpc(RpcError),
    /// By what was seen before anything was asked for.
    Failed(Failure),
}

impl From<RpcError> for ActError {
    fn from(why: RpcError) -> Self {
        Self::Rpc(why)
    }
}

impl From<Failure> for ActError {
    fn from(why: Failure) -> Self {
        Self::Failed(why)
    }
}

impl From<Malformed> for ActError {
    fn from(why: Malformed) -> Self {
        Self::Rpc(why.into())
    }
}

/// How a call is made: whether something that changes anything has been asked for, how much time it
/// has, and who looks on.
pub(super) struct Making<'a> {
    pub has_been_asked: &'a mut bool,
    /// Whether it was done, and only how things are then is still asked.
    pub is_done: &'a mut bool,
    pub within: Duration,
    pub live: LiveOutput<'a>,
}
