//! How outside systems are spoken to. One file for each protocol: what its call is written as, the request it plans, and
//! what an answer means. The crate that reaches outside has a driver for each.

mod http;

pub use http::{Answer, HttpCall, Request, RequestDoc, RequestError, retry_after};

/// A call of some protocol.
#[derive(Clone, Debug)]
pub enum Call {
    /// A request over HTTP.
    Http(HttpCall),
}
