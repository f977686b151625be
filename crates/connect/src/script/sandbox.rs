//! What a script finds around itself: the system's programs, to read; a working folder of its own,
//! kept in memory and bounded; no other file, process, user or network. The kernel's namespaces
//! hold it, which bubblewrap sets up, and all of it is gone when the script is.

use super::syscalls;
use arvok_core::script::ScriptRun;
use command_fds::FdMapping;
use nix::sys::memfd::{MFdFlags, memfd_create};
use std::{
    fs::File,
    io::{Seek, Write},
    os::fd::OwnedFd,
    path::{Path, PathBuf},
};

/// Where programs are looked for: on the node, and by a script in its sandbox.
pub(super) const PATH: [&str; 3] = ["/usr/local/bin", "/usr/bin", "/bin"];

/// The program that makes the sandbox.
pub(super) const PROGRAM: &str = "bwrap";
/// Sets bounds for each process (util-linux); inside, so that the processes of other sandboxes of
/// the same user do not count.
const PRLIMIT: &str = "/usr/bin/prlimit";
/// Lets the node and its neighbours go first (coreutils).
const NICE: [&str; 3] = ["/usr/bin/nice", "-n", "10"];
/// The working folder.
const WORK: &str = "/work";
/// The descriptor to which a script writes what it gives.
pub(super) const OUTPUT: i32 = 3;
/// The descriptor on which the sandbox says that the script has begun and ended.
pub(super) const STATUS: i32 = 4;
/// The same once more, for what is in the sandbox: to say that all stands. The program is run
/// without it.
pub(super) const BEGUN: i32 = 5;
const BEGIN: &str = "echo '{\"begun\":true}' >&5; exec \"$@\" 5>&-";
/// The first of those from which a script reads its secrets.
const FIRST_SECRET: i32 = 10;
/// The first of those with the contents of files, which are closed before it begins.
const FIRST_FILE: i32 = 100;
/// Who a script is in its sandbox.
const USER: u32 = 1000;
/// Address space beyond the memory that is watched: programs reserve more than they use.
const RESERVED: u64 = 1 << 30;
/// Bytes in each of the folders for temporary files and for memory that processes share.
const TEMPORARY: u64 = 16 << 20;
/// What a program needs of the system's settings.
const SYSTEM: [&str; 4] =
    ["/etc/alternatives", "/etc/ld.so.cache", "/etc/localtime", "/etc/timezone"];
/// And what for the network.
const NETWORK: [&str; 7] = [
    "/etc/resolv.conf",
    "/etc/hosts",
    "/etc/nsswitch.conf",
    "/etc/services",
    "/etc/ssl",
    "/etc/ca-certificates",
    "/etc/pki",
];

/// How a script is started.
#[derive(Debug)]
pub(super) struct Sandbox {
    /// What the sandbox is made by.
    options: Vec<String>,
    /// Names the descriptor with these, since the arguments of a process are there for all to read,
    /// and the program in it.
    pub arguments: Vec<String>,
    /// Descriptors with the contents of its files.
    pub files: Vec<FdMapping>,
}

impl Sandbox {
    fn add<const N: usize>(&mut self, words: [&str; N]) {
        self.options.extend(words.map(str::to_owned));
    }

    /// A descriptor of the sandbox from which a content is read.
    fn descriptor(&mut self, content: &[u8]) -> std::io::Result<String> {
        let parent_fd = in_memory(content)?;
        let count = i32::try_from(self.files.len()).unwrap_or(i32::MAX - FIRST_FILE);
        let child_fd = FIRST_FILE + count;
        self.files.push(FdMapping { parent_fd, child_fd });
        Ok(child_fd.to_string())
    }

    fn file(&mut self, path: &str, content: &[u8]) -> std::io::Result<()> {
        let descriptor = self.descriptor(content)?;
        self.add(["--perms", "0555", "--file", &descriptor, path]);
        Ok(())
    }
}

/// A descriptor from which a content is read.
fn in_memory(content: &[u8]) -> std::io::Result<OwnedFd> {
    let mut file = File::from(memfd_create(c"script", MFdFlags::MFD_CLOEXEC)?);
    file.write_all(content)?;
    file.rewind()?;
    Ok(file.into())
}

