//! What Debian's `snmptrap` has sent, and what is made of it.

use super::*;
use proptest::prelude::*;
use serde_json::{Value, json};

/// What it has sent, with which the fuzzer begins as well.
macro_rules! sent {
    ($name:literal) => {
        include_bytes!(concat!("../../../../fuzz/seeds/notifications/", $name)).as_slice()
    };
}
const VERSION_1: &[u8] = sent!("1");
const VERSION_2: &[u8] = sent!("2");
const AES: &[u8] = sent!("3");
const DES: &[u8] = sent!("4");
const AES_256: &[u8] = sent!("5");

const PEER: IpAddr = IpAddr::V4(std::net::Ipv4Addr::LOCALHOST);

fn user(digest: AgentDigest, cipher: AgentCipher) -> AgentCredential<String> {
    AgentCredential::User {
        user: "pump".to_owned(),
        authentication: (digest, "long enough".to_owned()),
        privacy: Some((cipher, "private enough".to_owned())),
    }
}

fn receiver(credential: AgentCredential<String>) -> TrapReceiver {
    TrapReceiver::new(&[credential]).expect("there is randomness")
}

fn community(name: &str) -> TrapReceiver {
    receiver(AgentCredential::Community(name.to_owned()))
}

fn notification(receiver: &TrapReceiver, packet: &[u8]) -> Value {
    match receiver.receive(packet, PEER) {
        ReceivedPacket::Notification { raw, .. } => serde_json::from_slice(&raw).expect("is JSON"),
        other => panic!("{other:?}"),
    }
}

fn why(receiver: &TrapReceiver, packet: &[u8]) -> String {
    match receiver.receive(packet, PEER) {
        ReceivedPacket::Refused { why, answer: None } => why,
        other => panic!("{other:?}"),
    }
}

#[test]
fn traps_of_each_version_are_read() {
    let pier = community("pier");
    assert_eq!(
        notification(&pier, VERSION_1),
        json!({ "version": "1", "notification": "1.3.6.1.4.1.99999.0.7", "uptime": 500,
            "agent": "10.4.0.3", "objects": [["1.3.6.1.2.1.1.5.0", "pump"]] })
    );
    let objects = json!([["1.3.6.1.2.1.2.2.1.1.3", 3]]);
    assert_eq!(
        notification(&pier, VERSION_2),
        json!({ "version": "2c", "notification": "1.3.6.1.6.3.1.1.5.3", "uptime": 500,
            "objects": objects })
    );
    let aes = receiver(user(AgentDigest::Sha256, AgentCipher::Aes128));
    assert_eq!(
        notification(&aes, AES),
        json!({ "version": "3", "user": "pump", "engine": "8000000001020304",
            "notification": "1.3.6.1.6.3.1.1.5.3", "uptime": 500, "objects": objects })
    );
    for (packet, cipher) in [(DES, AgentCipher::Des), (AES_256, AgentCipher::Aes256)] {
        let told = notification(&receiver(user(AgentDigest::Sha1, cipher)), packet);
        assert_eq!(told["notification"], "1.3.6.1.6.3.1.1.5.3", "{cipher:?}");
    }
}

#[test]
fn whoever_has_not_proved_himself_is_refused_with_the_reason() {
    assert_eq!(why(&community("other"), VERSION_2), "its community is none of this source's");
    assert_eq!(why(&community("pier"), AES), "its user `pump` is none of this source's");
    let aes = receiver(user(AgentDigest::Sha256, AgentCipher::Aes128));
    assert_eq!(why(&aes, VERSION_2), "its community is none of this source's");
    let mut changed = AES.to_vec();
    *changed.last_mut().expect("has bytes") ^= 1;
    assert_eq!(why(&aes, &changed), "its digest is not made with the password of user `pump`");
    let plain = AgentCredential::User {
        user: "pump".to_owned(),
        authentication: (AgentDigest::Sha256, "long enough".to_owned()),
        privacy: None,
    };
    assert_eq!(why(&receiver(plain), AES), "user `pump` has authentication and no privacy");
    let other = AgentCredential::User {
        user: "pump".to_owned(),
        authentication: (AgentDigest::Sha256, "long enough".to_owned()),
        privacy: Some((AgentCipher::Aes128, "another one".to_owned())),
    };
    let said = why(&receiver(other), AES);
    assert!(said.contains("is its privacy password another?"), "{said}");
    let said = why(&aes, b"\x30\x03nothing");
    assert!(said.starts_with("it is no message of SNMP"), "{said}");
    assert!(why(&aes, &vec![0; LONGEST + 1]).starts_with("it has 60001 bytes"));
}

#[test]
fn what_was_sent_long_ago_is_refused() {
    let aes = receiver(user(AgentDigest::Sha256, AgentCipher::Aes128));
    notification(&aes, AES);
    notification(&aes, AES);
    let later = EngineClock { boots: 2, time: 0, at: Instant::now() };
    let engine = vec![0x80, 0, 0, 0, 1, 2, 3, 4];
    aes.clocks.lock().expect("is held by nobody").insert(engine, later);
    let said = why(&aes, AES);
    assert!(said.starts_with("its clock is behind (boots 1, "), "{said}");
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(200))]

    /// Whatever comes, there is an answer, and nothing that was changed is believed.
    #[test]
    fn a_changed_packet_is_never_taken_for_a_user(
        at in any::<prop::sample::Index>(), byte in any::<u8>(), cut in any::<prop::sample::Index>())
    {
        let aes = receiver_of_test();
        for whole in [VERSION_1, VERSION_2, AES] {
            let mut changed = whole.to_vec();
            let at = at.index(changed.len());
            changed[at] = byte;
            let is_changed = changed != whole;
            if let ReceivedPacket::Notification { .. } = aes.receive(&changed, PEER) {
                // The digest is made over all of it.
                prop_assert!(whole != AES || !is_changed, "byte {at} is {byte}");
            }
            let _ = aes.receive(&whole[..cut.index(whole.len())], PEER);
        }
    }
}

/// Making keys takes long: one for all.
fn receiver_of_test() -> &'static TrapReceiver {
    static ONE: std::sync::OnceLock<TrapReceiver> = std::sync::OnceLock::new();
    ONE.get_or_init(|| {
        let pier = AgentCredential::Community("pier".to_owned());
        let both = [user(AgentDigest::Sha256, AgentCipher::Aes128), pier];
        TrapReceiver::new(&both).expect("there is randomness")
    })
}
