//! Calls back: the address that goes out with a call, and what comes to it.

use crate::node::Node;
use arvok_core::{
    JobId,
    connector::{CallbackAt, Hiding, Signed},
    job::{CALLED_BACK, Place},
    text::cut,
};
use arvok_store::{
    StoreError,
    outside::callbacks::{self, Try},
};
use chrono::{DateTime, Utc};
use serde_json::{Value, json};

/// What the address of a call back is sealed for.
const SEALED_FOR: &str = "call back of a step";

/// Which call is called back.
#[derive(Clone, Debug)]
pub(crate) struct CallBack {
    pub of: Try,
    pub via: String,
    pub operation: String,
}

impl CallBack {
    /// Where we wait: an address that is sealed by this installation and good for this try of this
    /// step alone, and a key for what comes to it.
    pub fn at(&self, node: &Node) -> Result<CallbackAt, String> {
        let link =
            node.calls.vault.seal_link(SEALED_FOR, &self.text()).map_err(|e| e.to_string())?;
        Ok(CallbackAt {
            address: format!("{}/callback/{link}", node.public_url()),
            key: self.key(node),
        })
    }

    /// The key with which the other side signs what it sends, where it can.
    pub fn key(&self, node: &Node) -> String {
        node.calls.vault.key_of(SEALED_FOR, &self.text())
    }

    fn text(&self) -> String {
        let Try { job, created, place, attempt } = &self.of;
        json!([job.0, created.timestamp_micros(), place, attempt, self.via, self.operation])
            .to_string()
    }

    /// How what comes to it is signed, by the operation as it is published.
    pub fn signed(&self, node: &Node) -> Option<Signed> {
        let published = node.published();
        let (_, operation) = published.catalog.operation(&self.via, &self.operation).ok()?;
        operation.callback()?.signed.clone()
    }

    /// What an address leads to; none if it is not one of ours.
    pub fn open(node: &Node, link: &str) -> Option<Self> {
        let opened = node.calls.vault.open_link(SEALED_FOR, link)?;
        let (job, at, place, attempt, via, operation): (i64, i64, Place, u32, String, String) =
            serde_json::from_str(&opened).ok()?;
        let created: DateTime<Utc> = DateTime::from_timestamp_micros(at)?;
        Some(Self { of: Try { job: JobId(job), created, place, attempt }, via, operation })
    }
}

/// Takes what was called back; whether anybody still waits for it.
pub(crate) async fn answer(
    node: &Node,
    back: &CallBack,
    called: Value,
) -> Result<bool, StoreError> {
    let published = node.published();
    let operation = published.catalog.operation(&back.via, &back.operation).ok();
    let output = match operation {
        Some((_, operation)) => {
            operation.called_back(&called, Hiding(&|text| published.redactor.text(text)))
        }
        None => Err(format!("there is no operation `{}` any more", back.operation)),
    };
    let called = match output {
        Ok(output) => json!({ "output": output }),
        Err(why) => json!({ "failure": cut(&published.redactor.text(&why), 1_000) }),
    };
    callbacks::record_answer(&node.pools.work, &back.of, CALLED_BACK, &called).await
}
