//! The library of ready-made runbooks: by the command, and against the stand-ins where no scene of
//! the demo plays one.

use crate::kit::{LIBRARY, Stage, arvok, block, folder, until};
use arvok_postgres::{SupervisedChild, free_port, spawn_supervised};
use arvok_standins::{
    Faults,
    hypervisor::{GuestsIn, Hypervisor},
    machine::Machine,
    switch,
};
use reqwest::Method;
use serde_json::{Value, json};
use std::{
    path::Path,
    process::{Command, Stdio},
};

fn launched(stage: &Stage, runbook: &str, inputs: &Value) -> Value {
    let (status, made) = stage.call(
        Method::POST,
        "/api/v1/jobs",
        Some(&json!({ "runbook": runbook, "inputs": inputs })),
    );
    assert_eq!(status, 201, "{made}");
    stage.job_in(made["job"].as_i64().expect("a number"), &["succeeded", "failed", "unsure"])
}

#[test]
fn it_is_listed_shown_and_copied_without_a_server() {
    let said = arvok(&["runbook", "library"], &[], "");
    assert_eq!(said.code, 0, "{}", said.all());
    insta::assert_snapshot!(said.out.replace("  \n", "\n"));
    let said = arvok(&["runbook", "library", "--json"], &[], "");
    let all: Value = serde_json::from_str(&said.out).expect("JSON");
    let names: Vec<&str> = all["items"]
        .as_array()
        .expect("a list")
        .iter()
        .filter_map(|i| i["name"].as_str())
        .collect();
    assert!(names.len() == 31 && names.is_sorted(), "{names:?}");
    let shown = arvok(&["runbook", "library", "page-rota"], &[], "");
    assert!(
        shown.out.starts_with("runbook: page-rota\n") && shown.err.contains("it needs pager"),
        "{}",
        shown.all()
    );

    let place = folder("library");
    let file = |name: &str, text: &str| {
        let path = place.join(name).display().to_string();
        std::fs::write(&path, text).expect("writes");
        path
    };
    let args =
        ["runbook", "copy", "close-the-loop", "--as", "our-loop", "--via", "crew-chat=bridge-chat"];
    let copied = arvok(&args, &[], "");
    assert_eq!(copied.code, 0, "{}", copied.all());
    assert!(
        copied.out.starts_with("runbook: our-loop\ncopied_from: close-the-loop\n"),
        "{}",
        copied.out
    );
    assert_eq!(copied.out.matches("via: bridge-chat").count(), 2);
    assert!(
        !copied.out.contains("crew-chat") && copied.out.contains("# The one part that differs")
    );
    let said = arvok(&["check", &file("alone.yaml", &copied.out)], &[], "");
    assert!(
        said.code == 1 && said.err.contains("there is no connection `bridge-chat`"),
        "{}",
        said.all()
    );
    let whole = arvok(&["runbook", "copy", "close-the-loop", "--with-needs"], &[], "");
    let said = arvok(&["check", &file("whole.yaml", &whole.out)], &[], "");
    assert!(
        said.code == 0 && said.out.starts_with("13 definitions in 1 file are good; "),
        "{}",
        said.all()
    );

    for (args, words) in [
        (&["copy", "grow-disks"][..], "did you mean `grow-disk`?"),
        (&["library", "nothing-like-it"], "there is no runbook `nothing-like-it` in the library"),
        (&["copy", "grow-disk", "--as", "Our Disk"], "is not a name"),
        (&["copy", "grow-disk", "--via", "yard"], "give it as NAME=NAME"),
        (&["copy", "grow-disk", "--via", "crew=ours"], "it does not call `crew`"),
    ] {
        let said = arvok(&[&["runbook"], args].concat(), &[], "");
        assert!(said.code == 2 && said.err.contains(words), "{args:?}: {}", said.all());
    }
}

