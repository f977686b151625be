//! The records of this installation, for calls that ask them.

use crate::clock;
use arvok_connect::{OwnRecords, RecordsAnswer};
use arvok_core::ResourcePath;
use arvok_store::{DatabaseConnection, read};

/// Asks the database, beside jobs and the intake.
#[derive(Debug)]
pub(crate) struct Records(pub DatabaseConnection);

impl OwnRecords for Records {
    fn of<'a>(&'a self, resource: &'a ResourcePath) -> RecordsAnswer<'a> {
        Box::pin(async move {
            let known = read::known_of(&self.0, resource, clock::now()).await;
            known.map_err(|e| format!("the records cannot be asked: {e}"))
        })
    }
}
