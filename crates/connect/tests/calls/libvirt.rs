//! Hypervisors through libvirt: a real libvirtd behind sshd with its test driver and with QEMU, and
//! sockets that misbehave.

use crate::ssh::{LONG, Reached, failure, machine, output, perform};
use arvok_connect::{Drivers, TrustedKeys, Way};
use arvok_core::connector::{CallEnd, Opened};
use arvok_standins::{
    hypervisor::{GuestsIn, Hypervisor},
    machine::Machine,
};
use serde_json::{Value, json};
use std::{
    fs,
    process::Command,
    time::{Duration, Instant},
};
use tokio::{
    io::{AsyncReadExt, AsyncWriteExt},
    net::{UnixListener, UnixStream},
};

fn hypervisor(name: &str, guests: GuestsIn) -> Hypervisor {
    Hypervisor::scratch(name, guests).unwrap_or_else(|e| panic!("{e}"))
}

/// How a hypervisor is reached.
struct Reach {
    base: String,
    trusted: TrustedKeys,
    credential: Opened,
}

impl Reach {
    fn of(base: String, machine: &Machine) -> Self {
        Self { base, trusted: machine.trusted(), credential: machine.credential() }
    }

    fn way(&self, timeout: Duration) -> Way<'_> {
        Way {
            credential: Some(&self.credential),
            trusted: Some(&self.trusted),
            ..Way::to(&self.base, timeout)
        }
    }
}

/// An act on the guest that is given.
fn act(act: &str) -> String {
    format!("    libvirt: {{ domain: '${{give.x}}', {act} }}\n")
}

/// No session is left open.
async fn nobody_stays(host: &Hypervisor) {
    let begun = Instant::now();
    while host.sessions().expect("is told") > 0 {
        assert!(begun.elapsed() < LONG, "{} sessions are left", host.sessions().expect("is told"));
        tokio::time::sleep(Duration::from_millis(20)).await;
    }
}

const DOMAINS: &str = "    libvirt: { look: domains }\n";

#[tokio::test(flavor = "multi_thread")]
async fn guests_are_looked_at_started_stopped_and_resized() {
    let host = hypervisor("libvirt-acts", GuestsIn::TestDriver);
    let reach = Reach::of(host.base(), &host.machine);
    let (way, drivers) = (reach.way(LONG), Drivers::new().expect("drivers"));
    let said = drivers.probe(way).await.expect("lets us in");
    assert!(said.contains("lets us in"), "{said}");

    let all = output(&drivers, way, DOMAINS, json!("")).await;
    let named: Vec<(&str, &str)> = all["domains"]
        .as_array()
        .expect("a list")
        .iter()
        .map(|one| (one["name"].as_str().expect("a name"), one["state"].as_str().expect("one")))
        .collect();
    let expected =
        [("quill-batch-1", "off"), ("quill-web-1", "running"), ("quill-web-2", "running")];
    assert_eq!(named, expected);

    let run = async |what: &str| output(&drivers, way, &act(what), json!("quill-web-1")).await;
    let seen = run("look: domain").await;
    assert_eq!((&seen["state"], &seen["reason"]), (&json!("running"), &json!("booted")), "{seen}");
    assert_eq!((&seen["memory_mib"], &seen["most_memory_mib"]), (&json!(48), &json!(96)));
    // By its UUID as well.
    let uuid = seen["uuid"].clone();
    assert_eq!(output(&drivers, way, &act("look: domain"), uuid).await["name"], "quill-web-1");

    // What is there already is left alone.
    assert_eq!(run("power: start").await["changed"], false);
    for (power, state, again) in [
        ("suspend", "paused", false),
        ("resume", "running", false),
        ("shutdown", "off", false),
        ("start", "running", false),
        ("off", "off", false),
    ] {
        let came = run(&format!("power: {power}")).await;
        assert_eq!((&came["changed"], &came["state"]), (&json!(true), &json!(state)), "{power}");
        assert_eq!(run(&format!("power: {power}")).await["changed"], again, "{power}");
    }

    // Off, it can be made larger than it could be before.
    let grown = run("memory: { mib: 128 }").await;
    assert_eq!((&grown["memory_mib"], &grown["most_memory_mib"]), (&json!(128), &json!(128)));
    assert_eq!(run("vcpus: { count: 4 }").await["vcpus"], 4);
    assert_eq!(run("power: start").await["state"], "running");
    assert_eq!(run("memory: { mib: 64, at: now }").await["memory_mib"], 64);
    let definition = run("look: definition").await;
    assert_eq!(definition["devices"]["disk"][0]["target"]["@dev"], "vda", "{definition}");

    for (what, name) in [("create", "before"), ("create", "before"), ("create", "after")] {
        run(&format!("snapshot: {{ act: {what}, name: {name}, description: 'a < b' }}")).await;
    }
    let kept = run("look: snapshots").await["snapshots"].clone();
    let names: Vec<&Value> = kept.as_array().expect("a list").iter().map(|s| &s["name"]).collect();
    assert_eq!(names, ["after", "before"], "{kept}");
    assert_eq!(kept[1]["description"], "a < b", "{kept}");
    assert_eq!(run("snapshot: { act: revert, name: before }").await["changed"], true);
    for changed in [true, false] {
        assert_eq!(run("snapshot: { act: delete, name: before }").await["changed"], changed);
    }
    let host_seen = output(&drivers, way, "    libvirt: { look: host }\n", json!("")).await;
    assert!(host_seen["processors"].as_u64() > Some(0), "{host_seen}");
    nobody_stays(&host).await;
}

