//! How a node speaks TLS, as whoever runs it says.

use serde::Deserialize;
use std::path::PathBuf;

/// The files of TLS; without any the node speaks none.
#[derive(Clone, Debug, Default, PartialEq, Eq, Deserialize)]
#[serde(default, deny_unknown_fields)]
pub struct TlsSettings {
    /// The certificate and what is between it and its authority, in PEM.
    pub certificate: Option<PathBuf>,
    /// Its private key, in PEM.
    pub key: Option<PathBuf>,
    /// The authorities whose certificates senders may prove themselves by, in PEM. Absent: senders
    /// are not asked for any.
    pub client_authorities: Option<PathBuf>,
}

impl TlsSettings {
    /// What cannot be.
    pub(crate) fn wrong(&self) -> Option<String> {
        if self.certificate.is_some() != self.key.is_some() {
            return Some("tls has both `certificate` and `key`, or neither".to_owned());
        }
        (self.client_authorities.is_some() && self.certificate.is_none()).then(|| {
            "tls.client_authorities is for TLS: name `certificate` and `key` as well".to_owned()
        })
    }

    /// Whether TLS is spoken.
    pub(crate) const fn is_spoken(&self) -> bool {
        self.certificate.is_some()
    }
}
