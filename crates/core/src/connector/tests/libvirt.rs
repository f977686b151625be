//! Acts on hypervisors: how they are written, what they become, and what libvirt's answers mean.

use super::{check, give};
use crate::{
    connector::{
        CallEnd, Connection, Connector, Hiding, Planned,
        libvirt::{DomainState, LibvirtAct, LibvirtError, counted, progress, snapshot},
    },
    definition::Defined,
    document::parse_file,
};
use serde_json::{Value, json};

fn connector(act: &str) -> Connector {
    let text = format!(
        "connector: guests\noperations:\n  op:\n    takes: {{ vm: {{ default: quill-web-1 }}, n: {{ \
         default: 2 }} }}\n    libvirt: {{ domain: '${{give.vm}}', {act} }}\n"
    );
    check(&text).unwrap_or_else(|e| panic!("{e}"))
}

fn planned(act: &str, given: Value) -> Result<(String, LibvirtAct), String> {
    let connector = connector(act);
    let given = give(given);
    match connector.operations["op"].begin(&given, "k", None) {
        Ok(Planned::Libvirt(plan)) => {
            Ok((plan.domain().unwrap_or_default().to_owned(), plan.act().clone()))
        }
        Ok(other) => panic!("{other:?}"),
        Err(e) => Err(e.to_string()),
    }
}

