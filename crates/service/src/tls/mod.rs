//! TLS as a node speaks it to whoever comes (RFC 8446, RFC 5246): its own certificate, and the
//! authorities of those of senders. The files are looked at now and then: a certificate that was
//! renewed counts from the next connection on, and files that cannot be used change nothing.

mod client;
mod settings;

pub(crate) use client::{ClientNames, holds_until};
pub use settings::TlsSettings;

use arc_swap::ArcSwap;
use chrono::{DateTime, Utc};
use rustls::{
    DigitallySignedStruct, DistinguishedName, RootCertStore, ServerConfig, SignatureScheme,
    client::danger::HandshakeSignatureValid,
    crypto::{CryptoProvider, ring},
    pki_types::{CertificateDer, PrivateKeyDer, UnixTime, pem::PemObject},
    server::{
        ClientHello, NoServerSessionStorage, ResolvesServerCert, WebPkiClientVerifier,
        danger::{ClientCertVerified, ClientCertVerifier},
    },
    sign::CertifiedKey,
};
use sha2::{Digest, Sha256};
use std::{
    fmt,
    path::{Path, PathBuf},
    sync::Arc,
    time::Duration,
};

/// Time between two looks at the files.
const LOOK: Duration = Duration::from_secs(5);
/// Longest file, in bytes.
const MAX_FILE: u64 = 1 << 20;

/// Why TLS cannot be spoken.
#[derive(Debug, thiserror::Error)]
pub enum TlsError {
    /// A file cannot be read.
    #[error("{file}: {reason}")]
    File {
        /// Its path.
        file: String,
        /// What is wrong.
        reason: String,
    },
    /// The certificate cannot be used.
    #[error("tls.certificate {0}")]
    Certificate(String),
    /// The key cannot be used.
    #[error("tls.key {0}")]
    Key(String),
    /// The authorities cannot be used.
    #[error("tls.client_authorities {0}")]
    Authorities(String),
}

/// What the files hold.
struct Loaded {
    certified: Arc<CertifiedKey>,
    clients: Option<Arc<dyn ClientCertVerifier>>,
    until: DateTime<Utc>,
    /// By which it is known whether the files have changed.
    digest: [u8; 32],
}

/// TLS of a node.
pub(crate) struct ServerTls {
    files: Files,
    provider: Arc<CryptoProvider>,
    loaded: ArcSwap<Loaded>,
    /// The authorities that clients are told of, those of the start.
    hints: Vec<DistinguishedName>,
}

struct Files {
    certificate: PathBuf,
    key: PathBuf,
    client_authorities: Option<PathBuf>,
}

impl fmt::Debug for ServerTls {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "the TLS of {}", self.files.certificate.display())
    }
}

impl ServerTls {
    /// What the settings say; none if TLS is not spoken.
    ///
    /// # Errors
    /// If a file cannot be read or used.
    pub fn open(settings: &TlsSettings) -> Result<Option<Arc<Self>>, TlsError> {
        let (Some(certificate), Some(key)) = (&settings.certificate, &settings.key) else {
            return Ok(None);
        };
        let files = Files {
            certificate: certificate.clone(),
            key: key.clone(),
            client_authorities: settings.client_authorities.clone(),
        };
        let provider = Arc::new(ring::default_provider());
        let loaded = files.load(&provider)?;
        let hints = loaded.clients.as_ref().map(|c| c.root_hint_subjects().to_vec());
        let hints = hints.unwrap_or_default();
        Ok(Some(Arc::new(Self { files, provider, loaded: ArcSwap::from_pointee(loaded), hints })))
    }

    /// Until when the certificate holds.
    pub fn until(&self) -> DateTime<Utc> {
        self.loaded.load().until
    }

    /// Whether senders are asked for certificates.
    pub fn asks_clients(&self) -> bool {
        self.loaded.load().clients.is_some()
    }

    /// How connections are taken.
    ///
    /// # Errors
    /// If the versions of TLS are not there, which cannot be.
    pub fn config(self: &Arc<Self>) -> Result<ServerConfig, TlsError> {
        let mut config = ServerConfig::builder_with_provider(Arc::clone(&self.provider))
            .with_safe_default_protocol_versions()
            .map_err(|e| TlsError::Certificate(e.to_string()))?
            .with_client_cert_verifier(Arc::clone(self) as Arc<dyn ClientCertVerifier>)
            .with_cert_resolver(Arc::clone(self) as Arc<dyn ResolvesServerCert>);
        if self.files.client_authorities.is_some() {
            // Whoever goes on with an earlier session would show its certificate to nobody.
            config.session_storage = Arc::new(NoServerSessionStorage {});
            config.send_tls13_tickets = 0;
        }
        Ok(config)
    }

