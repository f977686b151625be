//! Answers that come in pages: where the next one is, and what each of them gives.

use super::{Answer, Method, Request};
use crate::{
    connector::failure::{CallEnd, Failure},
    document::Checker,
    expr::{Expr, ExprError, Names, Scope},
    text::percent,
};
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use serde_json::Value;
use std::collections::HashSet;

/// Pages that are asked for unless it says otherwise.
const USUAL: u32 = 100;
/// Most pages of one call.
const MOST: u32 = 1_000;

/// How one list comes in several answers.
#[derive(Clone, Debug, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct PagesDoc {
    /// An expression over `response`: the list that one page gives. Together they are `list` in
    /// `output`, and the output where there is none.
    pub list: String,
    /// Where the next page is.
    pub next: NextDoc,
    /// Most pages. A list that goes on beyond is a failure and not a shorter list. Left out: 100.
    #[serde(default)]
    pub at_most: Option<u32>,
}

/// Where the next page is: one of `cursor`, `follow`, `link` and `number`.
#[derive(Clone, Debug, Default, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct NextDoc {
    /// An expression over `response`: what is asked for next. Missing, null or empty: that was the
    /// last page.
    #[serde(default)]
    pub cursor: Option<String>,
    /// The query parameter that carries the cursor.
    #[serde(default)]
    pub query: Option<String>,
    /// An expression over `response`: the address of the next page. Missing, null or empty: that
    /// was the last page.
    #[serde(default)]
    pub follow: Option<String>,
    /// The relation of the `Link` header (RFC 8288) that leads to the next page, usually `next`.
    #[serde(default)]
    pub link: Option<String>,
    /// The query parameter that carries the number of a page. A page with an empty list was the
    /// last.
    #[serde(default)]
    pub number: Option<String>,
    /// The number of the first page. Left out: 1.
    #[serde(default)]
    pub first: Option<u32>,
    /// With `number`, a condition over `response`: whether there is one more.
    #[serde(default)]
    pub more: Option<String>,
}

/// Checked pages.
#[derive(Clone, Debug)]
pub struct Pages {
    list: Expr,
    next: Next,
    at_most: u32,
}

#[derive(Clone, Debug)]
enum Next {
    Cursor { expr: Expr, query: String },
    Follow(Expr),
    Link(String),
    Number { query: String, first: u32, more: Option<Expr> },
}

impl Pages {
    /// Checks what may use `names`.
    pub(super) fn check(
        check: &mut Checker<'_>,
        at: &str,
        doc: PagesDoc,
        names: Names<'_>,
    ) -> Option<Self> {
        let list = check.expr(&format!("{at}/list"), &doc.list, names);
        let most = doc.at_most.unwrap_or(USUAL);
        if !(1..=MOST).contains(&most) {
            check.fail(&format!("{at}/at_most"), format!("is from 1 to {MOST} pages"));
        }
        let next = next(check, &format!("{at}/next"), doc.next, names);
        Some(Self { list: list?, next: next?, at_most: most })
    }

    /// The first request: where pages have numbers it says which.
    pub(super) fn first(&self, request: &mut Request) {
        if let Next::Number { query, first, .. } = &self.next {
            request.target = with_parameter(&request.target, query, &first.to_string());
        }
    }
}

fn next(check: &mut Checker<'_>, at: &str, doc: NextDoc, names: Names<'_>) -> Option<Next> {
    let NextDoc { cursor, query, follow, link, number, first, more } = doc;
    if number.is_none() && (first.is_some() || more.is_some()) {
        check.fail(at, "`first` and `more` belong to `number`");
        return None;
    }
    if cursor.is_none() && query.is_some() {
        check.fail(
            at,
            "`query` belongs to `cursor`; the parameter of a number is the value of `number`",
        );
        return None;
    }
    match (cursor, follow, link, number) {
        (Some(cursor), None, None, None) => {
            let expr = check.expr(&format!("{at}/cursor"), &cursor, names);
            let Some(query) = query else {
                check.fail(
                    at,
                    "the key `query` is missing here: which parameter carries the cursor?",
                );
                return None;
            };
            expr.map(|expr| Next::Cursor { expr, query })
        }
        (None, Some(follow), None, None) => {
            check.expr(&format!("{at}/follow"), &follow, names).map(Next::Follow)
        }
        (None, None, Some(link), None) => Some(Next::Link(link)),
        (None, None, None, Some(query)) => {
            let more = match more {
                None => Some(None),
                Some(more) => check.condition(&format!("{at}/more"), &more, names).map(Some),
            };
            more.map(|more| Next::Number { query, first: first.unwrap_or(1), more })
        }
        _ => {
            check.fail(at, "is one of `cursor` with `query`, `follow`, `link`, or `number`");
            None
        }
    }
}

