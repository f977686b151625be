//! Senders that prove themselves by certificates.

use super::*;

#[test]
fn a_sender_is_known_by_a_name_of_its_certificate_and_by_no_part_of_one() {
    let by = "{ webhook: { credential: { certificate: '*.pumps.skerrow.example' } } }";
    let source = of_format(by).expect("is a source");
    let known = |names: &[&str]| {
        let names: Vec<String> = names.iter().map(|name| (*name).to_owned()).collect();
        webhook(&source).knows_certificate(&names)
    };
    assert!(known(&["pump-1.pumps.skerrow.example"]));
    assert!(known(&["other", "pump-1.pumps.skerrow.example"]), "one of several");
    assert!(!known(&["pump-1.pumps.skerrow.example.org"]) && !known(&[]));
    let several = "{ webhook: { credential: { certificate: a, bearer: \"${secret('pier')}\" } } }";
    let said = of_format(several).expect_err("is wrong");
    assert!(said.contains("is one of"), "{said}");
}

#[test]
fn syslog_over_tls_is_open_to_whoever_has_the_certificate() {
    let known = |source: &Source, name: &str| match &source.intake {
        Intake::Syslog(syslog) => syslog.knows_certificate(&[name.to_owned()]),
        _ => false,
    };
    let from = |source: &Source, peer: &str| match &source.intake {
        Intake::Syslog(syslog) => {
            let peer = peer.parse().expect("an address");
            (syslog.admits(peer), syslog.admits_over_tls(peer))
        }
        _ => (false, false),
    };
    let by = "{ syslog: { tls: '0.0.0.0:6514', certificate: '*.pumps.skerrow.example' } }";
    let proved = of_format(by).expect("is a source");
    assert!(known(&proved, "pump-1.pumps.skerrow.example"));
    assert!(
        !known(&proved, "pumps.skerrow.example") && !known(&proved, "x.pumps.skerrow.example.org")
    );
    assert_eq!(from(&proved, "10.4.0.1"), (false, true), "its certificate proves it");
    let narrow = of_format(&by.replace("certificate:", "from: [10.4.0.0/16], certificate:"));
    let narrow = narrow.expect("is a source");
    assert_eq!(from(&narrow, "10.4.0.1"), (true, true));
    assert_eq!(from(&narrow, "10.5.0.1"), (false, false));
    let wrong = |intake: &str| of_format(intake).expect_err("is wrong");
    let said = wrong("{ syslog: { tls: '0.0.0.0:6514' } }");
    assert!(said.contains("syslog has no other proof of its sender"), "{said}");
    let said = wrong("{ syslog: { udp: '127.0.0.1:514', certificate: pump-1 } }");
    assert!(said.contains("is for senders over TLS"), "{said}");
}
