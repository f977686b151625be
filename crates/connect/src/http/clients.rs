//! Clients by whom they trust and what they show when a line is made.

use crate::{driver::unsent, http_client};
use arvok_core::connector::{Failure, Opened};
use reqwest::{Certificate, Client, ClientBuilder, Identity, redirect::Policy};
use std::{
    collections::{HashMap, hash_map::RandomState},
    hash::BuildHasher,
    sync::{Mutex, PoisonError},
};

/// Clients that are kept. Of a connection that is written anew again and again the old ones go.
const MOST: usize = 64;

/// The clients that were made, by what they were made of: a hash of it, since a part is secret.
#[derive(Debug)]
pub(super) struct Clients {
    plain: Client,
    made: Mutex<HashMap<u64, Client>>,
    hashing: RandomState,
}

impl Clients {
    pub fn new() -> Result<Self, String> {
        let plain = behaving().build().map_err(|e| e.to_string())?;
        Ok(Self { plain, made: Mutex::default(), hashing: RandomState::default() })
    }

    /// The client of whoever shows nothing and trusts what the system knows.
    pub const fn plain(&self) -> &Client {
        &self.plain
    }

    /// The client of a connection.
    pub fn for_connection(
        &self,
        credential: Option<&Opened>,
        authorities: Option<&str>,
    ) -> Result<Client, Failure> {
        let certificate = match credential {
            Some(Opened::Certificate(pem)) => Some(pem.as_str()),
            _ => None,
        };
        if certificate.is_none() && authorities.is_none() {
            return Ok(self.plain.clone());
        }
        let of = self.hashing.hash_one((certificate, authorities));
        let mut made = self.made.lock().unwrap_or_else(PoisonError::into_inner);
        if let Some(client) = made.get(&of) {
            return Ok(client.clone());
        }
        let client = build(certificate, authorities).map_err(unsent)?;
        if made.len() >= MOST {
            made.clear();
        }
        made.insert(of, client.clone());
        Ok(client)
    }
}

/// How all clients behave.
fn behaving() -> ClientBuilder {
    http_client()
        .redirect(Policy::none())
        // A line kept open may be closed by the other side at the very moment of a call, and then
        // nobody knows whether the call was taken.
        .pool_max_idle_per_host(0)
        // A visit tells how long the other side's certificate is valid.
        .tls_info(true)
        .user_agent(concat!("arvok/", env!("CARGO_PKG_VERSION")))
}

fn build(certificate: Option<&str>, authorities: Option<&str>) -> Result<Client, String> {
    let mut builder = behaving();
    if let Some(pem) = authorities {
        let trusted =
            Certificate::from_pem_bundle(pem.as_bytes()).ok().filter(|all| !all.is_empty());
        builder =
            builder.tls_certs_only(trusted.ok_or("`authorities` holds no certificate in PEM")?);
    }
    if let Some(pem) = certificate {
        // What is wrong with it is not told: it holds a key.
        let identity = Identity::from_pem(pem.as_bytes());
        builder = builder.identity(
            identity.map_err(|_| "the credential is no certificate with its key in PEM")?,
        );
    }
    builder.build().map_err(|e| format!("no client can be made of its certificates: {e}"))
}