#[test]
fn acts_are_planned_of_what_is_given_and_shown() {
    let (domain, act) = planned("memory: { mib: '${give.n}', at: now }", json!({})).expect("plans");
    assert_eq!(domain, "quill-web-1");
    assert!(matches!(act, LibvirtAct::Memory { mib: 2, at: Some(_) }), "{act:?}");
    let (_, act) =
        planned("disk: { name: vda, gib: '${give.n}' }", json!({ "n": 1.5 })).expect("plans");
    assert_eq!(act, LibvirtAct::Disk { name: "vda".into(), bytes: 3 << 29 });
    let shown = |act: &str| {
        let connector = connector(act);
        let operation = &connector.operations["op"];
        let shown = operation.request(&give(json!({})), "k").expect("plans");
        let body = shown.body.map(|body| body.to_string()).unwrap_or_default();
        format!("{} | {} | {} {body}", operation.line(), operation.only_looks(), shown.target)
    };
    let all = [
        "look: domain",
        "power: shutdown",
        "vcpus: { count: '${give.n}' }",
        "disk: { name: vda, gib: 4 }",
        "snapshot: { act: create, name: 'before-${give.n}' }",
        "migrate: { to: 'qemu+ssh://quill-hv-${give.n}/system' }",
        "cancel_migration: true",
    ];
    insta::assert_snapshot!(all.map(shown).join("\n"), @r#"
    libvirt ${give.vm}: look domain | true | quill-web-1: look domain 
    libvirt ${give.vm}: shutdown | false | quill-web-1: power shutdown 
    libvirt ${give.vm}: vcpus | false | quill-web-1: vcpus {"count":2}
    libvirt ${give.vm}: disk vda | false | quill-web-1: disk {"name":"vda","bytes":4294967296}
    libvirt ${give.vm}: snapshot create | false | quill-web-1: snapshot {"act":"create","name":"before-2"}
    libvirt ${give.vm}: migrate to qemu+ssh://quill-hv-${give.n}/system | false | quill-web-1: migrate {"to":"qemu+ssh://quill-hv-2/system","live":true,"copy_disks":false,"slow_down":true}
    libvirt ${give.vm}: cancel migration | false | quill-web-1: cancel migration
    "#);
}

#[test]
fn what_is_filled_in_is_a_name_or_a_number_and_adds_nothing_to_an_address() {
    let refuses =
        |act: &str, given: Value| planned(act, given.clone()).expect_err(&given.to_string());
    let whole = "memory: { mib: '${give.n}' }";
    for n in [json!(0), json!(-1), json!(1.5), json!("x"), json!(null), json!([1]), json!(1e30)] {
        let wrong = refuses(whole, json!({ "n": n }));
        assert!(wrong.contains("memory: mib is a whole number from 1 to"), "{n}: {wrong}");
    }
    assert!(planned(whole, json!({ "n": "1024" })).is_ok(), "text that is a number is one");
    for gib in [json!(-1), json!("much"), json!(1e30), json!(0)] {
        let wrong = refuses("disk: { name: vda, gib: '${give.n}' }", json!({ "n": gib }));
        assert!(wrong.contains("disk: gib is a number of GiB"), "{gib}: {wrong}");
    }
    for vm in ["", " ", "a\nb", "\u{7f}", "a\u{fffe}"] {
        assert!(refuses("look: domain", json!({ "vm": vm })).starts_with("domain "), "{vm:?}");
    }
    assert!(planned("look: domain", json!({ "vm": "x".repeat(256) })).is_err());
    let to = "migrate: { to: 'qemu+ssh://${give.vm}/system' }";
    assert!(planned(to, json!({ "vm": "quill-hv-2.example" })).is_ok());
    for vm in ["a/b", "a?socket=/x", "root@a", "a:22", "a#b", "a b", "%2f", "é", "[::1]"] {
        assert!(refuses(to, json!({ "vm": vm })).contains("migrate: to"), "{vm}");
    }
}

#[test]
fn what_is_written_wrong_is_told_with_its_place() {
    let wrong = |operation: &str| {
        let text = format!("connector: guests\noperations:\n  op:\n    {operation}\n");
        check(&text).expect_err("is wrong")
    };
    let all = [
        "libvirt: {}",
        "libvirt: { domain: a }",
        "libvirt: { domain: a, look: domain, power: start }",
        "libvirt: { look: domain }",
        "libvirt: { domain: a, look: domains }",
        "libvirt: { domain: a, power: explode }",
        "libvirt: { domain: a, memory: { gib: 4 } }",
        "libvirt: { domain: a, snapshot: { name: x } }",
        "libvirt: { domain: '${give.x}', power: start }",
        "libvirt: { domain: a, power: start }\n    repeat: keyed",
        "libvirt: { domain: a, power: start }\n    retry_on: [429]",
        "libvirt: { domain: a, look: domain }\n    output: response.memory",
    ];
    insta::assert_snapshot!(all.map(wrong).join("\n"), @"
    yard.yaml:4:14: has one of `look`, `power`, `memory`, `vcpus`, `disk`, `snapshot`, `migrate` and `cancel_migration`
        4 |     libvirt: {}
          |              ^
    yard.yaml:4:14: has one of `look`, `power`, `memory`, `vcpus`, `disk`, `snapshot`, `migrate` and `cancel_migration`
        4 |     libvirt: { domain: a }
          |              ^^
    yard.yaml:4:14: has one of `look`, `power`, `memory`, `vcpus`, `disk`, `snapshot`, `migrate` and `cancel_migration`
        4 |     libvirt: { domain: a, look: domain, power: start }
          |              ^^
    yard.yaml:4:14: is missing: the guest's name or its UUID
        4 |     libvirt: { look: domain }
          |              ^^
    yard.yaml:4:24: is of one guest; this look is at more
        4 |     libvirt: { domain: a, look: domains }
          |                        ^
    yard.yaml:4:34: unknown value `explode`; known here: start, shutdown, reboot, reset, off, suspend, resume
        4 |     libvirt: { domain: a, power: explode }
          |                                  ^^^^^^^
    yard.yaml:4:37: unknown key `gib`; did you mean `mib`?
        4 |     libvirt: { domain: a, memory: { gib: 4 } }
          |                                     ^^^
    yard.yaml:4:27: the key `act` is missing here
        4 |     libvirt: { domain: a, snapshot: { name: x } }
          |                           ^^^^^^^^
    yard.yaml:4:27: there is no field `x`; there are none here
        4 |     libvirt: { domain: '${give.x}', power: start }
          |                           ^^^^^^
    yard.yaml:5:13: is `keyed`, and no hypervisor knows a request by its key; write `never`, or `safe` where a second one does no harm
        5 |     repeat: keyed
          |             ^^^^^
    yard.yaml:5:15: belongs to a `request`
        5 |     retry_on: [429]
          |               ^
    yard.yaml:5:13: there is no field `memory`; known here: cpu_seconds, memory_mib, most_memory_mib, name, reason, state, uuid, vcpus
        5 |     output: response.memory
          |             ^^^^^^^^^^^^^^^
    ");
    let connection = |text: &str| {
        let document = &parse_file("c.yaml", &format!("connection: c\nconnector: guests\n{text}"))
            .expect("reads")[0];
        Connection::check(document).map_or_else(
            |problems| problems.iter().map(|p| format!("{}\n", p.message)).collect(),
            |_| "it is well\n".to_owned(),
        )
    };
    let all = [
        "base: libvirt://quill-hv-1.example/run/user/1000/libvirt/libvirt-sock\n",
        "base: libvirt://*\nhosts: ['*.example']\n",
        "base: libvirt://*/run/libvirt/virtqemud-sock\nhosts: ['*.example']\n",
        "base: libvirt://*/run/libvirt/virtqemud-sock\n",
        "base: libvirt://quill-hv-1.example\ncredential: { bearer: \"${secret('s')}\" }\n",
    ];
    insta::assert_snapshot!(all.map(connection).join(""), @"
    it is well
    it is well
    it is well
    is missing: `libvirt://*` is the machines that it lists
    a machine is shown `key`, a user's private key, or `basic`, a name and a password
    ");
}

#[test]
fn what_libvirt_says_is_read_as_words_lists_and_bytes() {
    assert_eq!(DomainState::of(3).reason(5), "io-error");
    assert_eq!((DomainState::of(5), DomainState::of(5).reason(4)), (DomainState::Off, "migrated"));
    assert_eq!(
        (DomainState::of(99), DomainState::of(1).reason(99)),
        (DomainState::None, "unknown")
    );
    let fields = [
        ("state.state", json!(1)),
        ("vcpu.current", json!(1)),
        ("vcpu.maximum", json!(2)),
        ("vcpu.0.time", json!(7)),
        ("vcpu.0.time.halted", json!(8)),
        ("net.count", json!(11)),
        ("net.10.name", json!("k")),
        ("net.2.rx.bytes", json!(5)),
        ("block.count", json!(0)),
    ];
    let fields = fields.into_iter().map(|(name, value)| (name.to_owned(), value)).collect();
    insta::assert_snapshot!(counted(fields), @r#"{"state":{"state":1},"vcpu":{"current":1,"maximum":2,"each":[{"time":{"value":7,"halted":8}}]},"net":[{"rx":{"bytes":5}},{"name":"k"}],"block":[]}"#);
    let fields = [
        ("data_total", json!(100 << 20)),
        ("data_remaining", json!(25 << 20)),
        ("time_elapsed", json!(1500)),
    ];
    let fields = fields.map(|(name, value)| (name.to_owned(), value));
    insta::assert_snapshot!(progress(2, &fields), @r#"{"is_going_on":true,"elapsed_seconds":1.5,"total_mib":100,"remaining_mib":25,"percent":75}"#);
    assert_eq!(progress(0, &[])["is_going_on"], false);
    let xml =
        b"<domainsnapshot><name>a</name><state>running</state><parent><name>b</name></parent>\
        <creationTime>1764400000</creationTime></domainsnapshot>";
    insta::assert_snapshot!(snapshot("a", xml), @r#"{"name":"a","state":"running","created":"2025-11-29T07:06:40Z","parent":"b"}"#);
    assert_eq!(snapshot("a", b"<!DOCTYPE x><x/>"), json!({ "name": "a" }), "no document types");
}

#[test]
fn errors_mean_no_for_now_or_for_good_or_that_nobody_knows() {
    let guests = connector("power: start");
    let given = give(json!({}));
    let hide = |text: &str| text.replace("sesame", "[secret]");
    let begun = guests.operations["op"].begin(&given, "k", None).expect("plans");
    let Planned::Libvirt(plan) = begun.hiding(Hiding(&hide)) else { panic!("through libvirt") };
    for (code, asked, end, lasting, message) in [
        (42, false, CallEnd::Refused, true, "has no guest `quill-web-1`"),
        (55, true, CallEnd::Refused, false, "says no: no sesame"),
        (88, true, CallEnd::Refused, true, "says no: no sesame"),
        (39, true, CallEnd::Unknown, false, "broke off: no sesame"),
        (39, false, CallEnd::Refused, false, "says no: no sesame"),
        (69, true, CallEnd::Done, true, "the guest was moved, but not all of it is in order"),
    ] {
        let error = LibvirtError { code, message: "no sesame".to_owned() };
        let failure = plan.failed(&error, asked);
        assert_eq!((failure.end, failure.lasting), (end, lasting), "{code}: {failure:?}");
        assert!(failure.message.starts_with(&message.replace("sesame", "[secret]")), "{failure:?}");
    }
}
