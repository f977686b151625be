//! A message that comes because its time has come goes the one way in.

use crate::{
    admission::NotTaken,
    intake::{ReceivedMessage, accept},
    node::{Node, Published},
};
use arvok_core::source::Source;
use serde_json::Map;

/// Takes a message of a source; by its key it is known when it comes once more.
pub(super) async fn take(
    node: &Node,
    (published, source): (&Published, &Source),
    raw: &[u8],
    key: String,
) -> Result<(), String> {
    let admission = node
        .admission
        .admit(&source.name, raw.len())
        .ok_or("there is no room for another message at the moment")?;
    let (properties, key) = (Map::new(), Some(key));
    let message = ReceivedMessage { raw, properties, normal: false, key, trial: None };
    match accept(node, published, source, message, admission).await {
        // What the source's own lines cannot read is kept and told as for any sender.
        Ok(_) | Err(NotTaken::Malformed { .. }) => Ok(()),
        Err(NotTaken::Store) => Err("the records cannot be written at the moment".into()),
    }
}
