//! Ports of loopback for processes that are told where to listen.

use std::{
    fs, io,
    net::TcpListener,
    sync::{
        LazyLock,
        atomic::{AtomicU32, Ordering},
    },
};

/// The least that ports are taken from, above what services commonly use.
const LOWEST: u32 = 12_000;

/// Where the kernel begins with the ports of outgoing connections, unless it says otherwise.
const OUTGOING: u32 = 32_768;

static NEXT: LazyLock<AtomicU32> =
    LazyLock::new(|| AtomicU32::new(std::process::id().wrapping_mul(2_654_435_769)));

fn outgoing() -> u32 {
    let range = fs::read_to_string("/proc/sys/net/ipv4/ip_local_port_range").unwrap_or_default();
    let first = range.split_whitespace().next().and_then(|first| first.parse().ok());
    first.filter(|first| *first > LOWEST + 1_000).unwrap_or(OUTGOING)
}

/// A port of loopback on which nobody listens, for another process to listen on, perhaps again
/// after its death.
///
/// A port that the kernel chooses may be given to any outgoing connection as soon as it is let go.
/// This one lies below those, and this process gives no other out before it has gone through all of
/// them.
///
/// # Errors
/// If none is free.
pub fn free_port() -> io::Result<u16> {
    let many = outgoing() - LOWEST;
    let mut last = io::Error::from(io::ErrorKind::AddrInUse);
    for _ in 0..many {
        let port = LOWEST + NEXT.fetch_add(1, Ordering::Relaxed) % many;
        let port = u16::try_from(port).map_err(io::Error::other)?;
        match TcpListener::bind(("127.0.0.1", port)) {
            Ok(_) => return Ok(port),
            Err(e) => last = e,
        }
    }
    Err(last)
}
