//! Subscribers: those to whom events of jobs and decisions leave.

use crate::{
    OutgoingState, SubscriberState,
    filters::{number, word},
};
use chrono::{DateTime, Utc};
use serde::{Deserialize, Serialize};
use utoipa::{IntoParams, ToSchema};

/// One subscriber.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct SubscriberItem {
    /// The name.
    pub name: String,
    /// One line for people.
    pub summary: Option<String>,
    /// Where events go; absent where that cannot be told.
    pub address: Option<String>,
    /// How it stands.
    pub state: SubscriberState,
    /// What was wrong last, or is wrong with it as it is written.
    pub trouble: Option<String>,
    /// Tries in a row that failed.
    pub failures: i32,
    /// It is left alone until then, after tries that failed.
    pub rests_until: Option<DateTime<Utc>>,
    /// When its address agreed.
    pub confirmed_at: Option<DateTime<Utc>>,
    /// Most requests a minute that it wants; absent: as many as there are.
    pub rate: Option<i32>,
    /// Events that wait for it, 10,000 at most.
    pub waiting: i64,
    /// Events that were given up and are kept.
    pub given_up: i64,
    /// Events that were not kept for it, since too many waited.
    pub left_out: i64,
    /// Events that it took.
    pub delivered: i64,
    /// When it took the last.
    pub delivered_at: Option<DateTime<Utc>>,
}

/// Which events of a subscriber.
#[derive(Clone, Debug, Default, Serialize, Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
#[serde(default, deny_unknown_fields)]
pub struct OutgoingFilter {
    /// `waiting`, `delivered` or `given-up`. Left out: all.
    #[param(value_type = Option<String>)]
    #[serde(deserialize_with = "word")]
    pub state: Option<OutgoingState>,
    /// The `next` of the page before.
    #[serde(deserialize_with = "number")]
    pub after: Option<i64>,
    /// At most 500.
    #[param(minimum = 1, maximum = 500)]
    #[serde(deserialize_with = "number")]
    pub limit: Option<u64>,
}

/// An event on its way to a subscriber, or one that has come to an end.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct OutgoingItem {
    /// The handle.
    pub number: i64,
    /// Its type, such as `arvok.job.failed`.
    pub kind: String,
    /// The job that it tells of.
    pub job: Option<i64>,
    /// What it is about.
    pub resource: String,
    /// One line for people.
    pub summary: String,
    /// When it happened.
    pub at: DateTime<Utc>,
    /// What became of it.
    pub state: OutgoingState,
    /// Tries so far.
    pub tries: i32,
    /// When it is tried next; absent once it has come to an end.
    pub next_at: Option<DateTime<Utc>>,
    /// What was answered last.
    pub status: Option<i32>,
    /// What was wrong last.
    pub failure: Option<String>,
    /// When it came to its end.
    pub ended_at: Option<DateTime<Utc>>,
}

/// What is sent once more.
#[derive(Clone, Debug, Default, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct Replay {
    /// All events that it wants and that happened since then, whatever became of them. Left out:
    /// what was given up.
    #[serde(default)]
    pub since: Option<DateTime<Utc>>,
    /// Only those that happened before.
    #[serde(default)]
    pub until: Option<DateTime<Utc>>,
}

/// What will be sent once more.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Replayed {
    /// So many events.
    pub events: u64,
    /// When the next begins that was not looked at: one replay sends about 10,000 events, and looks
    /// at 200,000.
    pub next: Option<DateTime<Utc>>,
}