#[test]
fn a_machine_is_registered_though_the_yard_and_the_register_are_busy() {
    let stage = Stage::with_demo();
    let harbour = &stage.harbour;
    harbour.yard.with(|yard| yard.make("quill-printer-3", "quill-hv-1"));
    harbour.yard.set_faults(Faults { busy: 2, ..Faults::default() });
    harbour.kiosks.set_faults(Faults { hang_up: 1, ..Faults::default() });
    let job = launched(&stage, "register-machine", &json!({ "vm": "vm/quill-printer-3" }));
    let (state, effect) = (&job["job"]["state"], &job["job"]["effect"]);
    assert_eq!((state, effect), (&json!("succeeded"), &json!("confirmed")), "{job:#}");
    let (tags, snapshots) = harbour.yard.with(|yard| {
        let vm = &yard.vms["quill-printer-3"];
        (vm.tags.iter().cloned().collect::<Vec<_>>(), vm.snapshots.len())
    });
    assert_eq!((tags, snapshots), (vec!["registered".to_owned()], 1));
    let by = harbour.kiosks.with(|all| all.kiosks["quill-printer-3"].registered_by.clone());
    assert_eq!(by.as_deref(), Some("arvok"));
    assert_eq!(harbour.chat.messages().len(), 1);
    // One of another name is left to people, and nothing is touched.
    harbour.yard.with(|yard| yard.make("scratch", "quill-hv-1"));
    let job = launched(&stage, "register-machine", &json!({ "vm": "vm/scratch" }));
    assert_eq!(job["job"]["state"], "failed", "{job:#}");
    assert!(harbour.yard.with(|yard| yard.vms["scratch"].snapshots.is_empty()));
}

/// A remedy that does not help: the ticket says so and stays open, a person is paged, and what was
/// given is taken back.
#[test]
fn a_chain_whose_remedy_does_not_help_is_handed_over() {
    let stage = Stage::with_demo();
    let harbour = &stage.harbour;
    let text =
        std::fs::read_to_string(format!("{LIBRARY}/runbooks/add-cpu.yaml")).expect("the library");
    let hasty =
        text.split("examples:").next().expect("a runbook").replace("within: 2m", "within: 2s");
    stage.publish(&hasty);
    harbour.yard.with(|yard| yard.vms.get_mut("quill-mail-1").expect("a VM").work = Some(60.0));
    let job = until("the chain to have ended", || {
        let page = stage.get("/api/v1/jobs?target=vm/quill-mail-1");
        let jobs = page["items"].as_array().expect("a list").clone();
        jobs.into_iter()
            .find(|job| job["runbook"] == "close-the-loop" && !job["finished_at"].is_null())
    });
    assert_eq!(job["state"], "failed", "{job:#}");
    let ticket = harbour.desk.with(|desk| desk.tickets.values().next().cloned()).expect("a ticket");
    assert_eq!((ticket.state, ticket.about.as_deref()), ("open", Some("vm/quill-mail-1")));
    assert!(
        ticket.notes.iter().any(|note| note.contains("add-cpu did not help")),
        "{:?}",
        ticket.notes
    );
    let page = harbour.pager.with(|pager| pager.pages.values().next().cloned()).expect("a page");
    assert!(page.text.contains(&format!("Ticket {}", ticket.number)), "{page:?}");
    assert_eq!(
        harbour.yard.with(|yard| yard.vms["quill-mail-1"].cpus),
        2,
        "what did not help was taken back"
    );
}

/// Two buttons are pressed at once, and the chat calls back twice: it is one answer, and the share
/// moves once.
#[test]
fn a_share_is_raised_once_however_often_the_chat_calls_back() {
    let stage = Stage::with_demo();
    let harbour = &stage.harbour;
    harbour.chat.set_faults(Faults { twice: true, ..Faults::default() });
    let inputs = json!({ "feature": "feature/new-fares", "step": 10 });
    let (_, made) = stage.call(
        Method::POST,
        "/api/v1/jobs",
        Some(&json!({ "runbook": "raise-share", "inputs": inputs })),
    );
    let question = until("somebody to be asked", || {
        harbour.chat.messages().into_iter().find(|m| !m.buttons.is_empty())
    });
    assert_eq!(harbour.chat.press(&question, "raise", "Maren"), Ok(()));
    assert!(harbour.chat.press(&question, "leave", "Pat").is_err());
    let job =
        stage.job_in(made["job"].as_i64().expect("a number"), &["succeeded", "failed", "unsure"]);
    assert_eq!(job["job"]["effect"], "confirmed", "{job:#}");
    assert_eq!(harbour.features.with(|all| all["new-fares"].share), 10);
    // Somebody else is quicker with the switch: what was seen is not what is, and nothing is done.
    let (_, made) = stage.call(
        Method::POST,
        "/api/v1/jobs",
        Some(&json!({ "runbook": "raise-share", "inputs": inputs })),
    );
    let question = until("somebody to be asked", || {
        harbour.chat.messages().into_iter().find(|m| !m.buttons.is_empty() && m.pressed.is_none())
    });
    harbour.features.with(|all| all.get_mut("new-fares").map(|feature| feature.share = 70));
    assert_eq!(harbour.chat.press(&question, "raise", "Maren"), Ok(()));
    let job =
        stage.job_in(made["job"].as_i64().expect("a number"), &["succeeded", "failed", "unsure"]);
    assert_eq!(job["job"]["state"], "failed", "{job:#}");
    assert!(
        job["job"]["failure"].as_str().is_some_and(|why| why.contains("the share is 70 by now")),
        "{job:#}"
    );
    assert_eq!(
        harbour.features.with(|all| all["new-fares"].share),
        70,
        "nothing was taken back that was not done"
    );
}

