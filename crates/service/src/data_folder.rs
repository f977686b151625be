//! The node's own files: the key of the secrets and the first token. Several nodes that start at
//! once over one folder agree on them, and whoever reads one reads it whole.

use crate::random;
use arvok_connect::Vault;
use std::{
    fs::{self, OpenOptions},
    io::{self, Write},
    os::unix::fs::OpenOptionsExt,
    path::{Path, PathBuf},
};

const KEY: &str = "secrets.key";
const TOKEN: &str = "admin.token";

/// The folder.
pub(crate) struct DataFolder(PathBuf);

/// A file that cannot be used, and why.
#[derive(Debug, thiserror::Error)]
#[error("{}: {reason}", file.display())]
pub struct Unusable {
    file: PathBuf,
    reason: String,
}

impl DataFolder {
    /// Opens it, made where there is none.
    pub fn open(path: &Path) -> Result<Self, Unusable> {
        let failed = |e: io::Error| Unusable { file: path.to_owned(), reason: e.to_string() };
        fs::create_dir_all(path).map_err(failed)?;
        Ok(Self(path.to_owned()))
    }

    /// The file with the key of the secrets.
    pub fn key_file(&self) -> PathBuf {
        self.0.join(KEY)
    }

    /// Whether there is a key.
    pub fn has_key(&self) -> Result<bool, Unusable> {
        let file = self.key_file();
        file.try_exists().map_err(|e| Unusable { file, reason: e.to_string() })
    }

    /// The secrets under the key kept here, made by the first who asks.
    pub fn vault(&self) -> Result<Vault, Unusable> {
        let file = self.0.join(KEY);
        let failed = |reason: String| Unusable { file: file.clone(), reason };
        let key = keep(&file, || Vault::new_key().map_err(io::Error::other))
            .map_err(|e| failed(e.to_string()))?;
        Vault::new(&key).map_err(|e| failed(format!("the key of the secrets {e}")))
    }

    /// Writes the first token over what a former start may have left; its file.
    pub fn write_first_token(&self, token: &str) -> Result<PathBuf, Unusable> {
        let file = self.0.join(TOKEN);
        let written = write_beside(&file, token, |beside| fs::rename(beside, &file));
        written.map_err(|e| Unusable { file: file.clone(), reason: e.to_string() })?;
        Ok(file)
    }
}

/// The text of a file; of those who find none and write one, the first counts.
fn keep(file: &Path, new: impl FnOnce() -> io::Result<String>) -> io::Result<String> {
    if !file.try_exists()? {
        write_beside(file, &new()?, |beside| match fs::hard_link(beside, file) {
            Err(e) if e.kind() == io::ErrorKind::AlreadyExists => Ok(()),
            linked => linked,
        })?;
    }
    Ok(fs::read_to_string(file)?.trim().to_owned())
}

/// Writes a file whole under another name, which then gives it its own.
fn write_beside(
    file: &Path,
    text: &str,
    name: impl FnOnce(&Path) -> io::Result<()>,
) -> io::Result<()> {
    let beside = file.with_added_extension(random::id());
    let write = || {
        let mut made = OpenOptions::new().write(true).create_new(true).mode(0o600).open(&beside)?;
        writeln!(made, "{text}")?;
        made.sync_all()?;
        name(&beside)
    };
    let written = write();
    let _ = fs::remove_file(&beside);
    written
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::{os::unix::fs::PermissionsExt, sync::Barrier};

    fn folder(name: &str) -> PathBuf {
        let path = std::env::temp_dir().join(format!("arvok-data-{}-{name}", std::process::id()));
        let _ = fs::remove_dir_all(&path);
        path
    }

    #[test]
    fn all_who_start_at_once_read_the_same_whole_key() {
        let path = folder("many");
        let gate = Barrier::new(16);
        let keys: Vec<String> = std::thread::scope(|s| {
            let start = || {
                gate.wait();
                let folder = DataFolder::open(&path).expect("opens");
                folder.vault().expect("a key");
                folder.write_first_token("first").expect("a token");
                fs::read_to_string(path.join(KEY)).expect("reads")
            };
            let all: Vec<_> = (0..16).map(|_| s.spawn(start)).collect();
            all.into_iter().map(|t| t.join().expect("no panic")).collect()
        });
        assert!(keys.iter().all(|k| *k == keys[0]), "{keys:?}");
        let left: Vec<_> =
            fs::read_dir(&path).expect("reads").map(|e| e.expect("one").file_name()).collect();
        assert_eq!(left.len(), 2, "nothing is left beside them: {left:?}");
        let mode = fs::metadata(path.join(TOKEN)).expect("there").permissions().mode();
        assert_eq!(mode & 0o777, 0o600);
        fs::remove_dir_all(path).expect("is removed");
    }

    #[test]
    fn a_damaged_file_is_named() {
        let path = folder("bad");
        let folder = DataFolder::open(&path).expect("opens");
        fs::write(path.join(KEY), "short").expect("writes");
        let said = folder.vault().map(|_| ()).expect_err("refused").to_string();
        assert!(said.contains("secrets.key: ") && said.contains("64 hexadecimal digits"), "{said}");
        fs::remove_dir_all(path).expect("is removed");
    }
}
