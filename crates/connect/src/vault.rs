//! Secrets at rest: sealed with XChaCha20-Poly1305 under the service's key, the name bound in,
//! so that a sealed value cannot be moved to another name.

use chacha20poly1305::{
    KeyInit, XChaCha20Poly1305, XNonce,
    aead::{Aead, Payload},
};
use std::{fs, io::Write, os::unix::fs::OpenOptionsExt, path::Path};

const NONCE: usize = 24;

/// What can go wrong with secrets.
#[derive(Debug, thiserror::Error)]
pub enum VaultError {
    /// The key file is unusable.
    #[error("the key of the secrets, {file}: {wrong}")]
    Key {
        /// Its path.
        file: String,
        /// What is wrong.
        wrong: String,
    },
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
}

impl std::fmt::Debug for Vault {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str("Vault")
    }
}

impl Vault {
    /// Opens the key file, made with a new key where there is none.
    pub fn open(file: &Path) -> Result<Self, VaultError> {
        let wrong = |w: String| VaultError::Key { file: file.display().to_string(), wrong: w };
        if !file.exists() {
            let mut key = [0u8; 32];
            getrandom::fill(&mut key).map_err(|_| VaultError::Random)?;
            let text: String = key.iter().map(|b| format!("{b:02x}")).collect();
            fs::OpenOptions::new()
                .write(true)
                .create_new(true)
                .mode(0o600)
                .open(file)
                .and_then(|mut f| writeln!(f, "{text}"))
                .map_err(|e| wrong(e.to_string()))?;
        }
        let text = fs::read_to_string(file).map_err(|e| wrong(e.to_string()))?;
        let key = unhex(text.trim()).ok_or_else(|| wrong("does not hold 64 hexadecimal digits".into()))?;
        let cipher = XChaCha20Poly1305::new_from_slice(&key).map_err(|_| wrong("is no key".into()))?;
        Ok(Self { cipher })
    }

    /// Seals a value for a name.
    pub fn seal(&self, name: &str, value: &str) -> Result<Vec<u8>, VaultError> {
        let mut nonce = [0u8; NONCE];
        getrandom::fill(&mut nonce).map_err(|_| VaultError::Random)?;
        let payload = Payload { msg: value.as_bytes(), aad: name.as_bytes() };
        let sealed = self.cipher.encrypt(&XNonce::from(nonce), payload).map_err(|_| VaultError::Random)?;
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

fn unhex(text: &str) -> Option<Vec<u8>> {
    if text.len() != 64 || !text.is_ascii() {
        return None;
    }
    (0..text.len()).step_by(2).map(|i| u8::from_str_radix(&text[i..i + 2], 16).ok()).collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    fn vault(name: &str) -> Vault {
        let file = std::env::temp_dir().join(format!("arvok-vault-{}-{name}", std::process::id()));
        let vault = Vault::open(&file).expect("opens");
        Vault::open(&file).expect("opens again");
        fs::remove_file(file).expect("is removed");
        vault
    }

    #[test]
    fn a_secret_opens_only_under_its_name_and_key() {
        let vault = self::vault("one");
        let sealed = vault.seal("yard", "s3cret").expect("seals");
        assert_eq!(vault.unseal("yard", &sealed).expect("opens"), "s3cret");
        assert!(vault.unseal("other", &sealed).is_err());
        assert!(self::vault("two").unseal("yard", &sealed).is_err());
        assert!(vault.unseal("yard", &sealed[..10]).is_err());
        assert!(!sealed.windows(6).any(|w| w == b"s3cret"));
    }

    #[test]
    fn a_damaged_key_file_is_named() {
        let file = std::env::temp_dir().join(format!("arvok-vault-{}-bad", std::process::id()));
        fs::write(&file, "short").expect("writes");
        let said = Vault::open(&file).expect_err("refused").to_string();
        fs::remove_file(&file).expect("is removed");
        assert!(said.contains("64 hexadecimal digits"), "{said}");
    }
}