#[test]
fn a_message_by_mail_is_tried_shown_and_sent_once_whatever_the_server_does() {
    let stage = Stage::with_demo();
    let harbour = &stage.harbour;
    let test = stage.arvok(&["connection", "test", "office-mail"]);
    assert!(test.out.contains("answers (250)"), "{}", test.all());
    let give =
        json!({ "to": "quill-office@skerrow.example", "subject": "A try", "text": "by hand" });
    let path = "/api/v1/connections/office-mail/operations/mail.send/try";
    let (status, tried) =
        stage.call(Method::POST, path, Some(&json!({ "give": give, "dry_run": true })));
    assert_eq!((status, &tried["request"]["method"]), (200, &json!("MAIL")), "{tried}");
    assert_eq!(tried["request"]["target"], "to quill-office@skerrow.example");
    assert_eq!(harbour.mailroom.with(|m| m.messages.len()), 0, "it is only looked at");
    let (_, tried) =
        stage.call(Method::POST, path, Some(&json!({ "give": give, "dry_run": false })));
    assert_eq!(
        (&tried["state"], &tried["output"]["status"]),
        (&json!("done"), &json!(250)),
        "{tried}"
    );
    let shown = stage.arvok(&["connection", "show", "office-mail"]);
    assert!(shown.out.contains("MAIL to") && shown.out.contains("mail.send"), "{}", shown.out);

    stage.publish(
        "runbook: write\ninputs: { to: { type: string } }\ntarget: office/${inputs.to}\nsteps:\n  \
         - { id: write, call: mail.send, via: office-mail, give: { to: \"${inputs.to}\", subject: \
         s, text: t }, retry: { times: 3, wait: 10ms } }\n",
    );
    let sent =
        |to: &str| harbour.mailroom.with(|m| m.messages.iter().filter(|m| m.to == [to]).count());
    let launch = |to: &str, states: &[&str]| {
        let body = json!({ "runbook": "write", "inputs": { "to": to } });
        let (status, made) = stage.call(Method::POST, "/api/v1/jobs", Some(&body));
        assert_eq!(status, 201, "{made}");
        stage.job_in(made["job"].as_i64().expect("a number"), states)
    };
    // Not now: asked again. Never: refused at once. No word after it has the text: nobody knows,
    // and it is not sent again.
    harbour.mailroom.set_faults(Faults { busy: 2, ..Faults::default() });
    launch("a@skerrow.example", &["succeeded"]);
    assert_eq!(sent("a@skerrow.example"), 1);
    let job = launch("stranger@elsewhere.example", &["failed"]);
    assert!(
        job["job"]["failure"].as_str().is_some_and(|f| f.contains("nobody is called so here")),
        "{job:#}"
    );
    harbour.mailroom.set_faults(Faults { hang_up: 1, ..Faults::default() });
    launch("b@skerrow.example", &["unsure"]);
    assert_eq!(sent("b@skerrow.example"), 1);
    harbour.mailroom.set_faults(Faults::default());
    let calls = stage.get("/api/v1/connections/office-mail/calls");
    let text = calls.to_string();
    assert!(
        text.contains("done") && text.contains("refused") && text.contains("unknown"),
        "{text}"
    );
    let secret =
        harbour.secrets().iter().find(|s| s.0 == "office-mail").expect("it has one").1.clone();
    for told in [stage.get("/api/v1/jobs?limit=50").to_string(), text, stage.log()] {
        assert!(!told.contains(&secret), "a password is shown");
    }
}

