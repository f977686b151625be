//! Notifications of agents over SNMP.

use super::*;
use crate::connector::snmp::{ObjectId, SnmpValue};

const INTAKE: &str = "{ trap: { udp: '127.0.0.1:1162', \
    credentials: [{ community: \"${secret('pier')}\" }], objects: {\
    1.3.6.1.4.1.99999.0.7: { name: pumpBlocked }, \
    1.3.6.1.4.1.99999.1.1.2: { name: pumpState, values: { running: 1, blocked: 3 } } } } }";

fn id(number: &str) -> ObjectId {
    ObjectId::parse(number).expect("is a number")
}

fn read_notification(intake: &str, told: &SnmpNotification) -> Vec<String> {
    let source = of_format(intake).expect("is a source");
    let properties = Map::from_iter([(PEER.to_owned(), json!("10.4.0.9"))]);
    let raw = serde_json::to_vec(told).expect("is JSON");
    let delivery = Delivery {
        raw: &raw,
        properties: &properties,
        received: DateTime::UNIX_EPOCH,
        fallback_id: "d1",
        normal: false,
    };
    lines(&source.read(&delivery))
}

fn of_version_2(number: &str, objects: &[(&str, SnmpValue)]) -> SnmpNotification {
    let mut all = vec![
        (id("1.3.6.1.2.1.1.3.0"), SnmpValue::Unsigned(12_345)),
        (id("1.3.6.1.6.3.1.1.4.1.0"), SnmpValue::Reference(id(number))),
    ];
    all.extend(objects.iter().map(|(number, value)| (id(number), value.clone())));
    SnmpNotification::of_version_2(&all)
}

#[test]
fn a_notification_is_read_by_its_default_or_by_lines_of_its_own() {
    let link = [
        ("1.3.6.1.2.1.2.2.1.1.3", SnmpValue::Integer(3)),
        ("1.3.6.1.2.1.2.2.1.8.3", SnmpValue::Integer(2)),
        ("1.3.6.1.2.1.2.2.1.8.4", SnmpValue::Integer(1)),
        ("1.3.6.1.6.3.18.1.3.0", SnmpValue::Address([10, 4, 0, 17].into())),
    ];
    let told = of_version_2("1.3.6.1.6.3.1.1.5.3", &link);
    assert_eq!(
        read_notification(INTAKE, &told),
        ["trap.linkDown host/10.4.0.17 indeterminate noted 1970-01-01T00:00:00Z | \
          linkDown: ifIndex=3, ifOperStatus=down, ifOperStatus.4=up | version=2c"]
    );
    let own = format!(
        "{INTAKE}\nread:\n  kind: '\"link.down\"'\n  \
         resource: '\"switch/\" + slug(agent) + \"/\" + string(varbinds.ifIndex)'\n  \
         value: uptime\n  summary: 'varbinds.ifOperStatus + \" \" + \
         varbinds[\"ifOperStatus.4\"] + \" \" + objects[1].instance + \" \" + peer'\n"
    );
    assert_eq!(
        read_notification(&own, &told),
        ["link.down switch/10.4.0.17/3 indeterminate raised 1970-01-01T00:00:00Z | \
          down up 3 10.4.0.9 |"]
    );
}

#[test]
fn objects_have_the_names_and_words_that_the_source_gives_them() {
    let own = format!(
        "{INTAKE}\nread:\n  kind: name\n  resource: '\"pump/\" + objects[0].instance'\n  \
         state: '\"noted\"'\n  summary: 'varbinds.pumpState + \" \" + string(varbinds)'\n"
    );
    let told = of_version_2(
        "1.3.6.1.4.1.99999.0.7",
        &[
            ("1.3.6.1.4.1.99999.1.1.2.7", SnmpValue::Integer(3)),
            ("1.3.6.1.4.1.99999.5.1", SnmpValue::Bytes(vec![0, 255])),
        ],
    );
    assert_eq!(
        read_notification(&own, &told),
        ["pumpBlocked pump/7 indeterminate noted 1970-01-01T00:00:00Z | \
          blocked {\"pumpState\":\"blocked\",\"1.3.6.1.4.1.99999.5.1\":\"0x00ff\"} |"]
    );
    // What stands below a name that is known is another notification.
    let below = of_version_2("1.3.6.1.4.1.99999.0.7.1", &[]);
    assert!(read_notification(INTAKE, &below)[0].starts_with("trap.1.3.6.1.4.1.99999.0.7.1 "));
}

