//! What an operation gives, within bounds.

use super::failure::{CallEnd, Failure, Hiding};
use crate::{
    bounds::{depth_diagnostic, too_deep},
    expr::{ExprError, Type},
};
use serde_json::Value;

/// Largest output of one operation, in bytes of JSON.
pub const MAX_OUTPUT: usize = 256 << 10;
/// An output that can be kept.
///
/// # Errors
/// One that cannot be made of the answer, is not what was promised, or is too large or too deep.
pub(super) fn fits(
    output: Result<Value, ExprError>,
    promised: &Type,
    status: u16,
    hiding: Hiding<'_>,
) -> Result<Value, Failure> {
    let useless =
        |why: String| Failure::lasting(CallEnd::Done, format!("answered {status}, but {why}"));
    let output = output.map_err(|e| useless(format!("the output cannot be made of it: {e}")))?;
    usable(output, promised, hiding).map_err(useless)
}

/// An output that is what was promised, and not too large or too deep; else what is wrong with it.
pub(crate) fn usable(output: Value, promised: &Type, hiding: Hiding<'_>) -> Result<Value, String> {
    if matches!(promised, Type::Record(_)) && !output.is_object() {
        let shown = hiding.cut(&output.to_string(), 60);
        return Err(format!("what it gives should have fields, and is {shown}"));
    }
    let size = output.to_string().len();
    if size > MAX_OUTPUT {
        return Err(format!("its output has {size} bytes; {MAX_OUTPUT} are allowed"));
    }
    if too_deep(&output) {
        return Err(format!("its output {}", depth_diagnostic()));
    }
    Ok(output)
}