/// A machine, and the library's connection to it.
fn machine(stage: &Stage, name: &str) -> Machine {
    let machine = Machine::scratch(name).unwrap_or_else(|e| panic!("{e}"));
    reach(stage, &machine, "yard-machines");
    machine
}

/// Points a connection of the library to a machine, and trusts that.
fn reach(stage: &Stage, machine: &Machine, connection: &str) {
    let place = format!("connection/{connection}");
    stage.secret(connection, &machine.key().expect("a key"), &[&place]);
    let text = std::fs::read_to_string(format!("{LIBRARY}/connections/{connection}.yaml"))
        .expect("the library")
        .replace("://*", &format!("://*:{}", machine.port()))
        .replace("*.switch.skerrow.example", "127.0.0.*")
        .replace("*.skerrow.example", "127.0.0.*")
        .replace("user: arvok", &format!("user: {}", machine.user()));
    stage.publish(&text);
    let fingerprint = machine.fingerprint().expect("a key");
    let trust = ["connection", "trust", connection, "--host", "127.0.0.1"];
    let said = stage.arvok(&[&trust[..], &["--fingerprint", &fingerprint]].concat());
    assert_eq!(said.code, 0, "{}", said.all());
}

#[test]
fn a_unit_is_restarted_when_it_has_failed_and_a_restart_that_does_not_help_is_told() {
    let stage = Stage::with_demo();
    let machine = machine(&stage, "units");
    let set =
        |file: &str, text: &str| machine.set_unit("booking.service", file, text).expect("writes");
    let restart = |unit: &str| {
        let inputs = json!({ "machine": "machine/127.0.0.1", "unit": unit, "settles_in": "1s" });
        launched(&stage, "restart-unit", &inputs)
    };
    let (state, why) = ended(&restart("booking.service"));
    assert_eq!(state, "succeeded", "{why}");
    assert!(why.contains("is active, running; it was left alone"), "{why}");

    set("state", "failed\n");
    set("log", "2026-11-29T02:00:00 quill booking[1]: no seat is left\n");
    let job = restart("booking.service");
    assert_eq!(ended(&job), ("succeeded".to_owned(), String::new()), "{job:#}");
    assert_eq!(
        job["outputs"],
        json!({ "was": "failed, failed", "is": "active, running" }),
        "{job:#}"
    );
    let kept = job.to_string();
    assert!(kept.contains("# Processes by memory") && kept.contains("no seat is left"), "{job:#}");

    for (fault, words) in [
        ("start", "Job for booking.service failed because the control process exited"),
        ("later", "booking.service does not stay up; it is active, running"),
    ] {
        set("state", "failed\n");
        set("breaks", fault);
        let (state, why) = ended(&restart("booking.service"));
        assert!(state == "failed" && why.contains(words), "{fault}: {state}: {why}");
    }
    let (state, why) = ended(&restart("bokking.service"));
    assert!(state == "failed" && why.contains("knows no unit bokking.service"), "{why}");
}

#[test]
fn old_files_go_from_a_full_disk_and_what_a_machine_is_at_goes_into_its_ticket() {
    let stage = Stage::with_demo();
    let machine = machine(&stage, "disk");
    let logs = folder("full disk's logs");
    let old = std::time::SystemTime::now() - std::time::Duration::from_hours(24 * 10);
    for (name, is_old) in
        [("a.log.1", true), ("-delete.log.2", true), ("new.log.1", false), ("kept.txt", true)]
    {
        let file = std::fs::File::create(logs.join(name)).expect("writes");
        if is_old {
            file.set_modified(old).expect("is set");
        }
    }
    let free = |full: f64| {
        let inputs =
            json!({ "machine": "machine/127.0.0.1", "folder": logs, "full_percent": full });
        launched(&stage, "free-disk", &inputs)["job"].clone()
    };
    let left = || {
        let mut names: Vec<_> = std::fs::read_dir(&logs)
            .expect("is there")
            .map(|f| f.expect("a file").file_name().into_string().expect("a name"))
            .collect();
        names.sort();
        names
    };
    let job = free(100.0);
    let why = job["failure"].as_str().unwrap_or_default();
    assert!(job["state"] == "succeeded" && why.contains("nothing was removed"), "{job:#}");
    assert_eq!(left().len(), 4);
    // So full that no removing helps.
    let job = free(1.0);
    let why = job["failure"].as_str().unwrap_or_default();
    assert!(job["state"] == "failed" && why.starts_with("2 files were removed"), "{job:#}");
    assert!(why.contains(&format!("Largest: {}", logs.display())), "{why}");
    assert_eq!(left(), ["kept.txt", "new.log.1"]);

    let inputs = json!({ "machine": "machine/127.0.0.1", "unit": "booking.service" });
    let job = launched(&stage, "collect-evidence", &inputs);
    assert_eq!(job["job"]["state"], "succeeded", "{job:#}");
    let ticket = stage.harbour.desk.with(|desk| desk.tickets.values().next().cloned());
    let ticket = ticket.expect("a ticket");
    assert_eq!(ticket.about.as_deref(), Some("machine/127.0.0.1"));
    assert!(ticket.notes[0].contains("# Last lines of booking.service"), "{:?}", ticket.notes);
    let inputs = json!({ "machine": "machine/127.0.0.1", "ticket": ticket.number });
    let job = launched(&stage, "collect-evidence", &inputs);
    assert_eq!(job["outputs"]["ticket"], ticket.number, "{job:#}");
    drop(machine);
}

