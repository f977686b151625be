//! How the service is set up: `arvok.toml`, then environment variables, which win.

use serde::Deserialize;
use std::{
    collections::BTreeMap,
    fs,
    net::SocketAddr,
    path::{Path, PathBuf},
};

/// Settings of one node.
#[derive(Clone, Debug, Deserialize)]
#[serde(default, deny_unknown_fields)]
pub struct Config {
    /// Where it listens.
    pub listen: SocketAddr,
    /// The address of the database. Absent: a private PostgreSQL in the data folder.
    pub database: Option<String>,
    /// The folder for the key of the secrets, the first token, and a private PostgreSQL.
    pub data: PathBuf,
    /// Connections to the database.
    pub database_connections: u32,
    /// Jobs at once on this node.
    pub jobs_at_once: usize,
    /// Values for `setting(name)` in definitions.
    pub settings: BTreeMap<String, String>,
}

impl Default for Config {
    fn default() -> Self {
        Self {
            listen: SocketAddr::from(([127, 0, 0, 1], 8470)),
            database: None,
            data: PathBuf::from("arvok-data"),
            database_connections: 16,
            jobs_at_once: 16,
            settings: BTreeMap::new(),
        }
    }
}

/// Why the settings cannot be used.
#[derive(Debug, thiserror::Error)]
pub enum ConfigError {
    /// The file is not there or not readable.
    #[error("{file}: {wrong}")]
    File {
        /// Its path.
        file: String,
        /// What is wrong.
        wrong: String,
    },
    /// A variable has an unusable value.
    #[error("the environment variable {name}: {wrong}")]
    Variable {
        /// Its name.
        name: String,
        /// What is wrong.
        wrong: String,
    },
}

impl Config {
    /// Reads a file, or `arvok.toml` here if there is one, and then the environment.
    pub fn read(file: Option<&Path>, environment: impl Iterator<Item = (String, String)>) -> Result<Self, ConfigError> {
        let here = Path::new("arvok.toml");
        let mut config = match file.or_else(|| here.exists().then_some(here)) {
            Some(file) => Self::parse(file)?,
            None => Self::default(),
        };
        for (name, value) in environment {
            config.variable(&name, value)?;
        }
        Ok(config)
    }

    fn parse(file: &Path) -> Result<Self, ConfigError> {
        let wrong = |wrong: String| ConfigError::File { file: file.display().to_string(), wrong };
        let text = fs::read_to_string(file).map_err(|e| wrong(e.to_string()))?;
        toml::from_str(&text).map_err(|e| wrong(e.to_string()))
    }

    fn variable(&mut self, name: &str, value: String) -> Result<(), ConfigError> {
        let wrong = |wrong: &str| ConfigError::Variable { name: name.to_owned(), wrong: wrong.to_owned() };
        match name {
            "ARVOK_LISTEN" => {
                self.listen = value.parse().map_err(|_| wrong("expected an address such as 127.0.0.1:8470"))?
            }
            "ARVOK_DATABASE" => self.database = Some(value),
            "ARVOK_DATA" => self.data = value.into(),
            "ARVOK_DATABASE_CONNECTIONS" => {
                self.database_connections = value.parse().map_err(|_| wrong("expected a whole number"))?;
            }
            "ARVOK_JOBS_AT_ONCE" => self.jobs_at_once = value.parse().map_err(|_| wrong("expected a whole number"))?,
            _ => {
                if let Some(setting) = name.strip_prefix("ARVOK_SETTING_") {
                    self.settings.insert(setting.to_lowercase().replace('_', "-"), value);
                }
            }
        }
        Ok(())
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn environment(pairs: &[(&str, &str)]) -> impl Iterator<Item = (String, String)> {
        pairs.iter().map(|(k, v)| ((*k).to_owned(), (*v).to_owned())).collect::<Vec<_>>().into_iter()
    }

    #[test]
    fn the_environment_wins_over_the_file() {
        let file = std::env::temp_dir().join(format!("arvok-config-{}.toml", std::process::id()));
        fs::write(&file, "listen = \"127.0.0.1:1\"\n[settings]\nyard = \"http://a\"\n").expect("writes");
        let read = Config::read(
            Some(&file),
            environment(&[("ARVOK_LISTEN", "127.0.0.1:2"), ("ARVOK_SETTING_CREW_CHAT", "http://b")]),
        );
        fs::remove_file(&file).expect("is removed");
        let config = read.expect("reads");
        assert_eq!(config.listen.port(), 2);
        assert_eq!(config.settings["yard"], "http://a");
        assert_eq!(config.settings["crew-chat"], "http://b");
    }

    #[test]
    fn what_is_wrong_is_said() {
        let said = |pairs: &[(&str, &str)]| Config::read(None, environment(pairs)).expect_err("refused").to_string();
        assert_eq!(
            said(&[("ARVOK_LISTEN", "here")]),
            "the environment variable ARVOK_LISTEN: expected an address such as 127.0.0.1:8470"
        );
        let file = std::env::temp_dir().join(format!("arvok-config-bad-{}.toml", std::process::id()));
        fs::write(&file, "lisen = \"127.0.0.1:1\"\n").expect("writes");
        let said = Config::read(Some(&file), environment(&[])).expect_err("refused").to_string();
        fs::remove_file(&file).expect("is removed");
        assert!(said.contains("unknown field `lisen`") && said.contains("listen"), "{said}");
    }
}
