//! How outside systems are spoken to. One file or folder for each protocol: what its call is written as, what it plans to
//! send, and what an answer means. The crate that reaches outside has a driver for each.

mod http;

pub use http::{
    Answer, Body, Callback, CallbackDoc, Exchange, HttpCall, Next, PagesDoc, Request, RequestDoc, RequestError, Signed,
    UntilDoc, retry_after,
};
pub(super) use http::{Gives, HttpDoc};

/// A call of some protocol.
#[derive(Clone, Debug)]
pub enum Call {
    /// A request over HTTP.
    Http(HttpCall),
}
