//! The words that go over the wire are the core's own: here is how the description of the API tells
//! them.

use arvok_core::{PrincipalKind, connector::CallEnd, words::Words};
use serde_json::Value;
use utoipa::{
    ToSchema,
    openapi::schema::{Object, ObjectBuilder, SchemaType, Type},
};

/// The schema of a word.
pub(crate) fn one<T: Words>() -> Object {
    let words: Vec<&str> = T::ALL.iter().map(|word| word.as_str()).collect();
    ObjectBuilder::new().schema_type(Type::String).enum_values(Some(words)).build()
}

/// The schema of a word, or null.
pub(crate) fn one_or_none<T: Words>() -> Object {
    let words = T::ALL.iter().map(|word| Value::from(word.as_str())).chain([Value::Null]);
    ObjectBuilder::new()
        .schema_type(SchemaType::from_iter([Type::String, Type::Null]))
        .enum_values(Some(words.collect::<Vec<_>>()))
        .build()
}

/// The schema of who did something.
pub(crate) fn principal() -> Object {
    who(Type::String.into())
}

/// The schema of who did something, or null.
pub(crate) fn principal_or_none() -> Object {
    who(SchemaType::from_iter([Type::String, Type::Null]))
}

fn who(types: SchemaType) -> Object {
    let kinds = PrincipalKind::ALL.map(PrincipalKind::as_str).join("|");
    ObjectBuilder::new()
        .schema_type(types)
        .description(Some("Who: an id with its kind, such as `token/pat`"))
        .pattern(Some(format!("^({kinds})/.")))
        .build()
}

arvok_core::words! {
    /// How a step of a job, or a try of it, stands.
    #[derive(ToSchema)]
    pub enum StepState("step state") {
        /// Its turn has not come.
        Next = "next",
        /// Under way.
        Running = "running",
        /// Waits to be tried again.
        Again = "again",
        /// Waits for a time, a decision, an event or a job.
        Waiting = "waiting",
        /// Done.
        Done = "done",
        /// Failed.
        Failed = "failed",
        /// Nobody knows whether it was done.
        Unsure = "unsure",
        /// Passed over, since its condition did not hold.
        Skipped = "skipped",
        /// Not needed any more.
        Stopped = "stopped",
        /// The job ended before its turn.
        NotRun = "not run",
    }
}

arvok_core::words! {
    /// How far an alert of a sender came.
    pub enum Outcome("outcome") {
        /// Anything at all.
        Distinct = "distinct",
        /// No rule concerns it.
        Unmatched = "unmatched",
        /// Some rule concerns it.
        Matched = "matched",
        /// Its rule only watches.
        Watched = "watched",
        /// It joined an episode.
        Folded = "folded",
        /// It was held back.
        Held = "held",
        /// It led to a proposal.
        Proposed = "proposed",
        /// It led to a job.
        Dispatched = "dispatched",
        /// Its job is not finished.
        UnderWay = "under-way",
        /// Its job succeeded and proved nothing.
        Unproved = "unproved",
        /// Its job ended badly, or nobody knows how.
        Failed = "failed",
        /// Its job was stopped by a person.
        Cancelled = "cancelled",
        /// The effect of its job was confirmed.
        Confirmed = "confirmed",
    }
}

arvok_core::words! {
    /// What became of a decision.
    #[derive(ToSchema)]
    pub enum DecisionState("decision state") {
        /// Waits for a person.
        Open = "open",
        /// A person decided.
        Taken = "taken",
        /// Nobody did in time.
        Silent = "silent",
        /// The job does not ask any more.
        Withdrawn = "withdrawn",
    }
}

arvok_core::words! {
    /// What became of a proposal.
    #[derive(ToSchema)]
    pub enum ProposalState("proposal state") {
        /// Waits for a person.
        Open = "open",
        /// Became a job.
        Launched = "launched",
        /// A person said no.
        Dismissed = "dismissed",
        /// Its alarm was cleared, its rule withdrawn, or another took its place.
        Withdrawn = "withdrawn",
        /// Its inputs were refused.
        Faulty = "faulty",
    }
}

arvok_core::words! {
    /// How it stands with a subscriber.
    #[derive(ToSchema)]
    pub enum SubscriberState("subscriber state") {
        /// Its address is asked whether it wants events.
        Asked = "asked",
        /// Its address has agreed; events are sent.
        Confirmed = "confirmed",
        /// Its address has said that it wants no more (410).
        Gone = "gone",
        /// Nothing can be sent to it as it is written.
        Faulty = "faulty",
    }
}

arvok_core::words! {
    /// What became of an event for a subscriber.
    #[derive(ToSchema)]
    pub enum OutgoingState("state of an outgoing event") {
        /// Waits for its first or next try.
        Waiting = "waiting",
        /// Was taken.
        Delivered = "delivered",
        /// Was tried for a day.
        GivenUp = "given-up",
    }
}

arvok_core::words! {
    /// What became of an act on an alarm at its sender.
    #[derive(ToSchema)]
    pub enum WriteBackState("state of an act at the sender") {
        /// It waits for its first or next try.
        Waiting = "waiting",
        /// It is being done.
        UnderWay = "under-way",
        /// It is done.
        Done = "done",
        /// It is not done, and not tried any more.
        Failed = "failed",
        /// It may have been done; it is not tried again, since twice may not be harmless.
        Unknown = "unknown",
    }
}

arvok_core::words! {
    /// How a call of a connection ended.
    #[derive(ToSchema)]
    pub enum CallState("call state") {
        /// It gave its output.
        Done = "done",
        /// It was taken, and the other side calls back.
        Later = "later",
        /// It never left, or nobody was there to take it.
        NotSent = "not-sent",
        /// The other side said no.
        Refused = "refused",
        /// Nobody knows whether it was done.
        Unknown = "unknown",
        /// It was done, but what came back cannot be used.
        Useless = "useless",
    }
}

impl From<CallEnd> for CallState {
    fn from(end: CallEnd) -> Self {
        match end {
            CallEnd::NotSent => Self::NotSent,
            CallEnd::Refused => Self::Refused,
            CallEnd::Unknown => Self::Unknown,
            CallEnd::Done => Self::Useless,
        }
    }
}

impl CallState {
    /// Whether all went well.
    pub const fn is_well(self) -> bool {
        matches!(self, Self::Done | Self::Later)
    }
}
