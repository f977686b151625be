//! One call over HTTP from its first request to its end: pages that follow, looks until it is done.
//! Decides only; who performs it says what came back and how much time has passed.

use super::{Answer, Gathered, HttpCall, Look, Request, RequestError, follow};
use crate::{
    Period,
    connector::{
        CallbackAt,
        failure::{CallEnd, Failure, Hiding},
        protocols::GivenValues,
    },
    expr::{Scope, Val},
};
use serde_json::Value;

/// The headers of a request that may be answered by 304.
const CONDITIONS: [&str; 2] = ["if-none-match", "if-modified-since"];

/// A call under way.
#[derive(Debug)]
pub struct Exchange<'o> {
    call: &'o HttpCall,
    gives: GivenValues<'o>,
    give: Value,
    /// The request that is out.
    asked: Request,
    first: Option<Value>,
    pages: Gathered,
    /// What was wrong with the latest look.
    seen: Option<String>,
    hiding: Hiding<'o>,
}

/// What follows an answer.
#[derive(Clone, Debug, PartialEq)]
pub enum Next {
    /// One more request, after a while.
    Send(Request, Period),
    /// The call has given its output.
    Output(Value),
    /// The other side calls back, within a time.
    CalledBack(Period),
    /// It failed.
    Failed(Failure),
}

/// What the expressions of a call see.
pub(super) struct View<'a> {
    pub give: &'a Value,
    pub callback: Option<&'a Value>,
    pub callback_key: Option<&'a Value>,
    pub first: Option<&'a Value>,
    pub response: Option<&'a Value>,
    pub list: Option<&'a Value>,
}

impl<'a> Scope<'a> for View<'a> {
    fn name(&'a self, name: &str) -> Option<Val<'a>> {
        match name {
            "give" => Some(Val::json(self.give)),
            "callback" => self.callback.map(Val::json),
            "callback_key" => self.callback_key.map(Val::json),
            "first" => self.first.map(Val::json),
            "response" => self.response.map(Val::json),
            "list" => self.list.map(Val::json),
            _ => None,
        }
    }
}

impl<'o> Exchange<'o> {
    pub(super) fn new(
        call: &'o HttpCall,
        gives: GivenValues<'o>,
        give: Value,
        asked: Request,
    ) -> Self {
        Self {
            call,
            gives,
            give,
            asked,
            first: None,
            pages: Gathered::default(),
            seen: None,
            hiding: Hiding::NOTHING,
        }
    }

    /// What its failures say of answers is hidden by this; its outputs are not touched.
    #[must_use]
    pub fn hiding(self, hiding: Hiding<'o>) -> Self {
        Self { hiding, ..self }
    }

    /// The request that is to be sent first.
    pub fn request(&self) -> &Request {
        &self.asked
    }

    /// What follows an answer; `passed` since the first one came.
    pub fn answered(&mut self, answer: Answer, passed: Period) -> Next {
        let answer = answer.with_xml(&self.call.lists);
        if self.first.is_some() && self.call.until.is_some() {
            return self.looked(&answer, passed);
        }
        if self.says_unchanged(&answer) {
            let none = self.call.pages.as_ref().map(|_| Value::Array(Vec::new()));
            return self.over(&answer, &answer.as_value(), none);
        }
        if let Some(failure) = answer.failure(&self.call.retry_on, self.hiding) {
            return Next::Failed(failure);
        }
        if let Some(callback) = &self.call.callback {
            return Next::CalledBack(callback.within);
        }
        let response = answer.as_value();
        if self.call.until.is_some() {
            self.first = Some(response);
            return self.look_again();
        }
        let Some(pages) = &self.call.pages else { return self.over(&answer, &response, None) };
        let view = View {
            give: &self.give,
            callback: None,
            callback_key: None,
            first: None,
            response: Some(&response),
            list: None,
        };
        match self.pages.add_page(pages, &self.asked, &answer, &view, crate::connector::MAX_OUTPUT)
        {
            Err(failure) => Next::Failed(failure),
            Ok(Some(request)) => {
                self.asked = request.clone();
                Next::Send(request, Period::from_millis(0))
            }
            Ok(None) => {
                let list = Value::Array(std::mem::take(&mut self.pages.list));
                self.over(&answer, &response, Some(list))
            }
        }
    }

    /// Whether an answer says that what was asked for stands as it was, to a request with a
    /// condition (RFC 9110, section 15.4.5).
    fn says_unchanged(&self, answer: &Answer) -> bool {
        let is_plain = self.call.until.is_none() && self.call.callback.is_none();
        let has_condition = self.asked.headers.iter().any(|(name, _)| {
            CONDITIONS.iter().any(|condition| name.eq_ignore_ascii_case(condition))
        });
        answer.status == 304 && is_plain && has_condition
    }

