//! Who may do what: tokens, roles, sign-in.

use arvok_core::Role;
use chrono::{DateTime, Utc};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// Who is asking.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Who {
    /// The token's name.
    pub name: String,
    /// What it allows.
    #[schema(schema_with = crate::words::one::<Role>)]
    pub role: Role,
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
    /// When it was made.
    pub created_at: DateTime<Utc>,
}
