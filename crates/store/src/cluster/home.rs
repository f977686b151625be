//! The cluster's folder and the user it belongs to.

use super::failed;
use crate::StoreError;
use nix::unistd::{User, chown, geteuid};
use std::{
    fs,
    io::Write,
    os::unix::fs::{OpenOptionsExt, PermissionsExt},
    path::{Path, PathBuf},
    process::Command,
};

pub(super) struct Home {
    pub data: PathBuf,
    pub password: PathBuf,
    pub log: PathBuf,
    /// As root: the user that PostgreSQL runs as.
    user: Option<User>,
}

impl Home {
    pub fn prepare(folder: &Path) -> Result<Self, StoreError> {
        let user = if geteuid().is_root() { Some(postgres_user()?) } else { None };
        let within = |e: std::io::Error| failed(format!("{}: {e}", folder.display()));
        fs::create_dir_all(folder).map_err(within)?;
        let folder = folder.canonicalize().map_err(within)?;
        let folder = if user.is_some() && !reachable(&folder) { elsewhere(&folder)? } else { folder };
        let home = Self {
            data: folder.join("data"),
            password: folder.join("password"),
            log: folder.join("postgres.log"),
            user,
        };
        fs::create_dir_all(&home.data).map_err(within)?;
        fs::set_permissions(&home.data, fs::Permissions::from_mode(0o700)).map_err(within)?;
        home.own(&folder)?;
        home.own(&home.data)?;
        Ok(home)
    }

    fn own(&self, path: &Path) -> Result<(), StoreError> {
        match &self.user {
            Some(u) => chown(path, Some(u.uid), Some(u.gid)).map_err(|e| failed(format!("{}: {e}", path.display()))),
            None => Ok(()),
        }
    }

    pub fn write_password(&self, password: &str) -> Result<(), StoreError> {
        let write = || -> std::io::Result<()> {
            let _ = fs::remove_file(&self.password);
            let mut file = fs::OpenOptions::new().write(true).create_new(true).mode(0o600).open(&self.password)?;
            file.write_all(password.as_bytes())
        };
        write().map_err(|e| failed(format!("{}: {e}", self.password.display())))?;
        self.own(&self.password)
    }

    /// A program run as the user the folder belongs to.
    pub fn command(&self, program: &Path) -> Command {
        let mut command = match &self.user {
            Some(user) => {
                let mut c = Command::new("setpriv");
                c.arg(format!("--reuid={}", user.uid)).arg(format!("--regid={}", user.gid)).arg("--clear-groups");
                c.arg(program);
                c
            }
            None => Command::new(program),
        };
        command.current_dir("/").env("LC_ALL", "C.UTF-8");
        command
    }

    /// The living process that holds the data, by its own note. A dead process's note, or one
    /// whose number another program has got since, does not count.
    pub fn holder(&self) -> Option<i32> {
        let note = fs::read_to_string(self.data.join("postmaster.pid")).ok()?;
        let pid: i32 = note.lines().next()?.trim().parse().ok()?;
        let name = fs::read_to_string(format!("/proc/{pid}/comm")).ok()?;
        name.trim().starts_with("postgres").then_some(pid)
    }
}

fn postgres_user() -> Result<User, StoreError> {
    User::from_name("postgres").ok().flatten().ok_or_else(|| {
        failed("there is no user `postgres`; PostgreSQL does not run as root (apt-get install postgresql)")
    })
}

/// Whether another user can get there: every folder above may be passed through.
fn reachable(folder: &Path) -> bool {
    folder.ancestors().skip(1).all(|p| fs::metadata(p).is_ok_and(|m| m.permissions().mode() & 0o001 != 0))
}

/// A folder that any user can reach, always the same one for the same unreachable folder.
fn elsewhere(folder: &Path) -> Result<PathBuf, StoreError> {
    use sha2::Digest;
    let hash = sha2::Sha256::digest(folder.as_os_str().as_encoded_bytes());
    let name: String = hash.iter().take(6).map(|b| format!("{b:02x}")).collect();
    let path = PathBuf::from(format!("/var/tmp/arvok-{name}"));
    fs::create_dir_all(&path).map_err(|e| failed(format!("{}: {e}", path.display())))?;
    Ok(path)
}
