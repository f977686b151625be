//! The README and the guide, followed word for word: each block of commands is run as it stands, in
//! order, and prints what the page says. Only the ports are others, since tests take free ones, and
//! what goes on for ever is started beside the rest.

use crate::kit::{ARVOK, database, folder};
use arvok_postgres::{SupervisedChild, free_port, spawn_supervised};
use std::{
    fs,
    path::PathBuf,
    process::{Command, Stdio},
};

const README: &str = include_str!("../../../../README.md");
const GUIDE: &str = include_str!("../../../../docs/guide/first-rule.md");
const ACTING_GUIDE: &str = include_str!("../../../../docs/guide/from-watching-to-acting.md");
const RUNBOOK_GUIDE: &str = include_str!("../../../../docs/guide/first-runbook.md");
const READY_GUIDE: &str = include_str!("../../../../docs/guide/ready-made.md");
const OPERATIONS_GUIDE: &str = include_str!("../../../../docs/guide/operations.md");
const CONNECT_GUIDE: &str = include_str!("../../../../docs/guide/connect-an-api.md");

const MACHINE_GUIDE: &str = include_str!("../../../../docs/guide/reach-a-machine.md");
const HYPERVISOR_GUIDE: &str = include_str!("../../../../docs/guide/reach-a-hypervisor.md");
const DEVICE_GUIDE: &str = include_str!("../../../../docs/guide/reach-a-device.md");
const RUNNER_GUIDE: &str = include_str!("../../../../docs/guide/run-a-runner.md");
const SCRIPT_GUIDE: &str = include_str!("../../../../docs/guide/write-a-script.md");
const PLAN_GUIDE: &str = include_str!("../../../../docs/guide/run-at-times.md");
const PEOPLE_GUIDE: &str = include_str!("../../../../docs/guide/tell-people.md");
const SENDER_GUIDE: &str = include_str!("../../../../docs/guide/connect-a-sender.md");

/// Somebody who reads a page and does what it says.
struct Reader {
    folder: PathBuf,
    ports: Vec<(&'static str, u16)>,
    database: String,
    other_database: String,
    /// What runs beside the commands; the service first, so that it can be started again.
    beside: Vec<(String, SupervisedChild)>,
    printed: String,
}

impl Reader {
    fn new(name: &str) -> Self {
        let folder = folder(name);
        let repository = PathBuf::from(env!("CARGO_MANIFEST_DIR")).join("../..");
        let repository = repository.canonicalize().expect("the repository");
        for part in ["demo", "library"] {
            std::os::unix::fs::symlink(repository.join(part), folder.join(part)).expect("a link");
        }
        let free = || free_port().expect("a free port");
        let ports =
            ["8470", "7401", "7402", "7405", "7406", "7409", "7410", "7411", "5514", "1162"]
                .map(|written| (written, free()))
                .to_vec();
        Self {
            folder,
            ports,
            database: database(),
            other_database: database(),
            beside: Vec::new(),
            printed: String::new(),
        }
    }

    fn own_ports(&self, text: &str) -> String {
        let own = |text: String, (written, port): &(&str, u16)| {
            text.replace(&format!("127.0.0.1:{written}"), &format!("127.0.0.1:{port}"))
                .replace(&format!("--port {written}"), &format!("--port {port}"))
        };
        self.ports.iter().fold(text.to_owned(), own)
    }

    fn command(&self, program: &str) -> Command {
        let mut command = Command::new(program);
        let bin = PathBuf::from(ARVOK).parent().expect("a folder").display().to_string();
        let port = |written: &str| {
            self.ports.iter().find(|p| p.0 == written).map(|p| p.1).expect("a port")
        };
        command
            .current_dir(&self.folder)
            .env("PATH", format!("{bin}:{}", std::env::var("PATH").unwrap_or_default()))
            .env("HOME", &self.folder)
            .env("SNMP_PERSISTENT_DIR", &self.folder)
            .env("ARVOK_LOG", "warn")
            .env("ARVOK_DATABASE", &self.database)
            .env("NEW_DATABASE", &self.other_database)
            .env("ARVOK_DATABASE_CONNECTIONS", "8")
            .env("ARVOK_LISTEN", format!("127.0.0.1:{}", port("8470")))
            .env_remove("XDG_CONFIG_HOME")
            .env_remove("ARVOK_SERVER")
            .env_remove("ARVOK_TOKEN");
        command
    }

    /// Starts what goes on for ever. Of services one runs at a time.
    fn start(&mut self, line: &str) {
        let (variables, program) = line.split_at(line.find("arvok ").expect("the command"));
        let mut words: Vec<String> =
            program.trim_end_matches('&').split_whitespace().map(|w| self.own_ports(w)).collect();
        if words.get(1).is_some_and(|word| word == "serve") {
            self.beside.retain(|(line, _)| !line.contains("arvok serve"));
        }
        if let [_, standin, which, ..] = words.as_slice()
            && standin == "standin"
        {
            let written = match which.as_str() {
                "yard" => "7401",
                "desk" => "7405",
                "kiosks" => "7406",
                "machine" => "7409",
                "device" => "7410",
                "hypervisor" => "7411",
                _ => "7402",
            };
            let port = self.ports.iter().find(|p| p.0 == written).map(|p| p.1).expect("a port");
            words.extend(["--port".to_owned(), port.to_string()]);
        }
        let mut command = self.command(ARVOK);
        command.args(&words[1..]);
        for (name, value) in variables.split_whitespace().filter_map(|word| word.split_once('=')) {
            match value {
                "\"$NEW_DATABASE\"" => command.env(name, &self.other_database),
                plain => command.env(name, plain),
            };
        }
        let running =
            spawn_supervised(&command, "KILL", Stdio::null(), Stdio::null()).expect("it starts");
        self.beside.push((line.to_owned(), running));
    }