    /// Looks at the files until the node stops.
    pub async fn watch(self: Arc<Self>, mut stopping: tokio::sync::watch::Receiver<bool>) {
        let mut failed = String::new();
        loop {
            tokio::select! {
                _ = stopping.changed() => return,
                () = tokio::time::sleep(LOOK) => {}
            }
            let own = Arc::clone(&self);
            let looked = tokio::task::spawn_blocking(move || own.look()).await;
            let Ok(looked) = looked else { continue };
            let now_failed = looked.as_ref().err().map(ToString::to_string).unwrap_or_default();
            if now_failed != failed && !now_failed.is_empty() {
                tracing::error!("TLS goes on with the certificate of before: {now_failed}");
            }
            if let Ok(true) = looked {
                let until = self.until().format("%Y-%m-%d");
                tracing::info!("TLS goes on with what its files hold now: valid until {until}");
            }
            failed = now_failed;
        }
    }

    /// Takes over what the files hold now; whether that is something else.
    fn look(&self) -> Result<bool, TlsError> {
        if self.files.read()?.digest() == self.loaded.load().digest {
            return Ok(false);
        }
        self.loaded.store(Arc::new(self.files.load(&self.provider)?));
        Ok(true)
    }
}

/// The contents of the files.
struct Contents {
    certificate: Vec<u8>,
    key: Vec<u8>,
    client_authorities: Option<Vec<u8>>,
}

impl Contents {
    fn digest(&self) -> [u8; 32] {
        let mut digest = Sha256::new();
        for part in [Some(&self.certificate), Some(&self.key), self.client_authorities.as_ref()] {
            let part = part.map(Vec::as_slice).unwrap_or_default();
            digest.update((part.len() as u64).to_be_bytes());
            digest.update(part);
        }
        digest.finalize().into()
    }
}

impl Files {
    fn read(&self) -> Result<Contents, TlsError> {
        Ok(Contents {
            certificate: read(&self.certificate)?,
            key: read(&self.key)?,
            client_authorities: self.client_authorities.as_deref().map(read).transpose()?,
        })
    }

    fn load(&self, provider: &Arc<CryptoProvider>) -> Result<Loaded, TlsError> {
        let contents = self.read()?;
        let chain = certificates(&contents.certificate)
            .ok_or_else(|| TlsError::Certificate("holds no certificate in PEM".to_owned()))?;
        let until = holds_until(&chain[0])
            .ok_or_else(|| TlsError::Certificate("is none (X.509)".to_owned()))?;
        let key = PrivateKeyDer::from_pem_slice(&contents.key)
            .map_err(|_| TlsError::Key("holds no private key in PEM without a password".into()))?;
        let certified = CertifiedKey::from_der(chain, key, provider).map_err(|e| match e {
            rustls::Error::InconsistentKeys(_) => {
                TlsError::Key("is not that of the certificate".to_owned())
            }
            e => TlsError::Key(format!("cannot be used: {e}")),
        })?;
        let clients = match &contents.client_authorities {
            None => None,
            Some(pem) => Some(verifier(pem, provider)?),
        };
        Ok(Loaded { certified: Arc::new(certified), clients, until, digest: contents.digest() })
    }
}

fn read(file: &Path) -> Result<Vec<u8>, TlsError> {
    let wrong = |reason: String| TlsError::File { file: file.display().to_string(), reason };
    let length = std::fs::metadata(file).map_err(|e| wrong(e.to_string()))?.len();
    if length > MAX_FILE {
        return Err(wrong(format!("has more than {MAX_FILE} bytes")));
    }
    std::fs::read(file).map_err(|e| wrong(e.to_string()))
}

/// All certificates of a text; none if one cannot be read, or there is none.
fn certificates(pem: &[u8]) -> Option<Vec<CertificateDer<'static>>> {
    let all: Vec<_> = CertificateDer::pem_slice_iter(pem).collect::<Result<_, _>>().ok()?;
    (!all.is_empty()).then_some(all)
}

/// Whoever shows a certificate shows one of these authorities; nobody has to.
fn verifier(
    pem: &[u8],
    provider: &Arc<CryptoProvider>,
) -> Result<Arc<dyn ClientCertVerifier>, TlsError> {
    let wrong = |why: String| TlsError::Authorities(why);
    let all = certificates(pem).ok_or_else(|| wrong("holds no certificate in PEM".into()))?;
    let mut roots = RootCertStore::empty();
    for one in all {
        roots.add(one).map_err(|e| wrong(format!("cannot be used: {e}")))?;
    }
    WebPkiClientVerifier::builder_with_provider(Arc::new(roots), Arc::clone(provider))
        .allow_unauthenticated()
        .build()
        .map_err(|e| wrong(format!("cannot be used: {e}")))
}

impl ResolvesServerCert for ServerTls {
    fn resolve(&self, _: ClientHello<'_>) -> Option<Arc<CertifiedKey>> {
        Some(Arc::clone(&self.loaded.load().certified))
    }
}

impl ClientCertVerifier for ServerTls {
    fn offer_client_auth(&self) -> bool {
        self.asks_clients()
    }