/// A hypervisor, and a connection of the library to it, under a name.
fn hypervisor(stage: &Stage, connection: &str, guests: GuestsIn) -> Hypervisor {
    let host = Hypervisor::scratch(&format!("{connection}-{guests:?}"), guests)
        .unwrap_or_else(|e| panic!("{e}"));
    let place = format!("connection/{connection}");
    stage.secret(connection, &host.machine.key().expect("a key"), &[&place]);
    let base = format!("libvirt://*:{}{}", host.machine.port(), host.socket().display());
    let text = std::fs::read_to_string(format!("{LIBRARY}/connections/yard-hosts.yaml"));
    let text = text
        .expect("the library")
        .replace("libvirt://*", &base)
        .replace("yard-hosts", connection)
        .replace("*.skerrow.example", "127.0.0.*")
        .replace("user: arvok", &format!("user: {}", host.machine.user()));
    stage.publish(&text);
    let fingerprint = host.machine.fingerprint().expect("a key");
    let trust = ["connection", "trust", connection, "--host", "127.0.0.1"];
    let said = stage.arvok(&[&trust[..], &["--fingerprint", &fingerprint]].concat());
    assert_eq!(said.code, 0, "{}", said.all());
    host
}

/// How a job ended, and why.
fn ended(job: &Value) -> (String, String) {
    let failure = job["job"]["failure"].as_str().unwrap_or_default().to_owned();
    (job["job"]["state"].as_str().expect("a state").to_owned(), failure)
}

#[test]
fn a_guest_is_resized_and_patched_or_put_back() {
    let stage = Stage::with_demo();
    let host = hypervisor(&stage, "yard-hosts", GuestsIn::TestDriver);
    let machine = machine(&stage, "patched");
    let resize = |guest: &str, memory_mib: u32| {
        let inputs = json!({ "guest": format!("vm/{guest}"), "host": "host/127.0.0.1",
                             "memory_mib": memory_mib, "cpus": 4 });
        launched(&stage, "resize-guest", &inputs)
    };
    let job = resize("quill-web-1", 128);
    assert_eq!(ended(&job), ("succeeded".to_owned(), String::new()), "{job:#}");
    let (has, had) = (json!(128), json!({ "memory_mib": 48, "cpus": 1 }));
    assert_eq!((&job["outputs"]["memory_mib"], &job["outputs"]["was"]), (&has, &had));
    assert!(ended(&resize("quill-web-1", 128)).1.contains("it was left alone"));
    let (state, why) = ended(&resize("quill-batch-1", 128));
    assert!(state == "failed" && why.contains("is off (unknown); nothing was changed"), "{why}");
    let (state, why) = ended(&resize("quill-web-9", 128));
    assert!(state == "failed" && why.contains("has no guest `quill-web-9`"), "{why}");

    let patch = || {
        let inputs = json!({ "machine": "machine/127.0.0.1", "guest": "vm/quill-web-2",
            "host": "host/127.0.0.1", "unit": "booking.service", "settles_in": "0s" });
        launched(&stage, "patch-machine", &inputs)
    };
    let kept = || host.virsh(&["snapshot-list", "quill-web-2", "--name"]).expect("is told");
    let packages = machine.folder().join("packages");
    let pending = |breaks: &str| {
        std::fs::write(packages.join("pending"), "openssl\n").expect("writes");
        std::fs::write(packages.join("breaks"), breaks).expect("writes");
        machine.set_unit("booking.service", "state", "active\n").expect("writes");
    };
    pending("");
    let job = patch();
    assert_eq!(ended(&job), ("succeeded".to_owned(), String::new()), "{job:#}");
    assert_eq!((&job["outputs"]["patched"], kept().as_str()), (&json!(["openssl"]), ""));
    assert!(ended(&patch()).1.contains("has nothing to patch"));

    pending("install");
    let (state, why) = ended(&patch());
    assert!(state == "failed" && why.contains("ended with status 100"), "{why}");
    let reason = || host.virsh(&["domstate", "quill-web-2", "--reason"]).expect("is told");
    assert_eq!(
        (reason().as_str(), kept().as_str()),
        ("running (from snapshot)", "before-patching")
    );
    pending("");
    let (state, why) = ended(&patch());
    assert!(state == "failed" && why.contains("an earlier patching"), "{why}");
}