    /// Does what a block says; what it prints is kept for what the page says about it.
    fn run(&mut self, block: &str) {
        let beside = |l: &&str| l.starts_with("arvok standin ") || l.ends_with('&');
        let lines: Vec<&str> = block
            .lines()
            .filter(|l| !l.starts_with("make ") && !l.starts_with("export "))
            .collect();
        for line in lines.iter().filter(|l| beside(l)) {
            self.start(line);
        }
        let script: Vec<&str> = lines.into_iter().filter(|l| !beside(l)).collect();
        if script.is_empty() {
            return;
        }
        let script = self.own_ports(&script.join("\n"));
        let said =
            self.command("bash").args(["-euo", "pipefail", "-c", &script]).output().expect("bash");
        let (out, err) =
            (String::from_utf8_lossy(&said.stdout), String::from_utf8_lossy(&said.stderr));
        assert!(said.status.success(), "{script}\n{out}\n{err}");
        self.printed = out.into_owned();
    }

    /// Settings of the service, which is then started again.
    fn set(&mut self, settings: &str) {
        fs::write(self.folder.join("arvok.toml"), self.own_ports(settings)).expect("writes");
        let at = self
            .beside
            .iter()
            .position(|(line, _)| line.starts_with("arvok serve"))
            .expect("a service");
        let (line, running) = self.beside.remove(at);
        drop(running);
        self.start(&line);
        let port = self.ports[0].1;
        self.run(&format!(
            "arvok login http://127.0.0.1:{port} --token-file arvok-data/admin.token --wait"
        ));
    }

    /// The lines of a page stand, in their order, among what was printed; `...` is anything.
    fn compare(&self, wanted: &str) {
        let wanted = self.own_ports(wanted);
        let mut printed = self.printed.lines();
        for line in wanted.lines().filter(|l| l.trim() != "...") {
            let pieces: Vec<&str> = line.split("...").map(str::trim).collect();
            let fits = |l: &str| {
                let words = |t: &str| t.split_whitespace().collect::<Vec<_>>().join(" ");
                let (l, mut from) = (words(l), 0);
                pieces.iter().map(|p| words(p)).all(|p| match l[from..].find(&p) {
                    Some(n) => {
                        from += n + p.len();
                        true
                    }
                    None => false,
                })
            };
            assert!(
                printed.any(fits),
                "the page says that this is printed:\n{line}\nand what is printed is\n{}",
                self.printed
            );
        }
    }

    /// Follows a page from one place to another.
    fn follow(&mut self, page: &str) {
        for block in page.split("```").skip(1).step_by(2) {
            let (language, text) = block.split_once('\n').unwrap_or((block, ""));
            match language {
                "sh" => self.run(text),
                "yaml" => {
                    fs::write(self.folder.join("first.yaml"), self.own_ports(text)).expect("writes")
                }
                "toml" => self.set(text),
                "text" => self.compare(text),
                // Shown, and not to be done.
                "" | "ini" => {}
                other => panic!("nobody knows what to do with a block of {other}"),
            }
        }
    }
}

#[test]
fn the_readme_does_what_it_says() {
    let section = README
        .split("## A first rule of your own")
        .nth(1)
        .and_then(|r| r.split("\n## ").next())
        .expect("it");
    let mut reader = Reader::new("readme");
    reader.follow(section);
    reader.run(
        "sed -i 's/^rule: disk-filling/&\\nstance: act/' first.yaml
arvok publish first.yaml --yes
arvok send yard-scripts --kind disk.usage --resource vm/quill-booking-db-2 --severity major --value 91 --for-real
arvok job follow 1",
    );
}

#[test]
fn the_guide_does_what_it_says() {
    Reader::new("guide").follow(GUIDE);
}

#[test]
fn the_guide_to_acting_safely_does_what_it_says() {
    Reader::new("guide-acting").follow(ACTING_GUIDE);
}

#[test]
fn the_guide_to_operating_does_what_it_says() {
    Reader::new("guide-operating").follow(OPERATIONS_GUIDE);
}

#[test]
fn the_guide_to_runbooks_does_what_it_says() {
    Reader::new("guide-runbook").follow(RUNBOOK_GUIDE);
}

#[test]
fn the_guide_to_ready_made_runbooks_does_what_it_says() {
    Reader::new("guide-ready").follow(READY_GUIDE);
}

#[test]
fn the_guide_to_senders_does_what_it_says() {
    Reader::new("guide-sender").follow(SENDER_GUIDE);
}

#[test]
fn the_guide_to_connections_does_what_it_says() {
    Reader::new("guide-connect").follow(CONNECT_GUIDE);
}

#[test]
fn the_guide_to_runners_does_what_it_says() {
    Reader::new("guide-runner").follow(RUNNER_GUIDE);
}

#[test]
fn the_guide_to_machines_does_what_it_says() {
    Reader::new("guide-machine").follow(MACHINE_GUIDE);
}

#[test]
fn the_guide_to_devices_does_what_it_says() {
    Reader::new("guide-device").follow(DEVICE_GUIDE);
}

#[test]
fn the_guide_to_hypervisors_does_what_it_says() {
    Reader::new("guide-hypervisor").follow(HYPERVISOR_GUIDE);
}

#[test]
fn the_guide_to_plans_does_what_it_says() {
    Reader::new("guide-plans").follow(PLAN_GUIDE);
}

#[test]
fn the_guide_to_telling_people_does_what_it_says() {
    Reader::new("guide-people").follow(PEOPLE_GUIDE);
}

#[test]
fn the_guide_to_scripts_does_what_it_says() {
    Reader::new("guide-script").follow(SCRIPT_GUIDE);
}
