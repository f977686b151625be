//! Mutes: no rule acts on what one covers, for a time.

use arvok_core::{
    Principal,
    mute::{MuteState, MutedLines},
};
use chrono::{DateTime, Utc};
use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;
use utoipa::{IntoParams, ToSchema};

/// What a mute covers: every line that is given must hold, of the names and globs of one line any.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct MuteCovers {
    /// Names of rules, globs allowed.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub rules: Vec<String>,
    /// Names of runbooks, globs allowed: rules are covered that may dispatch one of them.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub runbooks: Vec<String>,
    /// Names of sources, globs allowed.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub sources: Vec<String>,
    /// Kinds, globs allowed.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub kinds: Vec<String>,
    /// Severities, or ranges such as `..minor`.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub severity: Vec<String>,
    /// Resources, globs allowed: `*` within a part, `**` across parts.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub resource: Vec<String>,
    /// Labels and their values, globs allowed.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub labels: BTreeMap<String, Vec<String>>,
}

impl From<MuteCovers> for MutedLines {
    fn from(covers: MuteCovers) -> Self {
        let MuteCovers { rules, runbooks, sources, kinds, severity, resource, labels } = covers;
        Self { rules, runbooks, sources, kinds, severity, resource, labels }
    }
}

impl From<MutedLines> for MuteCovers {
    fn from(lines: MutedLines) -> Self {
        let MutedLines { rules, runbooks, sources, kinds, severity, resource, labels } = lines;
        Self { rules, runbooks, sources, kinds, severity, resource, labels }
    }
}

/// A mute that is to begin. It ends by itself: `until` a moment, or `for` a time from its
/// beginning.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct NewMute {
    /// What it covers.
    pub covers: MuteCovers,
    /// Why, for those who wonder.
    pub reason: String,
    /// When it begins; absent: now.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub from: Option<DateTime<Utc>>,
    /// When it ends.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub until: Option<DateTime<Utc>>,
    /// How long it lasts, such as `2h`; at most 90 days.
    #[serde(default, rename = "for", skip_serializing_if = "Option::is_none")]
    pub period: Option<String>,
}

/// A mute.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct MuteItem {
    /// The handle.
    pub id: i64,
    /// What it covers.
    pub covers: MuteCovers,
    /// The same in a line.
    pub text: String,
    /// How it stands.
    #[schema(schema_with = crate::words::one::<MuteState>)]
    pub state: MuteState,
    /// Who said it.
    #[schema(schema_with = crate::words::principal)]
    pub by: Principal,
    /// Why, in that one's words.
    pub reason: String,
    /// When it was said.
    pub created_at: DateTime<Utc>,
    /// When it begins.
    pub from: DateTime<Utc>,
    /// When it ends by itself.
    pub until: DateTime<Utc>,
    /// When somebody lifted it before its time.
    pub lifted_at: Option<DateTime<Utc>>,
    /// Who did.
    #[schema(schema_with = crate::words::principal_or_none)]
    pub lifted_by: Option<Principal>,
}

/// A mute that has been said, and what it does not stop.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct NewlyMuted {
    /// The mute.
    pub mute: MuteItem,
    /// Jobs that are not over and were set off by what it covers, the newest first, 20 at most: a
    /// mute stops none of them.
    pub jobs: Vec<i64>,
}

/// Which mutes.
#[derive(Clone, Debug, Default, Serialize, Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
#[serde(default, deny_unknown_fields)]
pub struct MuteFilter {
    /// Whether those that are over or were lifted are listed as well.
    #[serde(skip_serializing_if = "std::ops::Not::not")]
    pub all: bool,
    /// The `next` of the page before.
    #[serde(skip_serializing_if = "Option::is_none", deserialize_with = "crate::number")]
    pub after: Option<i64>,
    /// At most 500.
    #[param(minimum = 1, maximum = 500)]
    #[serde(skip_serializing_if = "Option::is_none", deserialize_with = "crate::number")]
    pub limit: Option<u64>,
}
