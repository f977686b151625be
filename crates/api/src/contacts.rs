//! Contacts: persons and teams, and how messages reach them.

use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// A contact: a person or a team.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct ContactItem {
    /// The name.
    pub name: String,
    /// One line for people.
    pub summary: Option<String>,
    /// The members; of a person none.
    pub members: Vec<String>,
    /// Those of the members who are on duty now by the team's calendar.
    pub on_duty: Vec<String>,
    /// The operation that says who is on duty, with its connection, if none of this says it: it is
    /// called when somebody is to be reached.
    pub duty_by: Option<String>,
    /// Those of its persons who have no token, and so decide by a link without signing in or by
    /// mail alone, where a question allows it.
    pub without_token: Vec<String>,
    /// How often all ways are gone through until somebody answers.
    pub rounds: u32,
    /// The ways in the order in which they would be tried now.
    pub ways: Vec<ContactWayItem>,
}

/// A way by which messages reach a person.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct ContactWayItem {
    /// The person.
    pub contact: String,
    /// The operation.
    pub call: String,
    /// The connection through which it is called.
    pub via: String,
    /// How long an answer is waited for before the next way, such as `5m`.
    pub wait: String,
    /// When the person can be reached so, such as `mon,tue 07:00-22:00 Europe/London`; absent:
    /// always.
    pub hours: Option<String>,
    /// Whether it would be tried now.
    pub now: bool,
}
