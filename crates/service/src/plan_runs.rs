//! Runs of plans, as they are launched: at one of their times, or by hand.

use crate::node::Node;
use arvok_api::Change;
use arvok_core::{Principal, TraceContext, plan::Plan, rule::Urgency, runbook::PrepareError};
use arvok_store::{
    StoreError,
    launches::Launch,
    plans::{self, RunLaunched},
};
use chrono::{DateTime, Utc};
use serde_json::{Map, Value};

/// A run to be launched.
pub(crate) struct PlanRun<'a> {
    pub plan: &'a Plan,
    /// The version of it.
    pub version: i32,
    /// The time that it is for; none: somebody runs it.
    pub due: Option<DateTime<Utc>>,
    pub inputs: Map<String, Value>,
    /// Not begun after this.
    pub deadline: Option<DateTime<Utc>>,
    pub by: &'a Principal,
    /// What the same launch has each time it is made.
    pub key: Option<&'a str>,
    pub reason: String,
    pub trace: Option<TraceContext>,
}

impl PlanRun<'_> {
    /// Launches it, and wakes whoever takes jobs up.
    ///
    /// # Errors
    /// If the database cannot be worked with. Within: why no job can be made of it.
    pub(crate) async fn launch(
        self,
        node: &Node,
        now: DateTime<Utc>,
    ) -> Result<Result<RunLaunched, PrepareError>, StoreError> {
        let prepared = match self.plan.runbook.prepare(self.inputs, &*node.published().catalog) {
            Ok(prepared) => prepared,
            Err(wrong) => return Ok(Err(wrong)),
        };
        let launch = Launch {
            runbook: &self.plan.runbook.name,
            version: self.version,
            inputs: Value::Object(prepared.inputs),
            target: prepared.target.to_string(),
            urgency: Urgency::Normal,
            deadline: self.deadline,
            alert: None,
            by: self.by,
            key: self.key,
            reason: self.reason,
            trace: self.trace,
        };
        let launched =
            plans::launch(&node.pools.work, &self.plan.name, self.due, &launch, now).await?;
        if let RunLaunched::New(job) = launched {
            tracing::info!(%job, by = %self.by, plan = self.plan.name, "a plan runs");
            node.announcer.tell(Change { jobs: vec![job.0], ..Change::default() });
            node.wakeups.jobs.notify_one();
        }
        Ok(Ok(launched))
    }
}