#[test]
fn a_guest_is_moved_to_a_host_with_room() {
    if !GuestsIn::Qemu.is_here() {
        println!("a_guest_is_moved_to_a_host_with_room is skipped: QEMU is not here");
        return;
    }
    let stage = Stage::with_demo();
    let from = hypervisor(&stage, "yard-hosts", GuestsIn::Qemu);
    let to = hypervisor(&stage, "other-hosts", GuestsIn::Qemu);
    // The disks of these are not shared.
    for host in [&from, &to] {
        host.virsh(&["destroy", "quill-web-1"]).expect("ran");
        host.virsh(&["detach-disk", "quill-web-1", "vda", "--config"]).expect("had one");
    }
    from.virsh(&["start", "quill-web-1"]).expect("starts");
    to.virsh(&["undefine", "quill-web-1"]).expect("was there");
    // Each has a socket and a port of its own here, and so a connection.
    let connector = std::fs::read_to_string(format!("{LIBRARY}/connections/yard-hosts.yaml"));
    let connector = connector.expect("the library");
    let connector = connector.split("---").next().expect("a connector").replace(
        "migrate: { to: \"qemu+ssh://${give.to.split('/')[1]}/system\" }",
        &format!("migrate: {{ to: '{}', over: 'tcp://127.0.0.1' }}", to.uri()),
    );
    stage.publish(&connector);
    let runbook = std::fs::read_to_string(format!("{LIBRARY}/runbooks/move-guest.yaml"));
    let runbook = runbook.expect("the library");
    let runbook = runbook.split("examples:").next().expect("a runbook").to_owned();
    let there = |text: String, step: &str| {
        let (before, after) = text.split_once(&format!("- id: {step}\n")).expect("the step");
        format!("{before}- id: {step}\n{}", after.replacen("yard-hosts", "other-hosts", 1))
    };
    let runbook = there(there(runbook, "room"), "moved");
    stage.publish(&runbook.replace("confirm: { alarm: cleared, within: 5m }", ""));
    let moved = |spare_mib: u64| {
        let inputs = json!({ "guest": "vm/quill-web-1", "host": "host/127.0.0.1",
                             "to": "host/127.0.0.1", "spare_mib": spare_mib });
        launched(&stage, "move-guest", &inputs)
    };
    let (state, why) = ended(&moved(1 << 30));
    assert!(state == "failed" && why.contains("MiB free; vm/quill-web-1 needs "), "{why}");
    let job = moved(16);
    assert_eq!(ended(&job), ("succeeded".to_owned(), String::new()), "{job:#}");
    let reason = to.virsh(&["domstate", "quill-web-1", "--reason"]).expect("is told");
    assert_eq!(reason, "running (migrated)");
    let (state, why) = ended(&moved(16));
    assert!(state == "failed" && why.contains("has no guest `quill-web-1`"), "{why}");
}

/// The id of the server of a management controller.
const SERVER: &str = "27946b59-9e44-4fa7-8e91-f3527a1ef094";