    /// What follows a request of which no answer came.
    pub fn broke(&mut self, failure: Failure, passed: Period) -> Next {
        // A look that fails changes nothing, and the next may not fail; one that can never be sent
        // is the last.
        if self.first.is_some() && self.call.until.is_some() {
            if failure.lasting && failure.end == CallEnd::NotSent {
                let message = format!("it was begun, and cannot be looked at: {}", failure.message);
                return Next::Failed(Failure::lasting(CallEnd::Unknown, message));
            }
            self.seen = Some(failure.message);
            return self.later(passed);
        }
        Next::Failed(failure)
    }

    /// A look at an operation under way.
    fn looked(&mut self, answer: &Answer, passed: Period) -> Next {
        let Some(until) = &self.call.until else { return self.later(passed) };
        if let Some(failure) = answer.failure(&self.call.retry_on, self.hiding) {
            self.seen = Some(failure.message.clone());
            if failure.lasting {
                let message = format!("it was begun, and a look at it {}", failure.message);
                return Next::Failed(Failure { message, end: CallEnd::Unknown, ..failure });
            }
            return self.later(passed);
        }
        let response = answer.as_value();
        let view = View {
            give: &self.give,
            callback: None,
            callback_key: None,
            first: self.first.as_ref(),
            response: Some(&response),
            list: None,
        };
        if let Some(why) = until.verdict.failure(&view, self.hiding) {
            return Next::Failed(Failure::new(CallEnd::Refused, why));
        }
        match until.done.holds(&view) {
            Ok(true) => self.over(answer, &response, None),
            Ok(false) => {
                self.seen = None;
                self.later(passed)
            }
            Err(e) => {
                self.seen = Some(format!("`{}`: {e}", until.done));
                self.later(passed)
            }
        }
    }

    /// Looks once more, unless the time is over.
    fn later(&mut self, passed: Period) -> Next {
        let Some(until) = &self.call.until else { return self.look_again() };
        if passed.millis() + until.every.millis() > until.within.millis() {
            let seen = self
                .seen
                .as_ref()
                .map_or_else(String::new, |seen| format!(", and the last look: {seen}"));
            let message = format!("it was begun, but was not done within {}{seen}", until.within);
            return Next::Failed(Failure::lasting(CallEnd::Unknown, message));
        }
        self.look_again()
    }

    fn look_again(&mut self) -> Next {
        let wrong = |why: String| {
            Next::Failed(Failure::lasting(
                CallEnd::Unknown,
                format!("it was begun, and cannot be looked at: {why}"),
            ))
        };
        let Some(until) = &self.call.until else { return wrong("nothing says how".into()) };
        let view = View {
            give: &self.give,
            callback: None,
            callback_key: None,
            first: self.first.as_ref(),
            response: None,
            list: None,
        };
        let request = match &until.look {
            Look::Request(plan) => plan.request(&view, None).map_err(|e| e.to_string()),
            Look::Follow(expr) => match expr.eval(&view).map(|address| address.to_json()) {
                Ok(Value::String(address)) => Ok(follow(address)),
                Ok(_) => Err(format!("`{}` is not an address", expr.text())),
                Err(e) => Err(e.to_string()),
            },
        };
        match request {
            Ok(request) => {
                self.asked = request.clone();
                Next::Send(request, until.every)
            }
            Err(why) => wrong(why),
        }
    }

    fn over(&self, answer: &Answer, response: &Value, list: Option<Value>) -> Next {
        let view = View {
            give: &self.give,
            callback: None,
            callback_key: None,
            first: self.first.as_ref(),
            response: Some(response),
            list: list.as_ref(),
        };
        let output = match (self.gives.output, &list) {
            (None, None) => Ok(answer.body.clone()),
            (None, Some(list)) => Ok(list.clone()),
            (Some(expr), _) => {
                expr.eval(&view).map(|value| crate::text::clean_json(value.to_json()))
            }
        };
        match self.gives.fits(output, answer.status, self.hiding) {
            Ok(output) => Next::Output(output),
            Err(failure) => Next::Failed(failure),
        }
    }
}

impl HttpCall {
    /// Begins; `key` is the same for every try of the same step, `callback` where we wait.
    ///
    /// # Errors
    /// What cannot be filled in, or would lead to another path.
    pub(in crate::connector) fn begin<'o>(
        &'o self,
        gives: GivenValues<'o>,
        give: Value,
        key: Option<&str>,
        callback: Option<&CallbackAt>,
    ) -> Result<Exchange<'o>, RequestError> {
        let (address, key_of_it) =
            callback.map(|at| (Value::from(&*at.address), Value::from(&*at.key))).unzip();
        let view = View {
            give: &give,
            callback: address.as_ref(),
            callback_key: key_of_it.as_ref(),
            first: None,
            response: None,
            list: None,
        };
        let mut request =
            self.request.request(&view, key.map(|key| (self.key_header.as_str(), key)))?;
        if let Some(pages) = &self.pages {
            pages.first(&mut request);
        }
        Ok(Exchange::new(self, gives, give, request))
    }
}
