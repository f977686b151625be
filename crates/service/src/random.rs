//! Random texts: tokens, cookies, ids.

/// A random text of 32 bytes in hexadecimal behind a prefix that tells what it is.
///
/// # Panics
/// If the operating system gives no random numbers, which no part of the service could survive.
pub fn secret_text(prefix: &str) -> String {
    format!("{prefix}{}", random_hex::<32>())
}

/// A short random text, unique for all practical purposes.
pub(crate) fn id() -> String {
    random_hex::<12>()
}

fn random_hex<const N: usize>() -> String {
    let mut bytes = [0u8; N];
    getrandom::fill(&mut bytes).expect("the operating system gives random numbers");
    hex::encode(bytes)
}

/// A random number of a span.
pub(crate) fn span() -> u64 {
    let mut bytes = [0u8; 8];
    getrandom::fill(&mut bytes).expect("the operating system gives random numbers");
    u64::from_ne_bytes(bytes)
}

/// A random byte, to spread what would otherwise happen together.
pub(crate) fn byte() -> u8 {
    let mut byte = [0u8];
    getrandom::fill(&mut byte).expect("the operating system gives random numbers");
    byte[0]
}
