//! What was done that decides what others may do, and who was refused.

use crate::filters::{number, time};
use arvok_core::Principal;
use chrono::{DateTime, Utc};
use serde::{Deserialize, Serialize};
use utoipa::{IntoParams, ToSchema};

/// Which of it.
#[derive(Clone, Debug, Default, Serialize, Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
#[serde(default, deny_unknown_fields)]
pub struct AuditFilter {
    /// By whom: `token/pat`, or an id of any kind.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub by: Option<String>,
    /// What was done, such as `token.made` or `sign-in.refused`.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub act: Option<String>,
    /// Since when.
    #[serde(skip_serializing_if = "Option::is_none", deserialize_with = "time")]
    pub since: Option<DateTime<Utc>>,
    /// The `next` of the page before.
    #[serde(skip_serializing_if = "Option::is_none", deserialize_with = "number")]
    pub after: Option<i64>,
    /// At most 500.
    #[param(minimum = 1, maximum = 500)]
    #[serde(skip_serializing_if = "Option::is_none", deserialize_with = "number")]
    pub limit: Option<u64>,
}

/// Something that was done, or refused.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct AuditItem {
    /// The handle; later ones are greater.
    pub id: i64,
    /// When; of several the last time.
    pub at: DateTime<Utc>,
    /// Who: a token, a link that decides (by the name that was typed), an answer by mail (by the
    /// address that it was from), a node, or a stranger by an address.
    #[schema(schema_with = crate::words::principal)]
    pub by: Principal,
    /// What was done: `token.made`, `token.revoked`, `secret.set`, `secret.removed`,
    /// `secret.approved`, `published`, `withdrawn`, `retention`, `halted`, `halt.lifted`,
    /// `key.taken`, `node.forgotten`, `sign-in.refused`, `request.refused`, `sender.refused`; to
    /// jobs `job.launched`, `job.paused`, `job.resumed`, `job.cancelled`, `job.resolved`,
    /// `proposal.launched`, `proposal.dismissed`, `decision.taken`; of mails that decide nothing
    /// `answer.stranger`, `answer.automatic`, `answer.unclear`, `answer.late`, `answer.unreadable`.
    pub act: String,
    /// With what.
    pub what: String,
    /// More about it.
    pub detail: Option<String>,
    /// How often within the hour.
    pub times: i64,
}
