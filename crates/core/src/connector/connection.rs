//! One configured use of a connector: where it is and what it is shown. Secrets are named here
//! and opened only for the call.

use crate::{
    Period,
    document::{Checker, Document, Problem},
    expr::{Names, Template},
};
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use serde_json::Value;

/// The functions that a credential or an address may use: `secret(name)`, `setting(name)`.
pub const SECRETS: Names<'static> = Names { roots: &[], functions: &["secret", "setting"], types: &[] };

const SETTINGS: Names<'static> = Names { roots: &[], functions: &["setting"], types: &[] };

/// What is shown to prove who speaks.
#[derive(Clone, Debug, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct Credential {
    /// A bearer token (RFC 6750), usually `${secret('name')}`.
    pub bearer: String,
}

impl Credential {
    /// Compiles the template. A credential that is written out would be read by everybody who may
    /// read the document; one whose secret's name is worked out could be any secret.
    pub fn check(self, check: &mut Checker<'_>, pointer: &str) -> Option<Template> {
        let at = format!("{pointer}/bearer");
        let made = check.template(&at, &Value::String(self.bearer), SECRETS)?;
        let secrets = made.calls("secret");
        if secrets.is_empty() && made.calls("setting").is_empty() {
            check.fail(&at, "a credential is not written out; set a secret and write \"${secret('its-name')}\"");
            return None;
        }
        if secrets.contains(&None) {
            check.fail(&at, "the name of a secret is written out: secret('its-name')");
            return None;
        }
        Some(made)
    }
}

/// A connection as written.
#[derive(Clone, Debug, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct ConnectionDoc {
    /// The name.
    pub connection: String,
    /// One line for people.
    #[serde(default)]
    pub summary: Option<String>,
    /// The connector's name.
    pub connector: String,
    /// The base address; requests go nowhere else. `${setting('name')}` takes it from the
    /// service's own settings.
    pub base: String,
    /// What is shown to the other side.
    #[serde(default)]
    pub credential: Option<Credential>,
    /// How long one call may take. Left out: 10s.
    #[serde(default)]
    pub timeout: Option<Period>,
}

/// A checked connection.
#[derive(Clone, Debug)]
pub struct Connection {
    /// The name.
    pub name: String,
    /// One line for people.
    pub summary: Option<String>,
    /// The connector's name.
    pub connector: String,
    /// The base address as written.
    pub address: String,
    /// The template of the base address.
    pub base: Template,
    /// The template of the bearer token.
    pub bearer: Option<Template>,
    /// How long one call may take.
    pub timeout: Period,
}

impl Connection {
    /// Checks a document.
    pub fn check(document: &Document) -> Result<Self, Vec<Problem>> {
        let doc: ConnectionDoc = document.decode().map_err(|p| vec![p])?;
        let mut check = Checker::new(document);
        if !doc.base.contains("${") && !doc.base.starts_with("http://") && !doc.base.starts_with("https://") {
            check.fail("/base", "is not an address; it begins with http:// or https://");
        }
        let base = check.template("/base", &Value::String(doc.base.clone()), SETTINGS);
        let bearer = match doc.credential {
            None => Some(None),
            Some(credential) => credential.check(&mut check, "/credential").map(Some),
        };
        let made = base.zip(bearer).map(|(base, bearer)| Self {
            name: doc.connection,
            summary: doc.summary,
            connector: doc.connector,
            address: doc.base,
            base,
            bearer,
            timeout: doc.timeout.unwrap_or(Period::from_secs(10)),
        });
        check.finish(made)
    }
}
