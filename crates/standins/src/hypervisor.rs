//! A hypervisor that is reached over SSH: Debian's own libvirtd behind an sshd, run by whoever runs
//! this (as root: by `nobody`), with folders of its own. Its guests run in QEMU, or, where that is
//! not there or not wanted, in libvirt's own test driver, which keeps their state and runs nothing.

use crate::{
    StandinError,
    machine::{Machine, failed, ran},
};
use arvok_postgres::{SupervisedChild, free_port, spawn_supervised};
use std::{
    fs,
    io::Error,
    os::unix::fs::{chown, symlink},
    path::{Path, PathBuf},
    process::{Command, Stdio},
    time::{Duration, Instant},
};

/// Where Debian has them.
const LIBVIRTD: &str = "/usr/sbin/libvirtd";
const QEMU: &str = "/usr/bin/qemu-system-x86_64";
/// How long it may take until it answers.
const PATIENCE: Duration = Duration::from_secs(30);
/// The guests: name, memory and most of it in MiB, processors and most of them, whether it runs.
const GUESTS: [(&str, [u32; 2], [u32; 2], bool); 3] = [
    ("quill-web-1", [48, 96], [1, 2], true),
    ("quill-web-2", [48, 96], [1, 2], true),
    ("quill-batch-1", [64, 64], [1, 1], false),
];

/// In what guests run.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum GuestsIn {
    /// libvirt's test driver: nothing runs.
    TestDriver,
    /// QEMU, which emulates their processors.
    Qemu,
}

impl GuestsIn {
    /// Whether this machine has what guests run in so.
    pub fn is_here(self) -> bool {
        Path::new(LIBVIRTD).exists() && (self == Self::TestDriver || Path::new(QEMU).exists())
    }

    const fn usual(self) -> &'static str {
        match self {
            Self::TestDriver => "test:///default",
            Self::Qemu => "qemu:///session",
        }
    }
}

/// A running hypervisor.
#[derive(Debug)]
pub struct Hypervisor {
    server: SupervisedChild,
    /// Keeps the state of the test driver, which goes with the last session.
    session: Option<SupervisedChild>,
    /// The sshd that leads to it.
    pub machine: Machine,
    folder: PathBuf,
    guests: GuestsIn,
}

impl Hypervisor {
    /// Starts one at a port, 0: a free one. Its keys and a link to its socket are in a folder that
    /// is emptied, and goes when it ends, with all guests.
    ///
    /// # Errors
    /// If there is no libvirtd or no sshd, or they do not answer.
    pub fn start(keys: PathBuf, port: u16, guests: GuestsIn) -> Result<Self, StandinError> {
        let port = if port == 0 { free_port().map_err(failed)? } else { port };
        // A socket has a short path.
        let folder = format!("arvok-{}-hypervisor-{port}", std::process::id());
        let folder = std::env::temp_dir().join(folder);
        let _ = fs::remove_dir_all(&folder);
        fs::create_dir_all(&folder).map_err(failed)?;
        let owner = Owner::of_guests()?;
        for name in ["run", "config", "data", "cache", "disks"] {
            owner.folder(&folder.join(name))?;
        }
        let server = serve(&folder, port, guests, &owner)?;
        let machine = Machine::start(keys, port)?;
        let mut made = Self { server, session: None, machine, folder, guests };
        made.answers()?;
        symlink(made.socket(), made.machine.folder().join("socket")).map_err(failed)?;
        if guests == GuestsIn::TestDriver {
            let mut command = Command::new("virsh");
            command.args(["-q", "-c", &made.uri(), "event", "--all", "--loop"]);
            let session = spawn_supervised(&command, "KILL", Stdio::null(), Stdio::null());
            made.session = Some(session.map_err(failed)?);
            // It has begun when its guest is the one that others see.
            made.virsh(&["event", "--list"])?;
            for ends in [["destroy", "test"], ["undefine", "test"]] {
                let _ = made.virsh(&ends);
            }
        }
        for (name, memory, vcpus, runs) in GUESTS {
            made.define(name, memory, vcpus, &owner)?;
            if runs {
                made.virsh(&["start", name])?;
            }
        }
        Ok(made)
    }

