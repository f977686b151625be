//! What a node allows its scripts.

use arvok_connect::ScriptRights;
use serde::Deserialize;
use std::path::PathBuf;

/// What a node allows its scripts, as whoever runs it says.
#[derive(Clone, Debug, PartialEq, Eq, Deserialize)]
#[serde(default, deny_unknown_fields)]
pub struct ScriptSettings {
    /// The interpreters, by name; none: no script is run.
    pub interpreters: Vec<String>,
    /// So many scripts at once.
    pub at_once: u32,
    /// MiB of memory that one may ask for, with what it may write into its folder.
    pub memory_mib: u32,
    /// Whether they may ask for the network.
    pub network: bool,
    /// The user as whom they run where the node runs as root.
    pub user: String,
    /// Folders that they find beside the system's programs, to read.
    pub folders: Vec<PathBuf>,
}

impl Default for ScriptSettings {
    fn default() -> Self {
        Self {
            interpreters: Vec::new(),
            at_once: 4,
            memory_mib: 1024,
            network: false,
            user: "nobody".to_owned(),
            folders: Vec::new(),
        }
    }
}

/// What a script has of its own, or what is not its business.
const NOT_SHOWN: [&str; 8] = ["/work", "/tmp", "/proc", "/dev", "/sys", "/etc", "/root", "/run"];

impl ScriptSettings {
    /// What cannot be.
    pub(crate) fn wrong(&self) -> Option<String> {
        let path = self.interpreters.iter().find(|name| name.is_empty() || name.contains('/'));
        if let Some(name) = path {
            return Some(format!(
                "scripts.interpreters: `{name}` is no name of a program; where it lies is found in \
                /usr/local/bin, /usr/bin and /bin"
            ));
        }
        if self.at_once == 0 {
            return Some("scripts.at_once is 0; without any, no interpreter is allowed".to_owned());
        }
        let wrong = |folder: &&PathBuf| {
            !folder.is_absolute()
                || folder.parent().is_none()
                || NOT_SHOWN.iter().any(|own| folder.starts_with(own))
        };
        self.folders.iter().find(wrong).map(|folder| {
            format!(
                "scripts.folders: {} cannot be shown to scripts; it is the whole path of a folder \
                that is none of {}, nor below one",
                folder.display(),
                NOT_SHOWN.join(", ")
            )
        })
    }

    /// As a driver takes them.
    pub(crate) fn rights(&self) -> ScriptRights {
        ScriptRights {
            interpreters: self.interpreters.clone(),
            memory: u64::from(self.memory_mib) << 20,
            network: self.network,
            user: self.user.clone(),
            folders: self.folders.clone(),
        }
    }

    /// Looks whether scripts that are allowed can be run, by making a sandbox; nothing where none
    /// is allowed.
    pub(crate) async fn look(&self) -> Option<Result<(), String>> {
        match self.interpreters.is_empty() {
            true => None,
            false => Some(self.rights().look().await),
        }
    }

    pub(crate) fn folder_names(&self) -> String {
        let names: Vec<_> = self.folders.iter().map(|f| f.display().to_string()).collect();
        names.join(", ")
    }
}