/// A management controller with a server: a public emulator of Redfish.
fn controller(folder: &Path, port: u16) -> SupervisedChild {
    let packages = concat!(env!("CARGO_MANIFEST_DIR"), "/../../target/peers/bin");
    let hash = "import bcrypt; print(bcrypt.hashpw(b'lantern-4', bcrypt.gensalt(4)).decode())";
    let hash = Command::new(format!("{packages}/python")).args(["-c", hash]).output();
    let hash = String::from_utf8(hash.expect("the packages of tools/peers.txt").stdout);
    let users = format!("arvok:{}", hash.expect("is text"));
    std::fs::write(folder.join("users"), users).expect("writes");
    let at = folder.display();
    let settings = format!(
        "SUSHY_EMULATOR_AUTH_FILE = '{at}/users'\nSUSHY_EMULATOR_STATE_DIR = '{at}'\n\
         SUSHY_EMULATOR_FEATURE_SET = 'full'\nSUSHY_EMULATOR_FAKE_SYSTEMS = [{{'uuid': '{SERVER}', \
         'name': 'quill-hv-1', 'power_state': 'On', 'nics': []}}]\n"
    );
    std::fs::write(folder.join("settings.py"), settings).expect("writes");
    let mut command = Command::new(format!("{packages}/sushy-emulator"));
    command.args(["--fake", "--interface", "127.0.0.1", "--port", &port.to_string(), "--config"]);
    command.arg(folder.join("settings.py")).current_dir(folder);
    let log = std::fs::File::create(folder.join("log")).expect("a file");
    let child = spawn_supervised(&command, "KILL", Stdio::null(), log.into());
    let child = child.expect("the packages of tools/peers.txt");
    until("the controller listens", || std::net::TcpStream::connect(("127.0.0.1", port)).ok());
    child
}

#[test]
fn a_server_is_switched_off_and_on_by_its_management_controller() {
    let stage = Stage::with_demo();
    let (folder, port) = (folder("the controller"), free_port().expect("a port"));
    let _controller = controller(&folder, port);
    stage.secret("yard-controllers", "lantern-4", &["connection/yard-controllers"]);
    let text = std::fs::read_to_string(format!("{LIBRARY}/connections/yard-controllers.yaml"));
    // The emulator has users, and no sessions.
    let text = text
        .expect("the library")
        .replace("https://quill-hv-1-bmc.skerrow.example", &format!("http://127.0.0.1:{port}"))
        .replace("{ session: { user", "{ basic: { user");
    stage.publish(&text);
    let said = stage.arvok(&["connection", "test", "yard-controllers"]);
    assert!(
        said.code == 0 && said.out.contains("well") && said.out.contains(SERVER),
        "{}",
        said.all()
    );
    let tried = |operation: &str, give: &str| {
        let said = stage.arvok(&[
            "connection",
            "try",
            "yard-controllers",
            operation,
            "--give",
            give,
            "--yes",
            "--json",
        ]);
        assert_eq!(said.code, 0, "{}", said.all());
        serde_json::from_str::<Value>(&said.out).expect("JSON")["output"].clone()
    };
    let id = format!("id={SERVER}");
    let look = || tried("server.look", &id);
    assert_eq!(look(), json!({ "power": "on", "health": "OK", "starts_from": "Hdd" }));

    let cycle = || {
        let inputs = json!({ "server": "host/quill-hv-1", "id": SERVER });
        ended(&launched(&stage, "power-cycle", &inputs))
    };
    // It was on: off and on. It is off: on.
    assert_eq!(cycle(), ("succeeded".to_owned(), String::new()));
    assert_eq!(look()["power"], "on");
    tried("server.switch_off", &id);
    until("it is off", || (look()["power"] == "off").then_some(()));
    assert_eq!(cycle(), ("succeeded".to_owned(), String::new()));
    assert_eq!(look()["power"], "on");

    let chassis =
        stage.arvok(&["connection", "try", "yard-controllers", "chassis.list", "--yes", "--json"]);
    let chassis: Value = serde_json::from_str(&chassis.out).expect("JSON");
    let chassis = chassis["output"]["ids"][0].as_str().expect("one").to_owned();
    let sensors = tried("chassis.sensors", &format!("id={chassis}"));
    assert!(sensors["temperatures"][0]["celsius"].is_number(), "{sensors}");
}

