//! Lists that come in pages: one page for people, or as much as is wanted for programs: JSON, JSON
//! Lines, CSV.

use crate::{
    args::{Form, Most, Output, Paging},
    client::Client,
    error::CliError,
    show,
};
use arvok_api::Page;
use serde::{Serialize, de::DeserializeOwned};
use serde_json::Value;
use std::time::{Duration, Instant};
use utoipa::{
    PartialSchema,
    openapi::{RefOr, Schema},
};

/// Most items that the server gives at once.
const AT_ONCE: u64 = 500;

/// How long a list that is empty is waited for.
const PATIENCE: Duration = Duration::from_secs(60);

/// Waits until a list has something, or patience ends.
pub async fn until_there_is_one(
    client: &Client,
    path: &str,
    filter: &impl Serialize,
) -> Result<(), CliError> {
    let mut filter = serde_json::to_value(filter).map_err(|e| CliError::Here(e.to_string()))?;
    filter["limit"] = 1.into();
    let begun = Instant::now();
    loop {
        let page: Page<Value> = client.list(path, &filter).await?;
        if !page.items.is_empty() || begun.elapsed() > PATIENCE {
            return Ok(());
        }
        tokio::time::sleep(Duration::from_millis(200)).await;
    }
}

/// Asks for a list and prints it as was wished; `table` makes the text for people.
pub async fn list<T: Serialize + DeserializeOwned + PartialSchema>(
    client: &Client,
    path: &str,
    filter: &impl Serialize,
    (paging, output): (&Paging, Output),
    table: impl Fn(&Page<T>) -> String,
) -> Result<(), CliError> {
    let mut filter = serde_json::to_value(filter).map_err(|e| CliError::Here(e.to_string()))?;
    let mut left = match paging.limit {
        Most::All => u64::MAX,
        Most::Number(number) => number.into(),
    };
    let mut whole =
        Page { items: Vec::new(), next: paging.after.map(|id| id.to_string()), bounded: false };
    let mut lines = paging.form.map(Lines::<T>::new);
    loop {
        filter["limit"] = left.min(AT_ONCE).into();
        filter["after"] = whole.next.take().map_or(Value::Null, Value::from);
        let page: Page<T> = client.list(path, &filter).await?;
        left = left.saturating_sub(page.items.len() as u64);
        (whole.next, whole.bounded) = (page.next, page.bounded);
        match &mut lines {
            Some(lines) => page.items.iter().try_for_each(|item| lines.print(item))?,
            None => whole.items.extend(page.items),
        }
        if left == 0 || whole.next.is_none() || (paging.limit != Most::All && whole.bounded) {
            break;
        }
    }
    match lines {
        Some(_) => Ok(()),
        None if output.json => show::json(&whole),
        None => {
            show::out(&table(&whole));
            Ok(())
        }
    }
}

/// Items as lines, each as soon as it comes.
struct Lines<T> {
    form: Form,
    columns: Vec<String>,
    item: std::marker::PhantomData<T>,
}

impl<T: Serialize + PartialSchema> Lines<T> {
    fn new(form: Form) -> Self {
        let columns = match T::schema() {
            RefOr::T(Schema::Object(object)) => object.properties.keys().cloned().collect(),
            _ => Vec::new(),
        };
        if form == Form::Csv {
            show::raw(&record(&columns));
        }
        Self { form, columns, item: std::marker::PhantomData }
    }

    fn print(&mut self, item: &T) -> Result<(), CliError> {
        let value = serde_json::to_value(item).map_err(|e| CliError::Here(e.to_string()))?;
        match self.form {
            Form::Lines => show::out(&show::escaped(value.to_string())),
            Form::Csv => {
                let cells: Vec<String> =
                    self.columns.iter().map(|name| cell(value.get(name))).collect();
                show::raw(&record(&cells));
            }
        }
        Ok(())
    }
}

/// A value as the text of a cell: lists and maps as JSON. A text that a spreadsheet would take for
/// a formula gets an apostrophe before it: an alert's words are not ours.
fn cell(value: Option<&Value>) -> String {
    match value {
        None | Some(Value::Null) => String::new(),
        Some(Value::String(text)) if text.starts_with(['=', '+', '-', '@', '\t', '\r']) => {
            format!("'{}", show::plain(text))
        }
        Some(Value::String(text)) => show::plain(text).into_owned(),
        Some(other) => show::escaped(other.to_string()),
    }
}

/// A record of CSV (RFC 4180) with its line's end.
fn record(cells: &[String]) -> String {
    let mut writer =
        csv::WriterBuilder::new().terminator(csv::Terminator::CRLF).from_writer(Vec::new());
    // Writing to memory does not fail.
    let _ = writer.write_record(cells);
    String::from_utf8(writer.into_inner().unwrap_or_default()).unwrap_or_default()
}

#[cfg(test)]
mod tests {
    use super::*;
    use serde_json::json;

    #[test]
    fn cells_hold_what_they_are_given_and_no_formulas() {
        let row = [
            json!(null),
            json!(1.5),
            json!(-2),
            json!("a,\"b\"\nc"),
            json!({ "k": 1 }),
            json!("=cmd()"),
            json!("-1"),
        ];
        let cells: Vec<String> = row.iter().map(|v| cell(Some(v))).collect();
        assert_eq!(record(&cells), ",1.5,-2,\"a,\"\"b\"\"\nc\",\"{\"\"k\"\":1}\",'=cmd(),'-1\r\n");
    }
}
