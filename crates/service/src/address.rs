//! Addresses as they may be shown, and whether what goes there can be read on the way.

/// An address of a database without its password, and without settings that may hold one.
pub(crate) fn shown(url: &str) -> String {
    let url = url.split('?').next().unwrap_or_default();
    let Some((scheme, rest)) = url.split_once("://") else { return "at its address".to_owned() };
    match rest.rsplit_once('@') {
        Some((user, host)) => {
            format!("{scheme}://{}@{host}", user.split(':').next().unwrap_or_default())
        }
        None => format!("{scheme}://{rest}"),
    }
}

/// Whether an address is plain HTTP beyond this machine.
pub(crate) fn is_open(address: &str) -> bool {
    let Some(rest) = address.strip_prefix("http://") else { return false };
    let host = rest.split(['/', '?', '#']).next().unwrap_or_default();
    let host = host
        .rsplit_once(':')
        .filter(|(_, port)| port.bytes().all(|b| b.is_ascii_digit()))
        .map_or(host, |h| h.0);
    let host = host.trim_matches(['[', ']']);
    let loops =
        host == "localhost" || host.parse::<std::net::IpAddr>().is_ok_and(|ip| ip.is_loopback());
    !loops
}
