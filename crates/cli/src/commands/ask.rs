//! What the person at the terminal is asked; where there is nobody, that is an error with what to
//! say instead.

use crate::error::CliError;
use serde_json::Value;
use std::io::{IsTerminal, Write};

/// Whether the person at the terminal says yes.
///
/// # Errors
/// If there is nobody to be asked.
pub fn agreed(question: &str) -> Result<bool, CliError> {
    if !std::io::stdin().is_terminal() {
        return Err(CliError::Usage(
            "nobody can be asked here; say --yes to do it, or --dry-run to only look".into(),
        ));
    }
    eprint!("{question} [y/N] ");
    let _ = std::io::stderr().flush();
    let mut answer = String::new();
    std::io::stdin().read_line(&mut answer).map_err(|e| CliError::Here(e.to_string()))?;
    Ok(matches!(answer.trim(), "y" | "Y" | "yes"))
}

/// A value that is missing, and is otherwise given with an option.
///
/// # Errors
/// If there is nobody to be asked.
pub fn value(name: &str, schema: &Value, option: &str) -> Result<String, CliError> {
    if !std::io::stdin().is_terminal() {
        return Err(CliError::Usage(format!(
            "the input `{name}` is missing; give it with {option} {name}=..."
        )));
    }
    let about = schema["description"].as_str().map_or_else(String::new, |d| format!(" ({d})"));
    let mut typed = String::new();
    while typed.trim().is_empty() {
        eprint!("{name}{about}: ");
        let _ = std::io::stderr().flush();
        let read =
            std::io::stdin().read_line(&mut typed).map_err(|e| CliError::Here(e.to_string()))?;
        if read == 0 {
            return Err(CliError::Usage(format!("the input `{name}` is missing")));
        }
    }
    Ok(typed.trim().to_owned())
}
