//! Arvok's own records: whoever makes the calls has them at hand, or has none.

use crate::driver::{Called, Driver, Way, unsent};
use arvok_core::{
    ResourcePath,
    connector::{Answer, CallEnd, Failure, RecordsPlan},
};
use serde_json::{Map, Value};
use std::{fmt::Debug, future::Future, pin::Pin};

/// What records know of a resource, or why they cannot be asked.
pub type RecordsAnswer<'a> = Pin<Box<dyn Future<Output = Result<Value, String>> + Send + 'a>>;

/// Records that can be asked.
pub trait OwnRecords: Debug + Send + Sync {
    /// What is known of a resource: `alarms`, `jobs`, `touched`.
    fn of<'a>(&'a self, resource: &'a ResourcePath) -> RecordsAnswer<'a>;
}

/// The driver; without records it is a runner's.
pub(crate) struct Records<'r>(pub Option<&'r dyn OwnRecords>);

impl Records<'_> {
    /// Whether there are records here.
    pub fn probe(&self) -> Result<String, Failure> {
        self.0.map(|_| "the records of this installation".to_owned()).ok_or_else(nowhere)
    }
}

fn nowhere() -> Failure {
    unsent("only nodes have Arvok's records; this is none".to_owned())
}

impl Driver<RecordsPlan<'_>> for Records<'_> {
    async fn perform(
        &self,
        planned: RecordsPlan<'_>,
        way: Way<'_>,
        last: &mut Option<Answer>,
    ) -> Result<Called, Failure> {
        let records = self.0.ok_or_else(nowhere)?;
        let asked = tokio::time::timeout(way.timeout, records.of(planned.resource())).await;
        let known = match asked {
            Ok(known) => known.map_err(|why| Failure::new(CallEnd::NotSent, why))?,
            Err(_) => {
                let within = way.timeout.as_secs_f32();
                let why = format!("the records did not answer within {within} s");
                return Err(Failure::new(CallEnd::NotSent, why));
            }
        };
        *last = Some(Answer { status: 0, headers: Map::new(), body: known.clone() });
        planned.output(known).map(Called::Output)
    }
}