#[test]
fn a_port_comes_back_and_a_change_that_is_not_proved_is_taken_back_by_the_switch() {
    let stage = Stage::with_demo();
    let at_work = &stage.harbour.switch;
    let keys = folder("keys of the switch");
    let over_ssh = block(async { switch::over_ssh(at_work, keys, 0) });
    let over_ssh = over_ssh.unwrap_or_else(|e| panic!("{e}"));
    reach(&stage, &over_ssh.machine, "pier-switches");
    let set = |f: &dyn Fn(&mut switch::Port)| {
        at_work.with(|switch| f(switch.ports.get_mut("ge-0/0/7").expect("a port")));
    };
    let revive = |port: &str, even_if_disabled: bool| {
        let inputs = json!({ "switch": "127.0.0.1", "port": port,
                             "even_if_disabled": even_if_disabled });
        let job = launched(&stage, "revive-port", &inputs);
        let failure = job["job"]["failure"].as_str().unwrap_or_default().to_owned();
        let state = job["job"]["state"].as_str().expect("a state").to_owned();
        (state, failure, job["outputs"].clone())
    };
    let is_up = || at_work.with(|switch| switch.ports["ge-0/0/7"].is_up());

    let (state, why, _) = revive("ge-0/0/7", false);
    assert!(state == "succeeded" && why.contains("is up; it was left alone"), "{why}");
    let (state, why, _) = revive("ge-0/0/77", false);
    assert!(state == "failed" && why.contains("has no port ge-0/0/77"), "{why}");

    set(&|port| port.shut_for_errors = true);
    let (state, why, gave) = revive("ge-0/0/7", false);
    assert_eq!((state.as_str(), why.as_str()), ("succeeded", ""), "{gave}");
    assert_eq!(gave, json!({ "neighbours": ["brack-kiosks-3"] }));
    assert!(is_up());

    set(&|port| port.enabled = false);
    let (state, why, _) = revive("ge-0/0/7", false);
    assert!(state == "failed" && why.contains("was disabled by somebody; it stays so"), "{why}");
    let (state, why, _) = revive("ge-0/0/7", true);
    assert_eq!((state.as_str(), why.as_str()), ("succeeded", ""));
    assert!(is_up());

    // The cable is out: nothing proves it, nobody confirms it, and the switch takes it back. It is
    // told so here and now; that it does so by itself when the time is over, its own tests show.
    set(&|port| (port.enabled, port.cable) = (false, false));
    let text = std::fs::read_to_string(format!("{LIBRARY}/runbooks/revive-port.yaml"))
        .expect("the library");
    let hasty =
        text.split("examples:").next().expect("a runbook").replace("within: 1m", "within: 2s");
    stage.publish(&hasty);
    let (state, why, _) = revive("ge-0/0/7", true);
    assert!(state == "failed" && why.contains("does not come up"), "{why}");
    assert!(at_work.with(|switch| switch.ports["ge-0/0/7"].enabled), "it waits to be confirmed");
    at_work.with(|switch| switch.pass(std::time::Duration::from_mins(5)));
    assert!(!at_work.with(|switch| switch.ports["ge-0/0/7"].enabled), "it was taken back");
    until("no session to be left", || at_work.with(|switch| switch.sessions == 0).then_some(()));

    let tried = |connection: &str, operation: &str, give: Value| {
        let path = format!("/api/v1/connections/{connection}/operations/{operation}/try");
        let (status, tried) =
            stage.call(Method::POST, &path, Some(&json!({ "give": give, "dry_run": false })));
        assert_eq!((status, &tried["state"]), (200, &json!("done")), "{tried}");
        tried["output"].clone()
    };
    let port = json!({ "switch": "127.0.0.1", "port": "ge-0/0/1" });
    let counted = tried("pier-switches", "port.counters", port);
    assert!(counted["received"].as_f64() > counted["sent"].as_f64(), "{counted}");
    // The same over RESTCONF; the name of a port is one part of a path.
    let port = json!({ "port": "ge-0/0/7" });
    let state = tried("pier-switch-web", "port.state", port.clone());
    assert_eq!(state, json!({ "enabled": false, "is_up": false }));
    tried("pier-switch-web", "port.enable", port.clone());
    set(&|port| port.cable = true);
    assert!(is_up());
    let there = tried("pier-switch-web", "port.neighbours", json!({}));
    assert!(there.to_string().contains("brack-kiosks-3"), "{there}");
    tried("pier-switch-web", "port.disable", port);
    assert!(!is_up());
    let said = stage.arvok(&["connection", "test", "pier-switch-web"]);
    assert!(said.code == 0 && said.out.contains("ge-0/0/7"), "{}", said.all());
}
