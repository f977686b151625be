//! Who a sender is, by the certificate that it has shown (RFC 5280, sections 4.1.2.6 and 4.2.1.6).

use chrono::{DateTime, Utc};
use rustls::pki_types::CertificateDer;
use std::net::IpAddr;
use x509_parser::prelude::{FromDer, GeneralName, X509Certificate};

/// The names in a certificate that was shown and holds: those of its subject alternative name; the
/// common name of its subject where it has none.
#[derive(Clone, Debug, Default)]
pub(crate) struct ClientNames(pub Vec<String>);

impl ClientNames {
    /// The names of the first certificate of a chain; none if there is no chain.
    pub fn of(chain: Option<&[CertificateDer<'_>]>) -> Self {
        let first = chain.and_then(|chain| chain.first());
        let parsed = first.and_then(|first| X509Certificate::from_der(first).ok());
        Self(parsed.map_or_else(Vec::new, |(_, certificate)| names(&certificate)))
    }
}

fn names(certificate: &X509Certificate<'_>) -> Vec<String> {
    let alternative = certificate.subject_alternative_name().ok().flatten();
    let named: Vec<String> = alternative
        .iter()
        .flat_map(|extension| &extension.value.general_names)
        .filter_map(|name| match name {
            GeneralName::DNSName(name) => Some(name.to_ascii_lowercase()),
            GeneralName::RFC822Name(name) | GeneralName::URI(name) => Some((*name).to_owned()),
            GeneralName::IPAddress(bytes) => match bytes.len() {
                4 => Some(IpAddr::from(<[u8; 4]>::try_from(*bytes).ok()?).to_string()),
                16 => Some(IpAddr::from(<[u8; 16]>::try_from(*bytes).ok()?).to_string()),
                _ => None,
            },
            _ => None,
        })
        .collect();
    match named.is_empty() {
        false => named,
        true => {
            let common = certificate.subject().iter_common_name();
            common.filter_map(|name| name.as_str().ok()).map(str::to_owned).collect()
        }
    }
}

/// Until when a certificate holds; none if it is none.
pub(crate) fn holds_until(der: &[u8]) -> Option<DateTime<Utc>> {
    let (_, certificate) = X509Certificate::from_der(der).ok()?;
    DateTime::from_timestamp(certificate.validity().not_after.timestamp(), 0)
}

#[cfg(test)]
mod tests {
    use super::*;
    use rcgen::{CertificateParams, DnType, KeyPair, SanType};

    fn made(change: impl Fn(&mut CertificateParams)) -> CertificateDer<'static> {
        let key = KeyPair::generate().expect("a key");
        let mut params = CertificateParams::default();
        change(&mut params);
        params.self_signed(&key).expect("a certificate").der().clone()
    }

    #[test]
    fn until_when_a_certificate_holds_is_read_out_of_it() {
        let certificate = made(|params| params.not_after = rcgen::date_time_ymd(2031, 5, 6));
        let until = holds_until(&certificate).expect("is read");
        assert_eq!(until.date_naive().to_string(), "2031-05-06");
        assert_eq!(holds_until(b"none"), None);
    }

    #[test]
    fn a_sender_has_its_alternative_names_and_without_any_its_common_name() {
        let names = |certificate: CertificateDer<'static>| ClientNames::of(Some(&[certificate])).0;
        let common = |params: &mut CertificateParams| {
            params.distinguished_name.push(DnType::CommonName, "pump-1");
        };
        assert_eq!(names(made(common)), ["pump-1"]);
        let both = made(|params| {
            common(params);
            params.subject_alt_names = vec![
                SanType::DnsName("Pump-1.Skerrow.Example".try_into().expect("a name")),
                SanType::URI("spiffe://skerrow/pump-1".try_into().expect("a name")),
                SanType::IpAddress(IpAddr::from([10, 4, 0, 1])),
            ];
        });
        assert_eq!(
            names(both),
            ["pump-1.skerrow.example", "spiffe://skerrow/pump-1", "10.4.0.1"],
            "the common name is nobody's where there are others"
        );
        assert!(ClientNames::of(None).0.is_empty());
        assert!(names(CertificateDer::from(vec![1, 2, 3])).is_empty());
    }
}
