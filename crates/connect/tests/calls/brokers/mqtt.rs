//! MQTT 5: mosquitto.

use super::{
    Fault, LONG, called, failed, faulty, folder, free_port, given, is_true, listens, none_is_open,
    output, watch,
};
use crate::{texts, tls::Authority};
use arvok_connect::{Drivers, Way};
use arvok_core::connector::{CallEnd, Opened};
use proptest::{prelude::*, test_runner::TestRunner};
use rumqttc::v5::{
    AsyncClient, Event, EventLoop, MqttOptions,
    mqttbytes::{
        QoS,
        v5::{Packet, Publish},
    },
};
use serde_json::json;
use std::{
    fs,
    process::{Child, Command, Stdio},
    time::Duration,
};

const GATE: &str = "{ takes: { gate: { type: string }, text: { default: open } }, mqtt: { topic: \
    'gates/${give.gate}/set', payload: '${give.text}', expires: 10m, content_type: text/plain, \
    properties: { of: '${give.gate}' } } }";

/// A broker that ends with the test. Whoever is `watch` may publish below `gates` and `kept`, `sees`
/// may read everything.
struct Mosquitto {
    child: Child,
    port: u16,
}

impl Mosquitto {
    async fn start(name: &str, more: &str) -> Self {
        let (folder, port) = (folder(name), free_port().await);
        let (passwords, rights) = (folder.join("passwords"), folder.join("rights"));
        for (user, password, new) in [("watch", "fog-horn-77", "-c"), ("sees", "all", "-b")] {
            let mut made = Command::new("mosquitto_passwd");
            made.args(["-b", new]).arg(&passwords).args([user, password]);
            assert!(made.status().expect("Debian has mosquitto").success());
        }
        fs::write(
            &rights,
            "user watch\ntopic write gates/#\ntopic write kept/#\nuser sees\ntopic read #\n",
        )
        .expect("writes");
        let config = format!(
            "listener {port} 127.0.0.1\nallow_anonymous false\npassword_file {}\nacl_file {}\n\
             user root\n{more}",
            passwords.display(),
            rights.display()
        );
        fs::write(folder.join("config"), config).expect("writes");
        let mut command = Command::new("/usr/sbin/mosquitto");
        command.arg("-c").arg(folder.join("config"));
        let child = command.stdout(Stdio::null()).stderr(Stdio::null()).spawn().expect("starts");
        listens(port).await;
        Self { child, port }
    }

    fn base(&self) -> String {
        format!("mqtt://127.0.0.1:{}", self.port)
    }

    /// Somebody who hears everything that is published.
    async fn listener(&self) -> Listener {
        let mut options = MqttOptions::new("sees", "127.0.0.1", self.port);
        options.set_credentials("sees", "all").set_max_packet_size(Some(1 << 20));
        let (client, events) = AsyncClient::new(options, 10);
        client.try_subscribe("#", QoS::AtLeastOnce).expect("asks");
        let mut listener = Listener { _client: client, events };
        listener.until(|packet| matches!(packet, Packet::SubAck(_))).await;
        listener
    }
}

impl Drop for Mosquitto {
    fn drop(&mut self) {
        let _ = self.child.kill();
        let _ = self.child.wait();
    }
}

struct Listener {
    _client: AsyncClient,
    events: EventLoop,
}

impl Listener {
    async fn until(&mut self, is_it: impl Fn(&Packet) -> bool) -> Packet {
        let looking = async {
            loop {
                if let Event::Incoming(packet) = self.events.poll().await.expect("listens")
                    && is_it(&packet)
                {
                    return packet;
                }
            }
        };
        tokio::time::timeout(LONG, looking).await.expect("in time")
    }

    /// What was published next.
    async fn heard(&mut self) -> Publish {
        match self.until(|packet| matches!(packet, Packet::Publish(_))).await {
            Packet::Publish(publish) => publish,
            _ => unreachable!("it waited for one"),
        }
    }
}

