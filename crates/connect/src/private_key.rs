//! Private keys that sign what we send: assertions (RFC 7519) and requests (RFC 9421).

use arvok_core::connector::SignatureAlgorithm;
use ring::{
    rand::SystemRandom,
    signature::{
        ECDSA_P256_SHA256_FIXED_SIGNING, EcdsaKeyPair, Ed25519KeyPair, RSA_PKCS1_SHA256,
        RSA_PSS_SHA512, RsaEncoding, RsaKeyPair,
    },
};
use rustls::pki_types::{PrivateKeyDer, pem::PemObject};

/// A private key.
pub(crate) enum PrivateKey {
    Rsa(RsaKeyPair),
    P256(EcdsaKeyPair),
    Ed25519(Ed25519KeyPair),
}

impl PrivateKey {
    /// Reads one.
    ///
    /// # Errors
    /// That it is none, without a word of what it holds.
    pub fn from_pem(pem: &str) -> Result<Self, &'static str> {
        let no_key = "the credential's key is no private key in PEM";
        let der = PrivateKeyDer::from_pem_slice(pem.as_bytes()).map_err(|_| no_key)?;
        let other = "the credential's key is none that can sign here: an RSA key of 2048 bits and \
                     more, one on the curve P-256, or an Ed25519 key";
        match &der {
            PrivateKeyDer::Pkcs1(der) => {
                RsaKeyPair::from_der(der.secret_pkcs1_der()).map(Self::Rsa).map_err(|_| other)
            }
            PrivateKeyDer::Pkcs8(der) => {
                let der = der.secret_pkcs8_der();
                let random = SystemRandom::new();
                let p256 =
                    || EcdsaKeyPair::from_pkcs8(&ECDSA_P256_SHA256_FIXED_SIGNING, der, &random);
                let rsa = RsaKeyPair::from_pkcs8(der).map(Self::Rsa);
                let key = rsa.or_else(|_| p256().map(Self::P256));
                let ed25519 = || Ed25519KeyPair::from_pkcs8_maybe_unchecked(der);
                key.or_else(|_| ed25519().map(Self::Ed25519)).map_err(|_| other)
            }
            _ => Err("the credential's key is not in the form of PKCS #8: \
                      `openssl pkcs8 -topk8 -nodes` makes it one"),
        }
    }

    /// The algorithm by which it signs an assertion (RFC 7518, section 3.1; RFC 8037).
    pub const fn assertion_algorithm(&self) -> &'static str {
        match self {
            Self::Rsa(_) => "RS256",
            Self::P256(_) => "ES256",
            Self::Ed25519(_) => "EdDSA",
        }
    }

    /// Signs an assertion.
    pub fn sign_assertion(&self, text: &[u8]) -> Result<Vec<u8>, &'static str> {
        match self {
            Self::Rsa(key) => rsa(key, &RSA_PKCS1_SHA256, text),
            Self::P256(key) => p256(key, text),
            Self::Ed25519(key) => Ok(key.sign(text).as_ref().to_vec()),
        }
    }

    /// Signs by an algorithm.
    ///
    /// # Errors
    /// That this key is none for it.
    pub fn sign(
        &self,
        algorithm: SignatureAlgorithm,
        text: &[u8],
    ) -> Result<Vec<u8>, &'static str> {
        match (self, algorithm) {
            (Self::Rsa(key), SignatureAlgorithm::RsaPssSha512) => rsa(key, &RSA_PSS_SHA512, text),
            (Self::Rsa(key), SignatureAlgorithm::RsaV1_5Sha256) => {
                rsa(key, &RSA_PKCS1_SHA256, text)
            }
            (Self::P256(key), SignatureAlgorithm::EcdsaP256Sha256) => p256(key, text),
            (Self::Ed25519(key), SignatureAlgorithm::Ed25519) => {
                Ok(key.sign(text).as_ref().to_vec())
            }
            _ => Err("the credential's key is none for its algorithm"),
        }
    }
}

const NO_RANDOM: &str = "the system gives no random numbers";

fn rsa(
    key: &RsaKeyPair,
    encoding: &'static dyn RsaEncoding,
    text: &[u8],
) -> Result<Vec<u8>, &'static str> {
    let mut signature = vec![0; key.public().modulus_len()];
    key.sign(encoding, &SystemRandom::new(), text, &mut signature).map_err(|_| NO_RANDOM)?;
    Ok(signature)
}

fn p256(key: &EcdsaKeyPair, text: &[u8]) -> Result<Vec<u8>, &'static str> {
    let signature = key.sign(&SystemRandom::new(), text).map_err(|_| NO_RANDOM)?;
    Ok(signature.as_ref().to_vec())
}
