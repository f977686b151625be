//! Secrets at rest: sealed with XChaCha20-Poly1305 under the service's key, the name bound in,
//! so that a sealed value cannot be moved to another name.

use crate::{callbacks::hmac_sha256, redact::SEALED_LINK};
use base64::{
    Engine,
    prelude::{BASE64_STANDARD, BASE64_URL_SAFE_NO_PAD},
};
use chacha20poly1305::{
    KeyInit, XChaCha20Poly1305, XNonce,
    aead::{Aead, Payload},
};
const NONCE: usize = 24;

/// What can go wrong with secrets.
#[derive(Debug, thiserror::Error)]
pub enum VaultError {
    /// No key.
    #[error("does not hold 64 hexadecimal digits")]
    Key,
    /// Sealed with another key, or damaged.
    #[error("the secret `{0}` cannot be opened with this key; set it again")]
    Sealed(String),
    /// The system gives no random numbers.
    #[error("the system gives no random numbers")]
    Random,
}

/// Seals and opens secrets.
pub struct Vault {
    cipher: XChaCha20Poly1305,
    key: Vec<u8>,
}

impl std::fmt::Debug for Vault {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str("Vault")
    }
}

impl Vault {
    /// A new key, as 64 hexadecimal digits.
    pub fn new_key() -> Result<String, VaultError> {
        let mut key = [0u8; 32];
        getrandom::fill(&mut key).map_err(|_| VaultError::Random)?;
        Ok(hex::encode(key))
    }

    /// With a key of 64 hexadecimal digits.
    pub fn new(key: &str) -> Result<Self, VaultError> {
        let key = hex::decode(key).map_err(|_| VaultError::Key)?;
        let cipher = XChaCha20Poly1305::new_from_slice(&key).map_err(|_| VaultError::Key)?;
        Ok(Self { cipher, key })
    }

    /// Seals a value for a name.
    pub fn seal(&self, name: &str, value: &str) -> Result<Vec<u8>, VaultError> {
        let mut nonce = [0u8; NONCE];
        getrandom::fill(&mut nonce).map_err(|_| VaultError::Random)?;
        let payload = Payload { msg: value.as_bytes(), aad: name.as_bytes() };
        let sealed =
            self.cipher.encrypt(&XNonce::from(nonce), payload).map_err(|_| VaultError::Random)?;
        Ok([&nonce[..], &sealed].concat())
    }

    /// Opens what was sealed for this name.
    pub fn unseal(&self, name: &str, sealed: &[u8]) -> Result<String, VaultError> {
        let broken = || VaultError::Sealed(name.to_owned());
        let (nonce, sealed) = sealed.split_at_checked(NONCE).ok_or_else(broken)?;
        let nonce: [u8; NONCE] = nonce.try_into().map_err(|_| broken())?;
        let payload = Payload { msg: sealed, aad: name.as_bytes() };
        let value = self.cipher.decrypt(&XNonce::from(nonce), payload).map_err(|_| broken())?;
        String::from_utf8(value).map_err(|_| broken())
    }
}

impl Vault {
    /// Seals a text for a purpose, as it can stand in a link. It begins with words by which it is
    /// known and hidden wherever it is shown.
    pub fn seal_link(&self, purpose: &str, text: &str) -> Result<String, VaultError> {
        Ok(format!("{SEALED_LINK}{}", BASE64_URL_SAFE_NO_PAD.encode(self.seal(purpose, text)?)))
    }

    /// A key that belongs to a text and a purpose, in the form of Standard Webhooks: `whsec_` and
    /// 32 bytes in base64. It is the same each time, and tells nothing of the service's own key.
    pub fn key_of(&self, purpose: &str, text: &str) -> String {
        let derived = hmac_sha256(&self.key, format!("{purpose}\n{text}").as_bytes());
        format!("whsec_{}", BASE64_STANDARD.encode(derived))
    }

    /// A code that belongs to a text and a purpose, of 24 hexadecimal digits: it can stand where
    /// little fits and capitals do not count.
    pub fn code_of(&self, purpose: &str, text: &str) -> String {
        let derived = hmac_sha256(&self.key, format!("{purpose}\n{text}").as_bytes());
        hex::encode(&derived[..12])
    }

    /// The text of a link that was sealed for a purpose; none if it is none of ours.
    pub fn open_link(&self, purpose: &str, link: &str) -> Option<String> {
        // Those of earlier releases begin with nothing.
        let sealed =
            BASE64_URL_SAFE_NO_PAD.decode(link.strip_prefix(SEALED_LINK).unwrap_or(link)).ok()?;
        self.unseal(purpose, &sealed).ok()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn vault() -> Vault {
        Vault::new(&Vault::new_key().expect("a key")).expect("opens")
    }

    #[test]
    fn a_secret_opens_only_under_its_name_and_key() {
        let vault = self::vault();
        let sealed = vault.seal("yard", "s3cret").expect("seals");
        assert_eq!(vault.unseal("yard", &sealed).expect("opens"), "s3cret");
        assert!(vault.unseal("other", &sealed).is_err());
        assert!(self::vault().unseal("yard", &sealed).is_err());
        assert!(vault.unseal("yard", &sealed[..10]).is_err());
        assert!(!sealed.windows(6).any(|w| w == b"s3cret"));
    }

    #[test]
    fn what_is_no_key_is_refused() {
        for wrong in ["", "short", &"g".repeat(64), &"0".repeat(65), &"é".repeat(32)] {
            assert!(Vault::new(wrong).is_err(), "{wrong}");
        }
    }
}
