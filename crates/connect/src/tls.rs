//! TLS as a client speaks it (RFC 8446): what servers are trusted by.

use rustls::{
    ClientConfig, RootCertStore,
    pki_types::{CertificateDer, pem::PemObject},
};
use rustls_platform_verifier::BuilderVerifierExt;
use std::{net::IpAddr, sync::Arc};

/// Whether a host, as an address names it, is this machine: nobody is on the way there, so that
/// what goes there may go without TLS.
pub(crate) fn is_on_this_machine(host: &str) -> bool {
    host == "localhost" || host.parse::<IpAddr>().is_ok_and(|address| address.is_loopback())
}

/// How TLS is spoken: trusting what the system knows, or these authorities.
pub(crate) fn client(authorities: Option<&str>) -> Result<Arc<ClientConfig>, String> {
    let provider = Arc::new(rustls::crypto::ring::default_provider());
    let wrong = |e: &dyn std::fmt::Display| format!("no TLS can be spoken: {e}");
    let builder = ClientConfig::builder_with_provider(provider)
        .with_safe_default_protocol_versions()
        .map_err(|e| wrong(&e))?;
    let config = match authorities {
        None => builder.with_platform_verifier().map_err(|e| wrong(&e))?.with_no_client_auth(),
        Some(pem) => {
            let mut roots = RootCertStore::empty();
            let all = CertificateDer::pem_slice_iter(pem.as_bytes()).filter_map(Result::ok);
            if roots.add_parsable_certificates(all).0 == 0 {
                return Err("`authorities` holds no certificate in PEM".into());
            }
            builder.with_root_certificates(roots).with_no_client_auth()
        }
    };
    Ok(Arc::new(config))
}