#[tokio::test(flavor = "multi_thread")]
async fn what_a_hypervisor_refuses_says_why_and_what_was_done() {
    let host = hypervisor("libvirt-refuses", GuestsIn::TestDriver);
    let reach = Reach::of(host.base(), &host.machine);
    let (way, drivers) = (reach.way(LONG), Drivers::new().expect("drivers"));
    let fails = async |what: &str, x: &str| failure(&drivers, way, &act(what), json!(x)).await;
    let cases = [
        ("power: start", "quill-web-9", CallEnd::Refused, true, "quill-web-9"),
        ("memory: { mib: 100000, at: now }", "quill-web-1", CallEnd::Refused, true, "max memory"),
        ("snapshot: { act: revert, name: none }", "quill-web-1", CallEnd::Refused, true, "none"),
        ("disk: { name: vda, gib: 2000 }", "quill-web-1", CallEnd::Refused, true, "not supported"),
        ("disk: { name: vda, gib: 4 }", "quill-web-1", CallEnd::Refused, true, "not made smaller"),
        ("memory: { mib: '${give.x}' }", "0", CallEnd::NotSent, true, "whole number"),
        ("vcpus: { count: 1.5 }", "quill-web-1", CallEnd::NotSent, true, "whole number"),
        ("look: domain", "a\nb", CallEnd::NotSent, true, "no name may hold"),
        ("look: domain", "a\u{fffe}", CallEnd::NotSent, true, "no name may hold"),
        ("look: domain", " ", CallEnd::NotSent, true, "is empty"),
    ];
    for (what, x, end, lasting, words) in cases {
        let why = fails(what, x).await;
        assert_eq!((why.end, why.lasting), (end, lasting), "{what}: {why:?}");
        assert!(why.message.contains(words), "{what}: {why:?}");
    }
    // Whatever is filled in is a name, and nothing else.
    for nasty in ["<a/>", "'", "--all", "$(id)", "../x", "é€😀"] {
        let why = fails("power: off", nasty).await;
        assert_eq!(why.end, CallEnd::Refused, "{nasty}: {why:?}");
        let named = format!("snapshot: {{ act: create, name: \"{}\" }}", nasty.replace('"', ""));
        let made = output(&drivers, way, &act(&named), json!("quill-web-2")).await;
        assert_eq!(made["changed"], true, "{nasty}");
        let kept = output(&drivers, way, &act("look: snapshots"), json!("quill-web-2")).await;
        assert_eq!(kept["snapshots"][0]["name"], nasty);
        let gone = named.replace("create", "delete");
        output(&drivers, way, &act(&gone), json!("quill-web-2")).await;
    }
    let all = output(&drivers, way, DOMAINS, json!("")).await;
    assert_eq!(all["domains"][1]["state"], "running", "{all}");
}