/// The sandbox of a script.
pub(super) fn arrange(
    run: &ScriptRun,
    secrets: &[(String, String)],
    interpreter: &Path,
    folders: &[PathBuf],
) -> std::io::Result<Sandbox> {
    let (options, arguments, files) = (Vec::new(), Vec::new(), Vec::new());
    let mut sandbox = Sandbox { options, arguments, files };
    let user = USER.to_string();
    sandbox.add(["--die-with-parent", "--new-session"]);
    sandbox.add(["--unshare-user", "--disable-userns", "--uid", &user, "--gid", &user]);
    sandbox.add(["--unshare-pid", "--unshare-ipc", "--unshare-uts", "--unshare-cgroup-try"]);
    sandbox.add(["--hostname", "script", "--cap-drop", "ALL"]);
    if !run.network {
        sandbox.add(["--unshare-net"]);
    }
    sandbox.add(["--clearenv"]);
    let path = PATH.join(":");
    let own = [("PATH", path.as_str()), ("HOME", WORK), ("LANG", "C.UTF-8")];
    let output = [("ARVOK_OUTPUT", "/dev/fd/3")];
    let given = run.env.iter().map(|(name, value)| (name.as_str(), value.as_str()));
    for (name, value) in own.into_iter().chain(given).chain(output) {
        sandbox.add(["--setenv", name, value]);
    }
    for (n, (name, value)) in (FIRST_SECRET..).zip(secrets) {
        let parent_fd = in_memory(value.as_bytes())?;
        sandbox.files.push(FdMapping { parent_fd, child_fd: n });
        sandbox.add(["--setenv", &format!("ARVOK_SECRET_{name}"), &format!("/dev/fd/{n}")]);
    }
    system(&mut sandbox);
    let shared = SYSTEM.iter().chain(NETWORK.iter().filter(|_| run.network));
    for path in shared {
        sandbox.add(["--ro-bind-try", path, path]);
    }
    for folder in folders {
        let folder = folder.to_string_lossy();
        sandbox.add(["--ro-bind", &folder, &folder]);
    }
    sandbox.file("/etc/passwd", format!("script:x:{USER}:{USER}::{WORK}:/bin/sh\n").as_bytes())?;
    sandbox.file("/etc/group", format!("script:x:{USER}:\n").as_bytes())?;
    sandbox.add(["--proc", "/proc", "--dev", "/dev"]);
    for path in ["/dev/shm", "/tmp"] {
        sandbox.add(["--size", &TEMPORARY.to_string(), "--tmpfs", path]);
    }
    // What is made there would be kept in memory, without a bound.
    sandbox.add(["--remount-ro", "/dev"]);
    sandbox.add(["--size", &run.limits.disk.to_string(), "--tmpfs", WORK]);
    sandbox.file(&format!("{WORK}/{}", run.name), run.code.as_bytes())?;
    for (name, content) in run.files.iter().filter(|(name, _)| **name != run.name) {
        sandbox.file(&format!("{WORK}/{name}"), content.as_bytes())?;
    }
    if let Some(filter) = syscalls::filter() {
        let descriptor = sandbox.descriptor(&filter)?;
        sandbox.add(["--seccomp", &descriptor]);
    }
    sandbox.add(["--chdir", WORK, "--remount-ro", "/", "--json-status-fd", &STATUS.to_string()]);
    let options = std::mem::take(&mut sandbox.options).join("\0");
    let options = sandbox.descriptor(options.as_bytes())?;
    let limits = &run.limits;
    let words = ["--args", &options, "--", "/bin/sh", "-c", BEGIN, "sh"];
    let words = words.into_iter().chain(NICE).chain([PRLIMIT, "--core=0"]);
    sandbox.arguments.extend(words.map(str::to_owned));
    sandbox.arguments.extend([
        format!("--nproc={}", limits.processes),
        format!("--nofile={}", limits.open_files),
        format!("--as={}", limits.memory + RESERVED),
        format!("--fsize={}", limits.disk),
    ]);
    if let Some(time) = limits.processor_time {
        let seconds = time.millis().div_ceil(1000);
        sandbox.arguments.push(format!("--cpu={seconds}:{}", seconds + 1));
    }
    let code = format!("{WORK}/{}", run.name);
    sandbox.arguments.extend(["--".to_owned(), interpreter.display().to_string(), code]);
    Ok(sandbox)
}

/// The system's programs and libraries, where they lie on this machine.
fn system(sandbox: &mut Sandbox) {
    sandbox.add(["--ro-bind", "/usr", "/usr"]);
    for path in ["/bin", "/sbin", "/lib", "/lib32", "/lib64"] {
        match std::fs::read_link(path) {
            Ok(target) => sandbox.add(["--symlink", &target.to_string_lossy(), path]),
            Err(_) => sandbox.add(["--ro-bind-try", path, path]),
        }
    }
}
