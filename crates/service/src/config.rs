//! How the service is set up: `arvok.toml`, then environment variables, which win.

use crate::{
    answer_settings::AnswerSettings,
    script_settings::ScriptSettings,
    setting_list::variables,
    settings::{Setting, Settings},
    tls::TlsSettings,
};
use arvok_core::{Period, text::nearest};
use arvok_store::retention::{Change, RecordKind};
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
    /// How long a node that is asked to end (SIGTERM) says that it is not ready before it takes
    /// nothing more.
    pub drain: Period,
    /// Where people reach the console, for links in messages. Absent: the address it listens on.
    pub public_url: Option<String>,
    /// Whether a line is logged for each request.
    pub access_log: bool,
    /// How it speaks TLS; without any of it, it does not.
    pub tls: TlsSettings,
    /// How answers to questions come by mail.
    pub answers: AnswerSettings,
    /// What scripts may do here; without an interpreter none is run.
    pub scripts: ScriptSettings,
    /// Values for `setting(name)` in definitions.
    pub settings: Settings,
    /// How long things are kept, from the first start of the installation on; then it stands in the
    /// database.
    pub retention: RetentionSettings,
    /// Whether this start makes a new token of role admin.
    #[serde(skip)]
    pub recover: bool,
    /// Whether the key of the data folder becomes that of the installation, since the one before is
    /// lost.
    #[serde(skip)]
    pub new_key: bool,
    /// Whether this start halts all jobs, as after a restore.
    #[serde(skip)]
    pub hold_jobs: bool,
}

/// How long things are kept; what is not named here is kept as it is usual.
#[derive(Clone, Debug, Default, Deserialize)]
#[serde(default, deny_unknown_fields)]
pub struct RetentionSettings {
    /// Alerts and their verdicts.
    pub alerts: Option<Period>,
    /// Those of some sources, by the source's name.
    pub sources: BTreeMap<String, Period>,
    /// Payloads that cannot be read.
    pub unreadable: Option<Period>,
    /// The tries of jobs that have ended; the jobs themselves stay.
    pub attempts: Option<Period>,
}

impl RetentionSettings {
    /// As the store takes it.
    pub fn change(&self) -> Change {
        let all = [
            (RecordKind::Alerts, self.alerts),
            (RecordKind::Unreadable, self.unreadable),
            (RecordKind::Attempts, self.attempts),
        ];
        Change {
            all: all.into_iter().filter_map(|(what, time)| Some((what, time?.delta()))).collect(),
            sources: self
                .sources
                .iter()
                .map(|(name, kept)| (name.clone(), Some(kept.delta())))
                .collect(),
        }
    }

    /// What is too short.
    fn wrong(&self) -> Option<String> {
        too_short(&self.change()).map(|short| format!("retention.{short}"))
    }
}

/// What of a change is too short, in words.
pub(crate) fn too_short(change: &Change) -> Option<String> {
    let time = |time: chrono::TimeDelta| Period::from_secs(time.num_seconds().unsigned_abs());
    change.too_short().map(|(name, kept, least)| {
        format!("{name} is {}; that is kept for {} at least", time(kept), time(least))
    })
}

fn on_or_off(is: bool) -> String {
    if is { "on" } else { "off" }.to_owned()
}

impl Default for Config {
    fn default() -> Self {
        Self {
            listen: SocketAddr::from(([127, 0, 0, 1], 8470)),
            database: None,
            data: PathBuf::from("arvok-data"),
            database_connections: 16,
            jobs_at_once: 64,
            drain: Period::from_secs(5),
            public_url: None,
            tls: TlsSettings::default(),
            answers: AnswerSettings::default(),
            access_log: false,
            scripts: ScriptSettings::default(),
            settings: BTreeMap::new(),
            retention: RetentionSettings::default(),
            recover: false,
            new_key: false,
            hold_jobs: false,
        }
    }
}

/// Why the settings cannot be used.
#[derive(Debug, thiserror::Error)]
pub enum ConfigError {
    /// The file is not there or not readable.
    #[error("{file}: {reason}")]
    File {
        /// Its path.
        file: String,
        /// What is wrong.
        reason: String,
    },
    /// A variable has an unusable value.
    #[error("the environment variable {name}: {reason}")]
    Variable {
        /// The variable, such as `ARVOK_DATABASE`.
        name: String,
        /// What is wrong.
        reason: String,
    },
    /// Settings that belong together do not.
    #[error("{0}")]
    Together(String),
}

/// Fewest connections with which every part of a node has one of its own.
const LEAST_CONNECTIONS: u32 = 8;

