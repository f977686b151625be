//! What `arvok login` remembers: servers by names of their own, each with its token, and which of
//! them is meant when none is named.

use crate::error::{CliError, file as fault};
use serde::{Deserialize, Serialize};
use std::{collections::BTreeMap, fs, io::Write, os::unix::fs::OpenOptionsExt, path::PathBuf};

/// The name of a server where none is given.
pub const USUAL: &str = "default";

/// A server that is remembered.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Login {
    /// Its address.
    pub server: String,
    /// Who one is there.
    pub token: String,
}

/// All of them.
#[derive(Clone, Debug, Default, Serialize, Deserialize)]
pub struct Logins {
    /// The one that is meant when none is named.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    current: Option<String>,
    /// By their names.
    #[serde(default)]
    profiles: BTreeMap<String, Login>,
    /// The only one of a file from before they had names.
    #[serde(flatten, skip_serializing)]
    only: Option<Login>,
}

/// The file in which they are.
pub fn path() -> Option<PathBuf> {
    let base = std::env::var_os("XDG_CONFIG_HOME").map(PathBuf::from);
    let base = base.or_else(|| Some(PathBuf::from(std::env::var_os("HOME")?).join(".config")));
    base.map(|b| b.join("arvok/login.toml"))
}

impl Logins {
    /// What is remembered; nothing where there is no file.
    ///
    /// # Errors
    /// If the file cannot be read.
    pub fn load() -> Result<Self, CliError> {
        let Some(path) = path().filter(|path| path.exists()) else { return Ok(Self::default()) };
        let text = fs::read_to_string(&path).map_err(|e| fault(&path, e))?;
        let mut logins: Self = toml::from_str(&text).map_err(|e| fault(&path, e.message()))?;
        if let Some(only) = logins.only.take() {
            logins.profiles.entry(USUAL.to_owned()).or_insert(only);
            logins.current.get_or_insert_with(|| USUAL.to_owned());
        }
        Ok(logins)
    }

    /// Keeps them, readable for this user only. Whoever reads meanwhile finds them as before or as
    /// now.
    ///
    /// # Errors
    /// If there is nowhere to keep them, or the file cannot be written.
    pub fn save(&self) -> Result<PathBuf, CliError> {
        let path = path()
            .ok_or_else(|| CliError::Here("there is no home folder to remember it in".into()))?;
        let text = toml::to_string(self).map_err(|e| CliError::Here(e.to_string()))?;
        let new = path.with_extension(format!("new-{}", std::process::id()));
        let write = || {
            fs::create_dir_all(path.parent().unwrap_or(&path))?;
            let _ = fs::remove_file(&new);
            fs::OpenOptions::new()
                .write(true)
                .create_new(true)
                .mode(0o600)
                .open(&new)?
                .write_all(text.as_bytes())?;
            fs::rename(&new, &path)
        };
        write().map_err(|e| fault(&path, e))?;
        Ok(path)
    }

    /// All of them, each with whether it is the one that is meant.
    pub fn all(&self) -> impl Iterator<Item = (&str, &Login, bool)> {
        self.profiles
            .iter()
            .map(|(name, login)| (name.as_str(), login, self.current.as_ref() == Some(name)))
    }

    /// One of them, or the one that is meant.
    ///
    /// # Errors
    /// If there is none of that name.
    pub fn find(&self, name: Option<&str>) -> Result<Option<&Login>, CliError> {
        match name {
            None => Ok(self.current.as_ref().and_then(|name| self.profiles.get(name))),
            Some(name) => self.profiles.get(name).map(Some).ok_or_else(|| self.unknown(name)),
        }
    }

    /// The one at an address.
    pub fn at(&self, address: &str) -> Option<&Login> {
        let meant = self.all().find(|(_, login, meant)| *meant && login.server == address);
        meant
            .or_else(|| self.all().find(|(_, login, _)| login.server == address))
            .map(|(_, login, _)| login)
    }

    /// Remembers a server under a name, as the one that is meant from now on.
    ///
    /// # Errors
    /// If another server has the name.
    pub fn add(&mut self, name: &str, login: Login) -> Result<(), CliError> {
        if let Some(other) = self.profiles.get(name).filter(|other| other.server != login.server) {
            return Err(CliError::Usage(format!(
                "`{name}` is {} already; give this one a name of its own with --name, or forget \
                that one with \
                `arvok logout {name}`",
                other.server
            )));
        }
        self.profiles.insert(name.to_owned(), login);
        self.current = Some(name.to_owned());
        Ok(())
    }

    /// Means another one from now on.
    ///
    /// # Errors
    /// If there is none of that name.
    pub fn mean(&mut self, name: &str) -> Result<&Login, CliError> {
        if !self.profiles.contains_key(name) {
            return Err(self.unknown(name));
        }
        self.current = Some(name.to_owned());
        Ok(&self.profiles[name])
    }

    /// Forgets one, or the one that is meant: its name and what it was. If one alone is left, that
    /// is meant.
    ///
    /// # Errors
    /// If there is none of that name.
    pub fn forget(&mut self, name: Option<&str>) -> Result<Option<(String, Login)>, CliError> {
        let Some(name) = name.map(str::to_owned).or_else(|| self.current.clone()) else {
            return Ok(None);
        };
        let gone = self.profiles.remove(&name).ok_or_else(|| self.unknown(&name))?;
        if self.current.as_ref() == Some(&name) {
            self.current =
                self.profiles.keys().next().filter(|_| self.profiles.len() == 1).cloned();
        }
        Ok(Some((name, gone)))
    }

    fn unknown(&self, name: &str) -> CliError {
        let known: Vec<&str> = self.profiles.keys().map(String::as_str).collect();
        let known = if known.is_empty() { "none".to_owned() } else { known.join(", ") };
        CliError::Usage(format!("no server is remembered as `{name}`; known here: {known}"))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn login(server: &str) -> Login {
        Login { server: server.to_owned(), token: "t".to_owned() }
    }

    #[test]
    fn one_server_does_not_take_the_place_of_another() {
        let mut logins = Logins::default();
        logins.add(USUAL, login("http://a")).expect("is free");
        assert!(logins.add(USUAL, login("http://b")).is_err());
        logins
            .add(USUAL, Login { token: "new".to_owned(), ..login("http://a") })
            .expect("the same server");
        logins.add("quill", login("http://b")).expect("is free");
        assert_eq!(logins.find(None).expect("known"), Some(&login("http://b")));
        assert_eq!(logins.find(Some(USUAL)).expect("known").map(|l| l.token.as_str()), Some("new"));
        assert!(logins.find(Some("tern")).is_err());
        assert_eq!(
            logins.forget(None).expect("known").map(|(name, _)| name).as_deref(),
            Some("quill")
        );
        assert_eq!(logins.find(None).expect("known").map(|l| l.server.as_str()), Some("http://a"));
    }

    #[test]
    fn a_file_from_before_they_had_names_is_read() {
        let logins: Logins =
            toml::from_str("server = \"http://a\"\ntoken = \"t\"\n").expect("reads");
        assert_eq!(logins.only, Some(login("http://a")));
    }
}
