//! Syslog messages of both forms, read by the lines that stand for their format.

use super::*;
use proptest::prelude::*;

fn source() -> Source {
    of_format("{ syslog: { udp: '127.0.0.1:5514', zone: Europe/London } }").expect("checks")
}

fn message(source: &Source, raw: &[u8]) -> ReadOutcome {
    let properties = Map::from_iter([(PEER.to_owned(), json!("10.4.0.9"))]);
    let received = DateTime::parse_from_rfc3339("2026-07-01T12:00:00Z").expect("a time").to_utc();
    source.read(&Delivery {
        raw,
        properties: &properties,
        received,
        fallback_id: "d1",
        normal: false,
    })
}

#[test]
fn messages_of_both_forms_are_read() {
    let source = source();
    for (raw, line) in [
        (
            "<34>1 2026-07-01T10:14:15.003Z quill-db-1 postgres 812 ID47 [origin ip=\"10.4.0.9\"] \
            disk full",
            "syslog.postgres host/quill-db-1 critical noted 2026-07-01T10:14:15Z | disk full | \
            app=postgres facility=auth",
        ),
        // Neither year nor zone: those of the receiver and of the source.
        (
            "<13>Jul  1 11:59:58 brack-sw-2 kernel[0]: port ge-0/0/7 down",
            "syslog.kernel host/brack-sw-2 indeterminate noted 2026-07-01T10:59:58Z | port \
            ge-0/0/7 down | app=kernel facility=user",
        ),
        (
            "<11>Dec 31 23:00:00 brack-sw-2 kernel: of last year",
            "syslog.kernel host/brack-sw-2 major noted 2025-12-31T22:00:00Z | of last year | \
            app=kernel facility=user",
        ),
        // What is of neither form is a message all the same.
        (
            "it burns\n",
            "syslog.unnamed host/10.4.0.9 indeterminate noted 2026-07-01T12:00:00Z | it burns | \
            app= facility=user",
        ),
        (
            "<27>burning",
            "syslog.unnamed host/10.4.0.9 major noted 2026-07-01T12:00:00Z | burning | app= \
            facility=daemon",
        ),
        (
            "<28>1 - - - - - - \u{feff}nothing is known",
            "syslog.unnamed host/10.4.0.9 warning noted 2026-07-01T12:00:00Z | nothing is known | \
            app= facility=daemon",
        ),
    ] {
        assert_eq!(lines(&message(&source, raw.as_bytes())), [line]);
    }
    assert_eq!(lines(&message(&source, b" \n")), ["not read: is empty | all of it"]);
    let outcome = message(&source, b"<34>1 - h a - - [x@1 a=\"q\\\"b\\]\"][y] m\xffn\0o");
    assert_eq!(outcome.alerts[0].body["data"], json!({"x@1": {"a": "q\"b]"}, "y": {}}));
    assert_eq!(outcome.alerts[0].summary, "m\u{fffd}n\u{fffd}o");
}

#[test]
fn an_intake_says_what_is_wrong_with_it() {
    let wrong = |intake: &str| of_format(&format!("{{ syslog: {intake} }}")).expect_err("is wrong");
    for (intake, why) in [
        ("{ }", "says nowhere to listen"),
        ("{ udp: localhost }", "`localhost` is not an address and a port, such as 127.0.0.1:5514"),
        ("{ tcp: '0.0.0.0:514' }", "syslog has no other proof of its sender"),
        (
            "{ udp: '127.0.0.1:5514', from: [10.4.0.0/40] }",
            "`10.4.0.0/40` is not an address or a range",
        ),
        ("{ udp: '127.0.0.1:5514', zone: Here }", "is not a time zone"),
        ("{ udp: '127.0.0.1:5514', port: 5 }", "port"),
    ] {
        let said = wrong(intake);
        assert!(said.contains(why), "{intake}: {said}");
    }
    let both =
        of_format("{ syslog: { udp: '127.0.0.1:1' }, webhook: { } }").expect_err("one intake");
    assert!(both.contains("intake"), "{both}");
}

#[test]
fn messages_come_from_the_addresses_that_are_named() {
    let of = |intake: &str| {
        let source = of_format(&format!("{{ syslog: {intake} }}")).expect("checks");
        let Intake::Syslog(syslog) = source.intake else { panic!("is syslog") };
        move |peer: &str| syslog.admits(peer.parse().expect("an address"))
    };
    let own = of("{ udp: '127.0.0.1:5514' }");
    assert!(
        own("127.0.0.1")
            && own("127.9.9.9")
            && own("::1")
            && own("::ffff:127.0.0.1")
            && !own("10.4.0.1")
    );
    let some = of("{ udp: '0.0.0.0:5514', from: [10.4.0.0/16, 'fd00::/8', 10.5.0.7] }");
    assert!(
        some("10.4.255.1")
            && !some("10.5.0.1")
            && some("10.5.0.7")
            && some("fd12::1")
            && !some("127.0.0.1")
    );
    assert!(of("{ udp: '0.0.0.0:5514', from: [0.0.0.0/0] }")("203.0.113.9"));
}

proptest! {
    /// Whatever a sender sends becomes an alert, or is kept with a reason.
    #[test]
    fn nothing_that_is_sent_goes_missing(raw in prop_oneof![
        proptest::collection::vec(any::<u8>(), 0..200),
        r"<[0-9]{0,4}>[12]? ?[A-Za-z]{3} +[0-9]{1,2} [0-9]{1,2}:[0-9]{2}:[0-9]{2} \PC{0,40}".prop_map(String::into_bytes),
        r#"<[0-9]{1,3}>1 [0-9TZ:.+-]{0,30} \PC{0,9} \PC{0,9} - - (\[\PC{0,40}\]){0,3} \PC{0,20}"#.prop_map(String::into_bytes),
    ]) {
        let outcome = message(&source(), &raw);
        prop_assert_eq!(outcome.alerts.len() + outcome.unreadable.len(), 1);
        for alert in &outcome.alerts {
            prop_assert!(!alert.body.to_string().contains("\\u0000"));
        }
    }
}