/// The pages that have come.
#[derive(Debug, Default)]
pub(super) struct Gathered {
    pub(super) list: Vec<Value>,
    pages: u32,
    size: usize,
    asked: HashSet<String>,
}

impl Gathered {
    /// Takes in a page that `asked` brought; the request for the next one, if there is one.
    ///
    /// # Errors
    /// A page without a list, more pages or a longer list than there may be, pages that lead back
    /// to each other.
    pub(super) fn add_page<'a>(
        &mut self,
        pages: &'a Pages,
        asked: &Request,
        answer: &Answer,
        scope: &'a dyn Scope<'a>,
        room: usize,
    ) -> Result<Option<Request>, Failure> {
        self.pages += 1;
        self.asked.insert(asked.target.clone());
        let useless =
            |why: String| Failure::lasting(CallEnd::Done, format!("page {}: {why}", self.pages));
        let items = match pages.list.eval(scope).map(|list| list.to_json()) {
            Ok(Value::Array(items)) => items,
            Ok(_) => return Err(useless(format!("`{}` is not a list", pages.list.text()))),
            Err(e) => return Err(useless(format!("there is no list in it: {e}"))),
        };
        self.size += items.iter().map(|item| item.to_string().len() + 1).sum::<usize>();
        if self.size > room {
            return Err(useless(format!(
                "all pages so far have {} bytes; {room} are allowed",
                self.size
            )));
        }
        let empty = items.is_empty();
        self.list.extend(items);
        let next =
            self.next(pages, asked, answer, scope, empty).map_err(|e| useless(e.to_string()))?;
        let Some(next) = next else { return Ok(None) };
        if self.pages >= pages.at_most {
            let most = pages.at_most;
            return Err(useless(format!(
                "there are more; `at_most` allows {most}, and a shorter list would be wrong"
            )));
        }
        if self.asked.contains(&next.target) {
            return Err(useless(format!(
                "the next page is {}, which was there before",
                next.target
            )));
        }
        Ok(Some(next))
    }

    fn next<'a>(
        &self,
        pages: &'a Pages,
        asked: &Request,
        answer: &Answer,
        scope: &'a dyn Scope<'a>,
        empty: bool,
    ) -> Result<Option<Request>, ExprError> {
        let with = |query: &str, value: &str| {
            Some(Request { target: with_parameter(&asked.target, query, value), ..asked.clone() })
        };
        Ok(match &pages.next {
            Next::Cursor { expr, query } => {
                cursor_text(expr, scope)?.and_then(|cursor| with(query, &cursor))
            }
            Next::Follow(expr) => cursor_text(expr, scope)?.map(follow),
            Next::Link(relation) => answer.link(relation).map(follow),
            Next::Number { query, first, more } => {
                let more = match more {
                    Some(more) => more.holds(scope)?,
                    None => !empty,
                };
                more.then(|| with(query, &(first + self.pages).to_string())).flatten()
            }
        })
    }
}

/// A text or a number that says where to go on; nothing where it is missing, null or empty.
fn cursor_text<'a>(expr: &'a Expr, scope: &'a dyn Scope<'a>) -> Result<Option<String>, ExprError> {
    match expr.eval(scope).map(|value| value.to_json()) {
        Ok(Value::Null) => Ok(None),
        Ok(Value::String(text)) if text.is_empty() => Ok(None),
        Ok(Value::String(text)) => Ok(Some(text)),
        Ok(other) => Ok(Some(other.to_string())),
        Err(e) if e.missing => Ok(None),
        Err(e) => Err(e),
    }
}

/// The request for an address that an answer gave.
pub(super) fn follow(address: String) -> Request {
    Request {
        method: Method::Get.as_str(),
        target: address,
        follows: true,
        headers: Vec::new(),
        body: None,
    }
}

/// A target with a parameter, which replaces the one of that name.
fn with_parameter(target: &str, name: &str, value: &str) -> String {
    let (path, query) = target.split_once('?').unwrap_or((target, ""));
    let own = format!("{}=", percent(name));
    let others = query.split('&').filter(|pair| !pair.is_empty() && !pair.starts_with(&own));
    let all: Vec<String> =
        others.map(str::to_owned).chain([format!("{own}{}", percent(value))]).collect();
    format!("{path}?{}", all.join("&"))
}