/// Whether a test with QEMU can run here; says so if not.
fn has_qemu(test: &str) -> bool {
    let is_here = GuestsIn::Qemu.is_here();
    if !is_here {
        println!("{test} is skipped: QEMU is not here; `make hands` installs it");
    }
    is_here
}

#[tokio::test(flavor = "multi_thread")]
async fn disks_grow_and_running_guests_are_put_back_in_qemu() {
    if !has_qemu("disks_grow") {
        return;
    }
    let host = hypervisor("libvirt-qemu", GuestsIn::Qemu);
    let reach = Reach::of(host.base(), &host.machine);
    let (way, drivers) = (reach.way(LONG), Drivers::new().expect("drivers"));
    let run = async |what: &str| output(&drivers, way, &act(what), json!("quill-web-1")).await;
    let grown = run("disk: { name: vda, gib: 0.125 }").await;
    assert_eq!(
        (&grown["changed"], &grown["before_gib"]),
        (&json!(true), &json!(0.0625)),
        "{grown}"
    );
    assert_eq!(run("disk: { name: vda, gib: 0.125 }").await["changed"], false);
    let smaller = act("disk: { name: vda, gib: 0.0625 }");
    let smaller = failure(&drivers, way, &smaller, json!("quill-web-1")).await;
    assert_eq!(smaller.end, CallEnd::Refused, "{smaller:?}");
    assert!(smaller.message.contains("not made smaller"), "{smaller:?}");

    let counted = run("look: statistics").await;
    assert_eq!(counted["block"][0]["name"], "vda", "{counted}");
    assert_eq!(counted["block"][0]["capacity"], 1 << 27, "{counted}");
    assert!(counted["cpu"]["time"].as_u64() > Some(0), "{counted}");

    run("snapshot: { act: create, name: before }").await;
    assert_eq!(run("look: snapshots").await["snapshots"][0]["state"], "running");
    assert_eq!(run("power: off").await["reason"], "switched-off");
    assert_eq!(run("snapshot: { act: revert, name: before }").await["changed"], true);
    let back = run("look: domain").await;
    assert_eq!((&back["state"], &back["reason"]), (&json!("running"), &json!("from-snapshot")));
    assert_eq!(run("snapshot: { act: delete, name: before }").await["changed"], true);
    assert_eq!(run("look: progress").await["is_going_on"], false);
    assert_eq!(run("cancel_migration: true").await["changed"], false);

    // One that hangs holds up nobody, and looks at it are over in their time.
    let disk = format!("hypervisor-{}/disks/quill-web-2", host.machine.port());
    let listed = Command::new("pgrep").args(["-f", &disk]).output().expect("runs");
    let listed = String::from_utf8(listed.stdout).expect("numbers");
    assert_eq!(listed.lines().count(), 1, "{listed}");
    let signal = |signal: &str| {
        assert!(
            Command::new("kill").args([signal, listed.trim()]).status().expect("runs").success()
        );
    };
    signal("-STOP");
    let begun = Instant::now();
    let hung = act("look: statistics");
    let (hung, all, other) = tokio::join!(
        failure(&drivers, reach.way(Duration::from_secs(3)), &hung, json!("quill-web-2")),
        output(&drivers, way, DOMAINS, json!("")),
        run("look: domain"),
    );
    assert_eq!(hung.end, CallEnd::NotSent, "{hung:?}");
    assert_eq!(
        (&all["domains"][2]["state"], &other["state"]),
        (&json!("running"), &json!("running"))
    );
    assert!(begun.elapsed() < Duration::from_secs(20));
    signal("-CONT");

    // A guest without a system does not hear that it is to shut down.
    let asked = run("power: shutdown").await;
    assert_eq!((&asked["changed"], &asked["state"]), (&json!(true), &json!("running")), "{asked}");
    nobody_stays(&host).await;
}

