//! What calls of all protocols have in common.

use crate::{
    connector::{
        failure::{Failure, Hiding},
        output,
    },
    expr::{Expr, ExprError, Scope, Type, Val},
};
use serde::Serialize;
use serde_json::Value;

/// What expressions of a call see that has one answer.
pub(super) struct CallScope<'a> {
    pub give: &'a Value,
    pub response: Option<&'a Value>,
}

impl<'a> Scope<'a> for CallScope<'a> {
    fn name(&'a self, name: &str) -> Option<Val<'a>> {
        match name {
            "give" => Some(Val::json(self.give)),
            "response" => self.response.map(Val::json),
            _ => None,
        }
    }
}

/// What a call sends, as people and records see it: without its address and its credential, which
/// are its connection's.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct ShownRequest {
    /// The method of HTTP, or `MAIL`, or `SSH`.
    pub method: String,
    /// The path with the query, or the addresses that a message goes to, or the command.
    pub target: String,
    /// What is sent along.
    pub body: Option<Value>,
}

/// What a call gives: how it is made of the answer, and what is promised of it.
#[derive(Clone, Copy, Debug)]
pub(in crate::connector) struct GivenValues<'o> {
    pub output: Option<&'o Expr>,
    pub promised: &'o Type,
}

impl GivenValues<'_> {
    /// An output that can be kept.
    ///
    /// # Errors
    /// One that cannot be made of the answer, is not what was promised, or is too large or too
    /// deep.
    pub fn fits(
        self,
        output: Result<Value, ExprError>,
        status: u16,
        hiding: Hiding<'_>,
    ) -> Result<Value, Failure> {
        output::fits(output, self.promised, status, hiding)
    }

    /// An output that is what was promised, and not too large or too deep.
    ///
    /// # Errors
    /// What is wrong with it.
    pub fn usable(self, output: Value, hiding: Hiding<'_>) -> Result<Value, String> {
        output::usable(output, self.promised, hiding)
    }
}
