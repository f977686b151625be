//! A header that carries a secret.

use super::secret::secret;
use crate::{document::Checker, expr::Template};
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

/// A header that carries a secret.
#[derive(Clone, Debug, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct HeaderDoc {
    /// The header's name, such as `X-Auth-Key`.
    pub name: String,
    /// Its value, usually `${secret('name')}`.
    pub value: String,
}

impl HeaderDoc {
    /// Its name in lower case, and its value.
    pub(super) fn check(self, check: &mut Checker<'_>, at: &str) -> Option<(String, Template)> {
        let Self { name, value } = self;
        let value = secret(check, &format!("{at}/value"), value);
        if !is_field_name(&name) {
            check
                .fail(&format!("{at}/name"), "is not the name of a header (RFC 9110, section 5.1)");
            return None;
        }
        Some((name.to_ascii_lowercase(), value?))
    }
}

/// Whether a text can be the name of a header (RFC 9110, section 5.1).
pub(crate) fn is_field_name(name: &str) -> bool {
    let token = |c: char| c.is_ascii_alphanumeric() || "!#$%&'*+-.^_`|~".contains(c);
    !name.is_empty() && name.len() <= 100 && name.chars().all(token)
}
