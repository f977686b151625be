//! Who may do what: tokens, roles, sign-in.

use arvok_core::Role;
use chrono::{DateTime, Utc};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// What whoever has a token may let act by itself, when publishing: names and globs. An admin may
/// let anything act.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct AutomationRight {
    /// Rules of stance `act`.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub rules: Vec<String>,
    /// Plans that have times.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub plans: Vec<String>,
    /// The connections that their jobs may call through; `scripts` for scripts on a node.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub connections: Vec<String>,
}

impl AutomationRight {
    /// Whether it says nothing.
    pub fn is_nothing(&self) -> bool {
        *self == Self::default()
    }
}

/// Who is asking.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Who {
    /// The token's name.
    pub name: String,
    /// What it allows.
    #[schema(schema_with = crate::words::one::<Role>)]
    pub role: Role,
    /// What it may let act by itself.
    #[serde(default, skip_serializing_if = "AutomationRight::is_nothing")]
    pub automate: AutomationRight,
}

/// Signing in to the console with a token.
#[derive(Clone, Serialize, Deserialize, ToSchema)]
pub struct SignIn {
    /// The token.
    pub token: String,
}

/// A token to be made.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct NewToken {
    /// Its name, in the record too.
    pub name: String,
    /// What it allows.
    #[schema(schema_with = crate::words::one::<Role>)]
    pub role: Role,
    /// What it may let act by itself. Left out: nothing; an admin anything.
    #[serde(default)]
    pub automate: AutomationRight,
}

/// A token, shown this once.
#[derive(Clone, Serialize, Deserialize, ToSchema)]
pub struct TokenMade {
    /// What people call it; unique.
    pub name: String,
    /// What it allows.
    #[schema(schema_with = crate::words::one::<Role>)]
    pub role: Role,
    /// The token itself; only its hash is kept.
    pub token: String,
}

/// A token, without itself.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct TokenItem {
    /// What people call it; unique.
    pub name: String,
    /// What it allows.
    #[schema(schema_with = crate::words::one::<Role>)]
    pub role: Role,
    /// What it may let act by itself.
    #[serde(default)]
    pub automate: AutomationRight,
    /// When it was made.
    pub created_at: DateTime<Utc>,
}
