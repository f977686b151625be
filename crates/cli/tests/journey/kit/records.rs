//! Looking into the records, and meddling with them: what no caller of the API can do.

use super::block;
use sea_orm::{ConnectionTrait, Database, DatabaseConnection, DbBackend, Statement};
use serde_json::Value;

/// A connection to a database.
pub struct Records(DatabaseConnection);

impl Records {
    /// Opens one.
    pub fn open(url: &str) -> Self {
        Self(block(Database::connect(url)).expect("a database"))
    }

    /// Runs statements.
    pub fn run(&self, sql: &str) {
        block(self.0.execute_unprepared(sql)).expect(sql);
    }

    /// The rows of a query, each as JSON.
    pub fn rows(&self, sql: &str) -> Vec<Value> {
        let sql = format!("SELECT to_jsonb(q)::text AS row FROM ({sql}) q");
        let rows =
            block(self.0.query_all_raw(Statement::from_string(DbBackend::Postgres, sql.clone())))
                .expect(&sql);
        rows.iter()
            .map(|r| {
                serde_json::from_str(&r.try_get::<String>("", "row").expect("a row")).expect("JSON")
            })
            .collect()
    }
}