#[tokio::test]
async fn a_message_is_taken_as_it_was_written_and_what_came_of_it_is_known() {
    let broker = Mosquitto::start("mqtt", "max_packet_size 100000\n").await;
    let base = broker.base();
    let nobody = output(called(&base, LONG, GATE, json!({ "gate": "7" })).await);
    assert_eq!(nobody, json!({ "has_subscribers": false }));
    let mut listener = broker.listener().await;
    let done = called(&base, LONG, GATE, json!({ "gate": "7", "text": "it's ${open}\n" })).await;
    assert_eq!(done.answer.as_ref().map(|answer| answer.status), Some(0));
    assert_eq!(output(done), json!({ "has_subscribers": true }));
    let heard = listener.heard().await;
    assert_eq!(
        (&heard.topic[..], &heard.payload[..]),
        (&b"gates/7/set"[..], &b"it's ${open}\n"[..])
    );
    let properties = heard.properties.expect("it has some");
    assert_eq!(properties.content_type.as_deref(), Some("text/plain"));
    assert_eq!(properties.user_properties, [("of".to_owned(), "7".to_owned())]);
    assert!(properties.message_expiry_interval.is_some_and(|left| (590..=600).contains(&left)));

    // What is no text is JSON; who comes later is told what was kept.
    let kept = "{ mqtt: { topic: kept/state, payload: { open: true, by: [a, 1] }, retain: true } }";
    output(called(&base, LONG, kept, json!({})).await);
    listener.heard().await;
    let late = broker.listener().await.heard().await;
    assert_eq!(&late.payload[..], b"{\"open\":true,\"by\":[\"a\",1]}");

    // No other topic is reached by what is filled in.
    for gate in ["7/set", "#", "+", "a/../b", ""] {
        let refused = called(&base, LONG, GATE, json!({ "gate": gate })).await;
        match refused.called {
            Err(refused) => {
                assert_eq!((refused.end, refused.lasting), (CallEnd::NotSent, true), "{gate}");
                assert!(refused.message.contains("has a /, a + or a #"), "{refused:?}");
            }
            Ok(_) => assert_eq!(gate, "", "a level may be empty"),
        }
    }
    let other = GATE.replace("gates/", "doors/");
    let refused = failed(called(&base, LONG, &other, json!({ "gate": "7" })).await);
    assert_eq!((refused.end, refused.lasting), (CallEnd::Refused, true), "{refused:?}");
    assert!(refused.message.contains("0x87: not authorized"), "{refused:?}");
    let large = json!({ "gate": "7", "text": "x".repeat(200_000) });
    let refused = failed(called(&base, LONG, GATE, large).await);
    assert_eq!((refused.end, refused.lasting), (CallEnd::NotSent, true), "{refused:?}");
    let wrong = watch("fog-horn-78");
    let way = Way { credential: Some(&wrong), ..Way::to(&base, LONG) };
    let refused = failed(given(way, GATE, json!({ "gate": "7" })).await);
    assert_eq!((refused.end, refused.lasting), (CallEnd::NotSent, true), "{refused:?}");
    assert!(refused.message.contains("does not let us in") && !refused.message.contains("fog"));
    let drivers = Drivers::new().expect("drivers");
    assert!(drivers.probe(way).await.is_err());
    let right = watch("fog-horn-77");
    let probed = drivers.probe(Way { credential: Some(&right), ..way }).await;
    assert_eq!(probed.as_deref(), Ok("lets one in, and speaks MQTT 5"));
    let nobody = format!("mqtt://127.0.0.1:{}", free_port().await);
    let refused = failed(called(&nobody, LONG, GATE, json!({ "gate": "7" })).await);
    assert_eq!((refused.end, refused.lasting), (CallEnd::NotSent, false), "{refused:?}");
    let way = Way { credential: Some(&Opened::Bearer("t".into())), ..Way::to(&base, LONG) };
    let refused = failed(given(way, GATE, json!({ "gate": "7" })).await);
    assert!(refused.message.contains("is shown `basic`"), "{refused:?}");
}

#[tokio::test]
async fn tls_is_spoken_with_a_broker_that_can_be_trusted() {
    let (ours, strangers) = (Authority::new(), Authority::new());
    let (certificate, key) = ours.files("mosquitto", "127.0.0.1");
    let more = format!("certfile {certificate}\nkeyfile {key}\n");
    let broker = Mosquitto::start("mqtts", &more).await;
    let credential = watch("fog-horn-77");
    let ended = async |scheme: &str, authorities: Option<&str>| {
        let base = format!("{scheme}://127.0.0.1:{}", broker.port);
        let timeout = Duration::from_secs(5);
        let way = Way { credential: Some(&credential), authorities, ..Way::to(&base, timeout) };
        given(way, GATE, json!({ "gate": "7" })).await
    };
    assert!(ended("mqtts", Some(&ours.pem)).await.called.is_ok());
    for authorities in [None, Some(strangers.pem.as_str())] {
        let refused = failed(ended("mqtts", authorities).await);
        assert_eq!(refused.end, CallEnd::NotSent, "{refused:?}");
        assert!(refused.message.contains("certificate"), "{refused:?}");
    }
    assert_eq!(failed(ended("mqtt", None).await).end, CallEnd::NotSent);
}

