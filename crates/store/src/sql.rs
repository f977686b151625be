//! Statements and rows: set-based SQL through SeaORM's statement interface, and rows read as
//! JSON into the types of the API.

use crate::StoreError;
use chrono::{DateTime, Utc};
use sea_orm::{ConnectionTrait, DbBackend, FromQueryResult, Statement, Value};
use serde::de::DeserializeOwned;

pub(crate) fn statement(sql: &str, values: Vec<Value>) -> Statement {
    Statement::from_sql_and_values(DbBackend::Postgres, sql, values)
}

/// Runs a statement; the number of rows it touched.
pub(crate) async fn run(
    db: &impl ConnectionTrait,
    sql: &str,
    values: Vec<Value>,
) -> Result<u64, StoreError> {
    Ok(db.execute_raw(statement(sql, values)).await?.rows_affected())
}

/// Reads each row column by column into a type.
pub(crate) async fn typed<T: FromQueryResult>(
    db: &impl ConnectionTrait,
    sql: &str,
    values: Vec<Value>,
) -> Result<Vec<T>, StoreError> {
    let found = db.query_all_raw(statement(sql, values)).await?;
    Ok(found.iter().map(|row| T::from_query_result(row, "")).collect::<Result<_, _>>()?)
}

/// Reads each row as JSON into a type.
pub(crate) async fn rows<T: DeserializeOwned>(
    db: &impl ConnectionTrait,
    sql: &str,
    values: Vec<Value>,
) -> Result<Vec<T>, StoreError> {
    let sql = format!("SELECT to_jsonb(q)::text AS row FROM ({sql}) q");
    read(db, &sql, values).await
}

async fn read<T: DeserializeOwned>(
    db: &impl ConnectionTrait,
    sql: &str,
    values: Vec<Value>,
) -> Result<Vec<T>, StoreError> {
    let found = db.query_all_raw(statement(sql, values)).await?;
    found
        .iter()
        .map(|row| {
            let text: String = row.try_get("", "row")?;
            Ok(serde_json::from_str(&text)?)
        })
        .collect()
}

/// The one row, if there is one.
pub(crate) async fn maybe<T: DeserializeOwned>(
    db: &impl ConnectionTrait,
    sql: &str,
    values: Vec<Value>,
) -> Result<Option<T>, StoreError> {
    Ok(rows(db, sql, values).await?.into_iter().next())
}

/// The moment that stands for none within an array, which cannot hold nulls here.
pub(crate) const NO_TIME: &str = "'0001-01-01 00:00:00+00'::timestamptz";

/// Moments as an array; read them with `nullif(..., NO_TIME)`.
pub(crate) fn moments(all: impl Iterator<Item = Option<DateTime<Utc>>>) -> Value {
    let none = DateTime::<Utc>::from_timestamp(-62_135_596_800, 0).unwrap_or_default();
    all.map(|t| t.unwrap_or(none)).collect::<Vec<_>>().into()
}

/// Numbers as an array; read them with `nullif(..., 'NaN')`.
pub(crate) fn numbers(all: impl Iterator<Item = Option<f64>>) -> Value {
    all.map(|n| n.unwrap_or(f64::NAN)).collect::<Vec<_>>().into()
}

/// Several changes as one statement: one round trip, whatever there is to write. They see the
/// rows as they were before any of them, so no row is touched by two.
#[derive(Default)]
pub(crate) struct Script {
    parts: Vec<String>,
    values: Vec<Value>,
}

impl Script {
    /// Adds a change; `$1` and so on are its own values.
    pub fn add(&mut self, sql: &str, values: Vec<Value>) {
        self.parts.push(shifted(sql, self.values.len()));
        self.values.extend(values);
    }

    /// Runs all of them.
    pub async fn run(self, db: &impl ConnectionTrait) -> Result<(), StoreError> {
        let sql = match self.parts.as_slice() {
            [] => return Ok(()),
            [one] => one.clone(),
            parts => {
                let named: Vec<String> =
                    parts.iter().enumerate().map(|(i, p)| format!("w{i} AS ({p})")).collect();
                format!("WITH {} SELECT 1", named.join(", "))
            }
        };
        run(db, &sql, self.values).await.map(|_| ())
    }
}

/// The same statement with its values counted on from a number.
fn shifted(sql: &str, by: usize) -> String {
    let mut pieces = sql.split('$');
    let mut text = pieces.next().unwrap_or_default().to_owned();
    for piece in pieces {
        let digits = piece.len() - piece.trim_start_matches(|c: char| c.is_ascii_digit()).len();
        match piece[..digits].parse::<usize>() {
            Ok(n) => text.push_str(&format!("${}{}", n + by, &piece[digits..])),
            Err(_) => text.push_str(&format!("${piece}")),
        }
    }
    text
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn values_are_counted_on() {
        assert_eq!(
            shifted("SET a = $1, b = $12 WHERE c = '$'", 3),
            "SET a = $4, b = $15 WHERE c = '$'"
        );
    }
}
