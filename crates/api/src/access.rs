//! Who may do what: tokens, roles, sign-in.

use chrono::{DateTime, Utc};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// What a token allows; each role includes those before it.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "lowercase")]
pub enum Role {
    /// Read everything but secrets.
    Viewer,
    /// Launch, hold, stop and resolve jobs, decide proposals.
    Responder,
    /// Publish definitions, send alerts for any source.
    Author,
    /// Tokens and secrets.
    Admin,
}

impl Role {
    /// All of them.
    pub const ALL: [Self; 4] = [Self::Viewer, Self::Responder, Self::Author, Self::Admin];

    /// The word used in every format.
    pub const fn as_str(self) -> &'static str {
        match self {
            Self::Viewer => "viewer",
            Self::Responder => "responder",
            Self::Author => "author",
            Self::Admin => "admin",
        }
    }

    /// The role named by a word.
    pub fn parse(text: &str) -> Option<Self> {
        Self::ALL.into_iter().find(|r| r.as_str() == text)
    }
}

/// Who is asking.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Who {
    /// The token's name.
    pub name: String,
    /// What it allows.
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
    pub role: Role,
}

/// A token, shown this once.
#[derive(Clone, Serialize, Deserialize, ToSchema)]
pub struct TokenMade {
    /// What people call it; unique.
    pub name: String,
    /// What it allows.
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
    pub role: Role,
    /// When it was made.
    pub created_at: DateTime<Utc>,
}