/// A guest that writes to 30 MiB of its memory all the time, as fast as it can: what is on a floppy
/// that both hosts read, and starts in real mode.
fn busy_guest(host: &Hypervisor) {
    const PROGRAM: [u8; 75] = [
        0xfa, // cli
        0x31, 0xc0, // xor ax, ax
        0x8e, 0xd8, // mov ds, ax
        0x0f, 0x01, 0x16, 0x35, 0x7c, // lgdt: at the end
        // Into protected mode, for a segment of 4 GiB, and back.
        0x0f, 0x20, 0xc0, // mov eax, cr0
        0x40, // inc ax
        0x0f, 0x22, 0xc0, // mov cr0, eax
        0xbb, 0x08, 0x00, // mov bx, 8
        0x8e, 0xdb, // mov ds, bx
        0x48, // dec ax
        0x0f, 0x22, 0xc0, // mov cr0, eax
        0x66, 0xbf, 0x00, 0x00, 0x20, 0x00, // mov edi, 2 MiB
        0x67, 0xff, 0x07, // inc word [edi]
        0x66, 0x81, 0xc7, 0x00, 0x10, 0x00, 0x00, // add edi, 4 KiB
        0x66, 0x81, 0xff, 0x00, 0x00, 0x00, 0x02, // cmp edi, 32 MiB
        0x72, 0xed, // jb: the inc
        0xeb, 0xe5, // jmp: the mov edi
        0x0f, 0x00, 0x3b, 0x7c, 0x00, 0x00, // the table of segments: its length and its place
        0x00, 0x00, 0x00, 0x00, 0x00, 0x00, 0x00, 0x00, // none
        0xff, 0xff, 0x00, 0x00, 0x00, 0x92, 0xcf, 0x00, // all memory
    ];
    let mut sector = PROGRAM.to_vec();
    sector.resize(510, 0);
    sector.extend([0x55, 0xaa]);
    sector.resize(64 << 10, 0);
    let folder = host.machine.folder();
    fs::write(folder.join("busy"), sector).expect("is written");
    let document = format!(
        "<domain type='qemu'><name>quill-db-1</name><memory unit='MiB'>64</memory>\
         <os><type arch='x86_64' machine='pc'>hvm</type><boot dev='fd'/></os><devices>\
         <disk type='file' device='floppy'><driver name='qemu' type='raw'/>\
         <source file='{}'/><target dev='fda' bus='fdc'/><readonly/></disk></devices></domain>",
        folder.join("busy").display()
    );
    fs::write(folder.join("busy.xml"), document).expect("is written");
    host.virsh(&["define", &folder.join("busy.xml").display().to_string()]).expect("is defined");
    host.virsh(&["start", "quill-db-1"]).expect("starts");
    // Its system has started once its memory changes.
    let memory = || {
        let look = ["qemu-monitor-command", "quill-db-1", "--hmp", "xp /1wx 0x200000"];
        host.virsh(&look).expect("shows its memory")
    };
    let begun = Instant::now();
    while memory() == memory() {
        assert!(begun.elapsed() < LONG, "the guest does nothing: {}", memory());
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn a_guest_is_moved_while_it_runs_and_stays_if_that_takes_too_long() {
    if !has_qemu("a_guest_is_moved") {
        return;
    }
    let from = hypervisor("libvirt-from", GuestsIn::Qemu);
    let to = hypervisor("libvirt-to", GuestsIn::Qemu);
    let reach = Reach::of(from.base(), &from.machine);
    let other = Reach::of(to.base(), &to.machine);
    let drivers = Drivers::new().expect("drivers");
    let (way, there) = (reach.way(LONG), other.way(LONG));
    busy_guest(&from);
    let moved = |more: &str| {
        let to = to.uri();
        act(&format!("migrate: {{ to: '{to}', over: 'tcp://127.0.0.1'{more} }}"))
    };
    let look = async |way| {
        let all = output(&drivers, way, DOMAINS, json!("")).await;
        let all = all["domains"].as_array().expect("a list").clone();
        all.into_iter().find(|one| one["name"] == "quill-db-1").map(|one| one["state"].clone())
    };

    // Too slow for its time: it is called off, and we know where the guest is.
    let slow = moved(", mib_per_second: 1, slow_down: false");
    let begun = Instant::now();
    let way_short = reach.way(Duration::from_secs(8));
    let why = failure(&drivers, way_short, &slow, json!("quill-db-1")).await;
    assert_eq!(why.end, CallEnd::Refused, "{why:?}");
    assert!(why.message.contains("where it was"), "{why:?}");
    assert!(begun.elapsed() < Duration::from_secs(20));
    assert_eq!(look(way).await, Some(json!("running")));
    assert_eq!(look(there).await, None);

    // Somebody calls it off.
    let moving = failure(&drivers, way, &slow, json!("quill-db-1"));
    let calling = async {
        loop {
            let progress = act("look: progress");
            let progress = output(&drivers, way, &progress, json!("quill-db-1")).await;
            if progress["percent"].as_u64() > Some(0) {
                break;
            }
            tokio::time::sleep(Duration::from_millis(100)).await;
        }
        output(&drivers, way, &act("cancel_migration: true"), json!("quill-db-1")).await
    };
    let (why, called) = tokio::join!(moving, calling);
    assert_eq!((why.end, &called["changed"]), (CallEnd::Refused, &json!(true)), "{why:?}");
    assert_eq!(look(way).await, Some(json!("running")));

    let came = output(&drivers, way, &moved(""), json!("quill-db-1")).await;
    assert_eq!(came["to"], to.uri(), "{came}");
    assert_eq!(look(way).await, None, "it is not kept here");
    assert_eq!(look(there).await, Some(json!("running")));
    let there_now = output(&drivers, there, &act("look: domain"), json!("quill-db-1")).await;
    assert_eq!(there_now["reason"], "migrated", "{there_now}");
    // Once more there is nobody to move.
    let why = failure(&drivers, way, &moved(""), json!("quill-db-1")).await;
    assert_eq!((why.end, why.lasting), (CallEnd::Refused, true), "{why:?}");
    nobody_stays(&from).await;
    nobody_stays(&to).await;
}

/// What a socket does at the call whose turn it is.
#[derive(Clone, Copy, Debug, PartialEq)]
enum Manner {
    Silent,
    Cuts,
    Refuses,
    Lies,
    Floods,
    Garbage,
}

/// Speaks as a libvirt does, but for one of its calls.
async fn speak(mut line: UnixStream, turn: usize, manner: Manner) -> std::io::Result<()> {
    let domain = [text("quill-web-1"), vec![7; 16], vec![0xff; 4]].concat();
    for call in 0.. {
        let mut header = [0; 28];
        line.read_exact(&mut header).await?;
        let length = u32::from_be_bytes([header[0], header[1], header[2], header[3]]) as usize;
        let mut args = vec![0; length - 28];
        line.read_exact(&mut args).await?;
        let body: Vec<u8> =
            match u32::from_be_bytes([header[12], header[13], header[14], header[15]]) {
                66 => vec![0; 4],
                23 => domain.clone(),
                // Off, and shut down.
                212 => [5_u32.to_be_bytes(), 1_u32.to_be_bytes()].concat(),
                _ => Vec::new(),
            };
        let answer = |body: &[u8], status: u32| {
            let mut answer = header.to_vec();
            answer[..4].copy_from_slice(&(28 + body.len() as u32).to_be_bytes());
            answer[16..20].copy_from_slice(&1_u32.to_be_bytes());
            answer[24..].copy_from_slice(&status.to_be_bytes());
            [&answer, body].concat()
        };
        if call != turn {
            line.write_all(&answer(&body, 0)).await?;
            continue;
        }
        match manner {
            Manner::Silent => tokio::time::sleep(LONG).await,
            Manner::Cuts => return Ok(()),
            Manner::Refuses => {
                let error = [vec![0, 0, 0, 38, 0, 0, 0, 10, 0, 0, 0, 1], text("no room")].concat();
                line.write_all(&answer(&error, 1)).await?;
            }
            Manner::Lies => {
                let mut lie = answer(&[0xff; 64], 0);
                lie[..4].copy_from_slice(&0x7fff_ffff_u32.to_be_bytes());
                line.write_all(&lie).await?;
            }
            Manner::Floods => {
                let mut message = answer(&[0; 4096], 0);
                message[16..20].copy_from_slice(&2_u32.to_be_bytes());
                loop {
                    line.write_all(&message).await?;
                }
            }
            Manner::Garbage => line.write_all(&answer(&[0xff; 7], 0)).await?,
        }
    }
    Ok(())
}

fn text(text: &str) -> Vec<u8> {
    let padding = vec![0; (4 - text.len() % 4) % 4];
    [&(text.len() as u32).to_be_bytes(), text.as_bytes(), &padding].concat()
}

#[tokio::test(flavor = "multi_thread")]
async fn sockets_that_misbehave_leave_no_doubt_where_there_is_none() {
    let sshd = machine("libvirt-odd");
    let drivers = Drivers::new().expect("drivers");
    let start = act("power: start");
    // Let in, hypervisor, guest, its state, its start, its state then.
    for (turn, before) in [(0, true), (1, true), (2, true), (3, true), (4, false), (5, false)] {
        for manner in [
            Manner::Silent,
            Manner::Cuts,
            Manner::Refuses,
            Manner::Lies,
            Manner::Floods,
            Manner::Garbage,
        ] {
            let path = sshd.folder().join(format!("{turn}-{manner:?}"));
            let listener = UnixListener::bind(&path).expect("a socket");
            let speaking = tokio::spawn(async move {
                let (line, _) = listener.accept().await.expect("a caller");
                let _ = speak(line, turn, manner).await;
            });
            let base = format!("libvirt://127.0.0.1:{}{}", sshd.port(), path.display());
            let reach = Reach::of(base, &sshd);
            let begun = Instant::now();
            let way = reach.way(Duration::from_secs(2));
            let called = perform(&drivers, way, &start, json!("quill-web-1")).await.called;
            assert!(begun.elapsed() < Duration::from_secs(20), "{turn} {manner:?}");
            let said = match (turn, manner) {
                // What an answer that says nothing holds does not matter.
                (1 | 4, Manner::Garbage) => {
                    speaking.abort();
                    continue;
                }
                (2..4, Manner::Refuses) => CallEnd::Refused,
                // It was started, whatever is said of its state then.
                (5, _) => CallEnd::Done,
                (4, Manner::Refuses) => CallEnd::Refused,
                _ if before => CallEnd::NotSent,
                _ => CallEnd::Unknown,
            };
            // A state that is none that is known is one all the same.
            if let (5, Manner::Garbage) = (turn, manner) {
                assert!(called.is_ok() || called.is_err_and(|e| e.end == said));
            } else {
                let why = called.expect_err("a failure");
                assert_eq!(why.end, said, "{turn} {manner:?}: {why:?}");
            }
            speaking.abort();
        }
    }
    // No socket at all, and an sshd that nobody trusts.
    let base = format!("libvirt://127.0.0.1:{}/no/such/socket", sshd.port());
    let reach = Reach::of(base, &sshd);
    let why = failure(&drivers, reach.way(LONG), &start, json!("quill-web-1")).await;
    assert_eq!(why.end, CallEnd::NotSent, "{why:?}");
    assert!(why.message.contains("/no/such/socket"), "{why:?}");
    let way = Way { trusted: None, ..reach.way(LONG) };
    let why = failure(&drivers, way, &start, json!("quill-web-1")).await;
    assert!(why.message.contains("nobody has trusted it"), "{why:?}");
}
