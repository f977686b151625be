//! A machine that is reached over SSH: Debian's own sshd on a high port of loopback, with keys of
//! its own. Whoever is let in is whoever runs it; as root, any user of the machine.

mod units;

use crate::StandinError;
use arvok_postgres::{SupervisedChild, free_port, spawn_supervised};
use std::{
    fs,
    io::Error,
    net::TcpStream,
    path::{Path, PathBuf},
    process::{Command, Stdio},
    time::{Duration, Instant},
};

/// Where Debian has it.
const SSHD: &str = "/usr/sbin/sshd";
/// How long it may take until it listens.
const PATIENCE: Duration = Duration::from_secs(20);

/// A running sshd, with its keys and its record in a folder that goes with it.
#[derive(Debug)]
pub struct Machine {
    child: SupervisedChild,
    folder: PathBuf,
    port: u16,
    user: String,
}

impl Machine {
    /// Starts one in a folder of its own, at a port; 0: a free one. What is in the folder goes when
    /// it starts and when it ends.
    ///
    /// # Errors
    /// If there is no sshd, or it does not listen.
    pub fn start(folder: PathBuf, port: u16) -> Result<Self, StandinError> {
        Self::start_with(folder, port, "")
    }

    /// As [`start`](Self::start), with more lines in its configuration.
    ///
    /// # Errors
    /// As `start`.
    pub fn start_with(folder: PathBuf, port: u16, more: &str) -> Result<Self, StandinError> {
        let _ = fs::remove_dir_all(&folder);
        fs::create_dir_all(&folder).map_err(failed)?;
        let folder = folder.canonicalize().map_err(failed)?;
        let user = ran("id", &["-un"])?;
        for key in ["host", "authority", "user"] {
            keygen(&folder.join(key), "")?;
        }
        fs::copy(folder.join("user.pub"), folder.join("authorized")).map_err(failed)?;
        let port = if port == 0 { free_port().map_err(failed)? } else { port };
        units::lay_out(&folder).map_err(failed)?;
        let file = |name: &str| folder.join(name).display().to_string();
        // Without PAM an account without a password is locked.
        let pam = if ran("id", &["-u"])? == "0" { "yes" } else { "no" };
        // The first line of a name counts.
        let startups = if more.contains("MaxStartups") { "" } else { "MaxStartups 3\n" };
        // What the user's own shell reads when it begins may take seconds, and is not of this
        // machine: bash leaves it out where it is a shell within another.
        let config = format!(
            "Port {port}\nListenAddress 127.0.0.1\nHostKey \"{}\"\nAuthorizedKeysFile \"{}\"\n\
             TrustedUserCAKeys \"{}\"\nPidFile none\nPasswordAuthentication no\n\
             KbdInteractiveAuthentication no\nUsePAM {pam}\nStrictModes no\nPermitRootLogin yes\n\
             Subsystem sftp internal-sftp\n{startups}LogLevel VERBOSE\n\
             SetEnv \"PATH={}:/usr/local/bin:/usr/bin:/bin:/usr/sbin:/sbin\" SHLVL=2\n{more}",
            file("host"),
            file("authorized"),
            file("authority.pub"),
            file("bin"),
        );
        fs::write(folder.join("config"), config).map_err(failed)?;
        // As root it wants a folder of its own.
        let _ = fs::create_dir_all("/run/sshd");
        let child = run(&folder)?;
        let machine = Self { child, folder, port, user };
        machine.listens()?;
        Ok(machine)
    }

    /// As [`start`](Self::start), in a folder below that for temporary files: users reach it also
    /// if root runs this.
    ///
    /// # Errors
    /// As `start`.
    pub fn scratch(name: &str) -> Result<Self, StandinError> {
        let folder = format!("arvok-{}-{name}", std::process::id());
        Self::start(std::env::temp_dir().join(folder), 0)
    }

    fn listens(&self) -> Result<(), StandinError> {
        let begun = Instant::now();
        while TcpStream::connect(("127.0.0.1", self.port)).is_err() {
            if begun.elapsed() > PATIENCE {
                return Err(failed(Error::other(format!("sshd does not listen: {}", self.log()))));
            }
            std::thread::sleep(Duration::from_millis(25));
        }
        Ok(())
    }

    /// Ends it with all that runs in its sessions, and starts it again.
    ///
    /// # Errors
    /// If it does not listen again.
    pub fn restart(&mut self) -> Result<(), StandinError> {
        let sessions = self.sessions();
        self.child.end();
        for session in sessions.split_whitespace() {
            let _ = Command::new("kill").args(["-9", session]).status();
        }
        self.child = run(&self.folder)?;
        self.listens()
    }

