//! Secrets that the runner keeps itself, so that no node ever sees them. Each says where it may go:
//! whoever publishes connections cannot send it elsewhere.

use arvok_connect::Redactor;
use arvok_core::{connector::Connection, document::parse_value, glob::Glob};
use serde::Deserialize;
use std::{
    collections::BTreeMap,
    fmt, fs,
    os::unix::fs::PermissionsExt,
    path::{Path, PathBuf},
};

/// What is wrong with the file of secrets.
#[derive(Debug, thiserror::Error)]
#[error("{0}")]
pub struct OwnSecretsError(String);

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct SecretDoc {
    #[serde(default)]
    value: Option<String>,
    #[serde(default)]
    file: Option<PathBuf>,
    to: Vec<String>,
}

struct Secret {
    value: String,
    to: Vec<Glob>,
}

/// The secrets that a runner keeps itself.
pub struct OwnSecrets {
    secrets: BTreeMap<String, Secret>,
    redactor: Redactor,
}

impl fmt::Debug for OwnSecrets {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_set().entries(self.secrets.keys()).finish()
    }
}

impl Default for OwnSecrets {
    fn default() -> Self {
        Self::of(BTreeMap::new())
    }
}

impl OwnSecrets {
    fn of(secrets: BTreeMap<String, Secret>) -> Self {
        let redactor = Redactor::new(secrets.values().map(|secret| secret.value.clone()));
        Self { secrets, redactor }
    }

    /// Those of a file, which nobody else may read.
    ///
    /// # Errors
    /// What is wrong with it.
    pub fn read(file: &Path) -> Result<Self, OwnSecretsError> {
        let shown = file.display();
        let wrong = |why: String| OwnSecretsError(format!("{shown}: {why}"));
        let mode = fs::metadata(file).map_err(|e| wrong(e.to_string()))?.permissions().mode();
        if mode & 0o077 != 0 {
            return Err(wrong(format!("others may read it; `chmod 600 {shown}` ends that")));
        }
        let text = fs::read_to_string(file).map_err(|e| wrong(e.to_string()))?;
        Self::parse(&shown.to_string(), &text)
    }

    fn parse(file: &str, text: &str) -> Result<Self, OwnSecretsError> {
        let wrong = |why: String| OwnSecretsError(format!("{file}: {why}"));
        // What it says of a value may have the value in it.
        let value = parse_value(file, text)
            .map_err(|e| OwnSecretsError(format!("{file}:{}: is no YAML", e.line)))?;
        let documents: BTreeMap<String, serde_json::Value> = serde_json::from_value(value)
            .map_err(|_| wrong("is a map from names to `value` or `file`, and `to`".into()))?;
        let mut secrets = BTreeMap::new();
        for (name, document) in documents {
            let form = "takes `value` or `file`, and `to`, a list of addresses such as \
                ssh://10.2.0.*";
            let doc: SecretDoc =
                serde_json::from_value(document).map_err(|_| wrong(format!("`{name}` {form}")))?;
            let value = match (doc.value, doc.file) {
                (Some(value), None) => value,
                (None, Some(from)) => fs::read_to_string(&from)
                    .map_err(|e| wrong(format!("`{name}`: {}: {e}", from.display())))?
                    .trim_end_matches(['\r', '\n'])
                    .to_owned(),
                _ => return Err(wrong(format!("`{name}` {form}"))),
            };
            if value.is_empty() || doc.to.is_empty() {
                return Err(wrong(format!("`{name}` {form}; none of them is empty")));
            }
            let to = doc.to.iter().map(|to| Glob::parse(to));
            let to = to.collect::<Result<_, _>>().map_err(|e| wrong(format!("`{name}`: {e}")))?;
            secrets.insert(name, Secret { value, to });
        }
        Ok(Self::of(secrets))
    }

    /// A text without any of them.
    pub fn hidden(&self, text: &str) -> String {
        self.redactor.text(text)
    }

    /// All of them, to be hidden.
    pub fn values(&self) -> impl Iterator<Item = &str> {
        self.secrets.values().map(|secret| secret.value.as_str())
    }

