//! Lines over TLS to a server that wants to see a certificate, under an authority of its own.

use super::shown;
use arvok_core::connector::{CallEnd, Failure, Opened};
use rcgen::{BasicConstraints, CertificateParams, IsCa, Issuer, KeyPair};
use rustls::{
    RootCertStore, ServerConfig,
    crypto::ring,
    pki_types::{PrivateKeyDer, PrivatePkcs8KeyDer},
    server::WebPkiClientVerifier,
};
use serde_json::{Value, json};
use std::sync::Arc;
use tokio::{
    io::{AsyncReadExt, AsyncWriteExt},
    net::TcpListener,
};
use tokio_rustls::TlsAcceptor;

/// Somebody who signs certificates.
pub struct Authority {
    pub pem: String,
    issuer: Issuer<'static, KeyPair>,
}

impl Authority {
    pub fn new() -> Self {
        let mut params = CertificateParams::new(Vec::<String>::new()).expect("parameters");
        params.is_ca = IsCa::Ca(BasicConstraints::Unconstrained);
        let key = KeyPair::generate().expect("a key");
        let pem = params.self_signed(&key).expect("signs itself").pem();
        Self { pem, issuer: Issuer::new(params, key) }
    }

    /// A certificate for a name, and its key.
    fn certify(&self, name: &str) -> (rcgen::Certificate, KeyPair) {
        let key = KeyPair::generate().expect("a key");
        let params = CertificateParams::new(vec![name.to_owned()]).expect("parameters");
        (params.signed_by(&key, &self.issuer).expect("is signed"), key)
    }

    /// The files of a certificate for a name and of its key.
    pub fn files(&self, file: &str, name: &str) -> (String, String) {
        let (certificate, key) = self.certify(name);
        let folder = std::path::Path::new(env!("CARGO_TARGET_TMPDIR"));
        let [at, of_key] = ["pem", "key"].map(|kind| folder.join(format!("{file}.{kind}")));
        std::fs::write(&at, certificate.pem()).expect("writes");
        std::fs::write(&of_key, key.serialize_pem()).expect("writes");
        (at.display().to_string(), of_key.display().to_string())
    }

    /// The same as a credential: the certificate with its key, in PEM.
    pub fn credential(&self, name: &str) -> Opened {
        let (certificate, key) = self.certify(name);
        Opened::Certificate(format!("{}{}", certificate.pem(), key.serialize_pem()))
    }
}

/// A server under a name, certified by an authority, that serves whom that authority has certified;
/// its address.
pub async fn server(authority: &Authority, name: &str) -> String {
    let provider = Arc::new(ring::default_provider());
    let (certificate, key) = authority.certify(name);
    let mut roots = RootCertStore::empty();
    let pem = pem_to_der(&authority.pem);
    roots.add(pem.into()).expect("a root");
    let verifier =
        WebPkiClientVerifier::builder_with_provider(Arc::new(roots), Arc::clone(&provider)).build();
    let key = PrivateKeyDer::Pkcs8(PrivatePkcs8KeyDer::from(key.serialize_der()));
    let config = ServerConfig::builder_with_provider(provider)
        .with_safe_default_protocol_versions()
        .expect("versions")
        .with_client_cert_verifier(verifier.expect("a verifier"))
        .with_single_cert(vec![certificate.der().clone()], key)
        .expect("a certificate");
    let acceptor = TlsAcceptor::from(Arc::new(config));
    let listener = TcpListener::bind("127.0.0.1:0").await.expect("a port");
    let port = listener.local_addr().expect("an address").port();
    tokio::spawn(async move {
        while let Ok((socket, _)) = listener.accept().await {
            let acceptor = acceptor.clone();
            tokio::spawn(async move {
                let Ok(mut line) = acceptor.accept(socket).await else { return };
                let mut bytes = vec![0; 4 << 10];
                let _ = line.read(&mut bytes).await;
                let body = "{\"served\": true}";
                let head = format!(
                    "HTTP/1.1 200 OK\r\ncontent-length: {}\r\nconnection: close\r\n\r\n",
                    body.len()
                );
                let _ = line.write_all(format!("{head}{body}").as_bytes()).await;
                let _ = line.shutdown().await;
            });
        }
    });
    format!("https://127.0.0.1:{port}")
}

fn pem_to_der(pem: &str) -> Vec<u8> {
    use base64::{Engine, prelude::BASE64_STANDARD};
    let lines: String = pem.lines().filter(|line| !line.starts_with("-----")).collect();
    BASE64_STANDARD.decode(lines).expect("base64")
}

async fn call(
    base: &str,
    credential: &Opened,
    authorities: Option<&str>,
) -> Result<Value, Failure> {
    shown(base, "{ request: { method: POST, path: /x } }", credential, authorities).await
}

#[tokio::test]
async fn a_certificate_is_shown_to_a_server_under_an_authority_of_its_own() {
    let (ours, strangers) = (Authority::new(), Authority::new());
    let base = server(&ours, "127.0.0.1").await;
    let mine = ours.credential("arvok");
    assert_eq!(call(&base, &mine, Some(&ours.pem)).await, Ok(json!({ "served": true })));
    let both = format!("{}{}", strangers.pem, ours.pem);
    assert_eq!(
        call(&base, &mine, Some(&both)).await,
        Ok(json!({ "served": true })),
        "one of several authorities"
    );

    // Whom we do not trust gets nothing: no authority of our own, that of a stranger, a name that
    // is not the server's.
    let elsewhere = server(&ours, "yard.skerrow.example").await;
    for (base, authorities) in
        [(&base, None), (&base, Some(&strangers.pem)), (&elsewhere, Some(&ours.pem))]
    {
        let failure =
            call(base, &mine, authorities.map(String::as_str)).await.expect_err("nobody to trust");
        assert_eq!(failure.end, CallEnd::NotSent, "{failure:?}");
        assert!(failure.message.contains("certificate"), "{failure:?}");
    }

    // Who is not certified there is served nothing. In TLS 1.3 that is told after the request has
    // left (RFC 8446, section 4.4.2).
    for credential in [strangers.credential("arvok"), Opened::Bearer("a-token".into())] {
        let failure = call(&base, &credential, Some(&ours.pem)).await.expect_err("not served");
        assert!(matches!(failure.end, CallEnd::NotSent | CallEnd::Unknown), "{failure:?}");
        assert!(
            !failure.message.contains("a-token") && !failure.message.contains("KEY"),
            "{failure:?}"
        );
    }
}