    fn client_auth_mandatory(&self) -> bool {
        false
    }

    fn root_hint_subjects(&self) -> &[DistinguishedName] {
        &self.hints
    }

    fn verify_client_cert(
        &self,
        end_entity: &CertificateDer<'_>,
        intermediates: &[CertificateDer<'_>],
        now: UnixTime,
    ) -> Result<ClientCertVerified, rustls::Error> {
        match &self.loaded.load().clients {
            Some(clients) => clients.verify_client_cert(end_entity, intermediates, now),
            None => Err(rustls::Error::General("no certificate was asked for".to_owned())),
        }
    }

    fn verify_tls12_signature(
        &self,
        message: &[u8],
        certificate: &CertificateDer<'_>,
        signed: &DigitallySignedStruct,
    ) -> Result<HandshakeSignatureValid, rustls::Error> {
        let algorithms = &self.provider.signature_verification_algorithms;
        rustls::crypto::verify_tls12_signature(message, certificate, signed, algorithms)
    }

    fn verify_tls13_signature(
        &self,
        message: &[u8],
        certificate: &CertificateDer<'_>,
        signed: &DigitallySignedStruct,
    ) -> Result<HandshakeSignatureValid, rustls::Error> {
        let algorithms = &self.provider.signature_verification_algorithms;
        rustls::crypto::verify_tls13_signature(message, certificate, signed, algorithms)
    }

    fn supported_verify_schemes(&self) -> Vec<SignatureScheme> {
        self.provider.signature_verification_algorithms.supported_schemes()
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rcgen::{CertificateParams, KeyPair};

    /// A certificate and its key, in files of a folder.
    fn pair(folder: &Path, name: &str) -> (PathBuf, PathBuf) {
        let key = KeyPair::generate().expect("a key");
        let params = CertificateParams::new([name.to_owned()]).expect("a name");
        let certificate = params.self_signed(&key).expect("a certificate");
        let [of_certificate, of_key] = ["certificate.pem", "key.pem"].map(|file| folder.join(file));
        std::fs::write(&of_certificate, certificate.pem()).expect("writes");
        std::fs::write(&of_key, key.serialize_pem()).expect("writes");
        (of_certificate, of_key)
    }

    fn settings((certificate, key): (PathBuf, PathBuf)) -> TlsSettings {
        TlsSettings { certificate: Some(certificate), key: Some(key), client_authorities: None }
    }

    fn shown(tls: &ServerTls) -> Vec<String> {
        ClientNames::of(Some(&tls.loaded.load().certified.cert)).0
    }

    #[test]
    fn files_that_were_renewed_count_and_those_that_cannot_be_used_change_nothing() {
        let folder = tempfile::tempdir().expect("a folder");
        let files = pair(folder.path(), "arvok.skerrow.example");
        let tls = ServerTls::open(&settings(files.clone())).expect("opens").expect("is spoken");
        assert_eq!(shown(&tls), ["arvok.skerrow.example"]);
        assert!(!tls.look().expect("looks"), "nothing has changed");
        pair(folder.path(), "Alarms.Skerrow.Example");
        assert!(tls.look().expect("looks"));
        assert_eq!(shown(&tls), ["alarms.skerrow.example"]);
        // A renewal that is half done: the key of before beside another certificate.
        let before = std::fs::read(&files.1).expect("reads");
        pair(folder.path(), "arvok.skerrow.example");
        std::fs::write(&files.1, before).expect("writes");
        let wrong = tls.look().expect_err("cannot be used").to_string();
        assert_eq!(wrong, "tls.key is not that of the certificate");
        assert_eq!(shown(&tls), ["alarms.skerrow.example"]);
    }

    #[test]
    fn what_is_wrong_is_said_with_the_setting_or_the_file() {
        let folder = tempfile::tempdir().expect("a folder");
        let files = pair(folder.path(), "arvok.skerrow.example");
        let (certificate, key) = files.clone();
        let said = |settings: TlsSettings| match ServerTls::open(&settings) {
            Ok(_) => "opens".to_owned(),
            Err(e) => e.to_string(),
        };
        assert!(ServerTls::open(&TlsSettings::default()).expect("opens").is_none());
        let swapped = settings((key.clone(), certificate.clone()));
        assert_eq!(said(swapped), "tls.certificate holds no certificate in PEM");
        let same = settings((certificate.clone(), certificate.clone()));
        assert_eq!(said(same), "tls.key holds no private key in PEM without a password");
        let authorities = TlsSettings { client_authorities: Some(key.clone()), ..settings(files) };
        assert_eq!(said(authorities), "tls.client_authorities holds no certificate in PEM");
        let gone = settings((folder.path().join("gone.pem"), key));
        assert!(said(gone).ends_with("gone.pem: No such file or directory (os error 2)"));
        let half = TlsSettings { certificate: Some(certificate), ..TlsSettings::default() };
        assert!(half.wrong().is_some_and(|why| why.contains("`key`")));
    }
}
