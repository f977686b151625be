//! Any bytes as a packet of SNMP: what a sender who knows the community tells is read or kept, and
//! nobody is taken for a user.
#![no_main]

use arvok_connect::{ReceivedPacket, TrapReceiver};
use arvok_core::{
    connector::{AgentCipher, AgentCredential, AgentDigest},
    definition::Defined,
    document::parse_file,
    source::{Delivery, Source},
};
use libfuzzer_sys::fuzz_target;
use serde_json::Map;
use std::{net::Ipv4Addr, sync::LazyLock};

static RECEIVER: LazyLock<TrapReceiver> = LazyLock::new(|| {
    let user = AgentCredential::User {
        user: "pump".to_owned(),
        authentication: (AgentDigest::Sha256, "long enough".to_owned()),
        privacy: Some((AgentCipher::Aes128, "private enough".to_owned())),
    };
    let pier = AgentCredential::Community("pier".to_owned());
    TrapReceiver::new(&[user, pier]).expect("there is randomness")
});

static SOURCE: LazyLock<Source> = LazyLock::new(|| {
    let text = "source: fuzz\nintake: { trap: { udp: '127.0.0.1:1162', credentials: [{ \
        community: \"${secret('p')}\" }] } }\n";
    let documents = parse_file("fuzz.yaml", text).expect("is YAML");
    Source::check(&documents[0]).expect("is a source")
});

fuzz_target!(|packet: &[u8]| {
    let received = RECEIVER.receive(packet, Ipv4Addr::LOCALHOST.into());
    let ReceivedPacket::Notification { raw, .. } = received else { return };
    let outcome = SOURCE.read(&Delivery {
        raw: &raw,
        properties: &Map::new(),
        received: chrono::DateTime::from_timestamp(1_790_000_000, 0).expect("a time"),
        fallback_id: "1",
        normal: false,
    });
    assert_eq!(outcome.alerts.len() + outcome.unreadable.len(), 1);
});
