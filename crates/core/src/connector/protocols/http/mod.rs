//! HTTP: requests with filled-in parts, what their answers mean, and what follows one: [`pages`],
//! looks and calls back ([`later`]), all of it decided by an [`Exchange`].

mod answer;
mod exchange;
mod later;
mod pages;
mod request;

pub use answer::{Answer, retry_after};
pub use exchange::{Exchange, Next};
pub use later::{Callback, CallbackDoc, Signed, UntilDoc};
pub use pages::PagesDoc;
pub use request::{Body, Method, Request, RequestDoc, RequestError};

use crate::{
    Period,
    document::Checker,
    expr::{Names, Type},
};
use later::{DoneWhen, Look};
use pages::{Gathered, Pages, follow};
use request::PlannedRequest;
use std::sync::Arc;

/// Answers after which another try makes sense, unless it says otherwise.
const RETRY_ON: [u16; 5] = [429, 500, 502, 503, 504];

/// How long all pages of a list may take together.
const ALL_PAGES: Period = Period::from_secs(300);

/// What is written beside the request of a call over HTTP.
#[derive(Debug)]
pub(in crate::connector) struct HttpDoc {
    pub pages: Option<PagesDoc>,
    pub until: Option<UntilDoc>,
    pub callback: Option<CallbackDoc>,
    pub key_header: Option<String>,
    pub retry_on: Option<Vec<u16>>,
    pub lists: Option<Vec<String>>,
}

impl HttpDoc {
    /// The first key that is written.
    pub fn first(&self) -> Option<&'static str> {
        let keys = [
            ("pages", self.pages.is_some()),
            ("until", self.until.is_some()),
            ("callback", self.callback.is_some()),
            ("key_header", self.key_header.is_some()),
            ("retry_on", self.retry_on.is_some()),
            ("lists", self.lists.is_some()),
        ];
        keys.into_iter().find(|(_, is)| *is).map(|(key, _)| key)
    }
}

/// A checked call: its request, and what follows the answer.
#[derive(Clone, Debug)]
pub struct HttpCall {
    request: PlannedRequest,
    pages: Option<Pages>,
    until: Option<DoneWhen>,
    callback: Option<Callback>,
    /// The header that carries the key of a call that may be repeated with it.
    key_header: String,
    retry_on: Vec<u16>,
    /// Names of elements of XML that are lists, however many there are.
    lists: Vec<String>,
}

impl HttpCall {
    /// Checks a call; what is given has the type `give`. With it comes what `output` may use, and
    /// the types of that.
    pub(in crate::connector) fn check(
        check: &mut Checker<'_>,
        at: &str,
        request: RequestDoc,
        doc: HttpDoc,
        give: &Type,
    ) -> (Option<Self>, Vec<(&'static str, Type)>) {
        let given =
            [("give", give.clone()), ("callback", Type::Text), ("callback_key", Type::Text)];
        let answered =
            [given[0].clone(), ("first", Answer::as_type()), ("response", Answer::as_type())];
        let names = |roots, types| Names { roots, functions: &[], types };
        let signed = doc.callback.as_ref().is_some_and(|callback| callback.signed.is_some());
        let hands_over =
            serde_json::to_string(&request).is_ok_and(|text| text.contains("callback_key"));
        let sent: &[&str] = match &doc.callback {
            Some(_) if signed => &["give", "callback", "callback_key"],
            Some(_) => &["give", "callback"],
            None => &["give"],
        };
        let request =
            PlannedRequest::check(check, &format!("{at}/request"), request, names(sent, &given));
        if [doc.pages.is_some(), doc.until.is_some(), doc.callback.is_some()]
            .iter()
            .filter(|is| **is)
            .count()
            > 1
        {
            check.fail(at, "an operation has one of `pages`, `until` and `callback`");
        }
        let mut roots = vec![("give", give.clone()), ("response", Answer::as_type())];
        let pages = match doc.pages {
            None => Some(None),
            Some(pages) => {
                roots.push(("list", Type::List(Arc::new(Type::Any))));
                Pages::check(
                    check,
                    &format!("{at}/pages"),
                    pages,
                    names(&["give", "response"], &answered),
                )
                .map(Some)
            }
        };
        let until = match doc.until {
            None => Some(None),
            Some(until) => {
                roots.push(("first", Answer::as_type()));
                let before = names(&["give", "first"], &answered);
                let seen = names(&["give", "first", "response"], &answered);
                DoneWhen::check(check, &format!("{at}/until"), until, before, seen).map(Some)
            }
        };
        let callback = match doc.callback {
            None => Some(None),
            Some(callback) => Callback::check(check, &format!("{at}/callback"), callback).map(Some),
        };
        if signed && !hands_over {
            let wrong =
                "the request hands over no `${callback_key}`, without which nothing can be signed";
            check.fail(&format!("{at}/callback/signed"), wrong);
        }
        if pages.as_ref().is_some_and(Option::is_some)
            && request.as_ref().is_some_and(|r| !r.is_safe())
        {
            check.fail(&format!("{at}/pages"), "pages are those of a GET");
        }
        let key_header = doc.key_header.unwrap_or_else(|| "Idempotency-Key".into());
        let retry_on = doc.retry_on.unwrap_or_else(|| RETRY_ON.to_vec());
        let made = || {
            Some(Self {
                request: request?,
                pages: pages?,
                until: until?,
                callback: callback?,
                key_header,
                retry_on,
                lists: doc.lists.unwrap_or_default(),
            })
        };
        (made(), roots)
    }

    /// Whether the method itself says that repeating is harmless.
    pub const fn is_safe(&self) -> bool {
        self.request.is_safe()
    }

    /// The method and the path as written.
    pub fn line(&self) -> &str {
        &self.request.line
    }

    /// What follows its first answer: the key that says so.
    pub fn follows(&self) -> Option<&'static str> {
        let keys = [
            ("pages", self.pages.is_some()),
            ("until", self.until.is_some()),
            ("callback", self.callback.is_some()),
        ];
        keys.into_iter().find(|(_, is)| *is).map(|(key, _)| key)
    }

    /// How long all of it may take, if one request may take so long.
    pub fn longest(&self, request: Period) -> Period {
        let all = match (&self.pages, &self.until) {
            (Some(_), _) => ALL_PAGES.max(request).millis(),
            (None, Some(until)) => until.within.millis() + 2 * request.millis(),
            (None, None) => request.millis(),
        };
        Period::from_millis(all)
    }

    /// How the other side calls back, if it does.
    pub const fn callback(&self) -> Option<&Callback> {
        self.callback.as_ref()
    }
}