    /// As [`start`](Self::start), in a folder below that for temporary files.
    ///
    /// # Errors
    /// As `start`.
    pub fn scratch(name: &str, guests: GuestsIn) -> Result<Self, StandinError> {
        let folder = format!("arvok-{}-{name}", std::process::id());
        Self::start(std::env::temp_dir().join(folder), 0, guests)
    }

    /// The address of a connection to it.
    pub fn base(&self) -> String {
        format!("libvirt://127.0.0.1:{}{}", self.machine.port(), self.socket().display())
    }

    /// Its socket.
    pub fn socket(&self) -> PathBuf {
        self.folder.join("run/libvirt/libvirt-sock")
    }

    /// As other hosts reach it, and libvirt's own command.
    pub fn uri(&self) -> String {
        let usual = self.guests.usual();
        let (driver, path) = usual.split_once("://").unwrap_or((usual, ""));
        format!("{driver}+unix://{path}?socket={}", self.socket().display())
    }

    /// What libvirt's own command says.
    ///
    /// # Errors
    /// If it says no.
    pub fn virsh(&self, args: &[&str]) -> Result<String, StandinError> {
        let uri = self.uri();
        ran("virsh", &[&["-q", "-c", &uri], args].concat())
    }

    /// How many sessions others have with it.
    ///
    /// # Errors
    /// If the kernel does not say.
    pub fn sessions(&self) -> Result<usize, StandinError> {
        let socket = self.socket().display().to_string();
        let all = fs::read_to_string("/proc/net/unix").map_err(failed)?;
        // The sixth column is the state: 03 is connected.
        let is_session =
            |line: &&str| line.ends_with(&socket) && line.split_whitespace().nth(5) == Some("03");
        Ok(all.lines().filter(is_session).count() - usize::from(self.session.is_some()))
    }

    /// Ends its server as if it had died, and all that runs in it.
    pub fn die(&mut self) {
        self.server.end();
    }

    fn answers(&self) -> Result<(), StandinError> {
        let begun = Instant::now();
        while let Err(e) = self.virsh(&["version"]) {
            if begun.elapsed() > PATIENCE {
                let log = fs::read_to_string(self.folder.join("log")).unwrap_or_default();
                let message = format!("libvirtd does not answer: {e}: {log}");
                return Err(failed(Error::other(message)));
            }
            std::thread::sleep(Duration::from_millis(50));
        }
        Ok(())
    }

    fn define(
        &self,
        name: &str,
        [mib, most_mib]: [u32; 2],
        [vcpus, most_vcpus]: [u32; 2],
        owner: &Owner,
    ) -> Result<(), StandinError> {
        let disk = self.folder.join("disks").join(format!("{name}.qcow2"));
        let path = disk.display().to_string();
        let (kind, more) = match self.guests {
            GuestsIn::TestDriver => ("test", String::new()),
            GuestsIn::Qemu => {
                ran("qemu-img", &["create", "-q", "-f", "qcow2", &path, "64M"])?;
                owner.own(&disk)?;
                ("qemu", format!("<emulator>{QEMU}</emulator>"))
            }
        };
        let machine = if kind == "qemu" { " arch='x86_64' machine='pc'" } else { "" };
        let document = format!(
            "<domain type='{kind}'><name>{name}</name><memory unit='MiB'>{most_mib}</memory>\
             <currentMemory unit='MiB'>{mib}</currentMemory>\
             <vcpu current='{vcpus}'>{most_vcpus}</vcpu><os><type{machine}>hvm</type></os>\
             <devices>{more}<disk type='file' device='disk'><driver name='qemu' type='qcow2'/>\
             <source file='{path}'/><target dev='vda' bus='virtio'/></disk></devices></domain>"
        );
        let file = self.folder.join(format!("{name}.xml"));
        fs::write(&file, document).map_err(failed)?;
        self.virsh(&["define", &file.display().to_string()])?;
        Ok(())
    }
}

