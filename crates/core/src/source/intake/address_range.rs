//! The addresses that messages may come from.

use crate::document::Checker;
use core::net::IpAddr;

/// Most address ranges of one source.
const MAX_RANGES: usize = 100;

/// Addresses that begin with the same bits.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct AddressRange {
    address: IpAddr,
    bits: u32,
}

impl AddressRange {
    /// Reads `address` or `address/bits`.
    pub fn parse(text: &str) -> Option<Self> {
        let (address, bits) = match text.split_once('/') {
            Some((address, bits)) => (address, Some(bits.parse().ok()?)),
            None => (text, None),
        };
        let address: IpAddr = address.parse().ok()?;
        let most = if address.is_ipv4() { 32 } else { 128 };
        let bits = bits.unwrap_or(most);
        (bits <= most).then_some(Self { address, bits })
    }

    /// Whether an address is one of them.
    pub fn holds(self, address: IpAddr) -> bool {
        let rest = |most: u32| most - self.bits;
        match (self.address, address.to_canonical()) {
            (IpAddr::V4(a), IpAddr::V4(b)) => {
                (u32::from(a) ^ u32::from(b)).checked_shr(rest(32)).unwrap_or(0) == 0
            }
            (IpAddr::V6(a), IpAddr::V6(b)) => {
                (u128::from(a) ^ u128::from(b)).checked_shr(rest(128)).unwrap_or(0) == 0
            }
            _ => false,
        }
    }
}

/// The ranges of a list at a pointer.
pub(super) fn ranges(check: &mut Checker<'_>, at: &str, texts: &[String]) -> Vec<AddressRange> {
    if texts.len() > MAX_RANGES {
        check.fail(at, format!("has {} entries; {MAX_RANGES} are allowed", texts.len()));
    }
    let mut ranges = Vec::new();
    for (i, text) in texts.iter().enumerate() {
        match AddressRange::parse(text) {
            Some(range) => ranges.push(range),
            None => check.fail(
                &format!("{at}/{i}"),
                format!("`{text}` is not an address or a range of them, such as 10.4.0.0/16"),
            ),
        }
    }
    ranges
}
