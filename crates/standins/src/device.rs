//! A network device that is reached over NETCONF: Debian's own netconfd behind an sshd, with the
//! interfaces of RFC 8343 as its configuration. It keeps what it is told and does nothing with it.

use crate::{
    StandinError,
    machine::{Machine, failed, ran},
};
use arvok_postgres::{SupervisedChild, free_port, spawn_supervised};
use std::{
    fs,
    io::Error,
    path::{Path, PathBuf},
    process::{Command, Stdio},
    time::{Duration, Instant},
};

/// Where Debian has the server, and what leads a session from sshd to it.
const SERVER: &str = "/usr/sbin/netconfd";
const SUBSYSTEM: &str = "/usr/sbin/netconf-subsystem";
/// Leads a session through, with a rest behind the hello: netconfd may miss a request that follows
/// it at once.
const SLOWED: &str = r"
open(my $to, '|-', @ARGV) or die;
my ($hello, $came) = ('', '');
while (sysread(STDIN, $came, 65536)) {
    if (defined $hello) {
        $hello .= $came;
        my $end = index($hello, ']]>]]>');
        next if $end < 0;
        syswrite($to, substr($hello, 0, $end + 6));
        select(undef, undef, undef, 0.2);
        $came = substr($hello, $end + 6);
        undef $hello;
    }
    for (my $at = 0; $at < length $came;) {
        $at += syswrite($to, $came, 65536, $at) // exit;
    }
}
";
/// How long it may take until it listens.
const PATIENCE: Duration = Duration::from_secs(20);

/// A running device.
#[derive(Debug)]
pub struct Device {
    server: SupervisedChild,
    /// The sshd that leads to it.
    pub machine: Machine,
    folder: PathBuf,
    target: &'static str,
}

impl Device {
    /// Starts one at a port, 0: a free one, that edits a `candidate` or `running` itself. Its keys
    /// are in a folder that is emptied, and goes when it ends.
    ///
    /// # Errors
    /// If there is no netconfd or no sshd, or they do not listen.
    pub fn start(keys: PathBuf, port: u16, target: &'static str) -> Result<Self, StandinError> {
        let port = if port == 0 { free_port().map_err(failed)? } else { port };
        // A socket has a short path.
        let folder = format!("arvok-{}-device-{port}", std::process::id());
        let folder = std::env::temp_dir().join(folder);
        let _ = fs::remove_dir_all(&folder);
        fs::create_dir_all(&folder).map_err(failed)?;
        let socket = folder.join("socket");
        let server = serve(&folder, port, target)?;
        let slowed = folder.join("slowed.pl");
        fs::write(&slowed, SLOWED).map_err(failed)?;
        let more = format!(
            "Subsystem netconf /usr/bin/perl {} {SUBSYSTEM} --ncxserver-sockname={port}@{}\n",
            slowed.display(),
            socket.display()
        );
        let machine = Machine::start_with(keys, port, &more)?;
        Ok(Self { server, machine, folder, target })
    }

    /// As [`start`](Self::start), in a folder below that for temporary files.
    ///
    /// # Errors
    /// As `start`.
    pub fn scratch(name: &str, target: &'static str) -> Result<Self, StandinError> {
        let folder = format!("arvok-{}-{name}", std::process::id());
        Self::start(std::env::temp_dir().join(folder), 0, target)
    }

    /// The address of a connection to it.
    pub fn base(&self) -> String {
        format!("netconf://127.0.0.1:{}", self.machine.port())
    }

    /// Ends the server with all of its sessions, and starts it again without what it kept.
    ///
    /// # Errors
    /// If it does not listen again.
    pub fn restart(&mut self) -> Result<(), StandinError> {
        self.server.end();
        let _ = fs::remove_file(self.folder.join("socket"));
        self.server = serve(&self.folder, self.machine.port(), self.target)?;
        Ok(())
    }
}

impl Drop for Device {
    fn drop(&mut self) {
        self.server.end();
        let _ = fs::remove_dir_all(&self.folder);
    }
}

fn serve(folder: &Path, port: u16, target: &str) -> Result<SupervisedChild, StandinError> {
    if !Path::new(SERVER).exists() {
        let missing = format!("{SERVER} is missing; Debian has it in the package netconfd");
        return Err(failed(Error::other(missing)));
    }
    let socket = folder.join("socket");
    let user = ran("id", &["-un"])?;
    let account = ran("getent", &["passwd", &user])?;
    let home = account.split(':').nth(5).unwrap_or("/root");
    let own_home = folder.join("home");
    fs::create_dir_all(&own_home).map_err(failed)?;
    // It keeps what it is told in the home of its user, whatever it is asked; so it gets another.
    let mut command = Command::new("bwrap");
    command
        .args(["--die-with-parent", "--dev-bind", "/", "/", "--bind"])
        .arg(&own_home)
        .arg(home)
        .arg("--bind")
        .args([folder, folder])
        .arg("--chdir")
        .arg(folder)
        .args([SERVER, "--no-startup", "--module=ietf-interfaces", "--module=iana-if-type"])
        .arg(format!("--superuser={user}"))
        .arg(format!("--target={target}"))
        .arg(format!("--port={port}"))
        .arg(format!("--ncxserver-sockname={}", socket.display()))
        .args(["--log-level=info", &format!("--log={}", folder.join("log").display())]);
    let server =
        spawn_supervised(&command, "KILL", Stdio::null(), Stdio::null()).map_err(failed)?;
    let begun = Instant::now();
    while !socket.exists() {
        if begun.elapsed() > PATIENCE {
            let log = fs::read_to_string(folder.join("log")).unwrap_or_default();
            return Err(failed(Error::other(format!("netconfd does not listen: {log}"))));
        }
        std::thread::sleep(Duration::from_millis(25));
    }
    Ok(server)
}
