//! The cluster's folder and the user it belongs to.
//!
//! As root, all files are made and read as the user that PostgreSQL runs as, never as root:
//! whatever stands in the folder, a link among it, then reaches no further than that user does.

use crate::{PostgresError, failed};
use nix::unistd::{User, geteuid, setfsgid, setfsuid};
use std::{
    fs::{self, DirBuilder, File, TryLockError},
    io::{self, Write},
    os::unix::fs::{DirBuilderExt, MetadataExt, OpenOptionsExt, PermissionsExt, lchown},
    path::{Path, PathBuf},
    process::Command,
    time::{Duration, Instant},
};

/// How long another process over the same folder is waited for.
const OTHER: Duration = Duration::from_secs(60);

#[derive(Debug)]
pub(super) struct Home {
    pub data: PathBuf,
    /// Where the data is made; it gets its name when it is whole.
    pub unfinished: PathBuf,
    pub password: PathBuf,
    pub log: PathBuf,
    /// As root: the user that PostgreSQL runs as.
    user: Option<User>,
    /// Held as long as we use the folder.
    _lock: File,
}

impl Home {
    /// The folder, made where there is none, and held against other processes.
    pub fn prepare(folder: &Path) -> Result<Self, PostgresError> {
        let user = if geteuid().is_root() { Some(postgres_user()?) } else { None };
        let within = |e: io::Error| failed(format!("{}: {e}", folder.display()));
        if let Some(above) = folder.parent() {
            fs::create_dir_all(above).map_err(within)?;
        }
        let folder = match (&user, whole(folder).map_err(within)?) {
            (Some(user), whole) if !trusted(&whole, user) => elsewhere(&whole),
            (_, whole) => whole,
        };
        make_own(&folder, user.as_ref())
            .map_err(|e| failed(format!("{}: {e}", folder.display())))?;
        let lock = as_user(user.as_ref(), || private(&folder.join("lock"), false))
            .map_err(|e| failed(format!("{}: {e}", folder.join("lock").display())))?;
        hold(&lock, &folder)?;
        Ok(Self {
            data: folder.join("data"),
            unfinished: folder.join("data.unfinished"),
            password: folder.join("password"),
            log: folder.join("postgres.log"),
            user,
            _lock: lock,
        })
    }

    /// Touches files as the user they belong to.
    pub fn files<T: Send>(&self, work: impl FnOnce() -> io::Result<T> + Send) -> io::Result<T> {
        as_user(self.user.as_ref(), work)
    }

    pub fn write_password(&self, password: &str) -> Result<(), PostgresError> {
        let write = || {
            let _ = fs::remove_file(&self.password);
            private(&self.password, true)?.write_all(password.as_bytes())
        };
        self.files(write).map_err(|e| failed(format!("{}: {e}", self.password.display())))
    }

