//! The alarms that Arvok has raised about itself and that stand.

use arvok_api::{AlarmFilter, AlarmItem};
use arvok_core::{AlertState, connector::OwnAlarm, source::OWN};
use arvok_store::{DatabaseConnection, StoreError, read};

/// All of them, 500 at most.
pub(crate) async fn standing(db: &DatabaseConnection) -> Result<Vec<AlarmItem>, StoreError> {
    let filter = AlarmFilter {
        source: Some(OWN.to_owned()),
        state: Some(AlertState::Raised),
        limit: Some(500),
        ..AlarmFilter::default()
    };
    Ok(read::alarms(db, filter).await?.items)
}

/// The same, as those outside are given them.
pub(crate) async fn shown(db: &DatabaseConnection) -> Result<Vec<OwnAlarm>, StoreError> {
    let own = |a: AlarmItem| OwnAlarm { kind: a.kind, resource: a.resource, summary: a.summary };
    Ok(standing(db).await?.into_iter().map(own).collect())
}
