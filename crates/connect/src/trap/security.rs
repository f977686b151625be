//! Users of SNMP version 3 (RFC 3414; RFC 3826; RFC 7860): keys made of passwords, digests of
//! messages, and what keeps these private.

use aes::{Aes128, Aes192, Aes256};
use arvok_core::connector::{AgentCipher, AgentDigest};
use cbc::cipher::{BlockDecryptMut, BlockEncryptMut, KeyIvInit, block_padding::NoPadding};
use cfb_mode::cipher::AsyncStreamCipher;
use des::Des;
use hmac::{Hmac, KeyInit, Mac};
use md5::Md5;
use sha1::{Digest, Sha1};
use sha2::{Sha224, Sha256, Sha384, Sha512};

/// A password is repeated up to so many bytes (RFC 3414, appendix A.2).
const REPEATED: usize = 1 << 20;
const BLOCK: usize = 8;

/// The key of a password, before it belongs to an engine.
pub(super) fn key_of_password(digest: AgentDigest, password: &str) -> Vec<u8> {
    let password = password.as_bytes();
    if password.is_empty() {
        return Vec::new();
    }
    let repeated: Vec<u8> = password.iter().copied().cycle().take(REPEATED).collect();
    hashed(digest, &[&repeated])
}

/// The key that a user has with an engine (RFC 3414, section 2.6).
pub(super) fn localized(digest: AgentDigest, key: &[u8], engine: &[u8]) -> Vec<u8> {
    hashed(digest, &[key, engine, key])
}

fn hashed(digest: AgentDigest, parts: &[&[u8]]) -> Vec<u8> {
    fn of<D: Digest>(parts: &[&[u8]]) -> Vec<u8> {
        let mut hasher = D::new();
        parts.iter().for_each(|part| hasher.update(part));
        hasher.finalize().to_vec()
    }
    match digest {
        AgentDigest::Md5 => of::<Md5>(parts),
        AgentDigest::Sha1 => of::<Sha1>(parts),
        AgentDigest::Sha224 => of::<Sha224>(parts),
        AgentDigest::Sha256 => of::<Sha256>(parts),
        AgentDigest::Sha384 => of::<Sha384>(parts),
        AgentDigest::Sha512 => of::<Sha512>(parts),
    }
}

/// How many bytes of a digest are sent along.
pub(super) const fn digest_length(digest: AgentDigest) -> usize {
    match digest {
        AgentDigest::Md5 | AgentDigest::Sha1 => 12,
        AgentDigest::Sha224 => 16,
        AgentDigest::Sha256 => 24,
        AgentDigest::Sha384 => 32,
        AgentDigest::Sha512 => 48,
    }
}

/// What proves a message, of which the place of this is filled with zeros.
pub(super) fn digest_of(digest: AgentDigest, key: &[u8], message: &[u8]) -> Vec<u8> {
    fn of<M: Mac + KeyInit>(key: &[u8], message: &[u8]) -> Vec<u8> {
        let Ok(mut mac) = M::new_from_slice(key) else { return Vec::new() };
        mac.update(message);
        mac.finalize().into_bytes().to_vec()
    }
    let mut made = match digest {
        AgentDigest::Md5 => of::<Hmac<Md5>>(key, message),
        AgentDigest::Sha1 => of::<Hmac<Sha1>>(key, message),
        AgentDigest::Sha224 => of::<Hmac<Sha224>>(key, message),
        AgentDigest::Sha256 => of::<Hmac<Sha256>>(key, message),
        AgentDigest::Sha384 => of::<Hmac<Sha384>>(key, message),
        AgentDigest::Sha512 => of::<Hmac<Sha512>>(key, message),
    };
    made.truncate(digest_length(digest));
    made
}

/// The key of a cipher; where the digest gives fewer bytes it is made longer as most agents do
/// (*Extension to the User-Based Security Model*, by Blumenthal).
pub(super) fn cipher_key(cipher: AgentCipher, digest: AgentDigest, mut key: Vec<u8>) -> Vec<u8> {
    let wanted = match cipher {
        AgentCipher::Des | AgentCipher::Aes128 => 16,
        AgentCipher::Aes192 => 24,
        AgentCipher::Aes256 => 32,
    };
    while key.len() < wanted && !key.is_empty() {
        let more = hashed(digest, &[&key]);
        key.extend(more);
    }
    key.truncate(wanted);
    key
}

/// What a cipher begins with.
#[derive(Clone, Copy)]
pub(super) struct Beginning<'a> {
    pub boots: u32,
    pub time: u32,
    pub salt: &'a [u8],
}