/// RFC 3584, section 3.1.
#[test]
fn what_version_1_tells_is_translated() {
    let told = |generic: i64, specific: i64| {
        let head = TrapHead {
            enterprise: id("1.3.6.1.4.1.99999"),
            agent: [10, 4, 0, 3].into(),
            generic,
            specific,
            uptime: 500,
        };
        SnmpNotification::of_version_1(&head, &[(id("1.3.6.1.2.1.1.5.0"), SnmpValue::None)])
    };
    let numbers = [(0, 0), (2, 0), (5, 9), (6, 7)]
        .map(|(generic, specific)| told(generic, specific).notification);
    assert_eq!(
        numbers,
        [
            "1.3.6.1.6.3.1.1.5.1",
            "1.3.6.1.6.3.1.1.5.3",
            "1.3.6.1.6.3.1.1.5.6",
            "1.3.6.1.4.1.99999.0.7"
        ]
    );
    let blocked = told(6, 7);
    assert_eq!(
        read_notification(INTAKE, &blocked),
        ["trap.pumpBlocked host/10.4.0.3 indeterminate noted 1970-01-01T00:00:00Z | \
          pumpBlocked: sysName=null | version=1"]
    );
    for (generic, specific) in [(7, 0), (-1, 0), (6, -1), (i64::MAX, 0)] {
        let said = read_notification(INTAKE, &told(generic, specific));
        assert!(said[0].contains("does not say which notification it is"), "{said:?}");
    }
}

#[test]
fn what_is_written_wrongly_is_refused() {
    for (intake, why) in [
        (
            "{ trap: { udp: here, credentials: [{ community: \"${secret('p')}\" }] } }",
            "`here` is not an address and a port",
        ),
        ("{ trap: { udp: '127.0.0.1:1162', credentials: [] } }", "has 0 entries; 1 to 16"),
        (
            "{ trap: { udp: '127.0.0.1:1162', credentials: [{ community: public }] } }",
            "a credential is not written out",
        ),
        (
            "{ trap: { udp: '127.0.0.1:1162', credentials: [{ user: x }] } }",
            "has a `community` alone, or a `user` with `authentication`",
        ),
        (
            "{ trap: { udp: '0.0.0.0:1162', credentials: [{ community: \"${secret('p')}\" }] } }",
            "everybody on the way can read a community",
        ),
        (
            "{ trap: { udp: '127.0.0.1:1162', credentials: [{ community: \"${secret('p')}\" }], \
           objects: { ifIndex: { name: x } } } }",
            "is not the number of an object",
        ),
        (
            "{ trap: { udp: '127.0.0.1:1162', credentials: [{ community: \"${secret('p')}\" }], \
           objects: { 1.3.6.1: { name: 'a b' } } } }",
            "`a b` is not a name",
        ),
    ] {
        let said = of_format(intake).expect_err(intake);
        assert!(said.contains(why), "{intake}: {said}");
    }
    let users = "{ trap: { udp: '0.0.0.0:1162', credentials: [{ user: x, authentication: { \
        by: sha-256, password: \"${secret('p')}\" } }] } }";
    let Intake::Trap(trap) = of_format(users).expect("is a source").intake else { panic!("trap") };
    assert!(trap.admits([203, 0, 113, 9].into()), "users prove themselves, wherever they are");
    let odd = read_notification(
        INTAKE,
        &SnmpNotification {
            objects: vec![(String::new(), json!(null)); 501],
            ..of_version_2("1.3", &[])
        },
    );
    assert!(odd[0].contains("has 501 objects; 500 are read"), "{odd:?}");
}