    /// A program run as the user the folder belongs to.
    pub fn command(&self, program: &Path) -> Command {
        let mut command = match &self.user {
            Some(user) => {
                let mut c = Command::new("setpriv");
                c.arg(format!("--reuid={}", user.uid))
                    .arg(format!("--regid={}", user.gid))
                    .arg("--clear-groups");
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
        let note = self.files(|| fs::read_to_string(self.data.join("postmaster.pid"))).ok()?;
        let pid: i32 = note.lines().next()?.trim().parse().ok()?;
        let name = fs::read_to_string(format!("/proc/{pid}/comm")).ok()?;
        name.trim().starts_with("postgres").then_some(pid)
    }
}

fn postgres_user() -> Result<User, PostgresError> {
    User::from_name("postgres").ok().flatten().ok_or_else(|| {
        failed(
            "there is no user `postgres`; PostgreSQL does not run as root (apt-get install \
            postgresql)",
        )
    })
}

/// The path without links above the folder; a link in the folder's own place stays one.
fn whole(folder: &Path) -> io::Result<PathBuf> {
    let above = match folder.parent() {
        Some(above) if !above.as_os_str().is_empty() => above,
        _ => Path::new("."),
    };
    let name = folder.file_name().ok_or_else(|| io::Error::other("is no name of a folder"))?;
    Ok(above.canonicalize()?.join(name))
}

/// Whether the user can get there, and nobody else can put something into its place: every folder
/// above may be passed through and is changed by root or the user alone.
fn trusted(folder: &Path, user: &User) -> bool {
    folder.ancestors().skip(1).all(|above| {
        fs::metadata(above).is_ok_and(|m| {
            let others_write = m.mode() & 0o022 != 0 && m.mode() & 0o1000 == 0;
            m.mode() & 0o001 != 0 && !others_write && belongs(m.uid(), user)
        })
    })
}

fn belongs(uid: u32, user: &User) -> bool {
    uid == 0 || uid == user.uid.as_raw()
}

/// A folder that any user can reach, always the same one for the same unreachable folder.
fn elsewhere(folder: &Path) -> PathBuf {
    use sha2::Digest;
    let hash = sha2::Sha256::digest(folder.as_os_str().as_encoded_bytes());
    let name = hex::encode(&hash[..6]);
    PathBuf::from(format!("/var/tmp/arvok-{name}"))
}

/// Makes the folder for one user alone, or sees that it is that user's. A link is not followed.
fn make_own(folder: &Path, user: Option<&User>) -> io::Result<()> {
    match DirBuilder::new().mode(0o700).create(folder) {
        Err(e) if e.kind() == io::ErrorKind::AlreadyExists => {}
        made => made?,
    }
    let found = fs::symlink_metadata(folder)?;
    if !found.is_dir() {
        return Err(io::Error::other("is a link or a file, not a folder; remove it"));
    }
    let Some(user) = user else { return Ok(()) };
    if !belongs(found.uid(), user) {
        return Err(io::Error::other(format!(
            "belongs to user {}, who could change what is kept there",
            found.uid()
        )));
    }
    lchown(folder, Some(user.uid.as_raw()), Some(user.gid.as_raw()))?;
    as_user(Some(user), || fs::set_permissions(folder, fs::Permissions::from_mode(0o700)))
}

/// A file for its owner alone; in the place of a link there is an error.
fn private(path: &Path, new: bool) -> io::Result<File> {
    let mut options = fs::OpenOptions::new();
    options.read(true).write(true).create(true).create_new(new).mode(0o600);
    options.custom_flags(nix::libc::O_NOFOLLOW).open(path)
}

/// Runs work on a thread that touches files as the user. The kernel keeps this for each thread.
fn as_user<T: Send>(
    user: Option<&User>,
    work: impl FnOnce() -> io::Result<T> + Send,
) -> io::Result<T> {
    let Some(user) = user else { return work() };
    let other = || {
        setfsgid(user.gid);
        setfsuid(user.uid);
        // Each call gives what stood before: this one tells whether the first did anything.
        if setfsuid(user.uid) != user.uid {
            return Err(io::Error::other("root may not act as another user here"));
        }
        work()
    };
    std::thread::scope(|s| s.spawn(other).join())
        .unwrap_or_else(|_| Err(io::Error::other("touching files failed")))
}

/// Waits for another process that uses the folder, and holds it then.
fn hold(lock: &File, folder: &Path) -> Result<(), PostgresError> {
    let until = Instant::now() + OTHER;
    loop {
        match lock.try_lock() {
            Ok(()) => return Ok(()),
            Err(TryLockError::Error(e)) => {
                return Err(failed(format!("{}: {e}", folder.display())));
            }
            Err(TryLockError::WouldBlock) if Instant::now() > until => {
                let wrong = format!(
                    "another process uses the private PostgreSQL in {} and has not ended after {} \
                    s; \
                     stop it, or name one database for both (ARVOK_DATABASE)",
                    folder.display(),
                    OTHER.as_secs()
                );
                return Err(failed(wrong));
            }
            Err(TryLockError::WouldBlock) => std::thread::sleep(Duration::from_millis(50)),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::os::unix::fs::symlink;

    fn folder(name: &str) -> PathBuf {
        let path = std::env::temp_dir().join(format!("arvok-home-{}-{name}", std::process::id()));
        let _ = fs::remove_dir_all(&path);
        fs::create_dir_all(&path).expect("a folder");
        path
    }

    /// Another user of the machine has put links where the private cluster is going to be.
    #[test]
    fn a_link_in_the_place_of_the_cluster_leads_nowhere() {
        let base = folder("links");
        let precious = base.join("precious");
        fs::create_dir(&precious).expect("a folder");
        fs::set_permissions(&precious, fs::Permissions::from_mode(0o755)).expect("set");
        let before = fs::metadata(&precious).expect("there");
        symlink(&precious, base.join("cluster")).expect("a link");
        let said =
            Home::prepare(&base.join("cluster")).map(|_| ()).expect_err("refused").to_string();
        assert!(said.contains("is a link or a file"), "{said}");
        let after = fs::metadata(&precious).expect("there");
        assert_eq!((before.mode(), before.uid()), (after.mode(), after.uid()));
        assert!(
            fs::read_dir(&precious).expect("reads").next().is_none(),
            "nothing is made behind the link"
        );

        let home = Home::prepare(&base.join("own")).expect("prepares");
        let inside = home.password.parent().expect("a folder").to_path_buf();
        let secret = base.join("secret");
        fs::write(&secret, "kept").expect("writes");
        home.files(|| symlink(&secret, &home.password)).expect("a link");
        home.write_password("word").expect("writes");
        assert_eq!(fs::read_to_string(&secret).expect("reads"), "kept");
        assert_eq!(fs::metadata(&inside).expect("there").mode() & 0o777, 0o700);
        drop(home);
        let _ = fs::remove_dir_all(&inside);
        fs::remove_dir_all(base).expect("is removed");
    }

    #[test]
    fn files_are_touched_as_the_user_they_belong_to() {
        let Ok(user) = postgres_user() else { return };
        if !geteuid().is_root() {
            return;
        }
        let base = folder("user");
        fs::set_permissions(&base, fs::Permissions::from_mode(0o700)).expect("set");
        let there = base.join("file");
        let said =
            as_user(Some(&user), || fs::write(&there, "x")).expect_err("root's folder is shut");
        assert_eq!(said.kind(), io::ErrorKind::PermissionDenied);
        fs::write(&there, "root's").expect("root itself may");
        let nothing = std::env::temp_dir().join(format!("arvok-{}-nothing", std::process::id()));
        assert!(!trusted(&nothing.join("y"), &user), "nothing is there");
        fs::set_permissions(&base, fs::Permissions::from_mode(0o777)).expect("set");
        assert!(!trusted(&there, &user), "anybody could put a link there");
        fs::remove_dir_all(base).expect("is removed");
    }
}
