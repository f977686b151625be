//! Sources that send more than their limit.

use super::{Troubles, name};
use crate::node::Published;
use arvok_core::source::Source;
use arvok_store::{DatabaseConnection, StoreError, over_limit};

/// The kind of the alarm.
const FLOODING: &str = "source.flooding";

/// Adds the alarms of the sources of which more came lately than their limit.
pub(super) async fn add(
    db: &DatabaseConnection,
    published: &Published,
    troubles: &mut Troubles,
) -> Result<(), StoreError> {
    if !published.catalog.all::<Source>().any(|(source, _)| source.limit.is_some()) {
        return Ok(());
    }
    for over in over_limit::lately(db).await? {
        let source = published.catalog.get::<Source>(&over).map(|(source, _)| source);
        if let Some(limit) = source.and_then(|source| source.limit) {
            let words = format!(
                "source {over} sends more than {limit}; what is more is refused or has to wait"
            );
            troubles.insert((FLOODING.to_owned(), format!("source/{}", name(&over))), words);
        }
    }
    Ok(())
}
