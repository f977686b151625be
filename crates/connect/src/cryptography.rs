//! The one back end of cryptography, for every client of the process.

use reqwest::{Client, ClientBuilder};

/// A client for HTTP to be built further. It goes straight to its address, by no proxy.
pub fn http_client() -> ClientBuilder {
    // An error says that the process has its back end already.
    let _ = rustls::crypto::ring::default_provider().install_default();
    Client::builder().no_proxy()
}
