//! The user as whom scripts run.

use nix::unistd::{User, geteuid};

/// The user as whom scripts run.
#[derive(Clone, Copy, Debug)]
pub(super) struct OwnUser {
    pub uid: u32,
    pub gid: u32,
}

impl OwnUser {
    /// The user as whom they run; none: as the node itself, which is no root.
    pub fn named(name: &str) -> Result<Option<Self>, String> {
        if !geteuid().is_root() {
            return Ok(None);
        }
        let wrong = |why: &str| format!("user `{name}` for scripts: {why}");
        match User::from_name(name) {
            Err(e) => Err(wrong(&e.to_string())),
            Ok(None) => Err(wrong("there is none of that name")),
            Ok(Some(user)) if user.uid.is_root() => Err(wrong("is root, and scripts are not")),
            Ok(Some(user)) => Ok(Some(Self { uid: user.uid.as_raw(), gid: user.gid.as_raw() })),
        }
    }
}