impl Config {
    /// Why the address of the console cannot be one.
    fn wrong_url(&self) -> Option<String> {
        let url = self.public_url.as_deref()?;
        let good = url.starts_with("https://") || url.starts_with("http://");
        (!good).then(|| format!("`{url}` is not an address such as https://arvok.example"))
    }

    /// What is otherwise in other settings, and is changed by a start alone.
    pub fn needs_a_start(&self, other: &Self) -> Vec<&'static str> {
        let changed = [
            ("listen", self.listen != other.listen),
            ("database", self.database != other.database),
            ("data", self.data != other.data),
            ("database_connections", self.database_connections != other.database_connections),
            ("jobs_at_once", self.jobs_at_once != other.jobs_at_once),
            ("access_log", self.access_log != other.access_log),
            ("answers", self.answers != other.answers),
            ("tls", self.tls != other.tls),
        ];
        changed.into_iter().filter(|(_, is)| *is).map(|(name, _)| name).collect()
    }

    /// What counts, by the keys of the file; passwords and what is for somebody alone are hidden.
    pub fn shown(&self) -> BTreeMap<String, String> {
        let hidden = "(hidden)".to_owned();
        let retention = &self.retention;
        let times = [
            ("retention.alerts", retention.alerts),
            ("retention.unreadable", retention.unreadable),
            ("retention.attempts", retention.attempts),
        ];
        let mut all = BTreeMap::from([
            ("listen".to_owned(), self.listen.to_string()),
            ("data".to_owned(), self.data.display().to_string()),
            ("database_connections".to_owned(), self.database_connections.to_string()),
            ("jobs_at_once".to_owned(), self.jobs_at_once.to_string()),
            ("drain".to_owned(), self.drain.to_string()),
            ("public_url".to_owned(), self.public_url()),
            ("scripts.interpreters".to_owned(), self.scripts.interpreters.join(", ")),
            ("scripts.at_once".to_owned(), self.scripts.at_once.to_string()),
            ("scripts.memory_mib".to_owned(), self.scripts.memory_mib.to_string()),
            ("scripts.network".to_owned(), on_or_off(self.scripts.network)),
            ("scripts.user".to_owned(), self.scripts.user.clone()),
            ("scripts.folders".to_owned(), self.scripts.folder_names()),
            ("access_log".to_owned(), on_or_off(self.access_log)),
        ]);
        let file = |file: Option<&PathBuf>| file.map(|file| file.display().to_string());
        let files = [
            ("tls.certificate", file(self.tls.certificate.as_ref())),
            ("tls.key", file(self.tls.key.as_ref())),
            ("tls.client_authorities", file(self.tls.client_authorities.as_ref())),
            ("answers.address", self.answers.address.clone()),
            ("answers.listen", self.answers.listen.map(|at| at.to_string())),
            ("answers.mailbox", self.answers.mailbox.clone()),
            ("answers.password_file", file(self.answers.password_file.as_ref())),
            ("answers.authorities", file(self.answers.authorities.as_ref())),
        ];
        all.extend(files.into_iter().filter_map(|(name, of)| Some((name.to_owned(), of?))));
        all.extend(
            self.database.as_deref().map(|url| ("database".to_owned(), crate::address::shown(url))),
        );
        all.extend(
            times.into_iter().filter_map(|(name, time)| Some((name.to_owned(), time?.to_string()))),
        );
        all.extend(
            retention
                .sources
                .iter()
                .map(|(name, time)| (format!("retention.sources.{name}"), time.to_string())),
        );
        all.extend(self.settings.iter().map(|(name, setting)| {
            let value =
                if setting.allowed.is_some() { hidden.clone() } else { setting.value.clone() };
            (format!("settings.{name}"), value)
        }));
        all
    }

    /// Where people reach the console, without a slash at the end.
    pub fn public_url(&self) -> String {
        let scheme = if self.tls.is_spoken() { "https" } else { "http" };
        let listens = || format!("{scheme}://{}", self.listen);
        self.public_url.clone().unwrap_or_else(listens).trim_end_matches('/').to_owned()
    }

    /// Reads a file, or `arvok.toml` here if there is one, and then the environment. A variable
    /// that looks like one of these and is none is refused: with a misspelt address of the database
    /// a node would begin one of its own.
    pub fn read(
        file: Option<&Path>,
        environment: impl Iterator<Item = (String, String)>,
    ) -> Result<Self, ConfigError> {
        let here = Path::new("arvok.toml");
        let mut config = match file.or_else(|| here.exists().then_some(here)) {
            Some(file) => Self::parse(file)?,
            None => Self::default(),
        };
        for (name, value) in environment {
            config.variable(&name, value)?;
        }
        // Of what belongs together one may stand in the file, and the other in a variable.
        match config.answers.wrong().or_else(|| config.tls.wrong()) {
            None => Ok(config),
            Some(reason) => Err(ConfigError::Together(reason)),
        }
    }

    fn parse(file: &Path) -> Result<Self, ConfigError> {
        let wrong = |reason: String| ConfigError::File { file: file.display().to_string(), reason };
        let text = fs::read_to_string(file).map_err(|e| wrong(e.to_string()))?;
        let config: Self = toml::from_str(&text).map_err(|e| wrong(e.to_string()))?;
        let public = config.settings.iter().find_map(|(name, setting)| setting.wrong(name));
        let first = config.retention.wrong().or(public);
        let first = first.or_else(|| config.wrong_url().map(|why| format!("public_url: {why}")));
        let first = first.or_else(|| config.scripts.wrong());
        first.or_else(|| config.wrong_number()).map_or(Ok(config), |why| Err(wrong(why)))
    }

    /// A number with which nothing could be done.
    fn wrong_number(&self) -> Option<String> {
        if self.database_connections < LEAST_CONNECTIONS {
            let given = self.database_connections;
            return Some(format!(
                "database_connections is {given}; a node needs {LEAST_CONNECTIONS} at least"
            ));
        }
        (self.jobs_at_once == 0)
            .then(|| "jobs_at_once is 0; a node does one job at a time at least".to_owned())
    }

    fn variable(&mut self, name: &str, value: String) -> Result<(), ConfigError> {
        let wrong = |reason: &str| ConfigError::Variable {
            name: name.to_owned(),
            reason: reason.to_owned(),
        };
        match name {
            "ARVOK_LISTEN" => {
                self.listen = value
                    .parse()
                    .map_err(|_| wrong("expected an address such as 127.0.0.1:8470"))?
            }
            "ARVOK_DATABASE" => self.database = Some(value),
            "ARVOK_DATA" => self.data = value.into(),
            "ARVOK_DATABASE_CONNECTIONS" => {
                self.database_connections =
                    value.parse().map_err(|_| wrong("expected a whole number"))?;
                self.wrong_number().map_or(Ok(()), |why| Err(wrong(&why)))?;
            }
            "ARVOK_DRAIN" => {
                self.drain = Period::parse(&value).map_err(|e| wrong(&e.to_string()))?
            }
            "ARVOK_PUBLIC_URL" => {
                self.public_url = Some(value);
                self.wrong_url().map_or(Ok(()), |why| Err(wrong(&why)))?;
            }
            "ARVOK_ANSWERS_ADDRESS" => self.answers.address = Some(value),
            "ARVOK_ANSWERS_LISTEN" => {
                let at = value.parse();
                let at = at.map_err(|_| wrong("expected an address such as 127.0.0.1:2424"))?;
                self.answers.listen = Some(at);
            }
            "ARVOK_ANSWERS_MAILBOX" => self.answers.mailbox = Some(value),
            "ARVOK_ANSWERS_PASSWORD_FILE" => self.answers.password_file = Some(value.into()),
            "ARVOK_ANSWERS_AUTHORITIES" => self.answers.authorities = Some(value.into()),
            "ARVOK_TLS_CERTIFICATE" => self.tls.certificate = Some(value.into()),
            "ARVOK_TLS_KEY" => self.tls.key = Some(value.into()),
            "ARVOK_TLS_CLIENT_AUTHORITIES" => self.tls.client_authorities = Some(value.into()),
            "ARVOK_ACCESS_LOG" => {
                self.access_log = match value.as_str() {
                    "on" => true,
                    "off" => false,
                    _ => return Err(wrong("expected on or off")),
                }
            }
            "ARVOK_SCRIPTS" => {
                let names = value.split(',').map(str::trim).filter(|name| !name.is_empty());
                self.scripts.interpreters = names.map(str::to_owned).collect();
                self.scripts.wrong().map_or(Ok(()), |why| Err(wrong(&why)))?;
            }
            "ARVOK_JOBS_AT_ONCE" => {
                self.jobs_at_once = value.parse().map_err(|_| wrong("expected a whole number"))?;
                self.wrong_number().map_or(Ok(()), |why| Err(wrong(&why)))?;
            }
            "ARVOK_RETENTION_ALERTS" => {
                self.retention.alerts =
                    Some(Period::parse(&value).map_err(|e| wrong(&e.to_string()))?);
                self.retention.wrong().map_or(Ok(()), |short| Err(wrong(&short)))?;
            }
            _ => {
                if let Some(setting) = name.strip_prefix("ARVOK_SETTING_") {
                    let (name, setting) =
                        (setting.to_lowercase().replace('_', "-"), Setting::public(value));
                    setting.wrong(&name).map_or(Ok(()), |why| Err(wrong(&why)))?;
                    self.settings.insert(name, setting);
                } else if name.starts_with("ARVOK_") {
                    let known = variables();
                    let near =
                        nearest(name, known.clone()).map(|near| format!("did you mean {near}?"));
                    let all = || {
                        format!(
                            "known are {}, and ARVOK_SETTING_<NAME>",
                            known.collect::<Vec<_>>().join(", ")
                        )
                    };
                    return Err(wrong(&format!(
                        "there is no such setting; {}",
                        near.unwrap_or_else(all)
                    )));
                }
            }
        }
        Ok(())
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use arvok_store::retention::Retention;

    fn environment(pairs: &[(&str, &str)]) -> impl Iterator<Item = (String, String)> {
        pairs
            .iter()
            .map(|(k, v)| ((*k).to_owned(), (*v).to_owned()))
            .collect::<Vec<_>>()
            .into_iter()
    }

    #[test]
    fn the_environment_wins_over_the_file() {
        let file = std::env::temp_dir().join(format!("arvok-config-{}.toml", std::process::id()));
        fs::write(&file, "listen = \"127.0.0.1:1\"\n[settings]\nyard = \"http://a\"\n")
            .expect("writes");
        let read = Config::read(
            Some(&file),
            environment(&[
                ("ARVOK_LISTEN", "127.0.0.1:2"),
                ("ARVOK_SETTING_CREW_CHAT", "http://b"),
            ]),
        );
        fs::remove_file(&file).expect("is removed");
        let config = read.expect("reads");
        assert_eq!(config.listen.port(), 2);
        assert_eq!(config.settings["yard"].value, "http://a");
        assert_eq!(config.settings["crew-chat"].value, "http://b");
    }

    #[test]
    fn what_is_wrong_is_said() {
        let said = |pairs: &[(&str, &str)]| {
            Config::read(None, environment(pairs)).expect_err("refused").to_string()
        };
        assert_eq!(
            said(&[("ARVOK_LISTEN", "here")]),
            "the environment variable ARVOK_LISTEN: expected an address such as 127.0.0.1:8470"
        );
        assert_eq!(
            said(&[("ARVOK_RETENTION_ALERTS", "3h")]),
            "the environment variable ARVOK_RETENTION_ALERTS: retention.alerts is 3h; that is kept \
            for 2d at least"
        );
        for (name, value, why) in [
            (
                "ARVOK_DATABSE",
                "postgres://x",
                "there is no such setting; did you mean ARVOK_DATABASE?",
            ),
            (
                "ARVOK_JOBS_AT_ONCE",
                "0",
                "jobs_at_once is 0; a node does one job at a time at least",
            ),
            (
                "ARVOK_DATABASE_CONNECTIONS",
                "2",
                "database_connections is 2; a node needs 8 at least",
            ),
            (
                "ARVOK_PUBLIC_URL",
                "arvok.example",
                "`arvok.example` is not an address such as https://arvok.example",
            ),
        ] {
            assert_eq!(said(&[(name, value)]), format!("the environment variable {name}: {why}"));
        }
        let file =
            std::env::temp_dir().join(format!("arvok-config-bad-{}.toml", std::process::id()));
        fs::write(&file, "public_url = \"arvok.example\"\n").expect("writes");
        let url = Config::read(Some(&file), environment(&[])).expect_err("refused").to_string();
        assert!(
            url.ends_with(
                "public_url: `arvok.example` is not an address such as https://arvok.example"
            ),
            "{url}"
        );
        fs::write(&file, "lisen = \"127.0.0.1:1\"\n").expect("writes");
        let said = Config::read(Some(&file), environment(&[])).expect_err("refused").to_string();
        fs::remove_file(&file).expect("is removed");
        assert!(said.contains("unknown field `lisen`") && said.contains("listen"), "{said}");
    }

    #[test]
    fn what_is_kept_is_told_by_source() {
        let file =
            std::env::temp_dir().join(format!("arvok-config-kept-{}.toml", std::process::id()));
        fs::write(&file, "[retention]\nalerts = \"14d\"\n[retention.sources]\nnorm = \"2d\"\n")
            .expect("writes");
        let config = Config::read(Some(&file), environment(&[])).expect("reads");
        let retention = Retention::default().with(&config.retention.change());
        assert_eq!(
            (retention.of_source("norm").num_days(), retention.of_source("other").num_days()),
            (2, 14)
        );
        assert_eq!(retention.attempts.num_days(), 400);
        fs::write(&file, "[retention.sources]\nnorm = \"1d\"\n").expect("writes");
        let said = Config::read(Some(&file), environment(&[])).expect_err("refused").to_string();
        fs::remove_file(&file).expect("is removed");
        assert!(
            said.ends_with("retention.sources.norm is 1d; that is kept for 2d at least"),
            "{said}"
        );
    }
}