impl Beginning<'_> {
    fn of_aes(self) -> Vec<u8> {
        [&self.boots.to_be_bytes()[..], &self.time.to_be_bytes(), self.salt].concat()
    }

    fn of_des(self, key: &[u8]) -> Vec<u8> {
        key[BLOCK..].iter().zip(self.salt).map(|(a, b)| a ^ b).collect()
    }
}

/// What was kept private; none if it cannot be.
pub(super) fn decrypted(
    cipher: AgentCipher,
    key: &[u8],
    from: Beginning<'_>,
    secret: &[u8],
) -> Option<Vec<u8>> {
    if from.salt.len() != BLOCK {
        return None;
    }
    let mut plain = secret.to_vec();
    match cipher {
        AgentCipher::Des => {
            let iv = from.of_des(key);
            let des = cbc::Decryptor::<Des>::new_from_slices(&key[..BLOCK], &iv).ok()?;
            des.decrypt_padded_mut::<NoPadding>(&mut plain).ok()?;
        }
        AgentCipher::Aes128 => {
            let aes = cfb_mode::Decryptor::<Aes128>::new_from_slices(key, &from.of_aes()).ok()?;
            aes.decrypt(&mut plain);
        }
        AgentCipher::Aes192 => {
            let aes = cfb_mode::Decryptor::<Aes192>::new_from_slices(key, &from.of_aes()).ok()?;
            aes.decrypt(&mut plain);
        }
        AgentCipher::Aes256 => {
            let aes = cfb_mode::Decryptor::<Aes256>::new_from_slices(key, &from.of_aes()).ok()?;
            aes.decrypt(&mut plain);
        }
    }
    Some(plain)
}

/// What is to be kept private.
pub(super) fn encrypted(
    cipher: AgentCipher,
    key: &[u8],
    from: Beginning<'_>,
    plain: &[u8],
) -> Option<Vec<u8>> {
    let mut secret = plain.to_vec();
    match cipher {
        AgentCipher::Des => {
            secret.resize(plain.len().next_multiple_of(BLOCK), 0);
            let (iv, length) = (from.of_des(key), secret.len());
            let des = cbc::Encryptor::<Des>::new_from_slices(&key[..BLOCK], &iv).ok()?;
            des.encrypt_padded_mut::<NoPadding>(&mut secret, length).ok()?;
        }
        AgentCipher::Aes128 => {
            let aes = cfb_mode::Encryptor::<Aes128>::new_from_slices(key, &from.of_aes()).ok()?;
            aes.encrypt(&mut secret);
        }
        AgentCipher::Aes192 => {
            let aes = cfb_mode::Encryptor::<Aes192>::new_from_slices(key, &from.of_aes()).ok()?;
            aes.encrypt(&mut secret);
        }
        AgentCipher::Aes256 => {
            let aes = cfb_mode::Encryptor::<Aes256>::new_from_slices(key, &from.of_aes()).ok()?;
            aes.encrypt(&mut secret);
        }
    }
    Some(secret)
}

#[cfg(test)]
mod tests {
    use super::*;

    /// RFC 3414, appendix A.3.
    #[test]
    fn keys_are_made_as_the_standard_shows() {
        let engine = hex::decode("000000000000000000000002").expect("hexadecimal");
        for (digest, known) in [
            (AgentDigest::Md5, "526f5eed9fcce26f8964c2930787d82b"),
            (AgentDigest::Sha1, "6695febc9288e36282235fc7151f128497b38f3f"),
        ] {
            let key = key_of_password(digest, "maplesyrup");
            assert_eq!(hex::encode(localized(digest, &key, &engine)), known);
        }
        assert!(key_of_password(AgentDigest::Md5, "").is_empty());
    }

    #[test]
    fn what_is_encrypted_can_be_read_with_the_key_alone() {
        let (salt, plain) = ([7; 8], b"a notification of some pump".as_slice());
        let from = Beginning { boots: 1, time: 9, salt: &salt };
        for cipher in AgentCipher::ALL {
            let key = |of: &str| {
                let digest = AgentDigest::Sha1;
                cipher_key(cipher, digest, key_of_password(digest, of))
            };
            let secret = encrypted(cipher, &key("long enough"), from, plain).expect("is encrypted");
            let read = |of: &str| decrypted(cipher, &key(of), from, &secret).expect("has a length");
            assert!(read("long enough").starts_with(plain), "{cipher:?}");
            assert!(!read("another one").starts_with(plain), "{cipher:?}");
            let salt = Beginning { salt: &[1], ..from };
            assert_eq!(decrypted(cipher, &key("long enough"), salt, &secret), None);
        }
        assert_eq!(decrypted(AgentCipher::Des, &[0; 16], from, &[0; 7]), None);
    }
}