    /// A secret for a connection at this address.
    ///
    /// # Errors
    /// That it is not here, or may not go there.
    pub fn open(&self, name: &str, connection: &Connection, base: &str) -> Result<&str, String> {
        let secret = self.secrets.get(name).ok_or_else(|| {
            format!("this runner keeps no secret `{name}`; it belongs in its file of secrets")
        })?;
        let may = |at: &String| secret.to.iter().any(|to| to.matches(at));
        match targets(connection, base).iter().find(|at| !may(at)) {
            None => Ok(&secret.value),
            Some(at) => Err(format!(
                "this runner's secret `{name}` may not go to {at}; its `to` in the runner's file \
                of secrets says where it may"
            )),
        }
    }
}

/// Where a connection shows its credential: its address, or each of the machines that it stands
/// for, and whoever gives it tokens.
fn targets(connection: &Connection, base: &str) -> Vec<String> {
    let tokens = connection.shown_to.get(1).cloned().flatten();
    let scheme = base.find("://").map_or("", |at| &base[..at + 3]);
    let many = connection.hosts.iter().map(|host| format!("{scheme}{}", host.as_str()));
    let mut targets: Vec<String> = many.collect();
    if targets.is_empty() {
        targets.push(base.to_owned());
    }
    targets.extend(tokens);
    targets
}

#[cfg(test)]
mod tests {
    use super::*;
    use arvok_core::{definition::Defined, document::parse_file};

    fn connection(more: &str) -> Connection {
        let text = format!(
            "connection: pier\nconnector: any\nthrough: {{ site: nessfold }}\nrunner_secrets: \
            [key]\ncredential: {{ basic: {{ user: a, password: \"${{secret('key')}}\" }} }}\n{more}"
        );
        Connection::check(&parse_file("a", &text).expect("YAML")[0]).expect("a connection")
    }

    #[test]
    fn a_secret_goes_where_its_runner_says_whoever_publishes_what() {
        let file = "key: { value: swordfish, to: ['ssh://10.2.0.*', 'https://pier.example'] }";
        let own = OwnSecrets::parse("own.yaml", file).expect("secrets");
        let open =
            |more: &str, base: &str| own.open("key", &connection(more), base).map(str::to_owned);
        let pier = "base: https://pier.example";
        assert_eq!(open(pier, "https://pier.example").as_deref(), Ok("swordfish"));
        assert!(open("base: https://evil.example", "https://evil.example").is_err());
        assert!(open("base: ssh://*\nhosts: [10.2.0.7, 10.2.0.9]", "ssh://*").is_ok());
        let wider = open("base: ssh://*\nhosts: [10.2.0.7, 10.2.*]", "ssh://*");
        let why = wider.expect_err("is refused");
        assert!(why.contains("may not go to ssh://10.2.*") && !why.contains("swordfish"), "{why}");
        let unknown = own.open("other", &connection(pier), "x").expect_err("is none");
        assert!(unknown.contains("keeps no secret `other`"), "{unknown}");
        assert_eq!(own.hidden("a swordfish"), "a [secret]");
    }

    #[test]
    fn a_file_that_is_none_is_refused_without_what_is_in_it() {
        for (text, part) in [
            ("key: swordfish", "`key` takes `value` or `file`"),
            ("key: { value: swordfish }", "`key` takes"),
            ("key: { value: swordfish, file: b, to: [a] }", "`key` takes"),
            ("key: { value: swordfish, to: [] }", "none of them is empty"),
            ("- swordfish", "is a map"),
            ("key: {{ swordfish", "is no YAML"),
            ("key: { file: /nowhere/swordfish.txt, to: [a] }", "`key`: /nowhere"),
        ] {
            let why = OwnSecrets::parse("own.yaml", text).expect_err("is refused").to_string();
            assert!(why.contains(part), "{text}: {why}");
            assert!(!why.contains("swordfish") || text.contains("/nowhere"), "{why}");
        }
    }
}