    /// The processes of those who are let in.
    fn sessions(&self) -> String {
        let of = self.child.pid().to_string();
        let listed = Command::new("ps").args(["-o", "pid=", "--ppid", &of]).output();
        listed.map(|out| String::from_utf8_lossy(&out.stdout).into_owned()).unwrap_or_default()
    }

    /// Makes another private key, which nobody lets in yet.
    ///
    /// # Errors
    /// If none can be made.
    pub fn keygen(&self, name: &str, passphrase: &str) -> Result<String, StandinError> {
        keygen(&self.folder.join(name), passphrase)
    }

    /// Lets in whoever has a key that [`keygen`](Self::keygen) made.
    ///
    /// # Errors
    /// If there is no such key.
    pub fn let_in(&self, name: &str) -> Result<(), StandinError> {
        let read = |name: &str| fs::read_to_string(self.folder.join(name)).map_err(failed);
        let all = format!("{}{}", read("authorized")?, read(&format!("{name}.pub"))?);
        fs::write(self.folder.join("authorized"), all).map_err(failed)
    }

    /// A certificate for a key that [`keygen`](Self::keygen) made, by an authority that lets its
    /// users in.
    ///
    /// # Errors
    /// If there is no such key.
    pub fn certificate(&self, name: &str) -> Result<String, StandinError> {
        let file = |name: &str| self.folder.join(name).display().to_string();
        let (authority, key) = (file("authority"), file(&format!("{name}.pub")));
        let signs = ["-q", "-s", &authority, "-I", name, "-n", &self.user, "-V", "+1h", &key];
        ran("ssh-keygen", &signs)?;
        fs::read_to_string(self.folder.join(format!("{name}-cert.pub"))).map_err(failed)
    }

    /// A file of a unit: its `state`, its `log`, or its fault, `breaks`.
    ///
    /// # Errors
    /// If it cannot be written.
    pub fn set_unit(&self, unit: &str, file: &str, text: &str) -> Result<(), StandinError> {
        fs::write(self.folder.join("units").join(unit).join(file), text).map_err(failed)
    }

    /// How often somebody was let in.
    pub fn times_let_in(&self) -> usize {
        self.log().lines().filter(|line| line.contains("Accepted publickey")).count()
    }

    fn log(&self) -> String {
        fs::read_to_string(self.folder.join("log")).unwrap_or_default()
    }

    /// Its folder.
    pub fn folder(&self) -> &Path {
        &self.folder
    }

    /// Its port on loopback.
    pub const fn port(&self) -> u16 {
        self.port
    }

    /// Whoever runs it.
    pub fn user(&self) -> &str {
        &self.user
    }

    /// The address of a connection to it.
    pub fn base(&self) -> String {
        format!("ssh://127.0.0.1:{}", self.port)
    }

    /// The private key that lets its user in.
    ///
    /// # Errors
    /// If it is gone.
    pub fn key(&self) -> Result<String, StandinError> {
        fs::read_to_string(self.folder.join("user")).map_err(failed)
    }

    /// The fingerprint of its own key.
    ///
    /// # Errors
    /// If it is gone.
    pub fn fingerprint(&self) -> Result<String, StandinError> {
        let told =
            ran("ssh-keygen", &["-l", "-f", &self.folder.join("host.pub").display().to_string()])?;
        told.split_whitespace().nth(1).map(str::to_owned).ok_or_else(|| failed(Error::other(told)))
    }
}

impl Drop for Machine {
    fn drop(&mut self) {
        let sessions = self.sessions();
        self.child.end();
        for session in sessions.split_whitespace() {
            let _ = Command::new("kill").arg(session).status();
        }
        let _ = fs::remove_dir_all(&self.folder);
    }
}

fn run(folder: &Path) -> Result<SupervisedChild, StandinError> {
    let mut command = Command::new(SSHD);
    command.args(["-D", "-f"]).arg(folder.join("config")).arg("-E").arg(folder.join("log"));
    spawn_supervised(&command, "TERM", Stdio::null(), Stdio::null()).map_err(failed)
}

/// Makes a key; the private one.
fn keygen(at: &Path, passphrase: &str) -> Result<String, StandinError> {
    let path = at.display().to_string();
    ran("ssh-keygen", &["-q", "-t", "ed25519", "-N", passphrase, "-f", &path])?;
    fs::read_to_string(at).map_err(failed)
}

pub(crate) fn ran(program: &str, args: &[&str]) -> Result<String, StandinError> {
    let output = Command::new(program).args(args).stdin(Stdio::null()).output().map_err(failed)?;
    match output.status.success() {
        true => Ok(String::from_utf8_lossy(&output.stdout).trim().to_owned()),
        false => {
            let said = String::from_utf8_lossy(&output.stderr);
            Err(failed(Error::other(format!("{program}: {}", said.trim()))))
        }
    }
}

pub(crate) fn failed(e: Error) -> StandinError {
    StandinError::Machine(e)
}