impl Drop for Hypervisor {
    fn drop(&mut self) {
        if let Some(session) = &mut self.session {
            session.end();
        }
        self.server.end();
        let _ = fs::remove_dir_all(&self.folder);
    }
}

/// Whose guests are: nobody's, if root runs this.
struct Owner(Option<(u32, u32)>);

impl Owner {
    fn of_guests() -> Result<Self, StandinError> {
        if ran("id", &["-u"])? != "0" {
            return Ok(Self(None));
        }
        let number = |option: &str| {
            let said = ran("id", &[option, "nobody"])?;
            said.parse::<u32>().map_err(|e| failed(Error::other(e)))
        };
        Ok(Self(Some((number("-u")?, number("-g")?))))
    }

    fn own(&self, path: &Path) -> Result<(), StandinError> {
        let Some((user, group)) = self.0 else { return Ok(()) };
        chown(path, Some(user), Some(group)).map_err(failed)
    }

    fn folder(&self, path: &Path) -> Result<(), StandinError> {
        fs::create_dir(path).map_err(failed)?;
        self.own(path)
    }
}

/// Runs the server among processes of its own, so that no guest outlives it.
fn serve(
    folder: &Path,
    port: u16,
    guests: GuestsIn,
    owner: &Owner,
) -> Result<SupervisedChild, StandinError> {
    for (file, package) in [(LIBVIRTD, "libvirt-daemon"), ("/usr/bin/virsh", "libvirt-clients")] {
        if !Path::new(file).exists() {
            let missing = format!("{file} is missing; Debian has it in the package {package}");
            return Err(failed(Error::other(missing)));
        }
    }
    if !guests.is_here() {
        let missing = format!("{QEMU} is missing; Debian has it in the package qemu-system-x86");
        return Err(failed(Error::other(missing)));
    }
    // Hosts between which guests are moved are told apart by it.
    let number = u64::from(std::process::id()) << 16 | u64::from(port);
    let config = format!(
        "auth_unix_rw = \"none\"\nauth_unix_ro = \"none\"\n\
         host_uuid = \"a2c45c1e-0000-4000-8000-{:012x}\"\n\
         log_outputs = \"3:file:{}\"\n",
        number,
        folder.join("run/log").display(),
    );
    fs::write(folder.join("libvirtd.conf"), config).map_err(failed)?;
    let mut command = Command::new("bwrap");
    command.args(["--die-with-parent", "--unshare-pid", "--dev-bind", "/", "/"]);
    command.args(["--proc", "/proc", "--chdir"]).arg(folder).args(["env", "-i"]);
    for (name, path) in [
        ("HOME", "data"),
        ("XDG_RUNTIME_DIR", "run"),
        ("XDG_CONFIG_HOME", "config"),
        ("XDG_DATA_HOME", "data"),
        ("XDG_CACHE_HOME", "cache"),
    ] {
        command.arg(format!("{name}={}", folder.join(path).display()));
    }
    command.arg("PATH=/usr/local/bin:/usr/bin:/bin:/usr/sbin:/sbin");
    command.arg(format!("LIBVIRT_DEFAULT_URI={}", guests.usual()));
    if let Some((user, group)) = owner.0 {
        command.arg("setpriv").arg(format!("--reuid={user}")).arg(format!("--regid={group}"));
        command.arg("--clear-groups");
    }
    command.arg(LIBVIRTD).arg("-f").arg(folder.join("libvirtd.conf"));
    spawn_supervised(&command, "KILL", Stdio::null(), Stdio::null()).map_err(failed)
}
