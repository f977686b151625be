//! The machine that a call goes to: that of an address, or one of those for which it stands.

use crate::driver::{Way, unsent};
use arvok_core::connector::{Failure, Protocol};
use reqwest::Url;

/// The port of SSH (RFC 4253, section 4.1), and that of NETCONF over it (RFC 6242, section 3).
const PORT: u16 = 22;
const NETCONF_PORT: u16 = 830;
/// The port of an SNMP agent (RFC 3417, section 3.2).
const SNMP_PORT: u16 = 161;

/// What follows the star of an address that stands for many machines.
pub(crate) fn for_many(base: &str) -> Option<&str> {
    let schemes = Protocol::of(base).filter(|protocol| protocol.may_be_many())?.schemes();
    schemes.iter().find_map(|scheme| base.strip_prefix(scheme)?.strip_prefix('*'))
}

/// An address that stands for many machines is none to look at.
pub(crate) fn must_be_one(way: Way<'_>) -> Result<(), Failure> {
    match for_many(way.base) {
        None => Ok(()),
        Some(_) => Err(unsent(format!(
            "{} stands for many machines; name an operation that looks as the connector's `test`, \
             or call one by hand",
            way.base
        ))),
    }
}

/// A machine.
#[derive(Clone, Debug, PartialEq, Eq, Hash)]
pub(crate) struct Machine {
    pub host: String,
    pub port: u16,
}

impl Machine {
    /// That of an address, or the one that is meant of those for which the address stands.
    pub fn addressed(way: Way<'_>, host: Option<&str>) -> Result<Self, Failure> {
        let base = way.base;
        let wrong = |why: &str| unsent(format!("{base} is no machine's address: {why}"));
        // A star is no host of an address (RFC 3986, section 3.2.2).
        let many = for_many(base);
        let text = many.map_or_else(|| base.to_owned(), |rest| format!("ssh://any{rest}"));
        let url = Url::parse(&text).map_err(|e| wrong(&e.to_string()))?;
        let has_path = !matches!(url.path(), "" | "/");
        let may_have_path = Protocol::of(base) == Some(Protocol::Libvirt);
        if (has_path && !may_have_path) || url.query().is_some() {
            return Err(wrong("nothing follows its host and port"));
        }
        let usual = match Protocol::of(base) {
            Some(Protocol::Netconf) => NETCONF_PORT,
            Some(Protocol::Snmp) => SNMP_PORT,
            _ => PORT,
        };
        let port = url.port().unwrap_or(usual);
        let own = url.host_str().ok_or_else(|| wrong("it names no host"))?;
        let own = own.trim_start_matches('[').trim_end_matches(']').to_ascii_lowercase();
        let host = match (many, host) {
            (None, None) => own,
            (None, Some(_)) => return Err(wrong("it is one machine, and the call names another")),
            (Some(_), None) => return Err(wrong("it stands for many, and the call names none")),
            (Some(_), Some(host)) if way.hosts.iter().any(|glob| glob.matches(host)) => {
                host.to_owned()
            }
            (Some(_), Some(host)) => {
                let hosts: Vec<&str> = way.hosts.iter().map(|glob| glob.as_str()).collect();
                let hosts = hosts.join(", ");
                return Err(unsent(format!("`{host}` is none of the connection's hosts: {hosts}")));
            }
        };
        Ok(Self { host, port })
    }

    /// The fingerprints of which it must show one: those of its connection, or what was trusted.
    pub fn trusted(&self, way: Way<'_>) -> Vec<String> {
        if !way.host_keys.is_empty() {
            return way.host_keys.to_vec();
        }
        way.trusted.and_then(|trusted| trusted.get(&self.name())).cloned().into_iter().collect()
    }

    /// As it is trusted by.
    pub fn name(&self) -> String {
        match self.host.contains(':') {
            true => format!("[{}]:{}", self.host, self.port),
            false => format!("{}:{}", self.host, self.port),
        }
    }
}