#[test]
fn whatever_is_filled_in_reaches_a_broker_as_it_is_or_not_at_all() {
    let runtime = tokio::runtime::Runtime::new().expect("a runtime");
    let broker = runtime.block_on(Mosquitto::start("mqtt-texts", ""));
    let mut listener = runtime.block_on(broker.listener());
    let base = broker.base();
    let cases = ProptestConfig { cases: 100, ..ProptestConfig::default() };
    let mut runner = TestRunner::new(cases);
    let listening = std::cell::RefCell::new(&mut listener);
    let ended = runner.run(&(texts(), texts()), |(gate, text)| {
        let give = json!({ "gate": gate, "text": text });
        let ended = runtime.block_on(called(&base, LONG, GATE, give));
        // A payload that is text has no NUL.
        let text = text.replace('\0', "\u{fffd}");
        match ended.called {
            Ok(_) => {
                let heard = runtime.block_on(listening.borrow_mut().heard());
                let topic = format!("gates/{gate}/set");
                prop_assert_eq!(&heard.topic[..], topic.as_bytes());
                prop_assert_eq!(&heard.payload[..], text.as_bytes());
                let properties = heard.properties.unwrap_or_default().user_properties;
                prop_assert_eq!(properties, vec![("of".to_owned(), gate)]);
            }
            Err(failure) => {
                let message = format!("{failure:?}");
                // What no topic holds, and characters that the broker refuses (section 1.5.4).
                let is_left_out = |c: char| {
                    "/+#".contains(c)
                        || c.is_control()
                        || c as u32 & 0xfffe == 0xfffe
                        || ('\u{fdd0}'..='\u{fdef}').contains(&c)
                };
                prop_assert!(gate.contains(is_left_out), "{message}");
                prop_assert!(failure.end != CallEnd::Done, "{message}");
            }
        }
        Ok(())
    });
    ended.unwrap_or_else(|e| panic!("{e}"));
}

#[tokio::test(flavor = "multi_thread")]
async fn wherever_a_line_is_cut_stalls_or_lies_it_is_known_what_that_means() {
    let broker = Mosquitto::start("mqtt-faults", "").await;
    let mut listener = broker.listener().await;
    // From the broker come some 10 bytes when it lets us in, and 4 for a message.
    let places: Vec<(usize, usize)> = (0..18)
        .map(|bytes| (bytes, usize::MAX))
        .chain((0..160).step_by(8).map(|bytes| (usize::MAX, bytes)))
        .collect();
    let mut ends = std::collections::BTreeSet::new();
    let mut number = 0;
    for fault in [Fault::Cut, Fault::Stall, Fault::Flood] {
        for (from_broker, from_us) in &places {
            let (port, open) = faulty(broker.port, *from_broker, *from_us, fault).await;
            number += 1;
            let begun = std::time::Instant::now();
            let give = json!({ "gate": "7", "text": number.to_string() });
            let base = format!("mqtt://127.0.0.1:{port}");
            let ended = called(&base, Duration::from_millis(400), GATE, give).await.called;
            assert!(begun.elapsed() < Duration::from_secs(10), "{fault:?} {from_broker}");
            // Whether it is there, says one that comes behind it.
            let mark = json!({ "gate": "mark", "text": number.to_string() });
            output(called(&broker.base(), LONG, GATE, mark).await);
            let mut is_there = false;
            loop {
                let heard = listener.heard().await;
                match &heard.topic[..] {
                    b"gates/mark/set" => break,
                    _ => is_there = heard.payload[..] == *number.to_string().as_bytes(),
                }
            }
            let end = ended.err().map(|failure| failure.end);
            ends.insert(format!("{end:?}"));
            let told = format!("{fault:?} after {from_broker} and {from_us}: {end:?}, {is_there}");
            assert!(is_true(end, is_there), "{told}");
            none_is_open(&open).await;
        }
    }
    // On a machine that is very busy none may be done in time.
    assert!(ends.contains("Some(NotSent)") && ends.contains("Some(Unknown)"), "{ends:?}");
}
