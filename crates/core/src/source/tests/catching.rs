//! Sources that do not say yet how their messages are read.

use super::*;

/// What came of a body: how many alerts, and what of it was kept and why.
fn came(source: &Source, raw: &[u8]) -> (usize, Vec<(bool, String)>) {
    let outcome = source.read(&Delivery {
        raw,
        properties: &Map::new(),
        received: DateTime::UNIX_EPOCH,
        fallback_id: "d1",
        normal: false,
    });
    let kept = outcome.unreadable.into_iter().map(|u| (u.caught, u.reason)).collect();
    (outcome.alerts.len(), kept)
}

#[test]
fn whatever_comes_is_caught_until_lines_say_how_it_is_read() {
    let source = source("").expect("checks");
    assert!(source.is_catching());
    for (body, why) in [
        (r#"{ "host": "kiosk-1", "level": "hard" }"#, "is not in the normal form"),
        (r#"[{ "host": "kiosk-1" }]"#, "is not in the normal form"),
        (r#"{ "kind": "Event", "message": "Back-off" }"#, "is not in the normal form"),
        ("{}", "is not in the normal form"),
        ("7", "is not in the normal form"),
        ("host=kiosk-1", "is not JSON"),
        ("\u{0}\u{1}", "is not JSON"),
        ("", "is not JSON"),
    ] {
        let (alerts, kept) = came(&source, body.as_bytes());
        let [(caught, reason)] = &kept[..] else { panic!("{body}: {kept:?}") };
        assert!(alerts == 0 && *caught && reason.starts_with(why), "{body}: {kept:?}");
        assert!(reason.ends_with("kept until `read` says what an alert is made of"), "{reason}");
    }
}

#[test]
fn what_is_meant_to_be_in_the_normal_form_is_not_caught() {
    let source = source("").expect("checks");
    assert_eq!(came(&source, br#"{ "kind": "disk.usage", "resource": "vm/a" }"#), (1, Vec::new()));
    for (body, why) in [
        (r#"{ "kind": "disk.usage", "severity": "major" }"#, "resource"),
        (r#"{ "kind": "disk.usage", "resource": "vm/a", "hots": 1 }"#, "hots"),
        (r#"[{ "kind": "disk.usage", "resource": "nothing" }]"#, "resource"),
    ] {
        let (alerts, kept) = came(&source, body.as_bytes());
        let [(caught, reason)] = &kept[..] else { panic!("{body}: {kept:?}") };
        assert!(alerts == 0 && !caught && reason.contains(why), "{body}: {kept:?}");
    }
}

#[test]
fn a_source_with_lines_or_an_open_format_catches_nothing() {
    let own = source("read: { kind: body.kind, resource: body.host }\n").expect("checks");
    let syslog = of_format("{ syslog: { udp: '127.0.0.1:5514', from: [127.0.0.1] } }");
    let event = of_format("{ cloudevents: { credential: { bearer: \"${secret('x')}\" } } }");
    for source in [own, syslog.expect("checks"), event.expect("checks")] {
        assert!(!source.is_catching());
        let (_, kept) = came(&source, b"{ \"x\": 1 }");
        assert!(kept.iter().all(|(caught, _)| !caught), "{kept:?}");
    }
}

#[test]
fn masks_are_paths_of_fields() {
    let masked = |mask: &str| source(&format!("mask: {mask}\n"));
    masked("[body.customer, 'labels.owner', 'body.items[].name']").expect("checks");
    insta::assert_snapshot!(masked("[customer]").expect_err("refused"), @r"
    pier.yaml:3:8: is the path of a field, such as `body.customer.name` or `labels.site`
        3 | mask: [customer]
          |        ^^^^^^^^
    ");
}
