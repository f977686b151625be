//! What calls of all protocols have in common.

use crate::{
    connector::{
        failure::{Failure, Hiding},
        output,
    },
    expr::{Expr, ExprError, Scope, Type, Val},
    text::clean_json,
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
    /// The method of HTTP, or the protocol: `MAIL`, `SSH`, `MQTT`.
    pub method: String,
    /// The path with the query, or where a message goes, or the command.
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

/// What is made of the one answer to a call.
#[derive(Debug)]
pub(super) struct OneAnswer<'o> {
    gives: GivenValues<'o>,
    give: Value,
    hiding: Hiding<'o>,
}

impl<'o> OneAnswer<'o> {
    pub const fn new(gives: GivenValues<'o>, give: Value) -> Self {
        Self { gives, give, hiding: Hiding::NOTHING }
    }

    pub fn hiding(self, hiding: Hiding<'o>) -> Self {
        Self { hiding, ..self }
    }

    /// What the other side said, for a message to people.
    pub fn cut(&self, said: &str) -> String {
        self.hiding.cut(said, 200)
    }

    /// The output that is made of the answer.
    ///
    /// # Errors
    /// That none can be made of it.
    pub fn output(&self, response: Value, status: u16) -> Result<Value, Failure> {
        let output = match self.gives.output {
            None => Ok(response),
            Some(expr) => {
                let view = CallScope { give: &self.give, response: Some(&response) };
                expr.eval(&view).map(|value| clean_json(value.to_json()))
            }
        };
        self.gives.fits(output, status, self.hiding)
    }
}
